"""Parts of a project: its drawers, its suppliers, the purchase, orders that were placed, and what has come."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, rounded
from zesty_trace.core.ordering.parts.building import Buildable, buildable
from zesty_trace.core.ordering.parts.buying import GOALS, Goal, Purchase, buy
from zesty_trace.core.ordering.parts.headers import Cutting, cut, cuttings, form_of, remaining
from zesty_trace.core.ordering.parts.labels import labels_of, labels_pdf
from zesty_trace.core.ordering.parts.need import LOSSES, Loss, Need, batch_of, losses_csv, needs, read_losses
from zesty_trace.core.ordering.parts.placed import (
    Came,
    Line,
    freight_of,
    freight_to,
    missing,
    on_the_way,
    order_csv,
    order_lines,
    order_name,
    read_order,
    receive,
)
from zesty_trace.core.ordering.parts.programme import Market
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, read_stock, stock_csv
from zesty_trace.core.ordering.parts.suppliers import Supplier, check_numbers, read_offers, read_supplier
from zesty_trace.core.ordering.parts.waiting import Alternate, Waiting, alternates, short_pieces, waiting
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.errors import InputError
from zesty_trace.files import changing, exists_inside, names_inside, read_inside, remove_inside, text_of, write_inside
from zesty_trace.journey.hours import load_own, wanted_by
from zesty_trace.journey.ordering import load_rates

MOST_LACKS, MOST_ODD = 5, 8
STOCK, LOSSES_FILE, SUPPLIERS, ORDERS = "stock.csv", "losses.csv", "suppliers", "orders"


def load_stock(project: Path) -> list[Drawer]:
    """Return the drawers of a project; none where it has no table. InputError for one that cannot be read."""
    if not exists_inside(project, STOCK):
        return []
    return read_stock(text_of(read_inside(project, STOCK, "table"), STOCK), STOCK)


def keep_stock(project: Path, drawers: Sequence[Drawer]) -> None:
    """Write the drawers of a project. StoreError."""
    with changing(project):
        write_inside(project, STOCK, stock_csv(drawers).encode())


def change_stock(project: Path, change: Callable[[list[Drawer]], list[Drawer]]) -> list[Drawer]:
    """Change the drawers as they are now, under the lock of the tables; return them. InputError, StoreError."""
    with changing(project):
        drawers = change(load_stock(project))
        keep_stock(project, drawers)
    return drawers


def check_sort(wired: Wired, sort: Sort) -> Sort:
    """Return a sort of part that the catalogue knows by kind, value and package, or a strip. InputError for another."""
    if form_of(sort) is not None:
        return sort
    kind = wired.catalogue.kind(sort.kind)
    if sort.value and (wrong := value_problem(kind, sort.value)):
        raise InputError(f"{sort.kind}: {wrong[0]}", sort.kind, wrong[1])
    if sort.package:
        wired.catalogue.package(sort.package)
    return sort


def unknown_sorts(wired: Wired, sorts: Iterable[tuple[str, Sort]]) -> dict[str, InputError]:
    """Return what is wrong with those (where they stand, what they are) that the catalogue does not know."""
    seen: dict[Sort, InputError | None] = {}
    found = {}
    for where, sort in sorts:
        if sort not in seen:
            try:
                check_sort(wired, sort)
                seen[sort] = None
            except InputError as error:
                seen[sort] = error
        if (wrong := seen[sort]) is not None:
            found[where] = InputError(wrong.message, where, wrong.hint)
    return found


def load_losses(project: Path) -> tuple[Loss, ...]:
    """Return the losses that a project counts with. InputError for a table that cannot be read."""
    if not exists_inside(project, LOSSES_FILE):
        return LOSSES
    return read_losses(text_of(read_inside(project, LOSSES_FILE, "table"), LOSSES_FILE), LOSSES_FILE)


def keep_losses(project: Path, losses: Sequence[Loss], shown: Sequence[Loss] | None = None) -> None:
    """Write the own losses of a project: those that are counted before the usual ones.

    InputError if they are not those any more that were `shown` when they were changed; StoreError.
    """
    with changing(project):
        if shown is not None and tuple(shown) != load_losses(project):
            raise InputError(f"{LOSSES_FILE} was changed meanwhile", LOSSES_FILE, "Look at it again, then change it")
        write_inside(project, LOSSES_FILE, losses_csv(losses).encode())


def load_suppliers(project: Path) -> tuple[list[Supplier], list[InputError]]:
    """Return the suppliers of a project, and what is wrong with files that cannot be read.

    `suppliers/NAME.toml` is a supplier; its offers stand in it, or in a table `NAME.csv` beside it.
    """
    found: list[Supplier] = []
    wrong: list[InputError] = []
    tables = set(names_inside(project, SUPPLIERS, ".csv"))
    for name in names_inside(project, SUPPLIERS, ".toml"):
        try:
            supplier = read_supplier(text_of(read_inside(project, f"{SUPPLIERS}/{name}", "table"), name), name)
            table = f"{Path(name).stem}.csv"
            if table in tables:
                more = read_offers(text_of(read_inside(project, f"{SUPPLIERS}/{table}", "table"), table), table)
                supplier = replace(supplier, offers=(*supplier.offers, *more))
                check_numbers(supplier.offers, table)
            if any(s.name.casefold() == supplier.name.casefold() for s in found):
                raise InputError(f"There are two suppliers called {supplier.name}", name, "Give one another name")
            found.append(supplier)
        except InputError as error:
            wrong.append(error)
        tables.discard(f"{Path(name).stem}.csv")
    hint = "A supplier needs its name and freight: write them into a TOML file of the same name"
    wrong += [InputError("There is no supplier of this table", table, hint) for table in sorted(tables)]
    return found, wrong


def known_suppliers(wired: Wired, project: Path) -> tuple[list[Supplier], list[InputError]]:
    """Return the suppliers with what the catalogue knows of their offers, and what is wrong with files and offers."""
    suppliers, wrong = load_suppliers(project)
    odd = unknown_sorts(wired, ((f"{s.name}, {o.number}", o.sort) for s in suppliers for o in s.offers))
    good = [replace(s, offers=tuple(o for o in s.offers if f"{s.name}, {o.number}" not in odd)) for s in suppliers]
    return good, [*wrong, *_first_of(odd, "offers")]


def unknown_drawers(wired: Wired, project: Path) -> list[InputError]:
    """Return what is wrong with the drawers of a project whose parts the catalogue does not know. InputError."""
    drawers = load_stock(project)
    return _first_of(unknown_sorts(wired, ((f"{STOCK}, row {k}", d.sort) for k, d in enumerate(drawers, 1))), "rows")


def _first_of(odd: dict[str, InputError], what: str) -> list[InputError]:
    """Return the first of many errors, and how many more there are."""
    found = list(odd.values())
    if len(found) <= MOST_ODD:
        return found
    more = len(found) - MOST_ODD
    return [
        *found[:MOST_ODD],
        InputError(f"{more} more {what} are not known either", found[MOST_ODD].where, "As above"),
    ]


def coming_to(project: Path) -> list[Drawer]:
    """Return what is on the way: the lines of all orders that were not unpacked. InputError."""
    return [d for name in orders(project) for d in on_the_way(load_order(project, name), name)]


def expected(project: Path) -> dict[str, date | None]:
    """Return the orders of which something is on the way, and when it should be here. InputError."""
    found: dict[str, date | None] = {}
    for name in orders(project):
        lines = [x for x in load_order(project, name) if x.coming]
        if lines:
            found[name] = max((x.expected for x in lines if x.expected is not None), default=None)
    return found


def _counted(wired: Wired, project: Path, ignore_orders: bool = False) -> tuple[list[Need], list[Drawer], list[Drawer]]:
    """Return the needs, and what no need takes of the drawers and of what is on the way."""
    spare = wired.design.build.spare_boards
    drawers = load_stock(project)
    coming = [] if ignore_orders else coming_to(project)
    found = needs(wired, batch_of(wired), spare, drawers, load_losses(project), coming)
    return found, remaining(drawers, found), remaining(coming, found)


def market_of(
    wired: Wired, project: Path, today: date, by: date | None = None, ignore_orders: bool = False
) -> tuple[Market, list[InputError]]:
    """Return what is needed and who sells it, by the day on which work must begin unless another is given."""
    suppliers, wrong = known_suppliers(wired, project)
    wrong += unknown_drawers(wired, project)
    day = by if by is not None else wanted_by(wired, project, today)
    wanted, left, coming = _counted(wired, project, ignore_orders)
    found = Market(tuple(wanted), tuple(suppliers), today, day, load_rates(project))
    try:
        cut = cuttings(wanted, [*left, *coming], [o.sort for s in suppliers for o in s.offers])
    except InputError as error:  # then headers are bought as they are sold
        cut, wrong = [], [*wrong, error]
    return replace(found, cut=tuple(cut), line_cost=load_own(project).order_line_eur), wrong


def side_by_side(market: Market, report: Report = quiet) -> dict[Goal, Purchase]:
    """Return the best purchase by each goal. Cancelled."""
    found: dict[Goal, Purchase] = {}
    for k, goal in enumerate(GOALS):

        def part(share: float, words: str, done: int = k, which: str = goal) -> bool:
            return report((done + share) / len(GOALS), f"{which}: {words}")

        found[goal] = buy(market, goal, part)
    return found


@dataclass(frozen=True)
class Shortage:
    """What a purchase leaves: which boards can be built, and what else there is for each part that is short."""

    waiting: Waiting
    others: tuple[tuple[Need, tuple[Alternate, ...]], ...]


def shortage_of(wired: Wired, project: Path, market: Market, plan: Purchase) -> Shortage:
    """Return which boards can be built with what a purchase brings, and what else there is. InputError."""
    drawers = load_stock(project) if plan.short else []
    built = waiting(batch_of(wired), market.needs, short_pieces(plan.short, market.cut))
    return Shortage(built, tuple((need, tuple(alternates(market, need, drawers))) for need, _ in plan.short))


def place_orders(plan: Purchase, project: Path, day: date) -> list[str]:
    """Write an order for each supplier of a plan into the project, beside those of the day; return the file names.

    StoreError.
    """
    with changing(project):
        return _place(plan, project, day)


def _place(plan: Purchase, project: Path, day: date) -> list[str]:
    taken = set(orders(project))
    written = {}
    for supplier in dict.fromkeys(b.supplier for b in plan.lines):
        first = order_name(supplier, day)
        names = (first, *(f"{Path(first).stem}-{k}.csv" for k in range(2, 1000)))
        name = next(n for n in names if n not in taken)
        taken.add(name)
        written[name] = order_csv(order_lines(plan, supplier), freight_to(plan, supplier))
    for name, text in written.items():
        write_inside(project, f"{ORDERS}/{name}", text.encode())
    return list(written)


def withdraw(project: Path, name: str) -> None:
    """Take back an order of which nothing has come. InputError, StoreError."""
    with changing(project):
        if any(x.unpacked for x in load_order(project, name)):
            raise InputError(f"Of {name} something has come already", name, "Unpack the rest of it instead")
        remove_inside(project, f"{ORDERS}/{name}")


def orders(project: Path) -> list[str]:
    """Return the names of the orders of a project."""
    return names_inside(project, ORDERS, ".csv")


def load_order(project: Path, name: str) -> list[Line]:
    """Return the lines of an order. InputError."""
    return read_order(_order_text(project, name), name)


def _order_text(project: Path, name: str) -> str:
    return text_of(read_inside(project, f"{ORDERS}/{name}", "table"), name)


def spent_on_orders(project: Path) -> tuple[Decimal, list[str]]:
    """Return what the orders of a project cost, and of which the freight is not known. InputError."""
    total, unknown = Decimal(0), []
    for name in orders(project):
        text = _order_text(project, name)
        freight = freight_of(text)
        sums = (rounded(Money(x.price * x.count, BUDGET_CURRENCY)).amount for x in read_order(text, name))
        total += sum(sums, freight or Decimal(0))
        unknown += [name] if freight is None else []
    return total, unknown


def unpack(project: Path, name: str, came: Sequence[Came], more: bool = False) -> list[Line]:
    """Note what came of an order and put it into the drawers; return the order as it stands.

    InputError for more than was ordered, unless `more` says that it came; StoreError.
    """
    with changing(project):
        lines, drawers = receive(load_order(project, name), load_stock(project), came, more)
        text = order_csv(lines, freight_of(_order_text(project, name)))
        keep_stock(project, drawers)
        write_inside(project, f"{ORDERS}/{name}", text.encode())
    return lines


def unpack_all(project: Path, name: str, came: Sequence[Came], place: str = "", more: bool = False) -> list[Line]:
    """Note that what is named came of an order, and all other lines whole. InputError, StoreError."""
    with changing(project):
        told = {c.line for c in came}
        rest = [Came(k, x.coming, place=place) for k, x in missing(load_order(project, name)) if k not in told]
        return unpack(project, name, [*came, *(c for c in rest if c.count)], more)


def cuttings_of(wired: Wired, project: Path) -> list[Cutting]:
    """Return how the headers and sockets that are still wanted are cut, from what is in the drawers first.

    Pieces that are on the way are not cut; strips that are on the way have to come first.
    """
    suppliers, _ = known_suppliers(wired, project)
    wanted, drawers, _ = _counted(wired, project)
    return cuttings(wanted, drawers, [o.sort for s in suppliers for o in s.offers])


def cut_now(wired: Wired, project: Path, place: str = "") -> list[Cutting]:
    """Cut what is wanted from the strips that are there: pieces and leftovers go into the drawers. Return what was cut.

    InputError if strips must come first; StoreError.
    """
    with changing(project):
        found = cuttings_of(wired, project)
        if found:
            keep_stock(project, cut(load_stock(project), found, place))
    return found


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
        if not b.boards and len(b.lacks) > MOST_LACKS:
            said.append(f"no board{name}, {len(b.lacks)} sorts of parts are not here")
            continue
        lacks = ", ".join(f"{count} x {sort}" for sort, count, _ in b.lacks[:3])
        more = f" and {len(b.lacks) - 3} more" if len(b.lacks) > 3 else ""
        said.append(f"{say_count(b.boards, 'board')}{name}" + (f"; the next lacks {lacks}{more}" if b.lacks else ""))
    return f"Can be built now: {' · '.join(said)}" if said else ""
