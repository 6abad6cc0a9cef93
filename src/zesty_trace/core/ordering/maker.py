"""A maker's own figures: hours of the week, days off, what an hour costs, seconds for a part of each package."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal

from zesty_trace.core.ordering.days import read_closed, read_date, say_closed
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.schedule import Maker
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, shorten

USUAL = Maker()
PACE_COLUMNS = ("day", "package", "parts", "seconds")


@dataclass(frozen=True)
class Own:
    """The maker, and own seconds for placing a part, by the beginning of the package's name.

    `timed` are seconds by whole package names, out of the own record; what is written down by hand counts before them.
    """

    maker: Maker = USUAL
    seconds: tuple[tuple[str, float], ...] = ()
    yield_: float = 0.95  # of boards that work at the end, until there are own records
    order_line_eur: Decimal = Decimal(0)
    timed: tuple[tuple[str, float], ...] = ()

    @property
    def placing(self) -> tuple[tuple[str, float], ...]:
        """Seconds by package, the first that holds counts."""
        return (*self.seconds, *self.timed)


def read_maker(text: str, name: str) -> Own:
    """Return what a TOML file says: hours, off, rate_eur_per_h, spare_days, yield, order_line_eur, [seconds].

    InputError.
    """
    try:
        raw = tomllib.loads(text)
    except (RecursionError, ValueError) as error:
        raise InputError(f"It cannot be read: {error}", name, "Mend the line named") from error
    known = ("hours", "off", "rate_eur_per_h", "spare_days", "yield", "order_line_eur", "seconds")
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
    line = raw.get("order_line_eur", 0.0)
    for word, value, most in (("rate_eur_per_h", rate, 10_000), ("order_line_eur", line, 1000)):
        if not _number(value, 0, most):
            raise InputError(f"{word} cannot be so", name, f"From 0 to {most}")
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
    seconds = tuple((str(k), float(v)) for k, v in table.items())
    return Own(maker, seconds, float(share), Decimal(str(line)))


def maker_toml(own: Own) -> str:
    """Return the figures as TOML; reading it again gives the same ones. Remarks of a file that was there are lost."""
    import tomli_w

    m = own.maker
    table: dict[str, object] = {
        "hours": list(m.hours),
        "off": say_closed(m.off),
        "rate_eur_per_h": m.rate_eur_per_h,
        "spare_days": m.spare_days,
        "yield": own.yield_,
        "order_line_eur": float(own.order_line_eur),
    }
    if own.seconds:
        table["seconds"] = dict(own.seconds)
    return tomli_w.dumps(table)


def read_pace(text: str, name: str) -> tuple[tuple[str, float], ...]:
    """Return seconds a part by package, out of a record `day,package,parts,seconds`: all seconds by all parts.

    InputError with the line.
    """
    parts: dict[str, int] = {}
    seconds: dict[str, Decimal] = {}
    for line, row in read_sheet(text, name, PACE_COLUMNS, PACE_COLUMNS):
        where = f"{name} line {line}"
        read_date(row["day"], where)
        if not row["package"]:
            raise InputError("The package is left empty", where, "Name it as the catalogue does, such as R0603")
        count = whole(row["parts"], where, "parts", 1)
        took = amount(row["seconds"], where, "seconds", 36_000_000)
        if took <= 0:
            raise InputError("seconds are not above 0", where, "Write how long it took")
        parts[row["package"]] = parts.get(row["package"], 0) + count
        seconds[row["package"]] = seconds.get(row["package"], Decimal(0)) + took
    return tuple((package, float(seconds[package] / parts[package])) for package in parts)


def pace_csv(rows: Iterable[tuple[str, str, int, float]]) -> str:
    """Return the record of placing times: day, package, parts, seconds."""
    return csv_text([PACE_COLUMNS, *((d, p, n, f"{s:.1f}") for d, p, n, s in rows)])


def _number(value: object, low: float, high: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high
