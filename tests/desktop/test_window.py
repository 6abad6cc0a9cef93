"""The window: journey, findings, palette, themes, undo, state kept, stations driven through their real widgets."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QFont, QFontDatabase, QFontInfo, QFontMetricsF

from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Severity
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.errors import InputError, StoreError
from zesty_trace.stations import STATIONS
from zesty_trace.store.project import read_project


def show(window: MainWindow, station: str, settle):
    window.go(station)
    settle(window)
    return window.station


def test_the_window_is_written_in_the_shipped_fonts(window: MainWindow) -> None:
    """Qt puts another family in the place of one that is missing, without a word."""
    assert QFontInfo(window.font()).family() == theme.FAMILY
    assert {"Regular", "SemiBold", "Bold"} <= {s.replace(" ", "") for s in QFontDatabase.styles(theme.FAMILY)}


def test_an_address_is_no_multiplication(qapp, qtbot) -> None:
    """The x of 0x45 is the letter, as wide as in a word, in labels as in drawings."""
    shown = [QFontMetricsF(font).horizontalAdvance("0x45") for font in (qapp.font(), theme.plain_font())]
    for font, wide in zip((qapp.font(), theme.plain_font()), shown, strict=True):
        assert font.featureValue(QFont.Tag("calt")) == 0
        assert wide == pytest.approx(sum(QFontMetricsF(font).horizontalAdvance(c) for c in "0x45"), abs=0.6)


def test_keys_and_clicks_go_to_stations(window: MainWindow, qtbot, settle) -> None:
    for number, key in enumerate(STATIONS, 1):
        qtbot.keyClick(window, Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.ControlModifier)
        assert window.current == key
    at = window.trace._pad(1).toPoint()
    qtbot.mouseClick(window.trace, Qt.MouseButton.LeftButton, pos=at)
    assert window.current == "schematic"
    settle(window)


def test_trace_shows_open_findings_and_how_far_the_board_has_come(window: MainWindow) -> None:
    assert window.trace.counts["schematic"] == 3
    assert window.trace.done == 1


def test_cards_show_why_and_mend_and_undo_brings_them_back(window: MainWindow, qtbot, settle) -> None:
    show(window, "schematic", settle)
    card = window.findings.cards[0]
    assert "U2" in card.finding.title
    assert not card.why.isVisible()
    why = next(b for b in card.findChildren(type(card.mend_button)) if b.text() == "Why")
    qtbot.mouseClick(why, Qt.MouseButton.LeftButton)
    assert card.why.isVisible()
    qtbot.mouseClick(card.mend_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert len(window.findings.cards) == 2
    assert window.session.design.net_of()[Pin("U2", "3")] == "5V"
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert len(window.findings.cards) == 3


def test_show_brings_the_part_into_view_and_lights_it(window: MainWindow, settle) -> None:
    station = show(window, "schematic", settle)
    window.session.show_finding.emit(window.findings.cards[0].finding)
    assert "U2" in station.canvas.view.lit_refs
    spot = station.canvas.symbol("U2")
    middle = station.canvas.to_view(QPointF(spot.x, spot.y))
    assert abs(middle.x() - station.canvas.width() / 2) < 2


def test_palette_finds_and_runs_by_typing(window: MainWindow, qtbot, settle) -> None:
    window.open_palette()
    palette = window.open_palette_dialog
    qtbot.keyClicks(palette.field, "go layout")
    assert palette.list.count() == 1
    qtbot.keyClick(palette.field, Qt.Key.Key_Return)
    assert window.current == "layout"
    settle(window)


def test_every_action_is_in_the_palette_and_shortcuts_do_not_clash(window: MainWindow, settle) -> None:
    for key in STATIONS:
        show(window, key, settle)
        actions = [*window.station.actions_here(), *window.window_actions()]
        keys = [a.shortcut for a in actions if a.shortcut]
        assert len(keys) == len(set(keys)), key
        assert window.station.actions_here()


def test_dark_and_light_are_both_drawn(window: MainWindow, settle) -> None:
    show(window, "schematic", settle)
    light = window.grab().toImage()
    window.switch_theme()
    dark = window.grab().toImage()
    assert theme.current().name == "dark"
    at = QPoint(640, 790)
    assert light.pixelColor(at).lightness() > 200
    assert dark.pixelColor(at).lightness() < 60
    window.switch_theme()


def test_contrast_of_text_is_readable_in_both_themes() -> None:
    """WCAG 2.1 contrast of 4.5 for ink and muted text on every ground they stand on."""

    def luminance(name: str) -> float:
        parts = [int(name[k : k + 2], 16) / 255 for k in (1, 3, 5)]
        r, g, b = (c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
        return 0.2126 * r + 0.7152 * g + 0.0722 * b

    for t in theme.THEMES.values():
        for text in (t.ink, t.muted, t.teal, t.stop):
            for ground in (t.paper, t.panel, t.sheet):
                a, b = sorted((luminance(text), luminance(ground)))
                assert (b + 0.05) / (a + 0.05) >= 4.5, (t.name, text, ground)


def test_state_is_kept_and_edits_are_saved_on_close(window: MainWindow, open_window, settle, qtbot) -> None:
    path = window.session.path
    brief = show(window, "brief", settle)
    brief.quantity.setValue(25)
    brief.quantity.editingFinished.emit()
    window.go("order")
    settle(window)
    window.close()
    assert read_project(path).design.brief.quantity == 25
    again = open_window(path)
    assert again.current == "order"


def test_a_second_window_on_the_same_project_is_refused(window: MainWindow, open_window) -> None:
    with pytest.raises(StoreError, match="another window"):
        open_window(window.session.path)


# Brief and schematic --------------------------------------------------------------------------------------------------


def test_bad_import_says_where_and_changes_nothing(window: MainWindow, qtbot, settle, tmp_path: Path) -> None:
    brief = show(window, "brief", settle)
    (tmp_path / "p.csv").write_text("ref,kind\nR1,resister\n")
    (tmp_path / "w.csv").write_text("net,ref,pin\nA,R1,1\n")
    before = window.session.design
    brief.parts_path.setText(str(tmp_path / "p.csv"))
    brief.wiring_path.setText(str(tmp_path / "w.csv"))
    qtbot.mouseClick(brief.import_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert "p.csv line 2, column kind" in brief.problems.toPlainText()
    assert window.session.design is before


def test_good_import_replaces_the_parts_and_can_be_undone(
    window: MainWindow, qtbot, settle, demo_tables, tmp_path: Path
) -> None:
    brief = show(window, "brief", settle)
    window.session.do("emptied", lambda d: type(d)(name="empty"))
    for name, text, edit in (("p.csv", demo_tables[0], brief.parts_path), ("w.csv", demo_tables[1], brief.wiring_path)):
        (tmp_path / name).write_text(text)
        edit.setText(str(tmp_path / name))
    qtbot.mouseClick(brief.import_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert brief.totals[0].text() == str(len(window.session.design.parts)) != "0"
    window.session.undo()
    assert window.session.design.parts == {}


def test_say_it_previews_and_does(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "schematic", settle)
    qtbot.keyClicks(station.line, "U3.P4 - R20 330 - D7 red - GND")
    assert "R20 added" in station.preview.text()
    qtbot.keyClick(station.line, Qt.Key.Key_Return)
    settle(window)
    assert {"R20", "D7"} <= window.session.design.parts.keys()
    assert station.canvas.symbol("D7") is not None
    station.line.clear()
    qtbot.keyClicks(station.line, "U3.P99 - GND")
    assert "U3.P99" in station.preview.text()
    before = window.session.design
    qtbot.keyClick(station.line, Qt.Key.Key_Return)
    assert window.session.design is before
    assert "no pin" in window.status.text.text()


def drag(qtbot, canvas, start: QPointF, end: QPointF) -> None:
    a, b = canvas.to_view(start).toPoint(), canvas.to_view(end).toPoint()
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=a)
    qtbot.mouseMove(canvas, (a + b) / 2)
    qtbot.mouseMove(canvas, b)
    qtbot.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=b)


def test_drag_a_part_and_drag_pin_to_pin(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "schematic", settle)
    canvas = station.canvas
    symbol = canvas.symbol("R14")
    at = QPointF(symbol.x, symbol.y)
    drag(qtbot, canvas, at, at + QPointF(0, 6))
    settle(window)
    assert window.session.design.sheet["R14"].y == symbol.y + 6
    spots = canvas.view.sheet.spots()
    a, b = Pin("U3", "4"), Pin("U3", "5")
    drag(qtbot, canvas, QPointF(*spots[a]), QPointF(*spots[b]))
    settle(window)
    nets = window.session.design.net_of()
    assert nets[a] == nets[b]


def test_pick_a_wire_and_delete_the_connection(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "schematic", settle)
    canvas = station.canvas
    wire = next(w for w in canvas.view.sheet.wires if w.net == "HEATER" and w.pin)
    (x0, y0), (x1, y1) = wire.points[0], wire.points[1]
    qtbot.mouseClick(
        canvas, Qt.MouseButton.LeftButton, pos=canvas.to_view(QPointF((x0 + x1) / 2, (y0 + y1) / 2)).toPoint()
    )
    assert canvas.selected_wire.net == "HEATER"
    qtbot.keyClick(canvas, Qt.Key.Key_Delete)
    settle(window)
    assert len(window.session.design.nets["HEATER"]) == 1
    window.session.undo()
    assert len(window.session.design.nets["HEATER"]) == 2
    settle(window)


def test_value_is_edited_in_place_and_checked(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "schematic", settle)
    station.canvas.edit_value("R14")
    station.canvas.editor.setText("4k7")
    qtbot.keyClick(station.canvas.editor, Qt.Key.Key_Return)
    assert window.session.design.parts["R14"].value == "4k7"
    station.canvas.edit_value("R14")
    station.canvas.editor.setText("lots")
    qtbot.keyClick(station.canvas.editor, Qt.Key.Key_Return)
    assert window.session.design.parts["R14"].value == "4k7"
    assert "needs a value" in window.status.text.text()
    settle(window)


def test_voltages_are_shown_on_demand(window: MainWindow, settle) -> None:
    station = show(window, "schematic", settle)
    plain = station.canvas.grab().toImage()
    station.overlay.click()
    assert station.canvas.view.overlay
    assert station.canvas.view.volts["3V3"] == pytest.approx(3.3, abs=0.05)
    assert station.canvas.grab().toImage() != plain


# Layout and later stations --------------------------------------------------------------------------------------------


def test_board_parts_are_dragged_turned_and_flipped(routed_window: MainWindow, qtbot, settle) -> None:
    window = routed_window
    station = show(window, "layout", settle)
    assert "have copper" in station.hint.text()
    before = window.session.design.board.placements["C9"]
    at = QPointF(before.x_nm / 1e6, before.y_nm / 1e6)
    drag(qtbot, station.canvas, at, at + QPointF(-3, 3))
    after = window.session.design.board.placements["C9"]
    assert after.x_nm < before.x_nm - 2_000_000
    qtbot.keyClick(station.canvas, Qt.Key.Key_R)
    qtbot.keyClick(station.canvas, Qt.Key.Key_F)
    turned = window.session.design.board.placements["C9"]
    assert (turned.angle_mdeg, turned.side) == ((before.angle_mdeg + 90_000) % 360_000, "bottom")
    settle(window)
    assert window.session.open_count("layout") > 0
    for _ in range(3):
        window.session.undo()
    assert window.session.design.board.placements["C9"] == before
    settle(window)


def test_a_held_part_shows_what_it_runs_into_before_it_is_put_down(routed_window: MainWindow, qtbot, settle) -> None:
    window = routed_window
    station = show(window, "layout", settle)
    canvas, board = station.canvas, window.session.design.board
    before = board.placements["C9"]
    at = QPointF(before.x_nm / 1e6, before.y_nm / 1e6)
    spot = board.placements["U1"]
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=canvas.to_view(at).toPoint())
    qtbot.mouseMove(canvas, canvas.to_view(QPointF(spot.x_nm / 1e6, spot.y_nm / 1e6)).toPoint())
    qtbot.waitUntil(lambda: canvas.trial is not None, timeout=3000)
    assert {f.rule for f in canvas.trial.findings} & {"overlap", "clearance"}
    assert canvas.trial.links
    assert "C9 at" in station.detail.text()
    assert window.session.design.board.placements["C9"] == before
    qtbot.mouseMove(canvas, canvas.to_view(at).toPoint())
    qtbot.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=canvas.to_view(at).toPoint())
    assert canvas.trial is None
    assert window.session.design.board.placements["C9"] == before


def test_the_heat_of_the_board_is_shown_and_follows_it(routed_window: MainWindow, qtbot, settle) -> None:
    window = routed_window
    station = show(window, "layout", settle)
    qtbot.mouseClick(station.heat_toggle, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: station.canvas.heat is not None, timeout=20_000)
    first = station.canvas.heat
    assert f"Up to {first.hottest_k:.0f} °C over the air" in station.detail.text()
    hot = first.parts[0].ref
    before = station.canvas.grab().toImage()
    window.session.do("moved", lambda d: edits.nudge(d, hot, dx_nm=3_000_000))
    assert station.canvas.heat is None  # the picture of another board is not shown
    qtbot.waitUntil(lambda: station.canvas.heat is not None, timeout=20_000)
    settle(window)
    assert station.canvas.heat is not first
    qtbot.mouseClick(station.heat_toggle, Qt.MouseButton.LeftButton)
    assert station.canvas.heat is None
    assert station.canvas.grab().toImage() != before


def test_panning_draws_what_was_drawn_and_rests_on_a_fresh_picture(routed_window: MainWindow, qtbot, settle) -> None:
    station = show(routed_window, "layout", settle)
    canvas = station.canvas
    canvas.repaint()
    drawn = canvas.still.drawn
    canvas.scroll_by(40, 25)
    canvas.repaint()
    assert canvas.still.drawn is drawn
    moved = canvas.grab().toImage()
    canvas.zoom(1.5)
    canvas.repaint()
    qtbot.waitUntil(lambda: canvas.still.drawn is not None and canvas.still.drawn.scale == canvas.scale, timeout=3000)
    canvas.zoom(1 / 1.5)
    canvas.still.forget()
    canvas.repaint()
    again = canvas.grab().toImage()
    close = sum(
        moved.pixelColor(x, y).lightness() - again.pixelColor(x, y).lightness() < 40
        for x in range(40, moved.width() - 40, 37)
        for y in range(40, moved.height() - 40, 31)
    )
    every = len(range(40, moved.width() - 40, 37)) * len(range(40, moved.height() - 40, 31))
    assert close > 0.97 * every  # the same board at the same place, whether shifted or drawn anew


def test_routing_can_be_cancelled_and_loses_nothing(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "layout", settle)
    before = window.session.design
    qtbot.mouseClick(station.route_button, Qt.MouseButton.LeftButton)
    assert window.session.jobs.busy(visible_only=True)
    assert window.status.cancel.isVisible()
    qtbot.mouseClick(window.status.cancel, Qt.MouseButton.LeftButton)
    settle(window)
    after = window.session.design
    assert after.parts == before.parts
    assert after.board.placements == before.board.placements
    if after is not before:  # what was joined by then is kept, without a conflict, and can be undone
        assert not nets_too_near(window.session.wired)
        window.session.undo()
    assert window.session.design is before


def test_placing_anew_is_drawn_as_it_goes_and_can_be_undone(window: MainWindow, qtbot, settle) -> None:
    station = show(window, "layout", settle)
    before = window.session.design
    drawn = []
    station._drawn.connect(drawn.append)
    assert station.place_button.text() == "Place anew"
    qtbot.mouseClick(station.place_button, Qt.MouseButton.LeftButton)
    settle(window)
    after = window.session.design
    assert len(drawn) > 5
    held = {r for r, p in before.board.placements.items() if p.fixed}
    assert held
    assert all(after.board.placements[r] == before.board.placements[r] for r in held)
    window.session.undo()
    assert window.session.design is before


def test_the_line_routes_nets(window: MainWindow, settle) -> None:
    station = show(window, "layout", settle)
    station.line.setText("route sda, SCL")
    station.say("route sda, SCL")
    settle(window)
    assert {t.net for t in window.session.design.board.tracks} == {"SDA", "SCL"}
    with pytest.raises(InputError):
        station._understand("route nothing_such")


def test_a_result_of_an_older_design_is_not_applied(window: MainWindow, settle) -> None:
    base = window.session.design
    window.session.do("meanwhile", lambda d: type(d)(name="changed"))
    assert not window.session.apply_result("Routed", base, base)
    assert window.session.design.name == "changed"
    settle(window)


def test_assembly_lights_the_parts_of_each_step(routed_window: MainWindow, qtbot, settle) -> None:
    station = show(routed_window, "assembly", settle)
    first = station.steps[0]
    assert station.canvas.view.lit == frozenset(first.refs)
    qtbot.mouseClick(station.next_button, Qt.MouseButton.LeftButton)
    assert station.canvas.view.lit == frozenset(station.steps[1].refs)
    assert station.canvas.view.done == frozenset(first.refs)
    assert "step 2 of" in station.count.text()
    assert "inside the window" in station.verdict.text()
    station.alloy.setCurrentText("low-temperature")
    settle(routed_window)
    assert "Sn42Bi58" in station.verdict.text()
    assert "never use this oven for food" in station.alloy_caution.text()


def test_flash_station_refuses_bad_images_and_reports_a_lost_programmer(
    routed_window, qtbot, settle, tmp_path: Path
) -> None:
    window = routed_window
    station = show(window, "flash", settle)
    (tmp_path / "cut.hex").write_text(":10000000FFFF\n")
    before = window.session.design
    station.take_image(tmp_path / "cut.hex")
    assert "Damaged record" in window.status.text.text()
    assert window.session.design is before
    (tmp_path / "big.bin").write_bytes(bytes(300_000))
    station.take_image(tmp_path / "big.bin")
    settle(window)
    assert "too large" in station.fit.text()
    assert window.session.open_count("flash") == 1
    (tmp_path / "page.bin").write_bytes(b"<!DOCTYPE html><html><body>Not found</body></html>")
    station.take_image(tmp_path / "page.bin")
    assert "web page" in window.status.text.text()
    window.session.undo()
    settle(window)
    station.fault.setCurrentText("one that drops off")
    qtbot.mouseClick(station.one_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert station.table.item(0, 1).text() == "fail, simulated"
    assert "A-001" in station.left()
    assert "start over" in window.status.text.text()


def test_instruments_that_are_gone_are_told(routed_window: MainWindow, qtbot, settle) -> None:
    station = show(routed_window, "bench", settle)
    station.mode.setCurrentText("instruments")
    for edit in station.addresses:
        edit.setText("TCPIP0::127.0.0.1::1::SOCKET")
    qtbot.mouseClick(station.run_button, Qt.MouseButton.LeftButton)
    settle(routed_window)
    assert "cannot be reached" in routed_window.status.text.text()
    assert station.batch.item(0, 1).text() == "open"


def test_rework_and_next_revision(routed_window: MainWindow, qtbot, settle) -> None:
    window = routed_window
    station = show(window, "next", settle)
    window.session.records.add_boards("A", "Full", [1])
    station.serial.setText("A-001")
    station.rework.setText("resoldered U5")
    qtbot.mouseClick(station.rework_button, Qt.MouseButton.LeftButton)
    assert window.session.records.boards()[0].last("reworked").summary == "resoldered U5"
    station.serial.setText("Z-9")
    qtbot.mouseClick(station.rework_button, Qt.MouseButton.LeftButton)
    assert "no serial number" in window.status.text.text()
    qtbot.keyClicks(station.note, "a fourth LED")
    qtbot.keyClick(station.note, Qt.Key.Key_Return)
    station.list.item(0).setCheckState(Qt.CheckState.Checked)
    assert window.session.design.changes[0].done
    qtbot.mouseClick(station.start_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert window.session.design.revision == "B"
    qtbot.waitUntil(lambda: read_project(window.session.path).design.revision == "B", timeout=3000)
    assert (window.session.path / "design-rev-A.json").exists()
    assert [b.serial for b in window.session.records.boards("A")] == ["A-001"]


# Brief: facts and template; projects ----------------------------------------------------------------------------------


def test_template_cells_are_edited_in_mm_or_mil_and_bad_ones_refused(window: MainWindow, settle) -> None:
    brief = show(window, "brief", settle)
    brief.template.item(0, 1).setText("400 mil")
    assert window.session.design.brief.template[0].x_nm == 10_160_000
    settle(window)
    brief.template.item(0, 3).setText("90")
    assert window.session.design.brief.template[0].angle_mdeg == 90_000
    settle(window)
    assert window.session.open_count("layout") >= 2  # J1 is off the template now, and nothing is routed
    before = window.session.design
    brief.template.item(0, 1).setText("somewhere")
    assert window.session.design is before
    assert "is not a length" in window.status.text.text()
    assert brief.template.item(0, 1).text() == "10.16 mm"


def test_parts_are_added_to_and_taken_off_the_template(window: MainWindow, qtbot, settle) -> None:
    brief = show(window, "brief", settle)
    count = len(window.session.design.brief.template)
    qtbot.keyClicks(brief.hole_ref, "J6")
    qtbot.mouseClick(brief.add_hole_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert window.session.design.brief.template[-1].ref == "J6"
    brief.template.item(count, 1).setText("")
    assert len(window.session.design.brief.template) == count
    qtbot.keyClicks(brief.hole_ref, "J99")
    qtbot.mouseClick(brief.add_hole_button, Qt.MouseButton.LeftButton)
    assert "There is no part J99" in window.status.text.text()
    settle(window)


def test_facts_are_kept_by_name(window: MainWindow, qtbot, settle) -> None:
    brief = show(window, "brief", settle)
    brief.facts.setPlainText("Fan: 12 V, 0.15 A\nran three weeks\n\n")
    qtbot.mouseClick(brief.keep_facts, Qt.MouseButton.LeftButton)
    assert window.session.design.brief.facts == {"Fan": "12 V, 0.15 A", "Note 2": "ran three weeks"}
    settle(window)


def test_board_of_another_size_than_the_brief_is_found_and_mended(window: MainWindow, settle) -> None:
    brief = show(window, "brief", settle)
    brief.board_width.setValue(90.0)
    brief.board_width.editingFinished.emit()
    settle(window)
    found = next(f for f in window.session.findings["layout"] if f.rule == "size")
    assert found.limit == 90.0
    window.session.do(found.mend.label, found.mend.apply)
    settle(window)
    assert not any(f.rule == "size" for f in window.session.findings["layout"])


def test_an_empty_project_opens_with_hints_and_can_be_filled_by_saying(
    open_window, tmp_path: Path, qtbot, settle
) -> None:
    from zesty_trace.desktop.window.opening import new_project

    window = open_window(new_project(tmp_path / "fresh"))
    station = show(window, "schematic", settle)
    assert "Import the prototype" in station.canvas.empty_hint
    assert "Import the prototype" in window.findings.step.text()
    qtbot.keyClicks(station.line, "R1 330 - D1 red - GND")
    qtbot.keyClick(station.line, Qt.Key.Key_Return)
    settle(window)
    assert station.canvas.empty_hint == ""
    for key in STATIONS:
        show(window, key, settle)
    assert "Place" in window.stations["layout"].hint.text()


def test_recent_projects_are_offered_in_the_palette(window: MainWindow, tmp_path: Path) -> None:
    from zesty_trace.desktop.window.opening import new_project, recent, remember

    other = new_project(tmp_path / "other")
    remember(other, window.settings)
    remember(window.session.path, window.settings)
    assert recent(window.settings) == [window.session.path, other]
    action = next(a for a in window.window_actions() if a.title.startswith("Open recent: other"))
    asked: list[Path] = []
    window.open_asked.connect(asked.append)
    action.run()
    assert asked == [other]


def test_closing_when_the_disk_is_full_keeps_the_window_once(window: MainWindow, monkeypatch) -> None:
    def refuse(_design: object, _over: bool = False) -> None:
        raise StoreError("Could not write: No space left on device", "design.json", "Free some space")

    monkeypatch.setattr(window.session.autosaver, "save", refuse)
    assert not window.close()
    assert "Close once more" in window.status.text.text()
    assert window.isVisible()
    assert window.close()


def test_a_damaged_project_is_refused_when_nobody_can_be_asked(window: MainWindow, tmp_path: Path) -> None:
    from zesty_trace.desktop.window.opening import new_project, open_project
    from zesty_trace.store.project import DamagedProject

    path = new_project(tmp_path / "hurt")
    (path / "design.json").write_text("{")
    with pytest.raises(DamagedProject):
        open_project(path, ask=False)


def test_crashed_edits_come_back_with_a_word(open_window, tmp_path: Path, qtbot) -> None:
    from zesty_trace.core.design.edits import set_name
    from zesty_trace.desktop.window.opening import new_project
    from zesty_trace.store.project import ProjectFolder

    path = new_project(tmp_path / "crashed")
    folder, opened = ProjectFolder.open(path)
    folder.journal(set_name(opened.design, "Edited before the crash"))
    folder.close()
    window = open_window(path)
    assert window.title.text() == "Edited before the crash"
    qtbot.waitUntil(lambda: "brought back" in window.status.text.text(), timeout=3000)


def test_an_unexpected_fault_in_a_job_is_shown_and_the_window_stays(window: MainWindow, settle) -> None:
    window.session.jobs.start("Testing", lambda report: 1 / 0, lambda value: None)
    settle(window)
    assert "ZeroDivisionError" in window.status.text.text()
    assert window.isVisible()


def test_numbers_of_the_brief_are_drawn_with_their_units(window: MainWindow, settle) -> None:
    """The inner field of each number is wide enough for its text: an empty-looking field is a defect."""
    from PySide6.QtWidgets import QAbstractSpinBox, QLineEdit

    brief = show(window, "brief", settle)
    for spin in brief.findChildren(QAbstractSpinBox):
        inner = spin.findChild(QLineEdit)
        assert inner.width() > spin.fontMetrics().horizontalAdvance(spin.text()), spin.text()
        assert inner.height() >= spin.fontMetrics().height() - 2
    assert brief.quantity.text() == "12 boards"


# Damaged surroundings -------------------------------------------------------------------------------------------------


def test_a_damaged_price_sheet_is_one_finding_and_the_rest_goes_on(window: MainWindow, settle) -> None:
    folder = window.session.path / "houses"
    folder.mkdir()
    (folder / "mine.toml").write_text('name = "Half a sheet"\n')
    station = show(window, "order", settle)
    assert "mine.toml" in station.summary.text()
    window.session.do(
        "again", lambda d: type(d)(**{**{f: getattr(d, f) for f in d.__struct_fields__}, "name": "Again"})
    )
    settle(window)
    first = window.session.findings["order"][0]
    assert "mine.toml" in first.title
    assert first.severity is Severity.FIX
    assert station.offers.rowCount() > 3  # one bad sheet never silences the others
    assert window.session.open_count("schematic") == 3


def test_damaged_records_are_told_and_left_alone(open_window, demo_project: Path, tmp_path: Path, settle) -> None:
    path = tmp_path / "hurt"
    shutil.copytree(demo_project, path)
    damaged = b"no database at all" * 100
    (path / "records.sqlite").write_bytes(damaged)
    window = open_window(path)
    station = show(window, "next", settle)
    assert station.road.rowCount() == 12
    assert "records" in window.notices.text("records")
    station.serial.setText("A-001")
    station.add_rework()
    assert "records" in window.status.text.text()  # nothing is pretended to be kept
    window.close()
    assert (path / "records.sqlite").read_bytes() == damaged


def test_a_design_with_a_kind_that_is_gone_says_which_part(tmp_path: Path, qtbot, demo_project: Path) -> None:
    from PySide6.QtCore import QSettings

    from zesty_trace.desktop.window.opening import open_project
    from zesty_trace.store.project import ProjectFolder

    path = tmp_path / "gone"
    shutil.copytree(demo_project, path)
    folder, opened = ProjectFolder.open(path)
    with folder:
        folder.save(edits.change_part(opened.design, "U4", kind="my_own_sensor"))
    window = MainWindow(open_project(path, ask=False), QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    qtbot.waitUntil(lambda: "U4: There is no part kind" in window.status.text.text(), timeout=10_000)
    assert read_project(path).design.parts["U4"].kind == "my_own_sensor"
    window.close()


def test_a_finding_is_accepted_with_a_reason_and_taken_back(window: MainWindow, qtbot, settle) -> None:
    show(window, "schematic", settle)
    card = window.findings.cards[2]
    qtbot.mouseClick(card.accept_button, Qt.MouseButton.LeftButton)
    qtbot.keyClick(card.reason, Qt.Key.Key_Return)
    assert "with a reason" in window.status.text.text()
    qtbot.keyClicks(card.reason, "only one is fitted")
    qtbot.keyClick(card.reason, Qt.Key.Key_Return)
    settle(window)
    assert window.session.open_count("schematic") == 2
    accepted = next(c for c in window.findings.cards if c.finding.accepted)
    assert accepted.finding.accepted == "only one is fitted"
    assert accepted.mend_button is None

    def kept() -> bool:
        on_disk = read_project(window.session.path).design.accepted
        return [(a.rule, a.refs, a.reason, a.value) for a in on_disk] == [
            ("bus address", ("U4", "U5"), "only one is fitted", 68.0)
        ]

    qtbot.waitUntil(kept, timeout=3000)
    qtbot.mouseClick(accepted.accept_button, Qt.MouseButton.LeftButton)
    settle(window)
    assert window.session.open_count("schematic") == 3


def test_another_demo_is_made_and_opened_from_the_palette(
    window: MainWindow, tmp_path: Path, qtbot, monkeypatch, settle
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    asked: list[Path] = []
    window.open_asked.connect(asked.append)
    next(a for a in window.window_actions() if a.title == "Open demo: radio sensor node").run()
    settle(window)
    assert read_project(asked[0]).design.name == "Radio sensor node"
