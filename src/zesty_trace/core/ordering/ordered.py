"""Boards that were ordered: from whom, for how much, when they are expected, and whether they are here."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, InvalidOperation

from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.money import Money
from zesty_trace.core.ordering.quote import Offer
from zesty_trace.errors import InputError
from zesty_trace.names import check_text, shorten

FIELDS = ("how", "boards", "total", "currency", "ordered", "ships", "expected", "days_late", "here")


@dataclass(frozen=True)
class BoardsOrdered:
    """An order for boards; `total` is in the currency of the house, `days_late` as in its price sheet."""

    how: str
    boards: int
    total: Money
    ordered: date
    ships: date
    expected: date
    days_late: float = 0.0
    here: bool = False

    @property
    def words(self) -> str:
        """The order in words."""
        state = "they are here" if self.here else f"expected {self.expected:%a %d %b}"
        return f"{self.boards} boards ordered {self.ordered:%a %d %b} from {self.how}, {self.total}: {state}"


def ordered_from(offer: Offer, day: date) -> BoardsOrdered:
    """Return an offer that was taken on a day."""
    return BoardsOrdered(offer.how, offer.boards, offer.total, day, offer.ships, offer.arrives, offer.days_late)


def ordered_toml(boards: BoardsOrdered) -> str:
    """Return the order as TOML; reading it again gives the same."""
    import tomli_w

    return tomli_w.dumps(
        {
            "how": boards.how,
            "boards": boards.boards,
            "total": str(boards.total.amount),
            "currency": boards.total.currency,
            "ordered": boards.ordered.isoformat(),
            "ships": boards.ships.isoformat(),
            "expected": boards.expected.isoformat(),
            "days_late": boards.days_late,
            "here": boards.here,
        }
    )


def read_ordered(text: str, name: str) -> BoardsOrdered:
    """Return the order of a TOML file. InputError with the field of what is wrong."""
    try:
        raw = tomllib.loads(text)
    except (RecursionError, ValueError) as error:
        raise InputError(f"It cannot be read: {error}", name, "Mend the line named") from error
    for word in raw:
        if word not in FIELDS:
            raise InputError(f"“{shorten(word)}” is not understood", name, f"Known: {', '.join(FIELDS)}")
    how, currency = str(raw.get("how", "")), str(raw.get("currency", ""))
    check_text(how, f"{name}, how", 400)
    count, here = raw.get("boards", 0), raw.get("here", False)
    if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= 100_000:
        raise InputError("boards cannot be so", name, "A whole number from 1 on")
    if not isinstance(here, bool):
        raise InputError("here is neither true nor false", name, "Write here = true")
    if len(currency) != 3 or not currency.isalpha() or not currency.isupper():
        raise InputError("currency has not three letters", name, 'Such as currency = "EUR"')
    try:
        total = Decimal(str(raw.get("total", "")))
    except InvalidOperation as error:
        raise InputError("total is no amount", name, 'Such as total = "17.50"') from error
    if not total.is_finite() or not 0 <= total <= 10_000_000:
        raise InputError("total cannot be so", name, "From 0 to 10 000 000")
    late = raw.get("days_late", 0.0)
    if isinstance(late, bool) or not isinstance(late, int | float) or not 0 <= late <= 365:
        raise InputError("days_late cannot be so", name, "From 0 to 365")
    days = [read_date(str(raw.get(f, "")), f"{name}, {f}") for f in ("ordered", "ships", "expected")]
    ordered, ships, expected = days
    if ordered is None or ships is None or expected is None:
        raise InputError("ordered, ships and expected are days", name, 'Such as expected = "2026-12-16"')
    return BoardsOrdered(how, count, Money(total, currency), ordered, ships, expected, float(late), here)
