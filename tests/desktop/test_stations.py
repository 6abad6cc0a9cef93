"""The quieter controls of each station: what is chosen is shown, is one undo step, and changes nothing else."""

from __future__ import annotations

from functools import partial
from typing import Any

import pytest
from PySide6.QtCore import QDate, Qt
from PySide6.QtWidgets import QFrame, QLabel

from zesty_trace.core.board import pour as pour_module
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Pour
from zesty_trace.core.findings import Severity
from zesty_trace.desktop.flash.station import FAULTS
from zesty_trace.desktop.kit.widgets import cell
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.stations import SPEC
from zesty_trace.store.payloads import FlashTold, MeasureTold, Told

fill_pour = pour_module.pour_area
ENTER = Qt.Key.Key_Return


def at(window: MainWindow, key: str, settle):
    window.go(key)
    settle(window)
    return window.station


def texts(table, column: int) -> list[str]:
    return [cell(table, r, column).text() for r in range(table.rowCount())]


# Brief ----------------------------------------------------------------------------------------------------------------


def test_each_field_of_the_brief_is_one_undo_step(window: MainWindow, settle) -> None:
    brief = at(window, "brief", settle)
    session = window.session
    before = session.design
    spins = [s for s in brief.findChildren(type(brief.quantity)) if s.isVisible()]
    for spin in spins:
        spin.setValue(spin.value() + 1)
        spin.editingFinished.emit()
        assert session.design != before
        session.undo()
        assert session.design == before
    assert len(spins) >= 1


def test_a_date_that_has_passed_is_a_finding_of_the_brief(window: MainWindow, settle) -> None:
    at(window, "brief", settle)
    past = QDate(window.session.today.year, window.session.today.month, window.session.today.day).addDays(-2)
    window.session.do("date", lambda d: edits.set_brief(d, needed_by=past.toString(Qt.DateFormat.ISODate)))
    settle(window)
    assert any("needed" in c.finding.title.lower() or "past" in c.finding.title.lower() for c in window.findings.cards)


# Order ----------------------------------------------------------------------------------------------------------------


def test_the_colour_of_the_boards_changes_the_offers_and_can_be_undone(routed_window: MainWindow, settle) -> None:
    order = at(routed_window, "order", settle)
    session = routed_window.session
    green = [[cell(order.offers, r, c).text() for c in range(5)] for r in range(order.offers.rowCount())]
    order.colour.setCurrentText("blue")
    settle(routed_window)
    assert session.design.build.colour == "blue"
    blue = [[cell(order.offers, r, c).text() for c in range(5)] for r in range(order.offers.rowCount())]
    assert blue != green
    session.undo()
    settle(routed_window)
    assert order.colour.currentText() == "green"
    assert [[cell(order.offers, r, c).text() for c in range(5)] for r in range(order.offers.rowCount())] == green


def test_the_cheapest_and_the_soonest_offer_are_what_the_table_says(routed_window: MainWindow, settle) -> None:
    order = at(routed_window, "order", settle)
    rows = [[cell(order.offers, r, c).text() for c in range(5)] for r in range(order.offers.rowCount())]
    in_time = [r for r in rows if "late" not in r[4]]
    cheapest = min(in_time, key=lambda r: float(r[2]))
    assert "cheapest" in cheapest[4]
    assert cheapest[2] in order.summary.text()
    assert sum("cheapest" in r[4] for r in rows) == sum("soonest" in r[4] for r in rows) == 1


def test_every_view_of_the_files_shows_its_own_layers(routed_window: MainWindow, qtbot, settle) -> None:
    order = at(routed_window, "order", settle)
    order.write_button.click()
    settle(routed_window)
    files = order.files
    assert files.verdict.text() == "Intake: Accepted: nothing found in 18 checks."
    names = [files.layer.itemText(k) for k in range(files.layer.count())]
    assert names[:4] == ["Top as made", "Bottom as made", "All copper", "Top copper"]
    assert not [n for n in names if "Inner" in n]  # a board of two layers has none inside
    pictures = []
    for name in names:
        files.layer.setCurrentText(name)
        assert not files.canvas.scene_rect().isEmpty()
        if "ottom paste" not in name:  # nothing is on the bottom of this one
            pictures.append(files.canvas.grab().toImage())
    assert all(a != b for k, a in enumerate(pictures) for b in pictures[:k])


