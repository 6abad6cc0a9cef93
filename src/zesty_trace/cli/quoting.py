"""The command that prices boards and stencil, and records which offer was taken."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import Answer, load, say_findings, verdict
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.core.ordering.ordered import BoardOrders
    from zesty_trace.core.ordering.quote import Offer


MOST_BOARDS = 100_000
_ORDER: dict[str, Any] = {"nargs": "?", "const": 0, "type": int, "metavar": "ORDER"}


def quote_command(a: argparse.Namespace) -> Answer:
    """Price boards and stencil at every house, and say what one change would win."""
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.core.ordering.quote import cheapest, frontier, order_of, refused, soonest
    from zesty_trace.core.ordering.reasons import reasons, trade
    from zesty_trace.journey.ordering import ask_houses, stencil_of

    wired, folder = load(a.project)
    design = wired.design
    today = read_date(a.today or "", "--today") or date.today()
    order = order_of(design, a.stencil or stencil_of(wired))
    if a.quantity is not None and not 1 <= a.quantity <= MOST_BOARDS:
        raise InputError(f"{a.quantity} boards cannot be ordered", "--quantity", f"From 1 to {MOST_BOARDS:,}")
    said = {"quantity": a.quantity, "colour": a.colour, "finish": a.finish}
    order = replace(order, **{k: v for k, v in said.items() if v is not None})
    asked = ask_houses(wired, today, folder, order)
    if a.take or a.here is not None or a.withdraw is not None or a.undo is not None:
        asked = replace(asked, ordered=_take_boards(a, folder, today, asked.offers))
    findings = asked.findings(design)
    offers = asked.question.every_offer() if a.every else asked.offers
    best, first, edge = cheapest(offers), soonest(offers), frontier(offers)
    lines = []
    for o in offers:
        marks = " cheapest in time" * (o is best and o.on_time is not False) + " soonest" * (o is first)
        marks += " LATE" * (o.on_time is False)
        what = f", {o.order.colour}, {o.order.finish}, stencil {o.order.stencil}" if a.every and o.order else ""
        lines.append(
            f"{o.total.amount:8.2f} {o.total.currency}  {o.arrives:%a %d %b}  {o.boards:3} boards  {o.how}{what}{marks}"
        )
    lines += [f"{name} {why}" for name, why in refused(list(asked.question.houses), order)]
    priced = replace(asked.question, order=best.order) if best is not None and best.order else asked.question
    words = reasons(priced, best) if best is not None else []
    words += [t for t in [trade(asked.question, offers)] if t]
    lines += [f"- {w}" for w in words]
    data = [
        {
            "house": o.house,
            "freight": o.freight,
            "speed": o.speed,
            "boards": o.boards,
            "colour": o.order.colour if o.order else order.colour,
            "finish": o.order.finish if o.order else order.finish,
            "stencil": o.order.stencil if o.order else order.stencil,
            "board_cost": str(o.board_cost.amount),
            "stencil_cost": str(o.stencil_cost.amount),
            "fees": str(o.fees.amount),
            "freight_cost": str(o.freight_cost.amount),
            "tax": str(o.tax.amount),
            "total": float(o.total.amount),
            "currency": o.total.currency,
            "compared": float(o.compared.amount) if o.compared is not None else None,
            "ships": o.ships.isoformat(),
            "arrives": o.arrives.isoformat(),
            "on_time": o.on_time,
            "in_time_to_build": o.arrives <= asked.begin_by if asked.begin_by is not None else None,
            "in_budget": o.in_budget,
            "on_frontier": o in edge,
        }
        for o in offers
    ]
    answer = {
        "offers": data, "reasons": words, "stencil": order.stencil, "quantity": order.quantity,
        "begin_by": asked.begin_by.isoformat() if asked.begin_by is not None else None,
        "ordered": asked.ordered.words or None,
        "orders": [
            {"number": o.number, "how": o.how, "boards": o.boards, "state": o.state or "undone", "stands": o.stands,
             "total": str(o.total.amount), "currency": o.total.currency, "expected": o.expected.isoformat(),
             "history": [f"{day.isoformat()} {step}" for day, step in o.history]}
            for o in asked.ordered
        ],
    }  # fmt: skip
    if asked.begin_by is not None:
        lines.append(f"The work must begin by {asked.begin_by:%a %d %b}.")
    lines += [f"Order {o.number}: {o.words}" for o in asked.ordered]
    return verdict(findings), answer, "\n".join(lines) + "\n" + say_findings(findings)


def _take_boards(a: argparse.Namespace, folder: Path, today: date, offers: Sequence[Offer]) -> BoardOrders:
    """Record that boards were ordered, are here, or were not ordered after all; return all orders as they stand now."""
    from zesty_trace.core.ordering.ordered import ordered_from
    from zesty_trace.journey.ordering import step_of_boards, take_boards

    if a.take:
        offer = next((o for o in offers if o.how == a.take), None)
        if offer is None:
            known = "; ".join(o.how for o in offers[:4])
            raise InputError(f"There is no offer “{a.take}”", "--take", f"Such as: {known}")
        return take_boards(folder, ordered_from(offer, today))
    for number, step in ((a.here, "here"), (a.withdraw, "withdrawn"), (a.undo, "undone")):
        if number is not None:
            return step_of_boards(folder, number or None, today, step)
    raise AssertionError("asked for nothing")


def add_commands(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the command about boards that are ordered."""
    add(
        "quote",
        quote_command,
        "prices and dates from all board houses, and what one change would win",
        project,
        ("--quantity", {"type": int, "metavar": "N", "help": "boards (default: the brief and its spares)"}),
        ("--colour", {"help": "of the solder mask"}),
        ("--finish", {"help": "of the pads"}),
        ("--stencil", {"choices": ["none", "frameless", "framed"], "help": "default: as the build says"}),
        ("--every", {"action": "store_true", "help": "in every colour, finish and kind of stencil"}),
        ("--today", {"metavar": "DATE", "help": "the day of the order, year-month-day"}),
        ("--take", {"metavar": "OFFER", "help": "this offer was ordered: house and freight as they are listed"}),
        ("--here", {**_ORDER, "help": "the boards that were ordered are here; with several orders, its number"}),
        ("--withdraw", {**_ORDER, "help": "the boards were not ordered after all"}),
        ("--undo", {**_ORDER, "help": "take the last step of an order back"}),
    )
