"""Who sells parts: suppliers with their freight, and offers with price steps, as TOML or as a table."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from zesty_trace.core.ordering.days import WEEKDAYS, Calendar, calendar_of
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.errors import InputError
from zesty_trace.names import check_text, shorten

MOST_OFFERS, MOST_STEPS, MOST_DAYS, MOST_FREIGHTS = 20_000, 40, 365, 20
COLUMNS = (
    "number",
    "kind",
    "value",
    "package",
    "steps",
    "minimum",
    "multiple",
    "stock",
    "lead_days",
    "packaging",
    "note",
)


@dataclass(frozen=True)
class Parcel:
    """A way that a supplier sends: calendar days, or working days; free of charge from `free_from` on (0: never)."""

    name: str
    days: int
    cost: Decimal
    free_from: Decimal = Decimal(0)
    working: bool = False


@dataclass(frozen=True)
class PartOffer:
    """One article: price steps as (from how many, price of one), rising; `stock` None is as many as one likes."""

    number: str
    sort: Sort
    steps: tuple[tuple[int, Decimal], ...]
    minimum: int = 1
    multiple: int = 1
    stock: int | None = None
    lead_days: int = 0
    packaging: str = ""
    note: str = ""

    def price(self, count: int) -> Decimal:
        """Return what one costs when so many are bought."""
        return max((s for s in self.steps if s[0] <= count), default=self.steps[0])[1]


@dataclass(frozen=True)
class Supplier:
    """A supplier of parts; `lead_days` of its offers are working days before the parcel goes out."""

    name: str
    currency: str
    parcels: tuple[Parcel, ...]
    offers: tuple[PartOffer, ...] = ()
    calendar: Calendar = field(default=WEEKDAYS)
    order_least: Decimal = Decimal(0)

    def arrives(self, parcel: Parcel, lead_days: int, today: date, here: Calendar = WEEKDAYS) -> date:
        """Return the day on which a parcel with something of this lead time is taken in."""
        ships = self.calendar.after(today, lead_days)
        comes = WEEKDAYS.after(ships, parcel.days) if parcel.working else ships + timedelta(days=parcel.days)
        return here.next_open(comes)


def read_supplier(text: str, name: str) -> Supplier:
    """Return the supplier of a TOML file: name, currency, [[freight]], and [[offers]] or a table beside it.

    InputError with the field of what is wrong.
    """
    try:
        raw = tomllib.loads(text, parse_float=Decimal)
    except (ArithmeticError, RecursionError, ValueError) as error:
        raise InputError(f"The supplier cannot be read: {error}", name, "Mend the line named") from error
    known = {"name", "currency", "freight", "offers", "open_days", "closed", "order_least"}
    for word in raw:
        if word not in known:
            raise InputError(f"“{shorten(word)}” is not understood", name, f"Known: {', '.join(sorted(known))}")
    title, currency = str(raw.get("name", "")).strip(), str(raw.get("currency", BUDGET_CURRENCY))
    check_text(title, f"{name}, name", 80)
    if not title or not re.fullmatch(r"[A-Z]{3}", currency):
        raise InputError("A supplier has a name and a currency of three letters", name, 'Such as currency = "EUR"')
    parcels = tuple(_parcel(p, f"{name}, freight {k}") for k, p in enumerate(_list(raw, "freight", name), 1))
    if not 1 <= len(parcels) <= MOST_FREIGHTS or len({p.name for p in parcels}) < len(parcels):
        raise InputError("It needs a freight, each of another name", name, "Write [[freight]] name, days, cost")
    offers = tuple(_offer(o, f"{name}, offer {k}") for k, o in enumerate(_list(raw, "offers", name), 1))
    closed = raw.get("closed", [])
    if not isinstance(closed, list):
        raise InputError("closed is no list of days", name, 'Write closed = ["2026-12-24"]')
    calendar = calendar_of(str(raw.get("open_days", "mon-fri")), [str(c) for c in closed], name)
    least = amount(str(raw.get("order_least", 0)), name, "order_least")
    check_numbers(offers, name)
    return Supplier(title, currency, parcels, offers, calendar, least)


def _list(raw: dict[str, Any], field_: str, name: str) -> list[dict[str, Any]]:
    found = raw.get(field_, [])
    if not isinstance(found, list) or not all(isinstance(x, dict) for x in found) or len(found) > MOST_OFFERS:
        raise InputError(f"{field_} is no list of tables", name, f"Write [[{field_}]]")
    return found


def _parcel(raw: dict[str, Any], where: str) -> Parcel:
    for word in raw:
        if word not in ("name", "days", "cost", "free_from", "working"):
            raise InputError(
                f"“{shorten(word)}” is not understood", where, "Write name, days, cost, free_from, working"
            )
    title = check_text(str(raw.get("name", "")).strip(), where, 80)
    if not title:
        raise InputError("The freight has no name", where, 'Such as name = "parcel"')
    days = whole(str(raw.get("days", "")), where, "days", 0, MOST_DAYS)
    cost, free = (amount(str(raw.get(f, 0)), where, f) for f in ("cost", "free_from"))
    return Parcel(title, days, cost, free, bool(raw.get("working", False)))


def _offer(raw: dict[str, Any], where: str) -> PartOffer:
    for word in raw:
        if word not in COLUMNS:
            raise InputError(f"“{shorten(word)}” is not understood", where, f"Known: {', '.join(COLUMNS)}")
    steps = raw.get("steps", [])
    pairs = isinstance(steps, list) and steps and all(isinstance(s, list) and len(s) == 2 for s in steps)
    if not pairs:
        raise InputError("steps are no pairs of count and price", where, "Write steps = [[1, 0.10], [100, 0.04]]")
    cells = {k: str(v) for k, v in raw.items() if k != "steps"}
    return _made(cells, [(str(a), str(b)) for a, b in steps], where)


def read_offers(text: str, name: str) -> tuple[PartOffer, ...]:
    """Return the offers of a table; `steps` are written `1:0.10 100:0.04`. InputError with the line."""
    found = []
    for line, row in read_sheet(text, name, ("number", "kind", "steps"), COLUMNS):
        where = f"{name} line {line}"
        steps = []
        for word in row["steps"].split():
            count, colon, price = word.partition(":")
            if not colon:
                raise InputError(f"“{shorten(word)}” is no price step", where, "Write steps like 1:0.10 100:0.04")
            steps.append((count, price))
        if not steps:
            raise InputError("There is no price", where, "Write steps like 1:0.10 100:0.04")
        found.append(_made({k: v for k, v in row.items() if k != "steps"}, steps, where))
    check_numbers(found, name)
    return tuple(found)


def check_numbers(offers: Iterable[PartOffer], name: str) -> None:
    """Check that each article of a supplier has a number of its own. InputError."""
    seen: set[str] = set()
    for offer in offers:
        if offer.number in seen:
            raise InputError(f"{shorten(offer.number)} is offered twice", name, "Number each article once")
        seen.add(offer.number)


def _made(cells: dict[str, str], steps: list[tuple[str, str]], where: str) -> PartOffer:
    number, kind = cells.get("number", "").strip(), cells.get("kind", "").strip()
    if not number or not kind:
        raise InputError("An offer has a number and a kind", where, 'Such as number = "A-1", kind = "resistor"')
    for cell in cells.values():
        check_text(cell, where, 400)
    priced = tuple((whole(a, where, "step", 1), amount(b, where, "price")) for a, b in steps)
    if len(priced) > MOST_STEPS or [a for a, _ in priced] != sorted({a for a, _ in priced}):
        raise InputError("The price steps do not rise", where, "Sort them by count, each once")
    minimum = whole(cells.get("minimum", ""), where, "minimum", 1, default=1)
    multiple = whole(cells.get("multiple", ""), where, "multiple", 1, default=1)
    stock = cells.get("stock", "").strip()
    return PartOffer(
        number,
        Sort(kind, cells.get("value", ""), cells.get("package", "")),
        priced,
        max(minimum, priced[0][0]),
        multiple,
        whole(stock, where, "stock") if stock else None,
        whole(cells.get("lead_days", ""), where, "lead_days", 0, MOST_DAYS, default=0),
        cells.get("packaging", ""),
        cells.get("note", ""),
    )
