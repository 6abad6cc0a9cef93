"""Parts of a project: its drawers, its suppliers, the purchase, orders that were placed, and what has come."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.labour import jobs_of
from zesty_trace.core.ordering.maker import Own, read_maker
from zesty_trace.core.ordering.parts.building import Buildable, buildable
from zesty_trace.core.ordering.parts.buying import Goal, Market, Purchase, buy
from zesty_trace.core.ordering.parts.labels import labels_of, labels_pdf
from zesty_trace.core.ordering.parts.need import LOSSES, Loss, Need, batch_of, needs, read_losses
from zesty_trace.core.ordering.parts.placed import Came, Line, order_csv, order_lines, order_name, read_order, receive
from zesty_trace.core.ordering.parts.stock import Drawer, read_stock, stock_csv
from zesty_trace.core.ordering.parts.strips import LOST, STRIP, CutList, Strip, cut_strips
from zesty_trace.core.ordering.parts.suppliers import Supplier, read_offers, read_supplier
from zesty_trace.core.ordering.schedule import latest_start
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import InputError
from zesty_trace.files import exists_inside, names_inside, read_inside, text_of, write_inside
from zesty_trace.journey.ordering import load_rates, needed_by

HOURS = "hours.toml"
STOCK, LOSSES_FILE, SUPPLIERS, ORDERS = "stock.csv", "losses.csv", "suppliers", "orders"


def load_stock(project: Path) -> list[Drawer]:
    """Return the drawers of a project; none where it has no table. InputError for one that cannot be read."""
    if not exists_inside(project, STOCK):
        return []
    return read_stock(text_of(read_inside(project, STOCK, "table"), STOCK), STOCK)


def keep_stock(project: Path, drawers: Sequence[Drawer]) -> None:
    """Write the drawers of a project. StoreError."""
    write_inside(project, STOCK, stock_csv(drawers).encode())


def load_losses(project: Path) -> tuple[Loss, ...]:
    """Return the losses that a project counts with. InputError for a table that cannot be read."""
    if not exists_inside(project, LOSSES_FILE):
        return LOSSES
    return read_losses(text_of(read_inside(project, LOSSES_FILE, "table"), LOSSES_FILE), LOSSES_FILE)


def load_own(project: Path) -> Own:
    """Return the maker's figures of a project; usual ones where it has none. InputError."""
    if not exists_inside(project, HOURS):
        return Own()
    return read_maker(text_of(read_inside(project, HOURS, "table"), HOURS), HOURS)


def wanted_by(wired: Wired, project: Path, today: date) -> date | None:
    """Return the day by which parts must be here: that of the brief, less the days that the work itself takes."""
    needed = needed_by(wired.design)
    if needed is None:
        return None
    own = load_own(project)
    hours = sum(job.hours for job in jobs_of(wired, batch_of(wired), own.seconds))
    return max(today, latest_start(own.maker, hours, needed))


def load_suppliers(project: Path) -> tuple[list[Supplier], list[InputError]]:
    """Return the suppliers of a project, and what is wrong with files that cannot be read.

    `suppliers/NAME.toml` is a supplier; its offers stand in it, or in a table `NAME.csv` beside it.
    """
    found, wrong = [], []
    tables = set(names_inside(project, SUPPLIERS, ".csv"))
    for name in names_inside(project, SUPPLIERS, ".toml"):
        try:
            supplier = read_supplier(text_of(read_inside(project, f"{SUPPLIERS}/{name}", "table"), name), name)
            table = f"{Path(name).stem}.csv"
            if table in tables:
                more = read_offers(text_of(read_inside(project, f"{SUPPLIERS}/{table}", "table"), table), table)
                supplier = replace(supplier, offers=(*supplier.offers, *more))
            found.append(supplier)
        except InputError as error:
            wrong.append(error)
    return found, wrong


def needs_of(wired: Wired, project: Path) -> list[Need]:
    """Return what the brief's boards and their spares take, less what is in the drawers."""
    spare = wired.design.build.spare_boards
    return needs(wired, batch_of(wired), spare, load_stock(project), load_losses(project))


