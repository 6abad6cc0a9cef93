"""An order that was placed with a supplier, line by line, and what of it has come."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.parts.buying import Purchase
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort, stands_in
from zesty_trace.core.ordering.parts.stock import Drawer, put
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, shorten, slug

COLUMNS = (
    "line", "number", "kind", "value", "package", "count", "price", "for", "expected", "received", "came_as", "note",
    "unpacked", "unfit",
)  # fmt: skip


@dataclass(frozen=True)
class Line:
    """One line of an order: what was ordered, for which references, and what has come; `came_as` is a substitute.

    A line that was unpacked is not on the way any more: what is short of it has to be bought again. Of what was
    received, `unfit` pieces are another part that does not stand in for it.
    """

    number: str
    sort: Sort
    count: int
    price: Decimal
    refs: str
    received: int = 0
    came_as: str = ""
    note: str = ""
    unpacked: bool = False
    expected: date | None = None
    unfit: int = 0

    @property
    def short(self) -> int:
        """How many have not come, or came as something that does not do."""
        return max(0, self.count - self.received + self.unfit)

    @property
    def coming(self) -> int:
        """How many are on the way."""
        return 0 if self.unpacked else self.short


def freight_to(plan: Purchase, supplier: str) -> Decimal:
    """Return what the parcels of a supplier cost in a plan."""
    return sum((p.cost.amount for p in plan.parcels if p.supplier == supplier), Decimal(0))


def order_name(supplier: str, day: date) -> str:
    """Return the file name of an order."""
    return f"{day.isoformat()}-{slug(supplier, 'supplier')}.csv"


def order_lines(plan: Purchase, supplier: str) -> list[Line]:
    """Return the lines of a plan that go to one supplier."""
    here = max((p.arrives for p in plan.parcels if p.supplier == supplier), default=None)
    return [
        Line(b.offer.number, b.offer.sort, b.count, b.price, " ".join(b.need.refs), expected=here)
        for b in plan.lines
        if b.supplier == supplier
    ]


def order_csv(lines: Iterable[Line], freight: Decimal | None = None) -> str:
    """Return an order as a table; reading it again gives the same lines. What the parcel costs is a remark above it."""
    rows: list[tuple[object, ...]] = [COLUMNS]
    for k, x in enumerate(lines, 1):
        s, day = x.sort, x.expected.isoformat() if x.expected else ""
        rows.append((k, x.number, s.kind, s.value, s.package, x.count, x.price, x.refs, day, x.received, x.came_as,
                     x.note, "yes" if x.unpacked else "", x.unfit or ""))  # fmt: skip
    above = f"# freight {freight:.2f} {BUDGET_CURRENCY}\n" if freight is not None else ""
    return above + csv_text(rows)


def freight_of(text: str) -> Decimal | None:
    """Return what the parcel of an order costs; None where the table does not say."""
    match = re.match(rf"\ufeff?# freight (\d{{1,7}}\.\d\d) {BUDGET_CURRENCY}\s", text)
    return Decimal(match[1]) if match else None


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
                _yes(row.get("unpacked", ""), where) or int(row.get("received") or 0) > 0,
                read_date(row.get("expected", ""), where),
                whole(row.get("unfit", ""), where, "unfit", default=0),
            )
        )
        if found[-1].unfit > found[-1].received:
            raise InputError("More is unfit than was received", where, "unfit is a part of received")
    return found


def _yes(cell: str, where: str) -> bool:
    if cell.casefold() not in ("", "no", "yes"):
        raise InputError(f"unpacked: “{shorten(cell)}” is neither yes nor no", where, "Write yes, or leave it empty")
    return cell.casefold() == "yes"


@dataclass(frozen=True)
class Came:
    """What came of a line of an order: how many, as what if it is something else, and where it is put."""

    line: int
    count: int
    instead: Sort | None = None
    place: str = ""
    note: str = ""


def receive(
    lines: Sequence[Line], drawers: Sequence[Drawer], came: Sequence[Came], more: bool = False
) -> tuple[list[Line], list[Drawer]]:
    """Return the order and the drawers after a parcel was unpacked.

    InputError for a line that is not there, and for more pieces than were ordered unless `more` came.
    """
    left, filled = list(lines), list(drawers)
    for c in came:
        if not 1 <= c.line <= len(left):
            raise InputError(f"There is no line {c.line}", "receive", f"The order has {len(left)} lines")
        if c.count < 0:
            raise InputError(f"{c.count} pieces cannot come", f"line {c.line}", "Write 0 or more")
        line = left[c.line - 1]
        if line.received + c.count > line.count and not more:
            before = f"{line.received} came before; with {c.count} more it is" if line.received else "It is"
            hint = "Count again; if more came than was ordered, say so (--more)"
            said = f"{before} {line.received + c.count}, but {line.count} were ordered"
            raise InputError(said, f"line {c.line}, {line.sort}", hint)
        sort = c.instead or line.sort
        said = str(sort) if c.instead is not None and c.instead.key != line.sort.key else line.came_as
        note = "; ".join(w for w in (line.note, c.note) if w)
        unfit = line.unfit + (c.count if stands_in(sort, line.sort) is None else 0)
        received = line.received + c.count
        left[c.line - 1] = replace(line, received=received, came_as=said, note=note, unpacked=True, unfit=unfit)
        if c.count:
            filled = put(filled, sort, c.count, c.place)
    return left, filled


def unfit_words(line: Line) -> str:
    """Return that pieces of a line came as a part that does not stand in for what was ordered; "" if none did."""
    if not line.unfit:
        return ""
    return (
        f"{line.unfit} came as {line.came_as or 'another part'}, which does not stand in for {line.sort}: they are in "
        "the drawers as what they are, and the line is still short"
    )


def missing(lines: Iterable[Line]) -> list[tuple[int, Line]]:
    """Return the lines of which something has not come, with their numbers."""
    return [(k, x) for k, x in enumerate(lines, 1) if x.short]


def on_the_way(lines: Iterable[Line], name: str) -> list[Drawer]:
    """Return what of an order has not come, as drawers that will be filled."""
    return [Drawer(x.sort, x.coming, name) for x in lines if x.coming]
