"""A maker's own figures: hours of the week, days off, what an hour costs, seconds for a part of each package."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from zesty_trace.core.ordering.days import read_closed
from zesty_trace.core.ordering.schedule import Maker
from zesty_trace.errors import InputError
from zesty_trace.names import shorten

USUAL = Maker()


@dataclass(frozen=True)
class Own:
    """The maker, and own seconds for placing a part, by the beginning of the package's name."""

    maker: Maker = USUAL
    seconds: tuple[tuple[str, float], ...] = ()
    yield_: float = 0.95  # of boards that work at the end, until there are own records


def read_maker(text: str, name: str) -> Own:
    """Return what a TOML file says: hours, off, rate_eur_per_h, spare_days, yield, [seconds]. InputError."""
    try:
        raw = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise InputError(f"It cannot be read: {error}", name, "Mend the line named") from error
    known = ("hours", "off", "rate_eur_per_h", "spare_days", "yield", "seconds")
    for word in raw:
        if word not in known:
            raise InputError(f"“{shorten(word)}” is not understood", name, f"Known: {', '.join(known)}")
    hours = raw.get("hours", list(Maker().hours))
    if not isinstance(hours, list) or not all(_number(h, 0, 24) for h in hours):
        raise InputError("hours are not seven figures from 0 to 24", name, "Write hours = [2, 2, 2, 2, 2, 5, 0]")
    off = raw.get("off", [])
    if not isinstance(off, list):
        raise InputError("off is no list of days", name, 'Write off = ["2026-12-24..2027-01-03"]')
    rate, spare, share = raw.get("rate_eur_per_h", 0.0), raw.get("spare_days", 1), raw.get("yield", 0.95)
    if not _number(rate, 0, 10_000):
        raise InputError("rate_eur_per_h cannot be so", name, "From 0 to 10 000")
    if not isinstance(spare, int) or isinstance(spare, bool) or not 0 <= spare <= 365:
        raise InputError("spare_days cannot be so", name, "A whole number from 0 to 365")
    if not _number(share, 0.01, 1):
        raise InputError("yield cannot be so", name, "From 0.01 to 1")
    table = raw.get("seconds", {})
    if not isinstance(table, dict) or not all(_number(v, 0.1, 36_000) for v in table.values()):
        raise InputError("seconds are no figures by package", name, "Write [seconds], then SOIC = 14")
    maker = Maker(
        tuple(float(h) for h in hours), read_closed([str(d) for d in off], name), float(rate), int(spare)
    )  # fmt: skip
    return Own(maker, tuple((str(k), float(v)) for k, v in table.items()), float(share))


def _number(value: object, low: float, high: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high
