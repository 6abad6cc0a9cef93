"""The drawers beside the board: outline as numbers, object, land patterns of one's own, fit; side view, print."""

from __future__ import annotations

from itertools import groupby
from pathlib import Path

import pytest
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter

from tests.desktop.test_window import show
from zesty_trace.core.design.model import Form
from zesty_trace.desktop.layout.paper import paint_true_size
from zesty_trace.desktop.schematic.paper import on_paper
from zesty_trace.desktop.window.shell import MainWindow


@pytest.fixture
def station(window: MainWindow, settle):
    return show(window, "layout", settle)


def test_the_outline_is_edited_as_numbers(window: MainWindow, station, settle) -> None:
    station.open_drawer("board")
    settle(window)
    drawer = station.drawers.made["board"]
    assert station.wants_room
    drawer.shape.setCurrentText("Rectangle")
    drawer._shape_picked()
    drawer.numbers["width_nm"].setText("90 mm")
    drawer.numbers["corner_nm"].setText("100 mil")
    drawer._typed()
    settle(window)
    form = window.session.design.board.form
    assert form is not None
    assert (form.width_nm, form.corner_nm) == (90_000_000, 2_540_000)
    before = window.session.design
    drawer.numbers["width_nm"].setText("-3 mm")
    drawer._typed()
    settle(window)
    assert window.session.design is before
    assert drawer.numbers["width_nm"].text() == "90 mm"
    drawer.shape.setCurrentText("Ring")
    drawer._shape_picked()
    settle(window)
    assert isinstance(window.session.design.board.form, Form)
    assert len(window.session.design.board.cutouts) == 1
    window.session.undo()
    assert window.session.design is before
    station.say("cut-out 6 x 3 at 40, 10")
    settle(window)
    drawer.zones.selectRow(0)
    drawer.drop_zone()
    assert window.session.design.board.cutouts == ()
    station.open_drawer("")
    assert not station.wants_room


def test_rules_and_tolerances(window: MainWindow, station, settle) -> None:
    station.open_drawer("board")
    settle(window)
    drawer = station.drawers.made["board"]
    drawer.rules.setCurrentIndex(drawer.rules.findData("fine"))
    drawer._rules_picked()
    settle(window)
    assert window.session.design.board.rules.clearance_nm == 127_000
    item = drawer.template.item(0, 4)
    item.setText("0.3")
    settle(window)
    assert window.session.design.brief.template[0].tolerance_nm == 300_000


def test_the_print_is_at_true_size(window: MainWindow, station, settle, tmp_path: Path) -> None:
    station.open_drawer("board")
    settle(window)
    drawer = station.drawers.made["board"]
    drawer.print_it(str(tmp_path / "board.pdf"))
    assert (tmp_path / "board.pdf").read_bytes().count(b"/Type /Page\n") == 2
    dots = 10
    image = QImage(200 * dots, 280 * dots, QImage.Format.Format_Grayscale8)
    image.fill(255)
    p = QPainter(image)
    p.scale(dots, dots)
    with on_paper():
        paint_true_size(p, QRectF(0, 0, 200, 280), window.session.wired)
    p.end()
    row = [image.pixelColor(x, 270 * dots).lightness() < 128 for x in range(image.width())]
    runs = [len(list(group)) / dots for dark, group in groupby(row) if dark]
    assert sorted(runs) == pytest.approx([50.0, 50.8], abs=0.5)  # bars of 50 mm and 2 in
    drawer.write_dxf(str(tmp_path / "board.dxf"))
    drawer.open_outline(str(tmp_path / "board.dxf"))
    settle(window)
    assert window.session.design.board.form is None


def test_a_land_pattern_of_ones_own_is_drawn_kept_and_used(window: MainWindow, station, settle) -> None:
    station.canvas.selected_ref = "R1"
    station.open_drawer("lands")
    settle(window)
    drawer = station.drawers.made["lands"]
    assert drawer.package.currentText() == window.session.wired.package("R1").id
    assert drawer.canvas.pattern is not None
    for field, text in (("over", "1.6"), ("foot", "0.3"), ("width", "0.8")):
        drawer.measures[field].setText(text)
    drawer.check()
    assert drawer.fit_said.text().startswith("It fits.")
    drawer.measures["over"].setText("3.2")
    drawer.check()
    assert drawer.fit_said.text().startswith("It does not fit.")
    drawer.words.setPlainText("width=2..1")
    assert "least comes first" in drawer.said.text()
    assert not drawer.keep_button.isEnabled()
    drawer.words.setPlainText("density=most")
    drawer.name.setText("R-HAND")
    drawer.show_pattern()
    assert drawer.keep_button.isEnabled()
    drawer.keep()
    settle(window)
    assert drawer.package.currentText() == "R-HAND"
    drawer.use()
    settle(window)
    assert window.session.design.parts["R1"].package == "R-HAND"
    assert (window.session.path / "packages" / "R-HAND.toml").is_file()


def test_the_side_view(window: MainWindow, station, qtbot, settle) -> None:
    qtbot.mouseClick(station.side_toggle, Qt.MouseButton.LeftButton)
    settle(window)
    assert station.side.isVisible()
    assert station.side.side is not None
    assert {p.ref for p in station.side.side.parts} >= {"J1", "U3"}
