"""An order that was placed with a supplier, line by line, and what of it has come."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from zesty_trace.core.ordering.parts.buying import Purchase
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, put
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, slug

COLUMNS = ("line", "number", "kind", "value", "package", "count", "price", "for", "received", "came_as", "note")


@dataclass(frozen=True)
class Line:
    """One line of an order: what was ordered, for which references, and what has come; `came_as` is a substitute."""

    number: str
    sort: Sort
    count: int
    price: Decimal
    refs: str
    received: int = 0
    came_as: str = ""
    note: str = ""

    @property
    def short(self) -> int:
        """How many have not come."""
        return max(0, self.count - self.received)


def order_name(supplier: str, day: date) -> str:
    """Return the file name of an order."""
    return f"{day.isoformat()}-{slug(supplier, 'supplier')}.csv"


def order_lines(plan: Purchase, supplier: str) -> list[Line]:
    """Return the lines of a plan that go to one supplier."""
    return [
        Line(b.offer.number, b.offer.sort, b.count, b.price, " ".join(b.need.refs))
        for b in plan.lines
        if b.supplier == supplier
    ]


def order_csv(lines: Iterable[Line]) -> str:
    """Return an order as a table; reading it again gives the same lines."""
    rows: list[tuple[object, ...]] = [COLUMNS]
    for k, x in enumerate(lines, 1):
        s = x.sort
        rows.append((k, x.number, s.kind, s.value, s.package, x.count, x.price, x.refs, x.received, x.came_as, x.note))
    return csv_text(rows)


def read_order(text: str, name: str) -> list[Line]:
    """Return the lines of an order. InputError with the line of what is wrong."""
    found = []
    for line, row in read_sheet(text, name, ("number", "kind", "count"), COLUMNS):
        where = f"{name} line {line}"
        found.append(
            Line(
                row["number"],
                Sort(row["kind"], row.get("value", ""), row.get("package", "")),
                whole(row["count"], where, "count", 1),
                amount(row.get("price") or "0", where, "price"),
                row.get("for", ""),
                whole(row.get("received", ""), where, "received", default=0),
                row.get("came_as", ""),
                row.get("note", ""),
            )
        )
    return found


@dataclass(frozen=True)
class Came:
    """What came of a line of an order: how many, as what if it is something else, and where it is put."""

    line: int
    count: int
    instead: Sort | None = None
    place: str = ""
    note: str = ""


def receive(lines: Sequence[Line], drawers: Sequence[Drawer], came: Sequence[Came]) -> tuple[list[Line], list[Drawer]]:
    """Return the order and the drawers after a parcel was unpacked. InputError for a line that is not there."""
    left, filled = list(lines), list(drawers)
    for c in came:
        if not 1 <= c.line <= len(left):
            raise InputError(f"There is no line {c.line}", "receive", f"The order has {len(left)} lines")
        if c.count < 0:
            raise InputError(f"{c.count} pieces cannot come", f"line {c.line}", "Write 0 or more")
        line = left[c.line - 1]
        sort = c.instead or line.sort
        said = str(sort) if c.instead is not None and c.instead.key != line.sort.key else line.came_as
        note = "; ".join(w for w in (line.note, c.note) if w)
        left[c.line - 1] = replace(line, received=line.received + c.count, came_as=said, note=note)
        if c.count:
            filled = put(filled, sort, c.count, c.place)
    return left, filled


def missing(lines: Iterable[Line]) -> list[tuple[int, Line]]:
    """Return the lines of which something has not come, with their numbers."""
    return [(k, x) for k, x in enumerate(lines, 1) if x.short]
