"""Commands about parts: drawers, purchases, orders that have come, strips that are cut."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import BAD, FINE, FOUND, Answer, edit, load
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.buying import Purchase
    from zesty_trace.core.ordering.parts.strips import CutList


def stock_command(a: argparse.Namespace) -> Answer:
    """Show what is in the drawers, take a table in, or put parts in and out."""
    from zesty_trace.core.ordering.parts.sheets import whole
    from zesty_trace.core.ordering.parts.sorts import Sort
    from zesty_trace.core.ordering.parts.stock import put, read_stock
    from zesty_trace.core.tables.encoding import table_text
    from zesty_trace.files import read_given
    from zesty_trace.journey.buying import keep_stock, load_stock

    wired, folder = load(a.project)
    drawers = load_stock(folder)
    if a.table:
        drawers = read_stock(table_text(read_given(Path(a.table), "table"), a.table), a.table)
    for words in a.put or ():
        kind, value, package, count = (*words, "")[:4]
        wired.catalogue.kind(kind)
        drawers = put(drawers, Sort(kind, value, package), whole(count, "--put", "count", -1_000_000), a.place)
    if a.table or a.put:
        keep_stock(folder, drawers)
    data = [
        {"kind": d.sort.kind, "value": d.sort.value, "package": d.sort.package, "count": d.count, "place": d.place}
        for d in drawers
    ]
    lines = [f"{d.count:6} {d.sort}" + (f"  ({d.place})" if d.place else "") for d in drawers]
    return FINE, data, "\n".join(lines) or "The drawers are empty: give a table with --import, or --put parts in."


def buy_command(a: argparse.Namespace) -> Answer:
    """Plan the purchase of parts."""
    from zesty_trace.core.design import edits
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.core.ordering.parts.need import read_batch
    from zesty_trace.journey.buying import market_of, place_orders, purchase

    if a.batch:
        batch = read_batch(a.batch)
        edit(a.project, lambda w: edits.set_build(w.design, batch=batch))
    wired, folder = load(a.project)
    today = read_date(a.today or "", "--today") or date.today()
    market, wrong = market_of(wired, folder, today, read_date(a.by or "", "--by"))
    if not market.suppliers:
        hint = "Put a supplier's TOML into the project's suppliers folder (docs/parts.md)"
        raise wrong[0] if wrong else InputError("No supplier of parts is known", "suppliers", hint)
    plan = purchase(market, a.goal)
    written = place_orders(plan, folder, today) if a.place else []
    left_out = [*map(str, wrong), *plan.left_out]
    data = {
        "wanted_by": market.by.isoformat() if market.by else None,
        "needs": _needs(market),
        **_plan(plan),
        "orders": written,
        "left_out": left_out,
    }
    day = [f"All must be here by {market.by:%a %d %b}: then the work begins."] if market.by else []
    lines = [*day, *_plan_lines(plan)]
    lines += [f"Left out: {e}" for e in left_out]
    lines += [f"Wrote orders/{name}" for name in written]
    return (FOUND if plan.short or wrong else FINE), data, "\n".join(lines)


def _needs(market: Any) -> list[dict[str, Any]]:
    return [
        {"kind": n.sort.kind, "value": n.sort.value, "package": n.sort.package, "fitted": n.fitted, "spare": n.spare,
         "loss": n.loss, "stocked": n.stocked, "buy": n.buy, "refs": n.refs}
        for n in market.needs
    ]  # fmt: skip


def _plan(plan: Purchase) -> dict[str, Any]:
    return {
        "goal": plan.goal,
        "total": str(plan.total.amount),
        "currency": plan.total.currency,
        "arrives": plan.arrives.isoformat() if plan.arrives else None,
        "gap": plan.gap,
        "lines": [
            {
                "supplier": b.supplier,
                "number": b.offer.number,
                "part": str(b.need.sort),
                "count": b.count,
                "price": str(b.price),
                "total": str(b.total.amount),
                "instead": b.instead,
                "why": b.why,
            }
            for b in plan.lines
        ],
        "parcels": [
            {"supplier": s.supplier, "by": s.parcel, "cost": str(s.cost.amount), "arrives": s.arrives.isoformat()}
            for s in plan.parcels
        ],
        "short": [{"part": str(n.sort), "count": c, "refs": n.refs} for n, c in plan.short],
    }


def _plan_lines(plan: Purchase) -> list[str]:
    lines = []
    for sent in plan.parcels:
        lines.append(
            f"{sent.supplier} by {sent.parcel}, here {sent.arrives:%a %d %b}: goods {sent.goods}, freight {sent.cost}"
        )
        for b in plan.lines:
            if b.supplier == sent.supplier:
                why = f"  ({b.why})" if b.why else ""
                lines.append(f"  {b.count:5} x {b.need.sort}, {b.offer.number}: {b.total}{why}")
    for need, count in plan.short:
        lines.append(f"SHORT {count} x {need.sort} for {' '.join(need.refs)}: nobody can send it in time")
    if plan.lines:
        lines.append(f"In all {plan.total}, {plan.goal}: {plan.how_good}")
    else:
        lines.append("Nothing can be had in time." if plan.short else "Nothing needs to be bought.")
    return lines


def receive_command(a: argparse.Namespace) -> Answer:
    """Note what came of an order, and put it into the drawers."""
    from zesty_trace.core.ordering.parts.placed import missing
    from zesty_trace.files import write_given
    from zesty_trace.journey.buying import buildable_now, load_order, order_labels, orders, say_buildable, unpack

    wired, folder = load(a.project)
    if not a.order:
        found = {name: len(missing(load_order(folder, name))) for name in orders(folder)}
        text = (
            "\n".join(f"{n}: {c} lines have not come whole" for n, c in found.items())
            or "No orders yet: zt buy --place"
        )
        return FINE, found, text
    came = [_came(w, a.where) for w in a.lines]
    if a.all:
        known = load_order(folder, a.order)
        told = {c.line for c in came}
        came += [_came(f"{k}={x.short}", a.where) for k, x in missing(known) if k not in told]
    lines = unpack(folder, a.order, came) if came else load_order(folder, a.order)
    left = missing(lines)
    if a.labels:
        write_given(Path(a.labels), order_labels(wired, folder, a.order))
    able = buildable_now(wired, folder)
    data = {
        "order": a.order,
        "labels": a.labels,
        "buildable": {b.variant: b.boards for b in able},
        "lines": [
            {"line": k, "part": str(x.sort), "ordered": x.count, "received": x.received, "came_as": x.came_as}
            for k, x in enumerate(lines, 1)
        ],
        "short": [{"line": k, "part": str(x.sort), "count": x.short, "refs": x.refs} for k, x in left],
    }
    said = []
    for k, x in enumerate(lines, 1):
        other = f", came as {x.came_as}" if x.came_as else ""
        said.append(f"{k:3} {x.received} of {x.count} x {x.sort}{other}")
    said += [f"Still to come: {x.short} x {x.sort} for {x.refs}" for _, x in left]
    said += [w for w in [say_buildable(able)] if w]
    return (FOUND if left else FINE), data, "\n".join(said)


def _came(word: str, place: str) -> Any:
    """Return what `3=18` or `3=18,resistor:12k:R0603` says."""
    from zesty_trace.core.ordering.parts.placed import Came
    from zesty_trace.core.ordering.parts.sheets import whole
    from zesty_trace.core.ordering.parts.sorts import Sort

    line, equals, rest = word.partition("=")
    count, _, instead = rest.partition(",")
    if not equals:
        raise InputError(f"“{word}” is not understood", word, "Write LINE=COUNT, or LINE=COUNT,KIND:VALUE:PACKAGE")
    kind, value, package = (*instead.split(":"), "", "", "")[:3]
    sort = Sort(kind, value, package) if kind else None
    return Came(whole(line, word, "line", 1), whole(count, word, "count"), sort, place)


def cut_command(a: argparse.Namespace) -> Answer:
    """Say how header and socket strips are cut."""
    from zesty_trace.core.ordering.parts.strips import Strip, cut_strips
    from zesty_trace.journey.buying import needs_of, strips_of

    if a.pieces:
        wanted: dict[int, int] = {}
        for word in a.pieces:
            size, _, count = word.lower().partition("x")
            if not size.isdigit() or not (count or "1").isdigit():
                raise InputError(f"“{word}” is no piece", word, "Write positions x pieces, such as 6x4")
            wanted[int(size)] = wanted.get(int(size), 0) + int(count or 1)
        there = [Strip(n, 1, bought=False) for n in a.left or ()]
        found = {f"strip of {a.strip}": cut_strips(wanted, [*there, Strip(a.strip)], a.lost)}
    else:
        if not a.project:
            raise InputError("Neither a project nor pieces are named", "cut", "Write zt cut PROJECT, or --pieces 6x4")
        wired, folder = load(a.project)
        found = strips_of(needs_of(wired, folder))
    data = {name: _cuts(c) for name, c in found.items()}
    lines = []
    for name, c in found.items():
        how = "no fewer would do" if c.best else f"at least {c.bound} are needed"
        lines.append(f"{name}: {c.bought} to buy, {how}")
        for cut in c.cuts:
            pieces = " + ".join(map(str, cut.pieces))
            lines.append(
                f"  {cut.length}: {pieces}, {cut.left} left" + (f", {cut.lost} lost to cuts" if cut.lost else "")
            )
    status = BAD if any(not c.best for c in found.values()) else FINE
    return status, data, "\n".join(lines) or "No headers or sockets are to be bought."


def _cuts(c: CutList) -> dict[str, Any]:
    return {
        "bought": c.bought,
        "bound": c.bound,
        "best": c.best,
        "cuts": [{"length": x.length, "pieces": x.pieces, "left": x.left, "lost": x.lost} for x in c.cuts],
        "leftovers": c.leftovers,
    }


def add_commands(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands about parts that are bought."""
    add(
        "stock",
        stock_command,
        "what is in the drawers",
        project,
        ("--import", {"dest": "table", "metavar": "CSV", "help": "kind, value, package, count, place, note"}),
        (
            "--put",
            {
                "nargs": 4,
                "action": "append",
                "metavar": ("KIND", "VALUE", "PACKAGE", "N"),
                "help": "in, or out below 0",
            },
        ),
        ("--place", {"default": "", "help": "the drawer that parts are put into"}),
    )
    add(
        "buy",
        buy_command,
        "the purchase of parts that costs least, comes soonest or in the fewest parcels",
        project,
        ("--goal", {"choices": ["cheapest", "soonest", "fewest parcels"], "default": "cheapest"}),
        ("--by", {"metavar": "DATE", "help": "when all must be here (default: the brief's day)"}),
        ("--batch", {"nargs": "+", "metavar": "VARIANT=N", "help": "boards of each variant; kept in the project"}),
        ("--today", {"metavar": "DATE", "help": "the day of the order, year-month-day"}),
        ("--place", {"action": "store_true", "help": "write an order for each supplier into the project"}),
    )
    add(
        "receive",
        receive_command,
        "what came of an order; it goes into the drawers",
        project,
        ("order", {"nargs": "?", "help": "the order's file name; all orders without it"}),
        ("lines", {"nargs": "*", "metavar": "LINE=COUNT[,KIND:VALUE:PACKAGE]", "help": "what came, and as what"}),
        ("--all", {"action": "store_true", "help": "all other lines came whole"}),
        ("--labels", {"metavar": "PDF", "help": "write labels for the bags of the order"}),
        ("--where", {"default": "", "metavar": "PLACE", "help": "the drawer that it is put into"}),
    )
    add(
        "cut",
        cut_command,
        "how header and socket strips are cut with the fewest strips",
        ("project", {"nargs": "?", "help": "the project folder"}),
        ("--pieces", {"nargs": "+", "metavar": "POSITIONSxPIECES", "help": "such as 6x4 3x10"}),
        ("--strip", {"type": int, "default": 40, "metavar": "N", "help": "positions of a stock strip"}),
        ("--lost", {"type": int, "default": 0, "metavar": "N", "help": "positions lost at each cut: sockets 1"}),
        ("--left", {"nargs": "+", "type": int, "metavar": "N", "help": "leftover strips that are there"}),
    )
