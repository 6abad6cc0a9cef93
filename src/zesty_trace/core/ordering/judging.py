"""What the date, the budget and the price sheets say about an order, as findings."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.ordered import BoardOrders
from zesty_trace.core.ordering.quote import Offer, cheapest, soonest
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import InputError

ORDER = rule(
    "order",
    Severity.FIX,
    "Boards, stencil and parts must all be here before the first one can be built.",
    "price sheets of the houses; date and budget of the brief",
    limits="date and budget of the brief",
    station="order",
)


def order_findings(
    design: Design,
    offers: Sequence[Offer],
    refusals: Sequence[tuple[str, str]] = (),
    unreadable: Sequence[InputError] = (),
    begin_by: date | None = None,
    ordered: BoardOrders | None = None,
) -> list[Finding]:
    """Return what date and budget say about the offers, and which price sheets cannot be counted.

    Of boards that were ordered their number and their days are judged. `begin_by` is when work must begin to keep the
    day of the brief.
    """
    offers = list(offers)
    found = [
        ORDER.found(
            Subject(which=f"sheet {error.where}"),
            f"The price sheet {error.where} is left out",
            f"{error.message}. {error.hint}.",
        )
        for error in unreadable
    ]
    found += _batch(design)
    if ordered:
        return found + _too_few(design, ordered) + _on_the_way(design, ordered, begin_by)
    found += _date(design, offers, begin_by)
    if not offers:
        said = "; ".join(f"{name} {why}" for name, why in refusals) or "There are no price sheets"
        words = f"{said}. Change what is asked for, or add a price sheet to the project's houses."
        found.append(ORDER.found(Subject(which="no offer"), "No house makes this order", words, severity=Severity.STOP))
    best = cheapest(offers)
    if best is not None and best.in_budget is False and best.compared is not None:
        found.append(
            ORDER.found(
                Subject(which="budget"),
                f"The boards cost {best.compared.amount:.2f} {BUDGET_CURRENCY} of {design.brief.budget_eur:.0f}",
                "Take fewer, smaller, or slower ones.",
                value=float(best.compared.amount),
                limit=design.brief.budget_eur,
                unit=BUDGET_CURRENCY,
            )
        )
    found += _not_comparable(design, offers)
    asked = design.brief.quantity + design.build.spare_boards
    if best and best.boards > asked:
        found.append(
            ORDER.found(
                Subject(which="step"),
                f"{best.boards} boards cost no more than {asked}",
                f"{best.house} sells by steps; {best.boards - asked} come as spares.",
                severity=Severity.NOTE,
            )
        )
    return found


def _batch(design: Design) -> list[Finding]:
    """Return whether the boards by variant are as many as the brief asks for."""
    total, asked = sum(design.build.batch.values()), design.brief.quantity
    if not design.build.batch or total == asked:
        return []
    words = (
        f"Parts are counted for {total} boards by variant, the boards are ordered for {asked}: say it anew in Parts."
    )
    title = f"{total} boards by variant, {asked} in the brief"
    return [ORDER.found(Subject(which="batch"), title, words, value=float(total), limit=float(asked), unit="boards")]


def _too_few(design: Design, ordered: BoardOrders) -> list[Finding]:
    """Return whether fewer boards were ordered than the brief asks for."""
    asked = design.brief.quantity
    if ordered.boards >= asked:
        return []
    title = f"{say_count(ordered.boards, 'board')} ordered, the brief asks for {asked}"
    words = f"{asked - ordered.boards} more have to be ordered, or the brief has to ask for fewer."
    few = float(ordered.boards)
    return [ORDER.found(Subject(which="too few"), title, words, value=few, limit=float(asked), unit="boards")]


def _on_the_way(design: Design, ordered: BoardOrders, begin_by: date | None) -> list[Finding]:
    try:
        needed = read_date(design.brief.needed_by)
    except InputError as error:
        return [_not_understood(design, error)]
    if needed is None or not ordered.coming:
        return []
    last = max(ordered.coming, key=lambda o: o.expected)
    return _too_late(last.expected, last.how, needed, begin_by, "The boards that were ordered")


def _not_understood(design: Design, error: InputError) -> Finding:
    said = f"Whether anything comes in time is not known. {error.hint}, in Brief."
    title = f"The day it is needed, “{design.brief.needed_by[:40]}”, is not understood"
    return ORDER.found(Subject(which="date"), title, said)


def _too_late(comes: date, how: str, needed: date, begin_by: date | None, what: str) -> list[Finding]:
    """Return whether a day is after that of the brief, or leaves too little time for the work."""
    if comes > needed:
        title, limit = f"{what} come {(comes - needed).days} days late", needed
        words = f"{how}: {comes:%a %d %b}; needed by {needed:%a %d %b}."
    elif begin_by is not None and comes > begin_by:
        title, limit = f"{what} come {say_count((comes - begin_by).days, 'day')} too late to build them", begin_by
        words = (
            f"{how}: {comes:%a %d %b}; the work must begin by {begin_by:%a %d %b} to be done by {needed:%a %d %b} "
            "(hours.toml, Calendar)."
        )
    else:
        return []
    late = float((comes - limit).days)
    return [ORDER.found(Subject(which="late"), title, words, value=late, limit=0.0, unit="days")]


def _date(design: Design, offers: list[Offer], begin_by: date | None) -> list[Finding]:
    try:
        needed = read_date(design.brief.needed_by)
    except InputError as error:
        return [_not_understood(design, error)]
    first = soonest(offers)
    if needed is None or first is None:
        return []
    found = _too_late(first.arrives, first.how, needed, begin_by, "The soonest boards")
    best = cheapest(offers)
    if not found and best is not None and begin_by is not None and begin_by < best.arrives <= needed:
        title = f"The cheapest boards in time leave too little for the work: {best.arrives:%a %d %b}"
        words = f"{best.how}; the work must begin by {begin_by:%a %d %b}. Take quicker ones: see the plot."
        late = float((best.arrives - begin_by).days)
        found = [ORDER.found(Subject(which="tight"), title, words, value=late, limit=0.0, unit="days",
                             severity=Severity.NOTE)]  # fmt: skip
    return found


def _not_comparable(design: Design, offers: list[Offer]) -> list[Finding]:
    """Return the note that says which prices are held against nothing."""
    foreign = sorted({o.total.currency for o in offers if o.compared is None})
    if not foreign:
        return []
    said = ", ".join(foreign)
    budget = f"the budget of {design.brief.budget_eur:g} {BUDGET_CURRENCY}" if design.brief.budget_eur else "the others"
    return [
        ORDER.found(
            Subject(which="currency"),
            f"Prices in {said} are not held against {budget}",
            "No rate between the currencies is known: write rates.toml into the project, or compare them yourself.",
            severity=Severity.NOTE,
        )
    ]
