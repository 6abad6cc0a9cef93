"""A board by hand and machine mixed, through real widgets; and what the row of looks shows."""

from __future__ import annotations

import math
import re

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.hand.pieces import piece_at
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.desktop.layout.measuring import GRIDS
from zesty_trace.desktop.layout.prints import views_of
from zesty_trace.desktop.layout.station import LayoutStation
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.errors import InputError

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


@pytest.fixture
def station(routed_window: MainWindow, settle) -> LayoutStation:
    routed_window.go("layout")
    settle(routed_window)
    return routed_window.station


def spot(station: LayoutStation, x_nm: float, y_nm: float) -> QPoint:
    return station.canvas.to_view(QPointF(x_nm / 1e6, y_nm / 1e6)).toPoint()


def click(station: LayoutStation, x_nm: float, y_nm: float) -> None:
    QTest.mouseClick(station.canvas, LEFT, NONE, spot(station, x_nm, y_nm))


def drag(station: LayoutStation, a: QPoint, b: QPoint) -> None:
    QTest.mousePress(station.canvas, LEFT, NONE, a)
    for k in range(1, 6):
        QTest.mouseMove(station.canvas, a + (b - a) * k / 5)
    QTest.mouseRelease(station.canvas, LEFT, NONE, b)


def track_to_pick(station: LayoutStation) -> tuple[str, float, float]:
    """Return net and middle of a straight piece of signal copper that nothing lies over."""
    wired = station.session.wired
    poured = {p.net for p in wired.design.board.pours}
    for track in wired.design.board.tracks:
        for a, b in zip(track.points, track.points[1:], strict=False):
            x, y = (a[0] + b[0]) / 2, (a[1] + b[1]) / 2
            free = not any(math.dist((p.x_nm, p.y_nm), (x, y)) < 2.5e6 for p in board_pads(wired))
            if track.net in poured or math.dist(a, b) < 1.5e6 or not free:
                continue
            found = piece_at(wired, x / 1e6, y / 1e6, wired.design.board.stack)
            if found and found.what == "track" and wired.design.board.tracks[found.index].net == track.net:
                return track.net, x, y
    raise AssertionError("no track to pick")


def test_from_the_prototype_to_a_board_by_hand_and_machine_and_all_the_way_back(window: MainWindow, settle) -> None:
    window.go("layout")
    settle(window)
    station, session = window.station, window.session
    start = session.design
    station.place()
    settle(window)
    station.say("align D4..D6 bottom")
    station.say("spread D4..D6 across")
    assert len({session.design.board.placements[r].y_nm for r in ("D4", "D5", "D6")}) == 1
    station.route_button.click()
    settle(window)
    assert not connectivity(session.wired).links
    routed = session.design

    part = session.design.board.placements["R12"]
    at = spot(station, part.x_nm, part.y_nm)
    drag(station, at, at + QPoint(9, 0))
    settle(window)
    moved = session.design
    assert moved.board.placements["R12"].x_nm > part.x_nm
    kept = set(map(id, moved.board.tracks))
    nets = {p.net for p in board_pads(session.wired, ["R12"])}
    lost = [t for t in routed.board.tracks if id(t) not in kept]
    assert lost
    assert "Ctrl+R" in station.detail.text()
    assert len({t.net for t in lost} - nets) <= 3  # its own nets, and what lies in its way
    station.route_button.click()
    settle(window)
    assert not connectivity(session.wired).links
    still = set(map(id, session.design.board.tracks))
    assert len([t for t in moved.board.tracks if id(t) not in still]) <= len(moved.board.tracks) // 3

    station.looks.turn("route")
    settle(window)
    net, x, y = track_to_pick(station)
    click(station, x, y)
    assert f"Track of {net}" in station.detail.text()
    QTest.keyClick(station.canvas, Qt.Key.Key_Delete, Qt.KeyboardModifier.ShiftModifier)
    settle(window)
    gaps = [k for k in connectivity(session.wired).links if k.net == net]
    assert gaps
    for gap in gaps:
        click(station, gap.ax_nm, gap.ay_nm)
        assert station.tool.laying is not None
        QTest.mouseMove(station.canvas, spot(station, (gap.ax_nm + gap.bx_nm) / 2, (gap.ay_nm + gap.by_nm) / 2))
        QTest.mouseMove(station.canvas, spot(station, gap.bx_nm, gap.by_nm))
        assert "Click fixes it" in station.detail.text()
        click(station, gap.bx_nm, gap.by_nm)
        settle(window)
    assert not connectivity(session.wired).links
    assert [t for t in session.design.board.tracks if t.made == "hand" and t.net == net]
    near = nets_too_near(session.wired)
    assert not [pair for pair in near if (pair.what_a + pair.what_b).count("pad") < 2]  # parts are where they were put
    station.say("lock J1, J2")
    assert session.design.board.placements["J2"].fixed
    for _ in range(40):
        session.undo()
    settle(window)
    assert session.design is start


