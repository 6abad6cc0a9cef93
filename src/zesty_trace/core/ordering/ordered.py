"""Boards that were ordered: each order by its number, from whom, for how much, when expected, and what became of it."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal, InvalidOperation
from typing import Any

from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.money import Money
from zesty_trace.core.ordering.quote import Offer
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import InputError
from zesty_trace.names import check_text, shorten

FIELDS = (
    "how",
    "boards",
    "total",
    "currency",
    "ordered",
    "ships",
    "expected",
    "days_late",
    "here",
    "number",
    "history",
)
STEPS = ("ordered", "here", "withdrawn", "undone")
MOST_ORDERS, MOST_STEPS = 200, 200
Happened = tuple[date, str]  # a day, and one of STEPS


@dataclass(frozen=True)
class BoardsOrdered:
    """An order for boards; `total` is in the currency of the house, `days_late` as in its price sheet.

    `history` is what happened to it, oldest first; "undone" takes the newest step back that still counts.
    """

    how: str
    boards: int
    total: Money
    ordered: date
    ships: date
    expected: date
    days_late: float = 0.0
    number: int = 1
    history: tuple[Happened, ...] = ()

    @property
    def counting(self) -> list[Happened]:
        """The steps that count: without those that were undone."""
        found: list[Happened] = []
        for step in self.history or ((self.ordered, "ordered"),):
            if step[1] != "undone":
                found.append(step)
            elif found:
                found.pop()
        return found

    @property
    def state(self) -> str:
        """The last step that counts: ordered, here or withdrawn; "" where the order itself was undone."""
        steps = self.counting
        return steps[-1][1] if steps else ""

    @property
    def here(self) -> bool:
        """Whether the boards are here."""
        return self.state == "here"

    @property
    def coming(self) -> bool:
        """Whether the boards are on the way."""
        return self.state == "ordered"

    @property
    def stands(self) -> bool:
        """Whether the order counts: it was neither withdrawn nor undone."""
        return self.here or self.coming

    @property
    def words(self) -> str:
        """The order in words."""
        state = {"here": "they are here", "ordered": f"expected {self.expected:%a %d %b}"}.get(self.state, "taken back")
        boards = say_count(self.boards, "board")
        return f"{boards} ordered {self.ordered:%a %d %b} from {self.how}, {self.total}: {state}"

    def then(self, day: date, step: str) -> BoardsOrdered:
        """Return the order after a step. InputError for one that cannot follow."""
        allowed = {"here": ("ordered",), "withdrawn": ("ordered",), "undone": ("ordered", "here", "withdrawn")}
        if self.state not in allowed[step]:
            said = {"": "is taken back", "withdrawn": "is taken back", "here": "is here already"}[self.state]
            hint = "Undo its last step first" if self.state == "here" else "Choose another order"
            raise InputError(f"Order {self.number} of boards {said}", f"order {self.number}", hint)
        return replace(self, history=(*(self.history or ((self.ordered, "ordered"),)), (day, step)))


@dataclass(frozen=True)
class BoardOrders:
    """All orders for boards of a project, by number. It is false where there are none that count."""

    orders: tuple[BoardsOrdered, ...] = ()

    def __iter__(self) -> Iterator[BoardsOrdered]:
        return iter(self.orders)

    def __bool__(self) -> bool:
        return bool(self.standing)

    @property
    def standing(self) -> tuple[BoardsOrdered, ...]:
        """The orders that were not taken back."""
        return tuple(o for o in self.orders if o.stands)

    @property
    def coming(self) -> tuple[BoardsOrdered, ...]:
        """The orders on the way."""
        return tuple(o for o in self.orders if o.coming)

    @property
    def boards(self) -> int:
        """How many boards are here or on the way."""
        return sum(o.boards for o in self.standing)

    @property
    def here(self) -> bool:
        """Whether all that was ordered is here."""
        return bool(self) and not self.coming

    @property
    def words(self) -> str:
        """The orders in words, a sentence each; numbered where there are several."""
        if len(self.orders) == 1:
            return self.orders[0].words
        said = [f"{o.number}: {o.words}" for o in self.orders]
        return ". ".join([*said, f"In all {say_count(self.boards, 'board')}"]) if said else ""

    def with_order(self, order: BoardsOrdered) -> BoardOrders:
        """Return the orders with one more, under the next number. InputError if there are too many."""
        if len(self.orders) >= MOST_ORDERS:
            raise InputError(f"There are {MOST_ORDERS} orders of boards already", "orders", "Begin another project")
        number = max((o.number for o in self.orders), default=0) + 1
        return BoardOrders((*self.orders, replace(order, number=number, history=((order.ordered, "ordered"),))))

    def after(self, number: int | None, day: date, step: str) -> BoardOrders:
        """Return the orders after a step of one of them; without a number, of the only one that it can mean.

        InputError if there is none, or more than one, and none is named.
        """
        found = self._meant(number, step)
        return BoardOrders(tuple(o.then(day, step) if o is found else o for o in self.orders))

    def _meant(self, number: int | None, step: str) -> BoardsOrdered:
        if number is not None:
            named = next((o for o in self.orders if o.number == number), None)
            if named is None:
                known = ", ".join(str(o.number) for o in self.orders) or "none"
                raise InputError(f"There is no order {number} of boards", "orders", f"There are: {known}")
            return named
        able = [o for o in self.orders if o.state] if step == "undone" else list(self.coming)
        if step == "undone" and able:
            return max(able, key=lambda o: (o.history[-1][0] if o.history else o.ordered, o.number))
        if len(able) == 1:
            return able[0]
        if able:
            said = "; ".join(f"{o.number}: {o.words}" for o in able)
            raise InputError(f"{len(able)} orders of boards are on the way", "orders", f"Say which: {said}")
        raise InputError("No boards are on the way", "orders", "Record an order with --take first")


NO_ORDERS = BoardOrders()


def ordered_from(offer: Offer, day: date) -> BoardsOrdered:
    """Return an offer that was taken on a day."""
    return BoardsOrdered(offer.how, offer.boards, offer.total, day, offer.ships, offer.arrives, offer.days_late)


def ordered_toml(found: BoardOrders) -> str:
    """Return the orders as TOML; reading it again gives the same."""
    import tomli_w

    return tomli_w.dumps({"orders": [_table(o) for o in found.orders]})


def _table(o: BoardsOrdered) -> dict[str, Any]:
    return {
        "number": o.number,
        "how": o.how,
        "boards": o.boards,
        "total": str(o.total.amount),
        "currency": o.total.currency,
        "ordered": o.ordered.isoformat(),
        "ships": o.ships.isoformat(),
        "expected": o.expected.isoformat(),
        "days_late": o.days_late,
        "history": [f"{day.isoformat()} {step}" for day, step in o.history],
    }


def read_ordered(text: str, name: str) -> BoardOrders:
    """Return the orders of a TOML file; one order without a list, as it was written before, counts as a list of one.

    InputError with the order and the field of what is wrong.
    """
    try:
        raw = tomllib.loads(text)
    except (ArithmeticError, RecursionError, ValueError) as error:
        raise InputError(f"It cannot be read: {error}", name, "Mend the line named") from error
    if not raw:
        return BoardOrders()
    tables = raw.get("orders")
    if tables is None:
        return BoardOrders((_read_order(raw, name, 1),))
    if set(raw) != {"orders"} or not isinstance(tables, list) or not all(isinstance(t, dict) for t in tables):
        raise InputError("orders is no list of tables", name, "Write [[orders]] before each")
    if len(tables) > MOST_ORDERS:
        raise InputError(f"There are {len(tables)} orders", name, f"Up to {MOST_ORDERS}")
    found = tuple(_read_order(t, f"{name}, order {k}", k) for k, t in enumerate(tables, 1))
    if len({o.number for o in found}) < len(found):
        raise InputError("Two orders have one number", name, "Number each once")
    return BoardOrders(found)


def _read_order(raw: Mapping[str, Any], name: str, place: int) -> BoardsOrdered:
    for word in raw:
        if word not in FIELDS:
            raise InputError(f"“{shorten(word)}” is not understood", name, f"Known: {', '.join(FIELDS)}")
    how, currency = str(raw.get("how", "")), str(raw.get("currency", ""))
    check_text(how, f"{name}, how", 400)
    here = raw.get("here", False)
    if not isinstance(here, bool):
        raise InputError("here is neither true nor false", name, "Write here = true")
    if len(currency) != 3 or not currency.isascii() or not currency.isalpha() or not currency.isupper():
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
    history = _history(raw.get("history", []), name) or ((ordered, "ordered"), (ordered, "here"))[: 1 + here]
    return BoardsOrdered(
        how, _count(raw, "boards", name, 0, 100_000), Money(total, currency), ordered, ships, expected, float(late),
        _count(raw, "number", name, place, 100_000), history,
    )  # fmt: skip


def _count(raw: Mapping[str, Any], field: str, name: str, usual: int, most: int) -> int:
    value = raw.get(field, usual)
    if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= most:
        raise InputError(f"{field} cannot be so", name, "A whole number from 1 on")
    return value


def _history(raw: object, name: str) -> tuple[Happened, ...]:
    if not isinstance(raw, list) or len(raw) > MOST_STEPS:
        raise InputError("history is no list of steps", name, 'Such as history = ["2026-12-02 ordered"]')
    found = []
    for word in raw:
        day_text, _, step = str(word).partition(" ")
        day = read_date(day_text, f"{name}, history")
        if day is None or step not in STEPS:
            hint = f"A day, then one of {', '.join(STEPS)}"
            raise InputError(f"“{shorten(str(word))}” is no step of an order", f"{name}, history", hint)
        found.append((day, step))
    return tuple(found)
