"""Schedules against networkx's longest path, days counted by hand, closed forms of waiting, and a read calendar."""

from __future__ import annotations

import math
import random
from datetime import date, timedelta
from itertools import pairwise
from pathlib import Path

import networkx as nx
import pytest
from icalendar import Calendar as File

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.labour import Job, jobs_of, seconds_of
from zesty_trace.core.ordering.maker import read_maker
from zesty_trace.core.ordering.schedule import Maker, Wait, latest_start, schedule
from zesty_trace.errors import InputError

FRIDAY = date(2026, 11, 27)
ROUND_THE_CLOCK = Maker((24.0,) * 7, spare_days=0)


def test_days_by_hand() -> None:
    """Two hours on weekdays, five on Saturdays, none on Sundays (the usual week)."""
    waits = [Wait("boards", "Boards", FRIDAY, FRIDAY + timedelta(days=7))]  # Friday 4 December
    jobs = [Job("kitting", "Kitting", 1.0), Job("placing", "Placing", 6.0), Job("test", "Test", 2.5)]
    found = schedule(FRIDAY, waits, jobs, {"placing": ["boards"]}, needed=date(2026, 12, 8), draws=0)
    said = {t.key: (t.start, t.end) for t in found.tasks}
    assert said["kitting"] == (FRIDAY, FRIDAY)
    assert said["placing"] == (date(2026, 12, 4), date(2026, 12, 5))  # 2 h on Friday, 4 of 5 h on Saturday
    assert said["test"] == (date(2026, 12, 5), date(2026, 12, 7))  # 1 h left on Saturday, 1.5 h on Monday
    assert found.ready == date(2026, 12, 8)  # a day in spare
    assert found.chain == ("boards", "placing", "test", "spare")
    assert found.task("kitting").slack_days == 6  # on Friday 4 December its hour would push the test to Tuesday
    assert found.task("boards").critical


def test_days_off_and_impossible_weeks() -> None:
    jobs = [Job("a", "A", 3.0)]
    off = frozenset({FRIDAY, FRIDAY + timedelta(days=1)})
    found = schedule(FRIDAY, [], jobs, {}, Maker(off=off, spare_days=0), draws=0)
    assert (found.tasks[0].start, found.tasks[0].end) == (date(2026, 11, 30), date(2026, 12, 1))
    with pytest.raises(InputError, match="A week needs hours"):
        Maker((0.0,) * 7)
    with pytest.raises(InputError, match="does not end"):
        schedule(FRIDAY, [], [Job("a", "A", 1e6)], {}, draws=0)
    assert schedule(FRIDAY, [], [], {}, draws=0).ready == FRIDAY


def test_the_end_is_that_of_the_longest_path() -> None:
    """A maker who never sleeps: hours become parts of days, and the end is networkx's longest path."""
    r = random.Random(4)
    for _ in range(200):
        waits = [Wait(f"w{k}", "W", FRIDAY, FRIDAY + timedelta(days=r.randint(0, 30))) for k in range(r.randint(0, 4))]
        jobs = [Job(f"j{k}", "J", r.randint(1, 200) * 1.0) for k in range(r.randint(1, 6))]
        needs = {j.key: [w.key for w in waits if r.random() < 0.4] for j in jobs}
        found = schedule(FRIDAY, waits, jobs, needs, ROUND_THE_CLOCK, draws=0)
        graph = nx.DiGraph()
        graph.add_node("start")
        for w in waits:
            graph.add_edge("start", w.key, weight=float((w.ends - FRIDAY).days * 24))
        for before, job in zip([None, *jobs], jobs, strict=False):
            graph.add_edge("start", f"{job.key} begins", weight=0.0)
            for key in needs[job.key]:
                graph.add_edge(key, f"{job.key} begins", weight=0.0)
            if before is not None:
                graph.add_edge(before.key, f"{job.key} begins", weight=0.0)
            graph.add_edge(f"{job.key} begins", job.key, weight=job.hours)
        hours = nx.dag_longest_path_length(graph)
        last_wait = max(((w.ends - FRIDAY).days for w in waits), default=0)
        ends = max(math.ceil(hours / 24 - 1e-9) - 1, last_wait)
        assert (found.ready - FRIDAY).days == ends, (waits, jobs, needs)
        assert found.task(found.chain[-1]).end == found.ready
        assert all(t.slack_days >= 0 for t in found.tasks)


