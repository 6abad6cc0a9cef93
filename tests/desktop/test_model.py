"""What lies behind the window, without one: the sheet's model, jobs, what is worked out, and text in drawings."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage, QPainter

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.lettering import Lettering, draw_in_pixels, draw_text
from zesty_trace.desktop.project.jobs import Jobs
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.desktop.schematic import edits as sheet_edits
from zesty_trace.desktop.schematic.dirty import changed_rect
from zesty_trace.desktop.schematic.model import SchematicModel
from zesty_trace.errors import Cancelled, EditError, ZestyError
from zesty_trace.store.project import ProjectFolder

from ..conftest import TODAY


@pytest.fixture
def session(qapp, tmp_path: Path, mended: Design):
    folder = ProjectFolder.create(tmp_path / "board", mended)
    made = Session(folder, mended, TODAY)
    yield made
    made.close()


@pytest.fixture
def model(session: Session, qtbot) -> SchematicModel:
    made = SchematicModel(session, lambda: None)
    made.ask()
    qtbot.waitUntil(lambda: made.drawn is not None, timeout=20_000)
    return made


# The sheet ------------------------------------------------------------------------------------------------------------


def test_the_model_shows_the_fullest_state_first_and_any_other_when_asked(model: SchematicModel) -> None:
    names = [s.name for s in model.analysis.states]
    assert model.state_name in names
    volts = {}
    for name in names:
        model.set_state(name)
        volts[name] = model.volts
        assert model.volts["GND"] == pytest.approx(0.0, abs=1e-9)
    assert volts[names[0]] != volts[names[-1]]
    model.set_state("no such state")
    assert model.volts == volts[model.analysis.worst().state.name]  # never nothing, never another's


def test_currents_into_a_part_with_two_pins_are_equal_and_opposite(model: SchematicModel) -> None:
    for ref in ("R14", "R1", "F1"):
        a, b = model.amps[Pin(ref, "1")], model.amps[Pin(ref, "2")]
        assert a == pytest.approx(-b, abs=1e-12)


def test_an_edit_is_amended_without_moving_what_stays(model: SchematicModel, session: Session) -> None:
    before = {s.ref: (s.x, s.y) for s in model.drawn.sheet.symbols}
    assert not model.amend()  # nothing to do yet
    session.do("value", lambda d: edits.change_part(d, "R14", value="2k2"))
    assert model.amend()
    assert {s.ref: (s.x, s.y) for s in model.drawn.sheet.symbols} == before
    assert model.drawn.design is session.design


def test_signals_come_once_for_each_change(model: SchematicModel, qtbot) -> None:
    shown, chosen = [], []
    model.shown_changed.connect(lambda: shown.append(1))
    model.selection_changed.connect(lambda: chosen.append(model.selection))
    model.select(["R14", "R14", "R15"])
    model.select(["R14", "R15"])
    assert chosen == [("R14", "R15")]
    model.show_variant("Full")
    model.show_lights({"D4": 0.01}, "")
    model.pick("GND")
    model.pick("no such net")
    assert len(shown) == 4
    assert model.lit_nets == frozenset()


def test_what_goes_on_paper_is_neither_lit_nor_marked(model: SchematicModel, session: Session) -> None:
    model.light(["R14"], ["GND"])
    screen, paper = model.view_of(model.drawn), model.view_of(model.drawn, for_paper=True)
    assert screen.lit_refs == {"R14"}
    assert screen.lit_nets == {"GND"}
    assert (paper.lit_refs, paper.lit_nets, paper.badges, paper.lights) == (frozenset(), frozenset(), {}, None)


def test_edits_of_the_sheet_are_one_undo_step_each(model: SchematicModel, session: Session) -> None:
    for act in (
        lambda: sheet_edits.move(model, {"R14": (3, 4), "R15": (5, 6)}),
        lambda: sheet_edits.join(model, Pin("R14", "1"), Pin("R15", "1")),
        lambda: sheet_edits.cut(model, Pin("R14", "1")),
        lambda: sheet_edits.set_value(model, "R14", "3k3"),
        lambda: sheet_edits.delete_parts(model, ["R14", "R15"]),
        lambda: sheet_edits.say(model, "R14 = 3k3"),
    ):
        before = session.design
        act()
        assert session.design != before
        session.undo()
        assert session.design == before


def test_a_value_that_is_none_is_told_and_nothing_is_pasted_from_nothing(model: SchematicModel, session) -> None:
    told: list[ZestyError] = []
    session.failed.connect(told.append)
    before = session.design
    sheet_edits.set_value(model, "R14", "lots")
    assert "R14" in told[0].where
    sheet_edits.paste(model)
    sheet_edits.delete_parts(model, [])
    assert session.design is before


def test_only_what_an_edit_touches_looks_different(model: SchematicModel, session: Session) -> None:
    old = model.view_of(model.drawn)
    assert changed_rect(old, old).isEmpty()
    session.do("value", lambda d: edits.change_part(d, "R14", value="2k2"))
    model.amend()
    new = model.view_of(model.drawn)
    rect = changed_rect(old, new)
    symbol = next(s for s in new.sheet.symbols if s.ref == "R14")
    assert rect.contains(QPointF(symbol.x, symbol.y))
    assert rect.width() < new.sheet.width / 2
    model.show_overlay(True)
    assert changed_rect(new, model.view_of(model.drawn)) is None  # all of it


# Jobs -----------------------------------------------------------------------------------------------------------------


@pytest.fixture
def jobs(qapp):
    made = Jobs()
    yield made
    made.close()


def test_a_job_answers_on_the_thread_of_the_window(jobs: Jobs, qtbot) -> None:
    seen: list[object] = []
    jobs.start("Work", lambda report: threading.get_ident(), lambda v: seen.extend((v, threading.get_ident())))
    qtbot.waitUntil(lambda: len(seen) == 2, timeout=5000)
    assert seen[0] != seen[1] == threading.get_ident()
    qtbot.waitUntil(lambda: not jobs.busy(), timeout=5000)


def test_a_cancelled_job_gives_no_answer_though_it_had_one(jobs: Jobs, qtbot) -> None:
    go, answers, failures = threading.Event(), [], []

    def work(report: Report) -> int:
        go.wait(5)
        return 7  # it did not look whether it was to stop

    job = jobs.start("Work", work, answers.append, failures.append)
    job.cancel()
    go.set()
    qtbot.waitUntil(lambda: not jobs.busy(), timeout=5000)
    assert (answers, failures) == ([], [None])


def test_a_job_hears_that_it_is_to_stop(jobs: Jobs, qtbot) -> None:
    failures: list[object] = []

    def work(report: Report) -> None:
        while report(0.5, "turning"):
            pass
        raise Cancelled

    job = jobs.start("Work", work, lambda v: None, failures.append)
    job.cancel()
    qtbot.waitUntil(lambda: failures == [None], timeout=5000)


@pytest.mark.parametrize("error", [EditError("no", "there", "so"), ValueError("odd")])
def test_what_goes_wrong_in_a_job_is_told_in_words(jobs: Jobs, qtbot, error: Exception) -> None:
    told: list[ZestyError] = []
    jobs.failed.connect(told.append)

    def work(report: Report) -> None:
        raise error

    jobs.start("Work", work, lambda v: None)
    qtbot.waitUntil(lambda: bool(told), timeout=5000)
    assert isinstance(told[0], ZestyError)
    assert ("no" if isinstance(error, EditError) else "ValueError: odd") in told[0].message


def test_the_answer_for_an_older_design_is_dropped_and_asked_for_again(session: Session, qtbot) -> None:
    go, answers, again = threading.Event(), [], []

    def work(wired: object) -> object:
        go.wait(5)
        return wired

    worked = WorkedOut(session, "Work", work, answers.append, lambda: again.append(1))
    assert not worked.ask()
    session.do("edit", lambda d: edits.set_brief(d, purpose="another"))
    go.set()
    qtbot.waitUntil(lambda: bool(again), timeout=5000)
    assert answers == []
    assert not worked.ask()
    qtbot.waitUntil(lambda: bool(answers), timeout=5000)
    assert answers == [session.wired]
    assert worked.ask()


def test_a_result_is_applied_to_what_it_was_made_from_only(session: Session) -> None:
    said: list[str] = []
    session.message.connect(said.append)
    base = session.design
    after = edits.set_brief(base, purpose="by a job")
    session.do("edit", lambda d: edits.set_brief(d, purpose="by hand"))
    assert not session.apply_result("Work", base, after)
    assert "changed meanwhile" in said[-1]
    session.undo()
    assert session.apply_result("Work", base, after)
    assert session.design.brief.purpose == "by a job"


# Text in drawings -----------------------------------------------------------------------------------------------------


def test_text_grows_far_out_to_its_least_height_and_no_further_than_its_room() -> None:
    words = Lettering(0, 0, "R1", 1.5, "ink", least_px=9.0)
    assert words.at_zoom(20.0).size == 1.5  # 30 px: as it is
    assert words.at_zoom(5.0).size == pytest.approx(9.0 / 5.0)
    assert words.at_zoom(1.0).size == pytest.approx(2.1)
    hidden = Lettering(0, 0, "R1", 1.5, "ink", hide_px=6.0)
    assert hidden.at_zoom(3.9) is None
    assert hidden.at_zoom(4.0).size == 1.5


def ink(draw) -> tuple[int, int]:
    """Return the first and last column with anything drawn."""
    image = QImage(300, 80, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    p = QPainter(image)
    p.translate(150, 40)
    p.scale(10, 10)
    draw(p)
    p.end()
    columns = [x for x in range(300) if any(image.pixelColor(x, y).lightness() < 160 for y in range(80))]
    return columns[0], columns[-1]


@pytest.mark.parametrize("align", ["left", "right", "center"])
def test_text_in_pixels_stands_where_text_in_the_scene_does(qapp, align: str) -> None:
    words = Lettering(0, 0, "3V3 rail", 2.0, "ink", align, True)
    scene, pixels = ink(lambda p: draw_text(p, words)), ink(lambda p: draw_in_pixels(p, [words]))
    assert all(abs(a - b) <= 2 for a, b in zip(scene, pixels, strict=True))
    side = {"left": scene[0] >= 149, "right": scene[1] <= 151, "center": abs(sum(scene) / 2 - 150) <= 2}
    assert side[align]
