"""The maker's own time: hours and pace of a project, the day of the brief, the day on which work must begin."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.labour import jobs_of
from zesty_trace.core.ordering.maker import Own, maker_toml, pace_csv, read_maker, read_pace
from zesty_trace.core.ordering.parts.need import batch_of
from zesty_trace.core.ordering.schedule import latest_start
from zesty_trace.errors import InputError
from zesty_trace.files import changing, exists_inside, read_inside, text_of, write_inside

HOURS, PACE = "hours.toml", "pace.csv"


def needed_by(design: Design) -> date | None:
    """Return the day of the brief; None without one, or for one that is not understood, which the findings say."""
    try:
        return read_date(design.brief.needed_by)
    except InputError:
        return None


def load_own(project: Path) -> Own:
    """Return the maker's figures of a project, with times of the own record; usual ones where there are none.

    InputError.
    """
    own = Own()
    if exists_inside(project, HOURS):
        own = read_maker(text_of(read_inside(project, HOURS, "table"), HOURS), HOURS)
    if exists_inside(project, PACE):
        own = replace(own, timed=read_pace(text_of(read_inside(project, PACE, "table"), PACE), PACE))
    return own


def keep_own(project: Path, own: Own) -> None:
    """Write the maker's figures of a project. StoreError."""
    with changing(project):
        write_inside(project, HOURS, maker_toml(own).encode())


def change_own(project: Path, change: Callable[[Own], Own]) -> Own:
    """Change the maker's figures as they are now, under the lock of the tables; return them. InputError, StoreError."""
    with changing(project):
        own = change(load_own(project))
        keep_own(project, own)
    return own


def note_pace(project: Path, day: date, package: str, parts: int, seconds: float) -> None:
    """Add to the record how long placing some parts took. InputError, StoreError."""
    row = pace_csv([(day.isoformat(), package, parts, seconds)])
    with changing(project):
        old = text_of(read_inside(project, PACE, "table"), PACE) if exists_inside(project, PACE) else ""
        text = f"{old.rstrip()}\n{row.splitlines()[1]}\n" if old.strip() else row
        read_pace(text, PACE)
        write_inside(project, PACE, text.encode())


def keep_pace(wired: Wired, project: Path, day: date, refs: Sequence[str], seconds: float) -> None:
    """Add to the record how long placing some parts took, shared out by package. InputError, StoreError."""
    packages = Counter(wired.package(ref).id for ref in refs)
    with changing(project):
        for package, count in packages.items():
            note_pace(project, day, package, count, seconds * count / len(refs))


def wanted_by(wired: Wired, project: Path, today: date) -> date | None:
    """Return the day by which parts must be here: that of the brief, less the days that the work itself takes."""
    needed = needed_by(wired.design)
    if needed is None:
        return None
    own = load_own(project)
    hours = sum(job.hours for job in jobs_of(wired, batch_of(wired), own.placing))
    return max(today, latest_start(own.maker, hours, needed))