def test_what_is_moved_by_its_slack_moves_nothing_and_by_more_moves_the_end() -> None:
    r = random.Random(9)
    moved = 0
    for _ in range(60):
        waits = [Wait(f"w{k}", "W", FRIDAY, FRIDAY + timedelta(days=r.randint(0, 20))) for k in range(3)]
        jobs = [Job(f"j{k}", "J", 24.0 * r.randint(1, 3)) for k in range(3)]
        needs = {f"j{k}": [f"w{k}"] for k in range(3)}
        plain = schedule(FRIDAY, waits, jobs, needs, ROUND_THE_CLOCK, draws=0)
        for k, wait in enumerate(waits):
            slack = plain.task(wait.key).slack_days
            if slack > 400:
                continue  # nothing waits for it, and it is far from the end
            for by, same in ((slack, True), (slack + 1, False)):
                later = [*waits[:k], Wait(wait.key, "W", FRIDAY, wait.ends + timedelta(days=by)), *waits[k + 1 :]]
                end = schedule(FRIDAY, later, jobs, needs, ROUND_THE_CLOCK, draws=0).ready
                assert (end == plain.ready) == same
                moved += end > plain.ready
    assert moved > 60


def test_doubt_is_that_of_the_closed_form() -> None:
    """One parcel, late by more than d days in one case of ten: P(late <= x) = 1 - 10^(-x/d)."""
    wait = Wait("boards", "B", FRIDAY, FRIDAY + timedelta(days=10), late_days=6.0)
    for extra in (0, 3, 6, 12):
        needed = FRIDAY + timedelta(days=10 + extra)
        found = schedule(FRIDAY, [wait], [], {}, ROUND_THE_CLOCK, needed, draws=40_000)
        assert found.likely == pytest.approx(1 - 10 ** (-extra / 6.0), abs=0.01)
    assert found.days is not None
    assert FRIDAY + timedelta(days=16) <= found.days[2] <= FRIDAY + timedelta(days=17)
    sure = schedule(FRIDAY, [Wait("b", "B", FRIDAY, FRIDAY)], [], {}, ROUND_THE_CLOCK, FRIDAY)
    assert sure.likely == 1.0
    assert schedule(FRIDAY, [wait], [], {}, ROUND_THE_CLOCK).likely is None


def test_the_last_day_to_begin_is_one_from_which_the_work_is_done_in_time() -> None:
    maker = Maker()
    for hours in (0.5, 2.0, 6.5, 20.0):
        needed = date(2026, 12, 25)
        day = latest_start(maker, hours, needed)
        assert schedule(day, [], [Job("a", "A", hours)], {}, maker, draws=0).ready <= needed
        later = day + timedelta(days=1)
        while maker.on(later) == 0:
            later += timedelta(days=1)
        assert schedule(later, [], [Job("a", "A", hours)], {}, maker, draws=0).ready > needed or hours <= 2.0


@pytest.mark.campaign
def test_work_is_counted_by_part_and_board(demo, catalogue) -> None:
    wired = Wired(demo, catalogue)
    one, twelve = (
        {j.key: j.hours for j in jobs_of(wired, {"Full": n})} for n in (1, 12)
    )  # fmt: skip
    fitted = [r for r, p in demo.parts.items() if wired.kind(r).assembled and p.fitted("Full")]
    by_hand = sum(seconds_of(wired.package(r).id) for r in fitted if _is_surface(wired, r))
    assert one["placing"] * 3600 == pytest.approx(by_hand)
    assert twelve["placing"] == pytest.approx(12 * one["placing"])
    assert twelve["kitting"] == one["kitting"]
    assert jobs_of(wired, {"Full": 0}) == []
    assert seconds_of("R0402") == 14.0
    assert seconds_of("SOIC-8", (("SOIC", 5.0),)) == 5.0


def _is_surface(wired: Wired, ref: str) -> bool:
    from zesty_trace.core.board.copper import pattern_of

    return pattern_of(wired, ref).surface_mount


def test_a_makers_own_figures_are_read_and_mistakes_named() -> None:
    own = read_maker(
        'hours = [1, 1, 1, 1, 1, 8, 8]\noff = ["2026-12-24..2026-12-26"]\nrate_eur_per_h = 12\n[seconds]\nSOIC = 14\n',
        "h",
    )
    assert own.maker.hours[5] == 8
    assert own.maker.on(date(2026, 12, 25)) == 0
    assert own.seconds == (("SOIC", 14.0),)
    for wrong in (
        "hours = [1]",
        "hours = [1,1,1,1,1,1,25]",
        "hours = 3",
        "off = ['soon']",
        "rate_eur_per_h = -1",
        "x = 1",
        "spare_days = 1.5",
        "yield = 0",
        "[seconds]\nA = 'x'",
        "hours = [0,0,0,0,0,0,0]",
        "hours = [nan,1,1,1,1,1,1]",
    ):
        with pytest.raises(InputError):
            read_maker(wrong, "h")