def test_somebodys_zip_is_dropped_on_the_files_and_looked_through(routed_window: MainWindow, settle, tmp_path) -> None:
    import io
    import zipfile

    from PySide6.QtCore import QMimeData, QPointF, QUrl
    from PySide6.QtGui import QDropEvent

    from tests.core.planted_files import no_openings
    from tests.core.test_intake import foreign
    from zesty_trace.core.board.copper import board_pads
    from zesty_trace.core.fabrication.package import fabrication_files

    order = at(routed_window, "order", settle)
    files, wired = order.files, routed_window.session.wired
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, text in foreign(no_openings(fabrication_files(wired)), netlist=True).items():
            archive.writestr(name, text)
    path = tmp_path / "somebodys.zip"
    path.write_bytes(out.getvalue())
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    action, mouse = Qt.DropAction.CopyAction, Qt.MouseButton.LeftButton
    files.dropEvent(QDropEvent(QPointF(50, 50), action, data, mouse, Qt.KeyboardModifier.NoModifier))
    settle(routed_window)
    assert files.heading.text() == "somebodys.zip"
    assert order.offers_title.text() == "Boards by somebodys.zip"
    assert order.offers.rowCount() > 3
    assert files.verdict.text().startswith("Intake: Not accepted")
    rows = [cell(files.queries, r, 1).text() for r in range(files.queries.rowCount())]
    assert "The top mask covers every pad" in rows
    files.queries.selectRow(rows.index("The top mask covers every pad"))
    assert len(files.canvas.marks) > 50
    files.layer.setCurrentText("Top copper")
    pad = next(p for p in board_pads(wired) if p.net and "top" in p.layers and not p.drill_nm)
    assert "board.GTL line" in files.canvas.say_at(pad.x_nm / 1e6, pad.y_nm / 1e6)
    files.own_button.click()
    settle(routed_window)
    assert files.heading.text() == "Fabrication files"
    assert order.offers_title.text() == "Boards and stencil"
    assert not files.own_button.isVisible()


def test_somebodys_zip_becomes_a_project_for_all_stations(routed_window: MainWindow, settle, tmp_path) -> None:
    from PySide6.QtCore import QSettings

    from tests.core.test_intake import foreign
    from zesty_trace.core.fabrication.package import fabrication_files, zip_bytes
    from zesty_trace.desktop.window.opening import open_project

    order = at(routed_window, "order", settle)
    files, wired = order.files, routed_window.session.wired
    own = fabrication_files(wired)
    path = tmp_path / "theirs.zip"
    path.write_bytes(zip_bytes(foreign(own)))
    tables = []
    for name in ("bom-full.csv", "centroid-full.csv"):
        tables.append(tmp_path / name)
        tables[-1].write_text(own[name])
    files.read(path, of_design=False, own=False)
    settle(routed_window)
    assert files.project_button.isVisible()
    assert not files.write_button.isVisible()
    asked: list[object] = []
    routed_window.open_asked.connect(asked.append)
    files.make_project(tmp_path / "theirs", tuple(tables))
    settle(routed_window)
    assert asked == [tmp_path / "theirs"]
    routed_window.open_asked.disconnect(asked.append)
    files.own_button.click()
    settle(routed_window)

    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    window = MainWindow(open_project(tmp_path / "theirs", ask=False), settings)
    window.resize(1280, 800)
    window.show()
    try:
        settle(window)
        window.session.do("as many", lambda d: edits.set_brief(d, quantity=12, supply_v=12.0))
        there = at(window, "order", settle)
        assert there.files.verdict.text().startswith("Intake: Accepted")
        assert "ordered as they are" in there.files.note.text()
        assert not there.files.write_button.isVisible()
        assert there.offers.rowCount() > 3
        there.turn(1)
        settle(window)
        assert there.bom.rowCount() > 10
        steps = at(window, "assembly", settle)
        assert len(window.session.design.board.placements) > 45
        assert steps.isVisible()
        bench = at(window, "bench", settle)
        settle(window)
        assert bench.plan is not None
        assert len(bench.plan.steps) > 5
        there = at(window, "order", settle)
        there.let_go()
        assert window.session.design.board.given == ""
        window.session.undo()
        assert window.session.design.board.given
    finally:
        window.close()


