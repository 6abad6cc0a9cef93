"""What is in the drawers: a table of parts with counts and places."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from zesty_trace.core.ordering.parts.sheets import read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort, stands_in
from zesty_trace.errors import InputError
from zesty_trace.names import check_text, csv_text

COLUMNS = ("kind", "value", "package", "count", "place", "note")


@dataclass(frozen=True)
class Drawer:
    """Some parts of one sort in one place."""

    sort: Sort
    count: int
    place: str = ""
    note: str = ""


def read_stock(text: str, name: str) -> list[Drawer]:
    """Return what a table of drawers holds. InputError with the line of what is wrong."""
    found = []
    for line, row in read_sheet(text, name, ("kind", "count"), COLUMNS):
        where = f"{name} line {line}"
        if not row["kind"]:
            raise InputError("The kind is left empty", where, "Write a kind of the catalogue, such as resistor")
        for cell in row.values():
            check_text(cell, where, 400)
        sort = Sort(row["kind"], row.get("value", ""), row.get("package", ""))
        found.append(Drawer(sort, whole(row["count"], where, "count"), row.get("place", ""), row.get("note", "")))
    return found


def stock_csv(drawers: Iterable[Drawer]) -> str:
    """Return the table; reading it again gives the same drawers."""
    rows: list[tuple[object, ...]] = [COLUMNS]
    rows += [(d.sort.kind, d.sort.value, d.sort.package, d.count, d.place, d.note) for d in drawers]
    return csv_text(rows)


def there(drawers: Iterable[Drawer], sort: Sort, exact: bool = False) -> list[Drawer]:
    """Return the drawers with parts of a sort, or that may stand in for it; the same ones first."""
    fitting = [(stands_in(d.sort, sort, exact), d) for d in drawers if d.count > 0]
    return [d for how, d in sorted(((h, d) for h, d in fitting if h is not None), key=lambda x: x[0] != "")]


def put(drawers: list[Drawer], sort: Sort, count: int, place: str = "", note: str = "") -> list[Drawer]:
    """Return the drawers with parts added, to a drawer of the sort if there is one; a negative count takes out.

    InputError if there are fewer than are taken.
    """
    left = count
    found = list(drawers)
    for k, drawer in enumerate(found):
        if drawer.sort.key == sort.key and left and (left < 0 or not place or drawer.place == place):
            change = left if left > 0 else -min(-left, drawer.count)
            found[k] = replace(drawer, count=drawer.count + change)
            left -= change
    if left < 0:
        raise InputError(f"{-left} {sort} are not there", "stock", "Take fewer, or count the drawer again")
    return [*found, Drawer(sort, left, place, note)] if left else found
