"""When two parts are of one sort: kind, value and package alike; and when one may stand in for another."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from zesty_trace.core.stated import Stated, read_stated
from zesty_trace.errors import InputError

ALIKE = 1e-6
AT_LEAST = ("V", "A", "W", "Ah", "°C")  # ratings of which more is better; of a tolerance less is
GUARDS = ("fuse", "tvs", "varistor", "zener", "gas_tube")  # they act at their rating: more of it is not better
LETTERED = ("Ω", "F", "H", "Hz", "V", "A")


@dataclass(frozen=True, order=True)
class Sort:
    """What a part is: the id of its kind, its value as it is written, its package."""

    kind: str
    value: str = ""
    package: str = ""

    def __str__(self) -> str:
        return " ".join(w for w in (self.kind, self.value, self.package) if w)

    @property
    def key(self) -> tuple[str, str, str]:
        """What is alike for two parts of one sort, however the value is written."""
        stated = stated_of(self.value)
        if stated is None:
            return self.kind, self.value.casefold().strip(), self.package
        rest = " ".join(sorted(f"{r.value:.6g}{r.unit}" for r in stated.ratings))
        words = " ".join(w.casefold() for w in stated.words)
        return self.kind, f"{stated.value:.6g} {rest} {words}".strip(), self.package


@lru_cache(4096)
def stated_of(value: str) -> Stated | None:
    """Return what a value states as a number; None for words."""
    if not value.strip() or not any(c.isdigit() for c in value.split(maxsplit=1)[0]):
        return None
    try:
        return read_stated(value, "value")
    except InputError:
        return None


def stands_in(offered: Sort, needed: Sort, exact: bool = False) -> str | None:
    """Return how a part may stand in for another: "" the same, else what is better about it; None where it may not.

    Kind, package and value must be alike, ratings the same or better. With `exact` nothing may differ.
    """
    if offered.key == needed.key:
        return ""
    if exact or offered.kind != needed.kind or (offered.package and offered.package != needed.package):
        return None
    theirs, mine = stated_of(offered.value), stated_of(needed.value)
    if theirs is None or mine is None:
        return "" if offered.value.casefold() == needed.value.casefold() or not needed.value else None
    if abs(theirs.value - mine.value) > ALIKE * max(abs(theirs.value), abs(mine.value)):
        return None
    better = []
    for rating in mine.ratings:
        other = next((r.value for r in theirs.ratings if r.unit == rating.unit), None)
        if other is None:
            return None  # what is asked for is not said of it
        good = other >= rating.value if rating.unit in AT_LEAST else other <= rating.value
        if any(word in needed.kind for word in GUARDS):
            good = abs(other - rating.value) <= ALIKE * abs(rating.value)
        if not good:
            return None
        if other != rating.value:
            better.append(f"{other:g} {rating.unit} instead of {rating.value:g}")
    if not {w.casefold() for w in mine.words} <= {w.casefold() for w in theirs.words}:
        return None
    return ", ".join(better) or "more is said of it"