def test_a_track_is_dragged_and_stays_where_something_is_in_the_way(station: LayoutStation, settle) -> None:
    session = station.session
    station.looks.turn("route")
    settle(station.window())
    net, x, y = track_to_pick(station)
    before = session.design
    at = spot(station, x, y)
    picked = piece_at(session.wired, x / 1e6, y / 1e6, session.design.board.stack)
    assert picked is not None
    track = session.design.board.tracks[picked.index]
    (ax, ay), (bx, by) = track.points[picked.segment : picked.segment + 2]
    across = QPointF(-(by - ay), -(bx - ax)) / math.dist((ax, ay), (bx, by))  # in pixels: y down
    moved = False
    for step in (0.15, -0.15, 0.3, -0.3):
        drag(station, at, (QPointF(at) + across * step * station.canvas.scale).toPoint())
        settle(station.window())
        if session.design is not before:
            moved = True
            break
    far = (QPointF(at) + across * 30 * station.canvas.scale).toPoint()
    now = session.design
    drag(station, at, far)
    settle(station.window())
    assert session.design is now or not nets_too_near(session.wired)
    if moved:
        assert not connectivity(session.wired).links
        assert not nets_too_near(session.wired)
        assert [t for t in session.design.board.tracks if t.made == "hand" and t.net == net]


def test_keys_of_a_way_via_width_back_and_let_go(station: LayoutStation, settle) -> None:
    session, canvas = station.session, station.canvas
    station.looks.turn("route")
    settle(station.window())
    before = session.design
    pad = next(p for p in board_pads(session.wired) if p.pin.ref == "SW1" and p.net not in ("", "GND"))
    click(station, pad.x_nm, pad.y_nm)
    tool = station.tool
    assert tool.laying is not None
    assert tool.laying.layer == "top"
    QTest.keyClick(canvas, Qt.Key.Key_V)  # a through-hole pad leads to the other face by itself
    assert tool.laying.layer == "bottom"
    assert not tool.laying.vias
    width = tool.laying.width_nm
    QTest.keyClick(canvas, Qt.Key.Key_W)
    assert tool.laying.width_nm != width or len(tool.guide.kinds()) == 1
    QTest.mouseMove(canvas, spot(station, pad.x_nm - 3e6, pad.y_nm + 1e6))
    QTest.keyClick(canvas, Qt.Key.Key_V)
    assert len(tool.laying.legs) == 1
    assert tool.laying.layer == "top" or "No room" in station.detail.text()
    QTest.keyClick(canvas, Qt.Key.Key_Backspace)
    assert tool.laying.legs == []
    QTest.keyClick(canvas, Qt.Key.Key_Escape)
    assert tool.laying is None
    assert session.design is before


def test_looks_show_what_they_say(station: LayoutStation, settle) -> None:
    window = station.window()
    pictures: dict[str, QImage] = {}
    for intent in ("place", "route", "check", "made"):
        station.looks.turn(intent)
        settle(window)
        pictures[intent] = station.canvas.grab().toImage()
    station.looks.back.click()
    settle(window)
    pictures["back"] = station.canvas.grab().toImage()
    assert station.detail.text().startswith("The bottom in green")
    assert len({bytes(p.constBits()) for p in pictures.values()}) == 4 + 1 - (pictures["place"] == pictures["route"])
    at = QPointF(20.0, 12.5)
    canvas = station.canvas
    assert canvas.to_scene(canvas.to_view(at)) == at  # seen from behind as well
    west = canvas.to_view(QPointF(1, 1)).x()
    assert west > canvas.to_view(QPointF(60, 1)).x()


def test_a_measure_catches_the_middle_of_pads_and_says_both_units(station: LayoutStation, settle) -> None:
    pads = [p for p in board_pads(station.session.wired) if p.pin.ref == "J4"][:2]
    QTest.keyClick(station.canvas, Qt.Key.Key_M)
    for pad in pads:
        QTest.mouseMove(station.canvas, spot(station, pad.x_nm + 150_000, pad.y_nm))
        if pad is pads[0]:
            QTest.mouseClick(station.canvas, LEFT, NONE, spot(station, pad.x_nm + 150_000, pad.y_nm))
    assert station.detail.text().startswith("2.540 mm (100.0 mil)")
    QTest.keyClick(station.canvas, Qt.Key.Key_Escape)
    assert station.canvas.tape is None
    assert not station.looks.tape.isChecked()