def test_files_are_compared_put_on_a_panel_and_milled(routed_window: MainWindow, settle, tmp_path) -> None:
    from tests.core.planted_files import PLANTED
    from zesty_trace.core.fabrication.package import fabrication_files, zip_bytes

    order = at(routed_window, "order", settle)
    files = order.files
    order.write_button.click()
    settle(routed_window)
    own = fabrication_files(routed_window.session.wired)
    other = tmp_path / "other.zip"
    other.write_bytes(zip_bytes(PLANTED["drills shifted"][0](own)))
    files.use_buttons[1].click()
    files.comparing.with_board()
    settle(routed_window)
    assert files.comparing.words.text() == "Nothing differs from the board as it is now in 9 layers and the holes."
    files.comparing.with_zip(other)
    settle(routed_window)
    rows = texts(files.comparing.places, 0)
    assert rows
    assert all(r.startswith("hole") for r in rows)
    assert files.layer.currentText() == "Difference: holes"
    files.comparing.places.selectRow(0)
    assert files.canvas.marks

    files.use_buttons[2].click()
    files.on_panel.suggest(6, 3)
    settle(routed_window)
    files.on_panel.opened()
    settle(routed_window)
    assert files.on_panel.words.text().startswith("6 boards on 258.0 x 128.0 mm")
    assert "such panels: " in files.on_panel.price.text()
    files.on_panel.write_button.click()
    settle(routed_window)
    assert list((routed_window.session.path / "fabrication").glob("*panel-of-6.zip"))

    files.use_buttons[3].click()
    settle(routed_window)
    assert "minutes at the mill" in files.at_home.words.text()
    assert files.layer.currentText() == "What the cut leaves"
    files.at_home.write_button.click()
    settle(routed_window)
    assert len(list((routed_window.session.path / "milling").glob("*.gcode"))) > 2
    files.use_buttons[4].click()
    session = routed_window.session
    first = [cell(files.places.places, 0, c).text() for c in range(6)]
    assert first[2].endswith(" mm")
    files.places.unit.setCurrentText("mil")
    files.places.unit.activated.emit(1)
    assert session.design.build.centroid.unit == "mil"
    assert cell(files.places.places, 0, 2).text().endswith(" mil")
    session.undo()
    assert session.design.build.centroid.unit == "mm"
    files.use_buttons[0].click()
    assert files.layer.currentText() == "Top as made"


def test_parts_to_buy_are_those_of_the_boards_of_the_brief(routed_window: MainWindow, settle) -> None:
    order = at(routed_window, "order", settle)
    order.parts.view_box.setCurrentText("What is needed")
    order.turn(1)
    settle(routed_window)
    assert len(texts(order.bom, 0)) > 20
    one = [int(t) for t in texts(order.bom, 0)]
    boards = routed_window.session.design.brief.quantity
    routed_window.session.do("more", lambda d: edits.set_brief(d, quantity=2 * boards))
    settle(routed_window)
    assert [int(t) for t in texts(order.bom, 0)] == [2 * n for n in one]
    assert f"{2 * boards} boards" in order.bom_title.text()
    order.turn(0)


def test_the_calendar_says_when_all_is_ready_and_what_decides_it(routed_window: MainWindow, settle, tmp_path) -> None:
    from datetime import timedelta

    from icalendar import Calendar as File

    for name in ("saltmarsh", "harbour"):  # two suppliers do, and are quick
        (routed_window.session.path / "suppliers" / f"{name}.toml").unlink()
    order = at(routed_window, "order", settle)
    order.turn(2)
    settle(routed_window)
    card = order.calendar
    assert card.plan is not None
    s = card.plan.schedule
    assert f"Ready {s.ready:%a %d %b}" in card.summary.text()
    assert "cases of 100" in card.summary.text()
    assert "It is decided by" in card.words.text()
    first = card.chart.grab().toImage()
    card.write(tmp_path / "batch.ics")
    settle(routed_window)
    events = File.from_ical((tmp_path / "batch.ics").read_bytes()).walk("VEVENT")
    assert max(e.decoded("dtend") for e in events) == s.ready + timedelta(days=1)
    card.weigh_button.click()
    settle(routed_window)
    assert card.answer is not None
    assert [card.which.itemText(k) for k in range(3)] == [t.name for t in card.answer.chosen]
    assert "plans were weighed" in card.words.text()
    routed_window.session.do("more", lambda d: edits.set_brief(d, quantity=60))
    settle(routed_window)
    assert not card.which.isVisible()
    assert card.plan.schedule.ready > s.ready
    assert card.chart.grab().toImage() != first
    order.turn(0)


# Assembly -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("school", ["surface-mount first", "lowest first", "as listed"])
def test_each_school_places_every_part_once(routed_window: MainWindow, settle, school: str) -> None:
    assembly = at(routed_window, "assembly", settle)
    assembly.order.setCurrentText(school)
    refs = [r for s in assembly.steps for r in s.refs]
    d = routed_window.session.design
    wanted = {r for r, p in d.fitted(d.build.variant).parts.items() if routed_window.session.wired.kind(r).assembled}
    assert sorted(refs) == sorted(wanted)
    assert assembly.index == 0
    assert assembly.table.rowCount() == len(assembly.steps)