@pytest.mark.campaign
def test_the_calendar_is_read_back_by_its_library(tmp_path: Path) -> None:
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.journey.demos import create_demo
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.journey.scheduling import calendar_bytes, plan_of, wins

    design = create_demo(tmp_path / "p", FRIDAY)
    wired = Wired(design, project_catalogue(tmp_path / "p"))
    plan = plan_of(wired, tmp_path / "p", FRIDAY)
    found = plan.schedule
    assert found.needed == read_date(design.brief.needed_by)
    assert found.likely is not None
    events = list(File.from_ical(calendar_bytes(plan, "Proofing", FRIDAY)).walk("VEVENT"))
    assert len(events) == len(found.tasks)
    for event, task in zip(events, found.tasks, strict=True):
        assert event.decoded("dtstart") == task.start
        assert event.decoded("dtend") == task.end + timedelta(days=1)
        assert task.title in str(event["summary"])
    assert plan.cost is not None
    assert plan.cost_each is not None
    assert plan.cost_each.amount > plan.cost.amount / plan.boards  # some fail
    said = wins(wired, tmp_path / "p", FRIDAY, plan)
    assert [w for w in said if "no day" in w][:2] == said[:2]  # boards and parts come on the same day
    assert "together would win 14 days for" in said[2]
    assert "an hour more" in said[3]


@pytest.mark.campaign
def test_the_chosen_plans_are_the_best_of_all_pairs(tmp_path: Path) -> None:
    from zesty_trace.core.design import edits
    from zesty_trace.core.ordering.quote import frontier
    from zesty_trace.journey.buying import market_of
    from zesty_trace.journey.demos import create_demo
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.journey.ordering import ask_houses
    from zesty_trace.journey.scheduling import plan_of
    from zesty_trace.journey.together import purchases, spent, together

    folder = tmp_path / "p"
    design = edits.set_brief(create_demo(folder, FRIDAY), needed_by="2026-12-24", budget_eur=230.0, quantity=6)
    for name in ("tinker-yard", "saltmarsh", "harbour"):  # one does, and is quick
        (folder / "suppliers" / f"{name}.toml").unlink()
    wired = Wired(design, project_catalogue(folder))
    found = together(wired, folder, FRIDAY)
    parts, _ = purchases(market_of(wired, folder, FRIDAY)[0])
    assert len(parts) > 1
    for cheap, dear in pairwise(parts):  # each is sooner, and none of the sooner ones is cheaper
        assert dear.arrives is not None
        assert cheap.arrives is not None
        assert dear.arrives < cheap.arrives
        assert dear.total >= cheap.total
    every = [plan_of(wired, folder, FRIDAY, o, p) for o in ask_houses(wired, FRIDAY, folder).offers for p in parts]
    assert len(frontier(ask_houses(wired, FRIDAY, folder).offers)) * len(parts) <= len(every)
    cheapest, soonest, surest = (t.plan for t in found.chosen)
    timely = [p for p in every if p.schedule.ready <= date(2026, 12, 24)]
    paid = [p for p in every if spent(p) <= 230]
    assert spent(cheapest) <= min(spent(p) for p in timely)  # a panel may be cheaper still
    assert soonest.schedule.ready <= min(p.schedule.ready for p in paid)
    assert (surest.schedule.likely or 0) >= max(p.schedule.likely or 0 for p in paid)
    assert spent(soonest) <= 230
    assert found.gap < 1e-6


@pytest.mark.campaign
def test_a_purchase_that_lacks_parts_is_never_the_cheapest_plan(tmp_path: Path) -> None:
    from zesty_trace.core.design import edits
    from zesty_trace.journey.demos import create_demo
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.journey.together import together

    folder = tmp_path / "p"
    design = edits.set_brief(create_demo(folder, FRIDAY), needed_by="2026-12-03", quantity=3)  # nothing comes by then
    for name in ("harbour", "copperline"):
        (folder / "suppliers" / f"{name}.toml").unlink()
    found = together(Wired(design, project_catalogue(folder)), folder, FRIDAY)
    lacking = {t.plan.parts.missing for t in found.chosen if t.plan.parts is not None}
    assert len(lacking) == 1  # no plan lacks more than another
    assert found.chosen[0].name == "the cheapest, for nothing is in time"
    if lacking != {0}:
        assert all(t.words[0].startswith("Nobody sends ") for t in found.chosen)
