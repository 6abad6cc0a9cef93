"""Commands about parts: drawers, purchases, orders that have come, strips that are cut."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import BAD, FINE, FOUND, Answer, edit, load
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.buying import Purchase
    from zesty_trace.core.ordering.parts.stock import Drawer
    from zesty_trace.core.ordering.parts.strips import CutList
    from zesty_trace.journey.buying import Shortage


def stock_command(a: argparse.Namespace) -> Answer:
    """Show what is in the drawers, take a table in, or put parts in and out."""
    from zesty_trace.core.ordering.parts.sheets import whole
    from zesty_trace.core.ordering.parts.sorts import Sort
    from zesty_trace.core.ordering.parts.stock import put, read_stock
    from zesty_trace.core.tables.encoding import table_text
    from zesty_trace.files import read_given
    from zesty_trace.journey.buying import change_stock, check_sort, load_stock, unknown_drawers

    wired, folder = load(a.project)
    table = read_stock(table_text(read_given(Path(a.table), "table"), a.table), a.table) if a.table else None
    for drawer in table or ():
        check_sort(wired, drawer.sort)
    moved = []
    for words in a.put or ():
        kind, value, package, count = (*words, "")[:4]
        moved.append((check_sort(wired, Sort(kind, value, package)), whole(count, "--put", "count", -1_000_000)))
    if any(not count for _, count in moved):
        raise InputError("0 pieces are neither put in nor taken out", "--put", "Write how many; below 0 takes out")

    def change(found: list[Drawer]) -> list[Drawer]:
        found = table if table is not None else found
        for sort, count in moved:
            found = put(found, sort, count, a.place)
        return found

    drawers = change_stock(folder, change) if table is not None or moved else load_stock(folder)
    data = [
        {"kind": d.sort.kind, "value": d.sort.value, "package": d.sort.package, "count": d.count, "place": d.place}
        for d in drawers
    ]
    lines = [f"{d.count:6} {d.sort}" + (f"  ({d.place})" if d.place else "") for d in drawers]
    odd = unknown_drawers(wired, folder)
    lines += [f"Not counted: {e}" for e in odd]
    text = "\n".join(lines) or "The drawers are empty: give a table with --import, or --put parts in."
    return (FOUND if odd else FINE), data, text


def buy_command(a: argparse.Namespace) -> Answer:
    """Plan the purchase of parts."""
    from zesty_trace.core.design import edits
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.core.ordering.parts.buying import buy
    from zesty_trace.core.ordering.parts.need import read_batch
    from zesty_trace.journey.buying import market_of, place_orders, shortage_of, side_by_side

    if a.batch:
        batch = read_batch(a.batch)
        edit(a.project, lambda w: edits.set_batch(w.design, batch))
    wired, folder = load(a.project)
    today = read_date(a.today or "", "--today") or date.today()
    market, wrong = market_of(wired, folder, today, read_date(a.by or "", "--by"), a.ignore_orders)
    if not market.suppliers:
        hint = "Put a supplier's TOML into the project's suppliers folder (docs/parts.md)"
        raise wrong[0] if wrong else InputError("No supplier of parts is known", "suppliers", hint)
    plans = side_by_side(market) if a.compare else {a.goal: buy(market, a.goal)}
    plan = plans[a.goal]
    written = place_orders(plan, folder, today) if a.place else []
    left_out = [*map(str, wrong), *plan.left_out]
    data = {
        "wanted_by": market.by.isoformat() if market.by else None,
        "needs": _needs(market),
        **_plan(plan),
        **_shortage(shortage_of(wired, folder, market, plan), plan),
        "orders": written,
        "left_out": left_out,
    }
    if a.compare:
        data["plans"] = [_plan(p) for p in plans.values()]
    day = [f"All must be here by {market.by:%a %d %b}: then the work begins."] if market.by else []
    coming = sum(1 for n in market.needs if n.coming)
    day += [f"On the way already: {coming} of {len(market.needs)} sorts, see zt receive."] if coming else []
    lines = [*day, *(_beside(plans) if a.compare else []), *_plan_lines(plan), *_shortage_lines(data)]
    lines += [f"Left out: {e}" for e in left_out]
    lines += [f"Wrote orders/{name}" for name in written]
    return (FOUND if plan.short or wrong or plan.late_days else FINE), data, "\n".join(lines)


def _beside(plans: Mapping[Any, Purchase]) -> list[str]:
    """Return the plans beside each other, a line each."""
    return [f"{goal.capitalize():15} {p.brief}" for goal, p in plans.items()]


def _shortage(found: Shortage, plan: Purchase) -> dict[str, Any]:
    """Return what a shortage means: which boards can be built, and what else there is for each part."""
    return {
        "built": found.waiting.built,
        "waiting": found.waiting.words if plan.short else "",
        "alternates": {
            str(need.sort): [
                {"part": str(x.sort), "where": x.where, "price": x.price, "condition": x.condition} for x in others
            ]
            for need, others in found.others
        },
    }


def _shortage_lines(data: Mapping[str, Any]) -> list[str]:
    lines = [data["waiting"]] if data["waiting"] else []
    for part, others in data["alternates"].items():
        if not others:
            lines.append(f"For {part} no part of its kind that is near it is offered")
        for x in others:
            price = f", {x['price']}" if x["price"] else ""
            lines.append(f"For {part}: {x['part']} ({x['where']}{price}): {x['condition']}")
    return lines


def _needs(market: Any) -> list[dict[str, Any]]:
    return [
        {"kind": n.sort.kind, "value": n.sort.value, "package": n.sort.package, "fitted": n.fitted, "spare": n.spare,
         "loss": n.loss, "stocked": n.stocked, "coming": n.coming, "buy": n.buy, "strip": n.strip, "refs": n.refs}
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
        "cut": [
            {"strip": str(c.strip.sort), "bought": c.strip.buy, "pieces": {str(n.sort): k for n, k in c.pieces}}
            for c in plan.cut
        ],
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
        lines.append(f"SHORT {count} x {need.sort} for {' '.join(need.refs)}: nobody can send it{plan.until}")
    if plan.lines:
        lines.append(f"In all {plan.total}, {plan.goal}: {plan.how_good}")
    else:
        lines.append(f"Nothing can be had{plan.until}." if plan.short else "Nothing needs to be bought.")
    lines += [f"{c.strip.title}: {c.words}, of what is there or on the way" for c in plan.cut if not c.strip.buy]
    return lines


def receive_command(a: argparse.Namespace) -> Answer:
    """Note what came of an order, and put it into the drawers."""
    from zesty_trace.core.ordering.parts.placed import missing, unfit_words
    from zesty_trace.files import write_given
    from zesty_trace.journey.buying import (
        buildable_now,
        check_sort,
        load_order,
        order_labels,
        orders,
        say_buildable,
        unpack,
        unpack_all,
        withdraw,
    )

    wired, folder = load(a.project)
    if not a.order:
        found = {name: len(missing(load_order(folder, name))) for name in orders(folder)}
        text = (
            "\n".join(f"{n}: {c} lines have not come whole" for n, c in found.items())
            or "No orders yet: zt buy --place"
        )
        return FINE, found, text
    if a.withdraw:
        withdraw(folder, a.order)
        return FINE, {"order": a.order, "withdrawn": True}, f"{a.order} is taken back"
    came = [_came(w, a.where) for w in a.lines]
    for c in came:
        if c.instead is not None:
            check_sort(wired, c.instead)
    if a.all:
        lines = unpack_all(folder, a.order, came, a.where, a.more)
    else:
        lines = unpack(folder, a.order, came, a.more) if came else load_order(folder, a.order)
    left = missing(lines)
    if a.labels:
        write_given(Path(a.labels), order_labels(wired, folder, a.order))
    able = buildable_now(wired, folder)
    data = {
        "order": a.order,
        "labels": a.labels,
        "buildable": {b.variant: b.boards for b in able},
        "lines": [
            {"line": k, "part": str(x.sort), "ordered": x.count, "received": x.received, "came_as": x.came_as,
             "coming": x.coming, "unfit": x.unfit}
            for k, x in enumerate(lines, 1)
        ],
        "short": [{"line": k, "part": str(x.sort), "count": x.short, "refs": x.refs} for k, x in left],
    }  # fmt: skip
    said = []
    for k, x in enumerate(lines, 1):
        other = f", came as {x.came_as}" if x.came_as else ""
        more = ", MORE than was ordered: count again" if x.received > x.count else ""
        said.append(f"{k:3} {x.received} of {x.count} x {x.sort}{other}{more}")
    said += [f"LOOK: {w}" for w in map(unfit_words, lines) if w]
    for _, x in left:
        how = "Short, to be bought again" if x.unpacked else "Still to come"
        said.append(f"{how}: {x.short} x {x.sort} for {x.refs}")
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
    """Say how header and socket strips are cut; with --done, take them out of the drawers and put the pieces in."""
    from zesty_trace.journey.buying import cut_now, cuttings_of

    if a.pieces:
        found = {f"strip of {a.strip}": _cut_pieces(a)}
    else:
        if not a.project:
            raise InputError("Neither a project nor pieces are named", "cut", "Write zt cut PROJECT, or --pieces 6x4")
        wired, folder = load(a.project)
        cuttings = cut_now(wired, folder, a.where) if a.done else cuttings_of(wired, folder)
        found = {c.strip.title: c.plan for c in cuttings}
    data = {name: _cuts(c) for name, c in found.items()}
    lines = []
    for name, c in found.items():
        how = "no fewer would do" if c.best else f"at least {c.bound} are needed"
        lines.append(f"{name}: {c.bought} to buy, {how}")
        for cut in c.cuts:
            pieces = " + ".join(map(str, cut.pieces))
            lost = f", {cut.lost} lost to cuts" if cut.lost else ""
            there = "" if cut.bought else ", of what is there"
            lines.append(f"  {cut.length}: {pieces}, {cut.left} left{lost}{there}")
    if a.done and found:
        lines.append("Pieces and leftovers are in the drawers now.")
    status = BAD if any(not c.best for c in found.values()) else FINE
    return status, data, "\n".join(lines) or "No headers or sockets have to be cut."


def _cut_pieces(a: argparse.Namespace) -> CutList:
    from zesty_trace.core.ordering.parts.strips import Strip, cut_strips

    wanted: dict[int, int] = {}
    for word in a.pieces:
        size, _, count = word.lower().partition("x")
        if not size.isdigit() or not (count or "1").isdigit():
            raise InputError(f"“{word}” is no piece", word, "Write positions x pieces, such as 6x4")
        wanted[int(size)] = wanted.get(int(size), 0) + int(count or 1)
    there = [Strip(n, 1, bought=False) for n in a.left or ()]
    return cut_strips(wanted, [*there, Strip(a.strip)], a.lost)


def pace_command(a: argparse.Namespace) -> Answer:
    """Show or add how long placing parts takes, by package: the calendar counts with it."""
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.core.ordering.parts.sheets import amount, whole
    from zesty_trace.journey.hours import load_own, note_pace

    _, folder = load(a.project)
    today = read_date(a.today or "", "--today") or date.today()
    for package, parts, seconds in a.add or ():
        took = float(amount(seconds, "--add", "seconds", 36_000_000))
        note_pace(folder, today, package, whole(parts, "--add", "parts", 1), took)
    own = load_own(folder)
    data = {"recorded": dict(own.timed), "by_hand": dict(own.seconds)}
    lines = [f"{package}: {seconds:.1f} s a part, by hours.toml" for package, seconds in own.seconds]
    lines += [f"{package}: {seconds:.1f} s a part, by the record" for package, seconds in own.timed]
    return FINE, data, "\n".join(lines) or "No own times yet: the usual ones count (docs/parts.md)."


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
        ("--compare", {"action": "store_true", "help": "cheapest, soonest and fewest parcels side by side"}),
        ("--ignore-orders", {"action": "store_true", "help": "plan as if nothing were on the way"}),
        ("--place", {"action": "store_true", "help": "write an order for each supplier into the project"}),
    )
    add(
        "receive",
        receive_command,
        "what came of an order; it goes into the drawers",
        project,
        ("order", {"nargs": "?", "help": "the order's file name; all orders without it"}),
        ("lines", {"nargs": "*", "metavar": "LINE=COUNT[,KIND:VALUE:PACKAGE]", "help": "what came, and as what"}),
        ("--all", {"action": "store_true", "help": "all other lines that were not unpacked yet came whole"}),
        ("--more", {"action": "store_true", "help": "more came than was ordered: count it as it is"}),
        ("--withdraw", {"action": "store_true", "help": "take the order back: nothing of it has come"}),
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
        ("--done", {"action": "store_true", "help": "it is cut: pieces and leftovers go into the drawers"}),
        ("--where", {"default": "", "metavar": "PLACE", "help": "the drawer that they are put into"}),
    )
    add(
        "pace",
        pace_command,
        "how long placing parts takes you, by package",
        project,
        (
            "--add",
            {
                "nargs": 3,
                "action": "append",
                "metavar": ("PACKAGE", "PARTS", "SECONDS"),
                "help": "so many parts took so long",
            },
        ),
        ("--today", {"metavar": "DATE", "help": "the day on which they were placed"}),
    )
