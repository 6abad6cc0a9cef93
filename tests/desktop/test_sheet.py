"""The schematic's canvas and drawers, driven through their real widgets."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage, QPainter

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Moment, Pin
from zesty_trace.core.design.scenario_edits import set_timeline
from zesty_trace.core.schematic.sheet import reading_order
from zesty_trace.core.wording.swap import swappable
from zesty_trace.desktop.schematic import edits as sheet_edits
from zesty_trace.desktop.schematic import files as sheet_files
from zesty_trace.desktop.schematic.drawers.stack import DRAWERS
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.journey.demos import create_demo
from zesty_trace.journey.kinds import project_catalogue
from zesty_trace.store.project import read_project

from ..conftest import TODAY

LEFT = Qt.MouseButton.LeftButton
SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def sheet(window: MainWindow, settle):
    window.go("schematic")
    settle(window)
    return window.station


@pytest.fixture
def open_demo(open_window, tmp_path: Path, settle):
    def opened(demo: str) -> MainWindow:
        create_demo(tmp_path / demo, TODAY, demo)
        window = open_window(tmp_path / demo)
        window.go("schematic")
        settle(window)
        return window

    return opened


@pytest.fixture
def dial(open_demo) -> MainWindow:
    return open_demo("tide-dial")


@pytest.fixture
def node(open_demo) -> MainWindow:
    return open_demo("sensor-node")


def pixel(station, ref: str) -> QPoint:
    symbol = station.canvas.symbol(ref)
    return station.canvas.to_view(QPointF(symbol.x, symbol.y)).toPoint()


def click_part(qtbot, station, ref: str, keys=Qt.KeyboardModifier.NoModifier) -> None:
    qtbot.mouseClick(station.canvas, LEFT, keys, pixel(station, ref))


def click(qtbot, widget) -> None:
    assert widget.isEnabled()
    qtbot.mouseClick(widget, LEFT)


# Canvas ---------------------------------------------------------------------------------------------------------------


def test_shift_click_and_frame_select_several_and_they_move_together(sheet, qtbot, settle) -> None:
    canvas, session = sheet.canvas, sheet.session
    click_part(qtbot, sheet, "R14")
    click_part(qtbot, sheet, "R15", SHIFT)
    assert canvas.selection == ["R14", "R15"]
    before = {r: canvas.symbol(r) for r in canvas.selection}
    qtbot.keyClick(canvas, Qt.Key.Key_Down)
    assert {r: (s.x, s.y) for r, s in session.design.sheet.items()} == {r: (s.x, s.y + 1) for r, s in before.items()}
    settle(sheet.window())
    click_part(qtbot, sheet, "R14", SHIFT)
    assert canvas.selection == ["R15"]
    high = pixel(sheet, "D5") + QPoint(8, 8)
    below = (pixel(sheet, "D4") + QPoint(-9, k) for k in range(-8, -40, -1))
    low = next(q for q in below if not _taken(canvas, canvas.to_scene(QPointF(q))))
    qtbot.mousePress(canvas, LEFT, pos=low)
    qtbot.mouseMove(canvas, (low + high) / 2)
    qtbot.mouseMove(canvas, high)
    qtbot.mouseRelease(canvas, LEFT, pos=high)
    assert {"D4", "D5"} <= set(canvas.selection)
    assert "D6" not in canvas.selection


def test_copy_and_paste_makes_new_parts_on_the_same_outside_nets(sheet, qtbot, settle) -> None:
    canvas, session = sheet.canvas, sheet.session
    canvas.select(["R14", "D4"])
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClick(canvas, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    fresh = list(canvas.selection)
    assert len(fresh) == 2
    assert set(fresh).isdisjoint({"R14", "D4"})
    net_of = session.design.net_of()
    resistor = next(r for r in fresh if r.startswith("R"))
    assert net_of[Pin(resistor, "1")] == net_of[Pin("R14", "1")]
    assert net_of[Pin(resistor, "2")] != net_of[Pin("R14", "2")]
    assert canvas.symbol(resistor) is not None
    qtbot.keyClick(canvas, Qt.Key.Key_Delete)
    assert set(fresh).isdisjoint(session.design.parts)
    settle(sheet.window())


def test_an_edit_is_drawn_before_the_full_arrangement(sheet, settle) -> None:
    before = sheet.model.drawn
    sheet_edits.say(sheet.model, "U3.P4 - R20 330 - D7 red - GND")
    assert sheet.model.drawn.design is sheet.session.design
    assert {"R20", "D7"} <= {s.ref for s in sheet.model.drawn.sheet.symbols}
    assert sheet.model.arranged.of is before.wired
    old = {w for w in before.sheet.wires if w.net not in ("GND",)}
    assert len(old & set(sheet.model.drawn.sheet.wires)) > 0.9 * len(old)
    settle(sheet.window())
    assert sheet.model.arranged.of is sheet.session.wired


def test_an_edit_repaints_only_what_changed_and_the_picture_is_that_of_a_full_paint(sheet, settle, qtbot) -> None:
    canvas = sheet.canvas
    rects = []
    paint = canvas.paintEvent
    canvas.overview()
    qtbot.wait(100)  # what was still to be painted is

    def record(event) -> None:
        rects.append(event.rect())
        paint(event)

    canvas.paintEvent = record
    sheet._later.setInterval(5000)
    sheet_edits.say(sheet.model, "R9 = 2k2")
    qtbot.waitUntil(lambda: bool(rects), timeout=2000)
    assert rects[0].width() < canvas.width() / 3  # the findings that follow may paint more
    settled = canvas.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    canvas.update()
    assert canvas.grab().toImage().convertToFormat(QImage.Format.Format_RGB32) == settled
    del canvas.paintEvent
    sheet._later.setInterval(1)
    sheet._later.start()
    settle(sheet.window())


def test_find_lights_parts_by_value_and_nets_by_name(sheet, qtbot) -> None:
    qtbot.keyClicks(sheet.find_box, "330")
    qtbot.keyClick(sheet.find_box, Qt.Key.Key_Return)
    assert sheet.canvas.view.lit_refs == {"R14", "R15", "R16"}
    sheet.find_box.clear()
    qtbot.keyClicks(sheet.find_box, "HEATER")
    qtbot.keyClick(sheet.find_box, Qt.Key.Key_Return)
    assert sheet.canvas.view.lit_nets == {"HEATER"}


def test_a_click_on_a_supply_line_or_a_tag_lights_its_net(sheet, qtbot) -> None:
    canvas = sheet.canvas
    rail = next(r for r in canvas.view.sheet.rails if r.net == "GND")
    at = canvas.to_view(QPointF((rail.left + rail.right) / 2 + 0.4, rail.y)).toPoint()
    qtbot.mouseClick(canvas, LEFT, pos=at)
    assert canvas.view.lit_nets == {"GND"}
    tag = next(t for t in canvas.view.sheet.tags if t.net == "PROG" and t.side == "left")
    qtbot.mouseClick(canvas, LEFT, pos=canvas.to_view(QPointF(tag.at[0] - 2, tag.at[1])).toPoint())
    assert canvas.view.lit_nets == {"PROG"}
    qtbot.keyClick(canvas, Qt.Key.Key_Escape)
    assert canvas.view.lit_nets == frozenset()


def test_parts_are_numbered_by_position_and_the_sheet_is_split_into_pages(sheet, settle) -> None:
    window, session = sheet.window(), sheet.session
    sheet_edits.renumber(sheet.model)
    settle(window)
    resistors = [r for r in reading_order(sheet.model.drawn.sheet) if r.startswith("R")]
    assert session.design.parts.keys() >= {f"R{k}" for k in range(1, len(resistors) + 1)}
    assert resistors[0] == "R1"
    sheet_edits.split_pages(sheet.model)
    settle(window)
    assert len(session.design.pages) > 1
    assert sheet.pages.isVisible()
    assert any(t.mark for t in sheet.model.drawn.sheet.tags)
    first = {s.ref for s in sheet.model.drawn.sheet.symbols}
    sheet.pages.setCurrentIndex(2)
    sheet.pages.activated.emit(2)
    settle(window)
    second = {s.ref for s in sheet.model.drawn.sheet.symbols}
    assert first.isdisjoint(second)
    sheet.model.light([next(iter(first))], [])
    settle(window)
    assert next(iter(first)) in {s.ref for s in sheet.model.drawn.sheet.symbols}
    sheet_edits.split_pages(sheet.model)
    settle(window)
    assert session.design.pages == ()


def test_the_sheet_is_written_as_pdf_svg_and_netlists(sheet, tmp_path: Path, settle) -> None:
    sheet_files.export_pdf(sheet.model, sheet, tmp_path / "s.pdf")
    settle(sheet.window())
    assert (tmp_path / "s.pdf").read_bytes()[:5] == b"%PDF-"
    sheet_files.export_svg(sheet.model, sheet, tmp_path / "s.svg")
    settle(sheet.window())
    pages = sorted(tmp_path.glob("s*.svg"))
    svg = "".join(p.read_text() for p in pages)
    for text in ("Proofing cabinet", "U3", f"Page 1 of {len(pages)}", TODAY.isoformat()[:4]):
        assert text in svg, text
    sheet_files.export_netlist(sheet.model, sheet, "json", tmp_path / "n.json")
    data = json.loads((tmp_path / "n.json").read_text())
    assert {p["ref"] for p in data["nets"]["HEATER"]} == {p.ref for p in sheet.session.design.nets["HEATER"]}
    sheet_files.export_netlist(sheet.model, sheet, "csv", tmp_path / "n.csv")
    lines = (tmp_path / "n.csv").read_text().splitlines()
    assert len(lines) - 1 == sum(len(p) for p in sheet.session.design.nets.values())
    sheet_files.export_pdf(sheet.model, sheet, tmp_path / "nowhere" / "s.pdf")
    settle(sheet.window())
    assert "nowhere" in sheet.window().status.text.text()


def _taken(canvas, at: QPointF) -> bool:
    return bool(canvas.net_at(at) or canvas.part_at(at) or canvas.pin_at(at))


# Drawers --------------------------------------------------------------------------------------------------------------


def test_a_drawer_takes_the_findings_place_and_is_kept_for_next_time(window, sheet, qtbot, open_window, settle) -> None:
    sheet.toggles["numbers"].trigger()
    assert sheet.drawers.made["numbers"].isVisible()
    assert not window.findings.isVisible()
    window.go("layout")
    assert window.findings.isVisible()
    settle(window)
    path = window.session.path
    window.close()
    again = open_window(path)
    again.go("schematic")
    settle(again)
    assert again.station.drawers.key == "numbers"
    again.station.toggles[""].trigger()
    assert again.findings.isVisible()
    assert not again.station.drawers.isVisible()


def test_every_drawer_opens_on_an_empty_and_on_an_unsolvable_design(open_window, tmp_path: Path, settle, qtbot) -> None:
    from zesty_trace.desktop.window.opening import new_project

    window = open_window(new_project(tmp_path / "fresh"))
    window.go("schematic")
    settle(window)
    station = window.station
    for sentence in (
        "",
        "add J1 barrel_jack",
        "add J2 barrel_jack",
        "J1.TIP, J2.TIP = A",
        "J1.SLEEVE, J2.SLEEVE = GND",
    ):
        if sentence:
            sheet_edits.say(station.model, sentence)
        for key in DRAWERS:
            station.drawers.open(key)
            settle(window)
            assert station.drawers.currentWidget().heading.text()
    station.drawers.close_open()
    station.play()
    settle(window)
    station.drawers.close_open()
    for edit in ("renumber", "split_pages", "arrange_again", "paste", "copy_selection"):
        getattr(sheet_edits, edit)(station.model)
        settle(window)
    station.model.select_all()


def test_part_drawer_edits_one_and_many(sheet, qtbot, settle) -> None:
    session = sheet.session
    sheet.drawers.open("part")
    drawer = sheet.drawers.made["part"]
    click_part(qtbot, sheet, "R14")
    assert drawer.heading.text() == "R14"
    assert "orange orange brown" in drawer.marking.text()
    assert drawer.pins.item(0, 2).text().endswith("V")
    sheet.canvas.select(["R14", "R15"])
    drawer.value.clear()
    qtbot.keyClicks(drawer.value, "470")
    qtbot.keyClick(drawer.value, Qt.Key.Key_Return)
    assert [session.design.parts[r].value for r in ("R14", "R15", "R16")] == ["470", "470", "330"]
    drawer.package.setCurrentText("R0603")
    drawer.package.activated.emit(drawer.package.currentIndex())
    assert session.design.parts["R15"].package == "R0603"
    drawer.block.setEditText("Lights")
    drawer.block.lineEdit().editingFinished.emit()
    assert session.design.parts["R14"].block == "Lights"
    before = session.design
    qtbot.keyClicks(drawer.value, "lots")
    qtbot.keyClick(drawer.value, Qt.Key.Key_Return)
    assert session.design is before
    settle(sheet.window())


def test_wiring_list_and_drawing_are_in_step_both_ways(sheet, qtbot, settle) -> None:
    session = sheet.session
    sheet.drawers.open("wiring")
    drawer = sheet.drawers.made["wiring"]
    assert "add R14 resistor 330" in drawer.text.toPlainText()
    session.do("value", lambda d: edits.change_part(d, "R14", value="390"))
    settle(sheet.window())
    assert "add R14 resistor 390" in drawer.text.toPlainText()
    text = drawer.text.toPlainText()
    drawer.text.setPlainText(text.replace("add R14 resistor 390", "add R14 resistor 1k"))
    drawer.text.setFocus()
    qtbot.keyClick(drawer.text, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert session.design.parts["R14"].value == "1k"
    settle(sheet.window())
    drawer.text.setPlainText(drawer.text.toPlainText() + "U3.P99 = GND\n")
    before = session.design
    click(qtbot, drawer.apply_button)
    assert session.design is before
    assert "U3.P99" in drawer.said.text()
    assert drawer.text.extraSelections()
    session.do("value", lambda d: edits.change_part(d, "R15", value="390"))
    assert "changed meanwhile" in drawer.said.text() or drawer.dirty
    click(qtbot, drawer.drop_button)
    assert "U3.P99" not in drawer.text.toPlainText()
    settle(sheet.window())


def test_states_are_edited_and_the_sheet_shows_the_picked_one(sheet, qtbot, settle) -> None:
    window, session = sheet.window(), sheet.session
    sheet.overlay.click()
    sheet.drawers.open("states")
    drawer = sheet.drawers.made["states"]
    names = [drawer.list.item(k).text().split("  ·")[0] for k in range(drawer.list.count())]
    drawer.list.setCurrentRow(names.index("all off"))
    off = sheet.canvas.view.volts["HEAT"]
    drawer.list.setCurrentRow(names.index("HEAT on"))
    assert sheet.canvas.view.volts["HEAT"] > 3.0
    assert off < 0.1
    click(qtbot, drawer.add_button)
    settle(window)
    assert session.design.states[-1].name == "HEAT on 2"
    assert drawer.current.name == "HEAT on 2"
    item = next(
        drawer.checks.item(k) for k in range(drawer.checks.count()) if "FAN high" in drawer.checks.item(k).text()
    )
    item.setCheckState(Qt.CheckState.Checked)
    settle(window)
    assert len(session.design.states[-1].high) == 2
    drawer.name.setText("dough rises")
    drawer.supply.setText("11.5 V")
    drawer.supply.editingFinished.emit()
    settle(window)
    assert (session.design.states[-1].name, session.design.states[-1].supply_v) == ("dough rises", 11.5)
    assert sheet.states.currentText() == "dough rises"
    click(qtbot, drawer.again_button)
    settle(window)
    assert session.design.states == ()


def test_the_timeline_plays_lights_and_sums_up_charge(node: MainWindow, qtbot, settle) -> None:
    sheet, session = node.station, node.session
    sheet.drawers.open("timeline")
    settle(node)
    drawer = sheet.drawers.made["timeline"]
    assert "on average" in drawer.sums.text()
    assert "mAh" in drawer.sums.text()
    before = drawer._cycle.average_a
    drawer.steps.item(0, 1).setText("600 s")
    settle(node)
    assert session.design.timeline[0].seconds == 600
    assert drawer._cycle.average_a < before
    click(qtbot, drawer.play_button)
    drawer.slider.setValue(1000)
    drawer._seek(1000)
    assert sheet.canvas.view.lights is not None
    assert sheet.model.state_name == session.design.timeline[-1].state
    click(qtbot, drawer.play_button)
    assert sheet.canvas.view.lights is None
    drawer.add()
    assert len(session.design.timeline) == 3
    settle(node)
    drawer.steps.item(0, 1).setText("soon")
    assert session.design.timeline[0].seconds == 600
    assert "value" in node.status.text.text()
    settle(node)


def test_equal_steps_of_the_timeline_each_show_their_current(sheet, settle) -> None:
    sheet.session.do("twice", lambda d: set_timeline(d, (Moment(state="all on", seconds=1.0),) * 2))
    sheet.drawers.open("timeline")
    settle(sheet.window())
    texts = [sheet.drawers.made["timeline"].steps.item(k, 2).text() for k in range(2)]
    assert texts[0] == texts[1] != ""


def test_a_broken_part_file_does_not_keep_the_design_from_being_saved(window: MainWindow, settle) -> None:
    (window.session.path / "parts").mkdir(exist_ok=True)
    (window.session.path / "parts" / "broken.toml").write_text("[oops\n")
    window.session.do("name", lambda d: edits.set_name(d, "Saved all the same"))
    window.session.__dict__.pop("catalogue", None)
    assert window.session.save()
    assert read_project(window.session.path).design.name == "Saved all the same"
    (window.session.path / "parts" / "broken.toml").unlink()
    settle(window)


def test_lights_glow_by_their_current_while_the_timeline_plays(dial: MainWindow, settle) -> None:
    sheet = dial.station
    moments = tuple(Moment(state=s.name, seconds=0.5) for s in sheet.model.analysis.states)
    dial.session.do("timeline", lambda d: set_timeline(d, moments))
    sheet.drawers.open("timeline")
    settle(dial)
    drawer = sheet.drawers.made["timeline"]
    lit = next(k for k, s in enumerate(drawer._cycle.steps) if s.lit)
    ref = next(iter(drawer._cycle.steps[lit].lit))
    sheet.canvas.center_on(QPointF(sheet.canvas.symbol(ref).x, sheet.canvas.symbol(ref).y), 14.0)
    at = pixel(sheet, ref)
    dark = sheet.canvas.grab().toImage().pixelColor(at + QPoint(20, 0))
    drawer._second = (lit + 0.5) * 0.5
    drawer._show_second()
    glow = sheet.canvas.grab().toImage().pixelColor(at + QPoint(20, 0))
    assert glow != dark
    drawer.stop()


def test_numbers_show_supplies_times_and_the_spread(sheet, qtbot, settle) -> None:
    sheet.drawers.open("numbers")
    settle(sheet.window())
    drawer = sheet.drawers.made["numbers"]
    texts = _tree(drawer.tree)
    assert any(t.startswith("J1 on 12V_IN") and "of 3.0 A" in t for t in texts)
    assert any(t.startswith("Reset delay, U3.NRST 1.20 ms") for t in texts)
    assert any(t.startswith("U2 132 °C of 125 °C") for t in texts)
    item = drawer.tree.topLevelItem(0).child(0)
    drawer.tree.itemClicked.emit(item, 0)
    assert sheet.canvas.view.lit_refs == {"J1"}
    click(qtbot, drawer.spread_button)
    settle(sheet.window())
    spread = next(t for t in _tree(drawer.tree) if t.startswith("SENSE_12V"))
    low, high = (float(w) for w in spread.replace("V", " ").split() if w.replace(".", "").isdigit())
    assert low < 2.105 < high


def _tree(tree) -> list[str]:
    found = []

    def walk(item) -> None:
        found.append(" ".join(item.text(c) for c in range(3)).strip())
        for k in range(item.childCount()):
            walk(item.child(k))

    for k in range(tree.topLevelItemCount()):
        walk(tree.topLevelItem(k))
    return found


def test_options_carry_their_needs_and_firmware_switches(sheet, qtbot, settle) -> None:
    session = sheet.session
    sheet.drawers.open("options")
    drawer = sheet.drawers.made["options"]
    for refs, name, needs, switch in (
        (["BZ1", "Q5", "R10", "R11"], "Sounder", "", "WITH_SOUND=1"),
        (["D6", "R16"], "Ready light", "Sounder", ""),
    ):
        sheet.canvas.select(refs)
        for field, text in ((drawer.name, name), (drawer.needs, needs), (drawer.switch, switch)):
            field.setText(text)
        click(qtbot, drawer.add_button)
    assert [o.name for o in session.design.options] == ["Sounder", "Ready light"]
    settle(sheet.window())
    box = drawer.options.item(0, 3)
    box.setCheckState(Qt.CheckState.Unchecked)
    settle(sheet.window())
    basic = session.design.variants[0]
    assert not any(session.design.parts[r].fitted(basic) for r in ("BZ1", "R10", "D6", "R16"))
    texts = [drawer.variants.item(k, 2).text() for k in range(drawer.variants.rowCount())]
    assert texts == ["none", "WITH_SOUND=1"]
    plain = sheet.canvas.grab().toImage()
    drawer.shown.setCurrentIndex(1)
    drawer.shown.activated.emit(1)
    assert sheet.canvas.view.variant == basic
    assert sheet.canvas.grab().toImage() != plain
    drawer.variant_name.setText("Small")
    click(qtbot, drawer.add_variant_button)
    assert "Small" in session.design.variants
    settle(sheet.window())


def test_a_part_is_made_from_its_pin_table_used_and_kept(sheet, qtbot, settle, tmp_path: Path) -> None:
    window = sheet.window()
    sheet.drawers.open("make")
    drawer = sheet.drawers.made["make"]
    drawer.pins.setPlainText("1 VDD power\n2 SDA I/O\n2 SCL input")
    assert "line 3" in drawer.said.text()
    drawer.pins.setPlainText(
        "\n".join(f"{k} {n}" for k, n in enumerate(("VDD", "GND", "SDA", "SCL", "NC", "NC1", "NC2", "NC3"), 1))
    )
    assert "Pick a package" in drawer.said.text()
    for field, text in (
        (drawer.kind_id, "soil_sensor"),
        (drawer.kind_title, "Soil moisture sensor"),
        (drawer.v_min, "2.7"),
        (drawer.v_max, "3.6"),
        (drawer.v_pin, "3.6"),
        (drawer.supply_a, "1.2m"),
        (drawer.address, "0x45"),
    ):
        field.setText(text)
    drawer.package.setCurrentText("SOIC-8")
    assert drawer.keep_button.isEnabled(), drawer.said.text()
    click(qtbot, drawer.keep_button)
    assert (window.session.path / "parts" / "soil_sensor.toml").exists()
    assert "soil_sensor" in window.session.catalogue.kinds
    assert sheet.line.text().startswith("add U")
    qtbot.keyClick(sheet.line, Qt.Key.Key_Return)
    settle(window)
    part = next(p for p in window.session.design.parts.values() if p.kind == "soil_sensor")
    sheet_edits.say(sheet.model, f"{part.ref}.SDA, U3.SDA = SDA")
    sheet_edits.say(sheet.model, f"{part.ref}.SCL, U3.SCL = SCL")
    settle(window)
    window.close()
    shutil.rmtree(tmp_path / "config", ignore_errors=True)
    assert "soil_sensor" in project_catalogue(window.session.path).kinds


def test_module_or_bare_is_shown_side_by_side_before_it_is_done(node: MainWindow, qtbot, settle) -> None:
    sheet, session = node.station, node.session
    sheet_edits.say(sheet.model, "add U90 controller_plug_in")
    settle(node)
    assert "U90" in swappable(session.design)
    sheet.drawers.open("part")
    sheet.canvas.select(["U90"])
    drawer = sheet.drawers.made["part"]
    before = session.design
    click(qtbot, drawer.swap_button)
    assert session.design is before
    assert drawer.swap.table.item(1, 1).text().endswith("mm²")
    assert "Gained" in drawer.swap.words.text()
    click(qtbot, drawer.swap.take_button)
    assert session.design.parts["U90"].kind == "controller_32"
    settle(node)


# Brief ----------------------------------------------------------------------------------------------------------------


def test_unknown_kinds_are_mapped_once_and_remembered(window: MainWindow, demo_tables, tmp_path, qtbot, settle) -> None:
    window.go("brief")
    brief = window.station
    window.session.do("emptied", lambda d: type(d)(name="empty"))
    for name, text, edit in (
        ("p.csv", demo_tables[0].replace("ceramic_capacitor", "ceramic cap"), brief.parts_path),
        ("w.csv", demo_tables[1], brief.wiring_path),
    ):
        (tmp_path / name).write_text(text)
        edit.setText(str(tmp_path / name))
    settle(window)
    assert "1 unknown kind" in brief.tables.said.text()
    box = brief.tables.unknown.cellWidget(0, 2)
    assert box.itemData(1) == "ceramic_capacitor"
    box.setCurrentIndex(1)
    box.activated.emit(1)
    settle(window)
    assert "ready to import" in brief.tables.said.text()
    click(qtbot, brief.import_button)
    settle(window)
    assert len(window.session.design.parts) == 60
    window.session.undo()
    brief.tables._chosen.clear()
    brief.tables.look()
    settle(window)
    assert "ready to import" in brief.tables.said.text()
    settle(window)


def test_a_reading_that_the_model_does_not_share_is_a_finding(window: MainWindow, qtbot, settle) -> None:
    window.go("brief")
    card = window.station.measured
    card.where.setText("J1")
    card.reading.setText("180 mA")
    click(qtbot, card.add_button)
    settle(window)
    assert card.table.item(0, 2).text() == "180 mA"
    assert "over 10 %" in card.table.item(0, 4).text()
    assert "the prototype drew 180 mA" in window.findings.cards[0].finding.title
    card.table.setCurrentCell(0, 0)
    click(qtbot, card.drop_button)
    settle(window)
    assert window.session.design.measured == ()
    card.where.setText("J1")
    card.reading.setText("some")
    click(qtbot, card.add_button)
    assert "value" in window.status.text.text()


# The shelf, and how a sheet opens -------------------------------------------------------------------------------------


def test_a_part_is_found_on_the_shelf_and_put_on_the_sheet(sheet, qtbot, settle) -> None:
    click(qtbot, sheet.shelf)
    shelf = sheet.drawers.made["shelf"]
    qtbot.keyClicks(shelf.words, "relay 12 V coil, one")
    assert shelf.kind.id == "relay_12v"
    assert "5 pins" in shelf.said.text()
    assert "mm²" in shelf.space.text()
    assert "EUR a board" in shelf.space.text()
    qtbot.keyClick(shelf.words, Qt.Key.Key_Return)
    settle(sheet.window())
    assert sheet.session.design.parts["K1"].kind == "relay_12v"
    assert sheet.model.selection == ("K1",)
    assert sheet.canvas.symbol("K1") is not None
    sheet.session.undo()
    assert "K1" not in sheet.session.design.parts


def test_a_value_that_is_none_is_told_and_nothing_is_added(sheet, qtbot) -> None:
    sheet.drawers.open("shelf")
    shelf, before = sheet.drawers.made["shelf"], sheet.session.design
    shelf.words.setText("resistor")
    shelf.found.setCurrentRow([k.id for k in shelf._kinds].index("resistor"))
    shelf.value.setText("lots")
    qtbot.keyClick(shelf.value, Qt.Key.Key_Return)
    assert sheet.session.design is before
    shelf.words.setText("qqqq")
    assert shelf.kind is None
    assert not shelf.add.isEnabled()


def test_a_kind_is_dropped_where_it_is_wanted(sheet, settle) -> None:
    from PySide6.QtGui import QDropEvent

    from zesty_trace.desktop.schematic.drawers.shelf import kind_data

    at = sheet.canvas.to_view(QPointF(60.0, 30.0))
    data = kind_data("buzzer")
    sheet.canvas.dropEvent(
        QDropEvent(at, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    )
    ref = sheet.model.selection[0]
    assert sheet.session.design.parts[ref].kind == "buzzer"
    assert (sheet.session.design.sheet[ref].x, sheet.session.design.sheet[ref].y) == (60, 30)
    settle(sheet.window())


def test_the_sheet_opens_at_a_size_that_can_be_read_and_the_overview_shows_all(sheet, qtbot) -> None:
    canvas = sheet.canvas
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_Home)
    assert 9.0 <= canvas.scale * 1.5 <= 17.0
    top = canvas.origin.y()
    canvas.select([])
    qtbot.keyClick(canvas, Qt.Key.Key_PageDown)
    assert canvas.origin.y() < top
    qtbot.keyClick(canvas, Qt.Key.Key_End)
    assert canvas.fits_whole
    qtbot.keyClick(canvas, Qt.Key.Key_End)
    assert canvas.scale * 1.5 >= 9.0


def test_markers_and_voltages_lie_over_nothing(sheet) -> None:
    """Every bubble and every finding's number is clear of bodies, texts, flags and wires."""
    from zesty_trace.core.geometry import Box
    from zesty_trace.core.schematic.labels import drawn_boxes
    from zesty_trace.desktop.schematic.painter import SheetPainter

    drawn = sheet.model.drawn
    sheet.model.show_overlay(True)
    painter = SheetPainter(sheet.model.view_of(drawn))
    boxes = drawn_boxes(drawn.sheet, drawn.wired)
    put: list[Box] = []
    bubble = painter._bubble

    def record(p, x: float, y: float, text: str) -> Box:
        put.append(bubble(p, x, y, text))
        return put[-1]

    painter._bubble = record  # type: ignore[method-assign]
    image = QImage(800, 600, QImage.Format.Format_RGB32)
    p = QPainter(image)
    painter.draw(p)
    p.end()
    assert len(put) > 10
    for k, box in enumerate(put):
        assert not any(box.meets(other) for other in (*boxes, *put[:k])), box
