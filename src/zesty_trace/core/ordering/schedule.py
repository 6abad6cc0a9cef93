"""From today to the tested batch: what waits, what is worked on, what is critical, and how sure the day is.

Waiting ends on days that houses and carriers give; work is done in the maker's hours of each day, one thing after the
other. The longest chain decides. Doubt is reckoned by drawing lateness and working times many times (Monte Carlo).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any, Literal

import numpy as np

from zesty_trace.core.ordering.labour import Job
from zesty_trace.errors import InputError

HORIZON_DAYS = 3 * 366
DRAWS = 4000
WORK_SPREAD = 0.25  # standard deviation of the logarithm of working times: common practice is worse
PARCEL_SPREAD = 0.35  # of its days, how much later a parcel is in one case of ten, where nothing is said
DONE = "done"


@dataclass(frozen=True)
class Maker:
    """When somebody works: hours of each weekday (Monday first), days off, what an hour costs, days kept in spare."""

    hours: tuple[float, ...] = (2.0, 2.0, 2.0, 2.0, 2.0, 5.0, 0.0)
    off: frozenset[date] = frozenset()
    rate_eur_per_h: float = 0.0
    spare_days: int = 1

    def __post_init__(self) -> None:
        if len(self.hours) != 7 or not all(0 <= h <= 24 for h in self.hours) or sum(self.hours) <= 0:
            hint = "Seven figures from 0 to 24, Monday first"
            raise InputError("A week needs hours in which somebody works", "hours", hint)

    def on(self, day: date) -> float:
        """Return the hours of a day."""
        return 0.0 if day in self.off else self.hours[day.weekday()]


@dataclass(frozen=True)
class Wait:
    """Something that others do: from a day until a day; `late_days` is how much later it is in one case of ten."""

    key: str
    title: str
    begins: date
    ends: date
    late_days: float = 0.0
    after: tuple[str, ...] = ()


@dataclass(frozen=True)
class Task:
    """One bar of the chart; `slack_days` is how much later it could end without moving the end of all."""

    key: str
    title: str
    start: date
    end: date
    hours: float
    sort: Literal["wait", "work"]
    after: tuple[str, ...]
    slack_days: int = 0
    critical: bool = False


@dataclass(frozen=True)
class Schedule:
    """All tasks, the day on which the batch is ready, the chain that decides it, and how likely the day is kept."""

    tasks: tuple[Task, ...]
    ready: date
    chain: tuple[str, ...]
    needed: date | None = None
    likely: float | None = None
    days: tuple[date, date, date] | None = None  # by which it is ready in one, five and nine cases of ten

    def task(self, key: str) -> Task:
        """Return a task by its key."""
        return next(t for t in self.tasks if t.key == key)


class _Hours:
    """The maker's hours day by day from a first day on."""

    def __init__(self, maker: Maker, first: date) -> None:
        self.first = first
        each = np.array([maker.on(first + timedelta(days=k)) for k in range(HORIZON_DAYS)])
        self.before = np.concatenate([[0.0], np.cumsum(each)])

    def done(self, start: Any, hours: Any) -> Any:
        """Return the day (count from the first) and the clock of work that begins at a clock, in working hours."""
        return np.searchsorted(self.before, np.asarray(start) + np.asarray(hours) - 1e-9, side="left") - 1

    def at(self, day: Any) -> Any:
        """Return the clock at the beginning of a day."""
        return self.before[np.minimum(np.asarray(day), HORIZON_DAYS)]


def schedule(
    today: date,
    waits: Sequence[Wait],
    jobs: Sequence[Job],
    needs: Mapping[str, Sequence[str]],
    maker: Maker | None = None,
    needed: date | None = None,
    draws: int = DRAWS,
) -> Schedule:
    """Return the schedule of one maker: jobs one after the other, each after the waits that `needs` names for it.

    InputError if it would never end.
    """
    maker = maker or Maker()
    hours = _Hours(maker, today)
    ends = {w.key: float((w.ends - today).days) for w in waits}
    work = np.array([j.hours for j in jobs])
    bars, _ = _run(hours, ends, work, jobs, needs)
    last = max([*(math.ceil(e) for e in ends.values()), *(int(b) for _, b in bars)], default=0)
    if last >= HORIZON_DAYS - 1:
        hint = "Work more hours a week, or on fewer boards"
        raise InputError("The work does not end within three years", "hours", hint)
    tasks = [Task(w.key, w.title, w.begins, w.ends, 0.0, "wait", w.after) for w in waits]
    before: tuple[str, ...] = ()
    for job, (start, end) in zip(jobs, bars, strict=True):
        after = (*needs.get(job.key, ()), *before)
        first, final = (today + timedelta(days=int(d)) for d in (start, end))
        tasks.append(Task(job.key, job.title, first, final, job.hours, "work", after))
        before = (job.key,)
    if tasks:
        tasks = _slack(tasks, today, hours, ends, work, jobs, needs)
    ready = max((t.end for t in tasks), default=today)
    if maker.spare_days and tasks:
        spare = ready + timedelta(days=maker.spare_days)
        ends_all = tuple(t.key for t in tasks if t.end == ready)
        title = f"Spare: {maker.spare_days} day{'s' if maker.spare_days > 1 else ''}"
        tasks.append(Task("spare", title, ready, spare, 0.0, "wait", before or ends_all, critical=True))
        ready = spare
    found = Schedule(tuple(tasks), ready, _chain(tasks), needed)
    if draws:
        found = _drawn(found, today, hours, waits, work, jobs, needs, draws)
    return found