def test_another_variant_leaves_its_parts_off_the_list(routed_window: MainWindow, settle) -> None:
    assembly = at(routed_window, "assembly", settle)
    session = routed_window.session
    other = next(v for v in session.design.variants if v != session.design.build.variant)
    before = {r for s in assembly.steps for r in s.refs}
    assembly.variant.setCurrentText(other)
    settle(routed_window)
    after = {r for s in assembly.steps for r in s.refs}
    assert session.design.build.variant == other
    assert after != before
    assert all(session.design.parts[r].fitted(other) for r in after)


def test_the_alloy_changes_caution_and_verdict(routed_window: MainWindow, settle) -> None:
    assembly = at(routed_window, "assembly", settle)
    said = set()
    for alloy in ("leaded", "lead-free", "low-temperature"):
        assembly.alloy.setCurrentText(alloy)
        settle(routed_window)
        assert routed_window.session.design.build.alloy == alloy
        said.add((assembly.alloy_caution.text(), assembly.measures.text()))
        assert "°C" in assembly.measures.text()
    assert len(said) == 3


def test_boards_are_recorded_as_assembled_once(routed_window: MainWindow, settle) -> None:
    assembly = at(routed_window, "assembly", settle)
    for _ in range(2):
        assembly.build_button.click()
        settle(routed_window)
    boards = routed_window.session.records.boards("A")
    assert len(boards) == routed_window.session.design.brief.quantity
    assert all([e.kind for e in b.events] == ["assembled"] for b in boards)
    assert {b.events[0].told.source for b in boards} == {"person"}


# Flash ----------------------------------------------------------------------------------------------------------------


def test_one_board_is_flashed_and_only_that_one(routed_window: MainWindow, qtbot, settle) -> None:
    flash = at(routed_window, "flash", settle)
    flash.serial.setText("A-003")
    flash.one_button.click()
    settle(routed_window)
    boards = {b.serial: b for b in routed_window.session.records.boards("A")}
    assert [s for s, b in boards.items() if b.last("flashed")] == ["A-003"]
    told = boards["A-003"].last("flashed").flash
    assert (told.source, told.sha256) == ("simulated", flash.image.sha256)
    assert told.bytes == flash.image.size
    assert "A-003" not in flash.left()


@pytest.mark.parametrize("fault", [f for f in FAULTS if FAULTS[f] != "none"])
def test_a_stand_in_that_fails_is_never_a_pass(routed_window: MainWindow, settle, fault: str) -> None:
    flash = at(routed_window, "flash", settle)
    told: list[object] = []
    routed_window.session.failed.connect(told.append)
    flash.fault.setCurrentText(fault)
    flash.serial.setText("A-001")
    flash.one_button.click()
    settle(routed_window)
    assert told, fault
    board = next((b for b in routed_window.session.records.boards("A") if b.serial == "A-001"), None)
    assert board is None or board.content(flash.image.sha256).verdict != "pass"
    assert "A-001" in flash.left()


# Bench ----------------------------------------------------------------------------------------------------------------


def test_readings_are_shown_for_the_plan_they_were_made_by_only(routed_window: MainWindow, qtbot, settle) -> None:
    bench = at(routed_window, "bench", settle)
    bench.serial.setText("A-001")
    bench.run_button.click()
    settle(routed_window)
    bench.show_board("A-001")
    shown = texts(bench.steps, 3)
    assert "—" not in shown
    assert set(texts(bench.steps, 4)) == {"ok"}
    session = routed_window.session
    session.do("other", lambda d: edits.change_part(d, "R14", value="2k2"))
    settle(routed_window)
    assert set(texts(bench.steps, 3)) == {"—"}
    assert "another plan" in bench.note.text()
    session.undo()
    settle(routed_window)
    assert texts(bench.steps, 3) == shown


def test_what_the_records_say_is_what_the_batch_shows(routed_window: MainWindow, settle) -> None:
    session = routed_window.session
    session.records.add_boards("A", "Full", range(1, 4))
    session.records.add("A-002", "measured", "SENSE at 0 V", "fail", MeasureTold(source="simulated", plan="old"))
    session.records.add("A-003", "flashing", "erasing", "open", FlashTold(source="simulated"))
    session.records.add("A-001", "note", "scratched", told=Told(source="person"))
    bench = at(routed_window, "bench", settle)
    verdicts = dict(zip(texts(bench.batch, 0), texts(bench.batch, 1), strict=True))
    assert verdicts["A-001"] == verdicts["A-002"] == verdicts["A-003"] == "open"  # the plan is another by now
    assert "plan has changed" in dict(zip(texts(bench.batch, 0), texts(bench.batch, 2), strict=True))["A-002"]