def test_a_net_is_lit_where_its_copper_is_clicked_and_measured_between_two_clicks(station, settle) -> None:
    from zesty_trace.core.board.fields.conduction import resistance
    from zesty_trace.core.quantities import say

    window, canvas, wired = station.window(), station.canvas, station.session.wired
    net = next(n for n, pins in wired.design.nets.items() if len(pins) > 1 and n not in ("GND",))
    a, b = (next(p for p in board_pads(wired) if p.pin == pin) for pin in wired.design.nets[net][:2])
    QTest.mouseClick(canvas, LEFT, Qt.KeyboardModifier.AltModifier, spot(station, a.x_nm, a.y_nm))
    assert canvas.lit_net == net
    assert station.detail.text().startswith(f"{net} on ")
    lit = canvas.grab().toImage()
    corner = wired.design.board.outline[0]
    click(station, corner[0] - 2_000_000, corner[1] - 2_000_000)
    assert canvas.lit_net == ""
    assert canvas.grab().toImage() != lit
    QTest.keyClick(canvas, Qt.Key.Key_M)
    for pad in (a, b):
        click(station, pad.x_nm, pad.y_nm)
    settle(window)
    words = re.search(r"; (\S+): (\S+) (m?)Ω of copper between them", station.detail.text())
    assert words is not None, station.detail.text()
    assert words[1] == net
    ohm = float(words[2]) * (1e-3 if words[3] else 1)
    whole = resistance(wired, a.pin, b.pin).resistance_ohm  # tips are smaller than pads: a little more
    assert whole <= ohm * 1.02, say(whole, "Ω")
    assert ohm < 2 * whole + 2e-3


def test_parts_snap_to_the_grid_that_is_chosen(station: LayoutStation, settle) -> None:
    session = station.session
    station.looks.grid.setCurrentText("25 mil")
    assert station.canvas.show_grid
    part = session.design.board.placements["R12"]
    at = spot(station, part.x_nm, part.y_nm)
    drag(station, at, at + QPoint(14, 9))
    settle(station.window())
    now = session.design.board.placements["R12"]
    assert now != part
    assert now.x_nm % GRIDS["25 mil"] == now.y_nm % GRIDS["25 mil"] == 0
    station.looks.grid.setCurrentText("Grid off")
    assert not station.canvas.show_grid


def test_a_drag_that_tears_its_net_is_refused(station: LayoutStation, settle) -> None:
    session = station.session
    before = session.design
    board = before.board
    net = next(t.net for t in board.tracks if t.net not in {p.net for p in board.pours})
    torn = edits.set_copper(before, [t for t in board.tracks if t.net != net], board.vias, board.pours)
    assert not station._commit_hand("torn", torn, net)
    assert session.design is before
    assert "come apart" in station.detail.text()
    assert isinstance(before, Design)
    assert isinstance(board.placements["R12"], Placement)


def test_the_board_is_written_on_paper_at_its_size(station: LayoutStation, settle, tmp_path) -> None:
    station.write_paper(str(tmp_path / "b.svg"))
    names = {p.name for p in tmp_path.glob("*.svg")}
    assert names == {
        f"b-{v}.svg" for v in ("top", "bottom", "silk-top", "silk-bottom", "assembly-top", "assembly-bottom")
    }
    text = (tmp_path / "b-bottom.svg").read_text()
    assert "seen from the bottom, mirrored" in text
    wide = float(re.search(r'width="([\d.]+)mm"', text)[1])
    view = [float(v) for v in re.search(r'viewBox="([^"]+)"', text)[1].split()]
    assert wide / view[2] == pytest.approx(0.1, rel=2e-3)  # ten units a millimetre: 1:1
    station.write_paper(str(tmp_path / "b.pdf"))
    pdf = (tmp_path / "b.pdf").read_bytes()
    assert pdf.startswith(b"%PDF")
    assert len(re.findall(rb"/Type\s*/Page\b", pdf)) == 6
    with pytest.raises(InputError, match="no view"):
        views_of(station.session.wired, "top, middle")


def test_the_current_of_the_picked_net_is_laid_over_the_board(station: LayoutStation, settle) -> None:
    window = station.window()
    plain = station.canvas.grab().toImage()
    station.looks.current.click()
    settle(window)
    assert "A/mm²" in station.detail.text()
    assert station.canvas.flow is not None
    assert station.canvas.grab().toImage() != plain
    station.looks.turn("route")
    settle(window)
    net, x, y = track_to_pick(station)
    click(station, x, y)
    settle(window)
    if station.canvas.flow is None:
        assert station.detail.text().startswith(net)  # says why there is no picture of this one
        assert "no current" in station.detail.text()
    else:
        assert station.canvas.flow.flow.net == net
    station.looks.current.click()
    assert station.canvas.flow is None