def _run(
    hours: _Hours, ends: Mapping[str, Any], work: Any, jobs: Sequence[Job], needs: Mapping[str, Sequence[str]]
) -> tuple[list[tuple[Any, Any]], Any]:
    """Return (first day, last day) of each job, counted from the first day; ends may be arrays of draws."""
    clock: Any = 0.0
    bars = []
    for k, job in enumerate(jobs):
        for key in needs.get(job.key, ()):
            clock = np.maximum(clock, hours.at(np.ceil(ends[key]).astype(int)))
        begin = hours.done(clock, 1e-6)
        clock = clock + work[k]
        bars.append((begin, np.maximum(begin, hours.done(clock, 0.0))))
    return bars, clock


def latest_start(maker: Maker, hours: float, needed: date) -> date:
    """Return the last day on which work of so many hours can begin to be done, spare days included, by a day."""
    day = needed - timedelta(days=maker.spare_days)
    left = hours - maker.on(day)
    for _ in range(HORIZON_DAYS):
        if left <= 0:
            break
        day -= timedelta(days=1)
        left -= maker.on(day)
    return day


def _slack(
    tasks: list[Task],
    today: date,
    hours: _Hours,
    ends: Mapping[str, float],
    work: Any,
    jobs: Sequence[Job],
    needs: Mapping[str, Sequence[str]],
) -> list[Task]:
    """Return tasks with how many days later each could end without moving the end of all, found by trying."""

    def end_of_all(key: str, later: int) -> int:
        moved = {**ends, key: ends[key] + later} if key in ends else {**ends, key: float(later)}
        wanted = dict(needs) if key in ends else {**needs, key: [*needs.get(key, ()), key]}
        bars, _ = _run(hours, moved, work, jobs, wanted)
        return max([*(math.ceil(e) for k, e in moved.items() if k in ends), *(int(b) for _, b in bars)])

    found = []
    for task in tasks:
        planned = 0 if task.key in ends else (task.start - today).days
        last = end_of_all(task.key, planned)
        low, high = 0, last + 1
        while low < high:
            middle = (low + high + 1) // 2
            if end_of_all(task.key, planned + middle) <= last:
                low = middle
            else:
                high = middle - 1
        found.append(replace(task, slack_days=low, critical=low == 0))
    return found


def _chain(tasks: Sequence[Task]) -> tuple[str, ...]:
    """Return the chain that decides the end, first task first: always back to what ended last."""
    by_key = {t.key: t for t in tasks}
    if not tasks:
        return ()
    here = max(tasks, key=lambda t: (t.end, t.start))
    found = [here.key]
    while here.after:
        here = max((by_key[k] for k in here.after if k in by_key), key=lambda t: (t.end, t.start))
        found.append(here.key)
    return tuple(reversed(found))


def _drawn(
    found: Schedule,
    today: date,
    hours: _Hours,
    waits: Sequence[Wait],
    work: Any,
    jobs: Sequence[Job],
    needs: Mapping[str, Sequence[str]],
    draws: int,
) -> Schedule:
    """Return the schedule with how likely the day is kept: lateness is exponential, working times lognormal."""
    random = np.random.default_rng(20261127)
    ends: dict[str, Any] = {}
    for wait in waits:
        late = random.exponential(wait.late_days / math.log(10), draws) if wait.late_days > 0 else np.zeros(draws)
        base = np.full(draws, float((wait.ends - today).days)) + late
        for key in wait.after:
            if key in ends:
                planned = next(w for w in waits if w.key == key)
                base = np.maximum(base, base + ends[key] - float((planned.ends - today).days))
        ends[wait.key] = base
    spread = random.lognormal(0.0, WORK_SPREAD, (len(jobs), draws))
    bars, _ = _run(hours, ends, [work[k] * spread[k] for k in range(len(jobs))], jobs, needs)
    all_ends = [*(np.ceil(e) for e in ends.values()), *(np.broadcast_to(b, draws) for _, b in bars)]
    last = np.max(np.array(all_ends), axis=0)
    quantiles = np.quantile(last, [0.1, 0.5, 0.9], method="higher").astype(int).tolist()
    days = tuple(today + timedelta(days=q) for q in quantiles)
    likely = None
    if found.needed is not None:
        likely = float((last <= (found.needed - today).days).mean())
    return replace(found, likely=likely, days=(days[0], days[1], days[2]))