# Next revision --------------------------------------------------------------------------------------------------------


def test_change_notes_are_added_ticked_and_undone(window: MainWindow, qtbot, settle) -> None:
    station = at(window, "next", settle)
    for words in ("bigger pads at J1", "  ", "a test point on 5V"):
        station.note.setText(words)
        qtbot.keyClick(station.note, ENTER)
    assert [c.text for c in window.session.design.changes] == ["bigger pads at J1", "a test point on 5V"]
    station.list.item(1).setCheckState(Qt.CheckState.Checked)
    assert [c.done for c in window.session.design.changes] == [False, True]
    window.session.undo()
    assert station.list.item(1).checkState() == Qt.CheckState.Unchecked


# The window -----------------------------------------------------------------------------------------------------------


def test_a_notice_stays_until_it_is_answered(window: MainWindow, qtbot) -> None:
    answers: list[str] = []
    notices = window.notices
    notices.put("one", "Keep <b>this</b>?", (("Keep", lambda: answers.append("keep")), ("No", lambda: None)))
    notices.put("one", "Keep that?", (("Keep", lambda: answers.append("that")),))
    assert notices.text("one") == "Keep that?"
    assert len([f for f in notices.findChildren(QFrame) if f.objectName() == "notice" and f.isVisible()]) == 1
    qtbot.mouseClick(notices.button("one", "Keep"), Qt.MouseButton.LeftButton)
    assert answers == ["that"]
    assert not notices.isVisible()
    with pytest.raises(KeyError):
        notices.button("one", "Keep")


def test_findings_are_sorted_by_severity_and_each_says_why(window: MainWindow, settle) -> None:
    at(window, "schematic", settle)
    cards = window.findings.cards
    severities = [c.finding.severity for c in cards]
    assert severities == sorted(severities)
    assert severities[0] is Severity.STOP
    for card in cards:
        assert card.finding.why.strip()
        assert card.finding.source.strip()


@pytest.mark.parametrize("station", ["schematic", "layout", "order", "bench"])
def test_nothing_is_filled_twice_after_an_edit(
    routed_window: MainWindow, settle, monkeypatch: pytest.MonkeyPatch, station: str
) -> None:
    """One fill of each side after a part has moved on the board, whoever asks; none where the board stays as it is."""
    at(routed_window, station, settle)
    session, filled = routed_window.session, []

    def counted(wired: Wired, pour: Pour, *more: Any) -> object:
        filled.append(pour.layer)
        return fill_pour(wired, pour, *more)

    monkeypatch.setattr(pour_module, "pour_area", counted)
    session.do("value", lambda d: edits.change_part(d, "R14", value="2k2"))
    settle(routed_window)
    assert filled == []
    session.do("moved", lambda d: edits.nudge(d, "R14", dx_nm=100_000))
    settle(routed_window)
    assert sorted(filled) == ["bottom", "top"]
    session.undo()
    settle(routed_window)
    assert len(filled) <= 4


def test_an_empty_project_is_told_what_there_is_to_do_and_never_that_all_is_well(open_window, tmp_path, settle) -> None:
    from zesty_trace.desktop.window.opening import new_project

    new_project(tmp_path / "fresh")
    window = open_window(tmp_path / "fresh")
    for key in ("brief", "schematic", "layout", "order", "assembly", "flash", "bench", "next"):
        at(window, key, settle)
        shown = [w.text() for w in window.findChildren(QLabel) if w.isVisible()]
        assert not any("Nothing stands in the way" in text or "every pin accounted" in text for text in shown), key
        if not window.findings.cards:
            assert SPEC[key].empty in shown
    assert at(window, "schematic", settle).hint.text() == "No parts yet"
    assert "1 board " in window.subtitle.text() + " "


def test_files_that_are_older_than_the_board_say_so(routed_window: MainWindow, settle) -> None:
    order = at(routed_window, "order", settle)
    session = routed_window.session
    for finding in [f for f in session.findings["layout"] if f.severity is Severity.STOP]:
        session.do("accepted", partial(edits.accept, acceptance=finding.acceptance("a test")))
    order.write()
    settle(routed_window)
    assert "OLDER" not in order.files.note.text()
    session.do("moved", lambda d: edits.nudge(d, "R14", dx_nm=100_000))
    settle(routed_window)
    assert "OLDER" in order.files.note.text()
    session.undo()
    settle(routed_window)
    assert "OLDER" not in order.files.note.text()