def market_of(wired: Wired, project: Path, today: date, by: date | None = None) -> tuple[Market, list[InputError]]:
    """Return what is needed and who sells it, by the day on which work must begin unless another is given."""
    suppliers, wrong = load_suppliers(project)
    day = by if by is not None else wanted_by(wired, project, today)
    return Market(tuple(needs_of(wired, project)), tuple(suppliers), today, day, load_rates(project)), wrong


def purchase(market: Market, goal: Goal = "cheapest", report: Report = quiet) -> Purchase:
    """Return the best purchase by a goal."""
    return buy(market, goal, report)


def place_orders(plan: Purchase, project: Path, day: date) -> list[str]:
    """Write an order for each supplier of a plan into the project; return the file names. StoreError.

    InputError if there is an order of that name with something received.
    """
    written = {}
    for supplier in dict.fromkeys(b.supplier for b in plan.lines):
        name = order_name(supplier, day)
        if exists_inside(project, f"{ORDERS}/{name}") and any(x.received for x in load_order(project, name)):
            raise InputError(f"Of {name} something has come already", name, "Order the rest on another day")
        written[name] = order_csv(order_lines(plan, supplier))
    for name, text in written.items():
        write_inside(project, f"{ORDERS}/{name}", text.encode())
    return list(written)


def orders(project: Path) -> list[str]:
    """Return the names of the orders of a project."""
    return names_inside(project, ORDERS, ".csv")


def load_order(project: Path, name: str) -> list[Line]:
    """Return the lines of an order. InputError."""
    return read_order(text_of(read_inside(project, f"{ORDERS}/{name}", "table"), name), name)


def unpack(project: Path, name: str, came: Sequence[Came]) -> list[Line]:
    """Note what came of an order and put it into the drawers; return the order as it stands. InputError, StoreError."""
    lines, drawers = receive(load_order(project, name), load_stock(project), came)
    keep_stock(project, drawers)
    write_inside(project, f"{ORDERS}/{name}", order_csv(lines).encode())
    return lines


def strips_of(wanted: Sequence[Need]) -> dict[str, CutList]:
    """Return how headers and sockets of one row or two are cut from strips: sort of strip -> cut list.

    Pieces for losses are not counted: what breaks is cut anew from what is left over.
    """
    pieces: dict[str, dict[int, int]] = {}
    for need in wanted:
        match = re.fullmatch(r"Header-(\d+)x(\d+)", need.sort.package)
        count = need.fitted + need.spare - need.stocked
        if match is None or count <= 0:
            continue
        word = "socket" if "socket" in need.sort.kind else "header"
        table = pieces.setdefault(f"{word} {match[1]}x{STRIP}", {})
        table[int(match[2])] = table.get(int(match[2]), 0) + count
    return {strip: cut_strips(table, [Strip(STRIP)], LOST[strip.split()[0]]) for strip, table in pieces.items()}


def order_labels(wired: Wired, project: Path, name: str, skip: int = 0) -> bytes:
    """Return the labels of an order as a PDF. InputError for an order that is not there."""
    titles = {kind.id: kind.title for kind in wired.catalogue.kinds.values()}
    return labels_pdf(labels_of(load_order(project, name), titles), skip)


def buildable_now(wired: Wired, project: Path) -> list[Buildable]:
    """Return how many boards of each variant of the batch can be built with what is in the drawers, each by itself."""
    drawers = load_stock(project)
    return [buildable(wired, variant, drawers, count) for variant, count in batch_of(wired).items() if count]


def say_buildable(found: Sequence[Buildable]) -> str:
    """Return in words what can be built, and what the next board lacks."""
    said = []
    for b in found:
        name = f" {b.variant}" if b.variant else ""
        lacks = ", ".join(f"{count} x {sort}" for sort, count, _ in b.lacks[:3])
        more = f" and {len(b.lacks) - 3} more" if len(b.lacks) > 3 else ""
        said.append(f"{say_count(b.boards, 'board')}{name}" + (f"; the next lacks {lacks}{more}" if b.lacks else ""))
    return f"Can be built now: {' · '.join(said)}" if said else ""
