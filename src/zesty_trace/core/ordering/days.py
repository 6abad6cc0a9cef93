"""Days on which somebody works or delivers: dates as they are written, working days, holidays.

Counting is that of `numpy.busday_offset`: the day of the order counts as none, and a count that ends on a closed day
goes on to the next open one.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cached_property
from typing import Any

from zesty_trace.errors import InputError
from zesty_trace.names import shorten

WEEK = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
MOST_HOLIDAYS = 2000
HOW = "Write it as year-month-day, such as 2026-12-24"


def read_date(text: str, where: str = "date") -> date | None:
    """Return a date written year-month-day; None for no text. InputError for anything else, and days that are none."""
    if not text.strip():
        return None
    try:
        return date.fromisoformat(text.strip())
    except ValueError as error:
        raise InputError(f"“{shorten(text)}” is no date that is understood", where, HOW) from error


@dataclass(frozen=True)
class Calendar:
    """The weekdays on which somebody works (Monday first), and single days on which they do not."""

    open_days: tuple[bool, ...] = (True, True, True, True, True, False, False)
    closed: frozenset[date] = frozenset()

    def __post_init__(self) -> None:
        if len(self.open_days) != 7 or not any(self.open_days):
            raise InputError("A week needs a day on which somebody works", "calendar", "Name days of mon to sun")

    @cached_property
    def _numpy(self) -> Any:
        import numpy as np

        return np.busdaycalendar(weekmask=list(self.open_days), holidays=sorted(self.closed))

    def is_open(self, day: date) -> bool:
        """Whether somebody works on this day."""
        return self.open_days[day.weekday()] and day not in self.closed

    def next_open(self, day: date) -> date:
        """Return this day, or the next on which somebody works."""
        return self._offset(day, 0)

    def after(self, day: date, working_days: int) -> date:
        """Return the day that is so many working days after this one; 0 is the day itself, or the next open one."""
        if working_days <= 0:
            return self.next_open(day)
        start = day if self.is_open(day) else self._before(day)
        return self._offset(start, working_days)

    def _before(self, day: date) -> date:
        """Return the last open day before a closed one: what is begun on it counts from the next."""
        import numpy as np

        return date.fromisoformat(str(np.busday_offset(day, 0, roll="backward", busdaycal=self._numpy)))

    def _offset(self, day: date, count: int) -> date:
        import numpy as np

        return date.fromisoformat(str(np.busday_offset(day, count, roll="forward", busdaycal=self._numpy)))

    def working_days(self, first: date, last: date) -> int:
        """Return how many working days there are from `first` on and before `last`."""
        import numpy as np

        return int(np.busday_count(first, last, busdaycal=self._numpy))


WEEKDAYS = Calendar()
EVERY_DAY = Calendar((True,) * 7)


def calendar_of(days: str | None, closed: Iterable[str], where: str) -> Calendar:
    """Return a calendar from words: `mon-fri`, `mon tue sat`; closed: dates, or spans `2026-12-24..2027-01-02`.

    InputError for other words.
    """
    return Calendar(read_week(days, where) if days else WEEKDAYS.open_days, read_closed(closed, where))


def read_week(text: str, where: str) -> tuple[bool, ...]:
    """Return the open days of a week. InputError for words that are no days."""
    open_days = [False] * 7
    for word in text.lower().replace(",", " ").split():
        first, dash, last = word.partition("-")
        names = [first[:3], last[:3] if dash else first[:3]]
        if not all(n in WEEK for n in names):
            raise InputError(f"“{shorten(word)}” is no day of the week", where, "Write mon-fri, or mon tue sat")
        start, end = (WEEK.index(n) for n in names)
        for k in range(start, end + 1 if end >= start else end + 8):
            open_days[k % 7] = True
    if not any(open_days):
        raise InputError("No day of the week is left to work on", where, "Write mon-fri, or mon tue sat")
    return tuple(open_days)


def read_closed(words: Iterable[str], where: str) -> frozenset[date]:
    """Return single days and spans of them. InputError for what is none, or for more than anybody is closed."""
    found: set[date] = set()
    for word in words:
        first, dots, last = str(word).partition("..")
        start, end = read_date(first, where), read_date(last, where) if dots else None
        if start is None:
            raise InputError("A day is left empty", where, HOW)
        end = end or start
        if not 0 <= (end - start).days < MOST_HOLIDAYS:
            raise InputError(f"“{shorten(str(word))}” ends before it begins, or never", where, HOW)
        found |= {start + timedelta(days=k) for k in range((end - start).days + 1)}
        if len(found) > MOST_HOLIDAYS:
            raise InputError(f"More than {MOST_HOLIDAYS} days are closed", where, "Shorten the list")
    return frozenset(found)


def say_closed(days: Iterable[date]) -> list[str]:
    """Return days as they are written, those in a row as a span; `read_closed` reads them."""
    found: list[tuple[date, date]] = []
    for day in sorted(days):
        if found and day - found[-1][1] == timedelta(days=1):
            found[-1] = found[-1][0], day
        else:
            found.append((day, day))
    return [a.isoformat() if a == b else f"{a.isoformat()}..{b.isoformat()}" for a, b in found]
