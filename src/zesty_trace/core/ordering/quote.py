"""What the boards cost and when they are here, from every house and every freight."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.ordering.houses import Freight, House
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, money
from zesty_trace.core.quantities import mm
from zesty_trace.core.review.brief import parse_date


@dataclass(frozen=True)
class Order:
    """What is asked for."""

    quantity: int
    width_mm: float
    height_mm: float
    layers: int
    colour: str
    stencil: bool


@dataclass(frozen=True)
class Offer:
    """One house, one freight. `boards` may be more than asked, since houses sell by steps.

    `in_budget` is None where the budget is in another currency: no rate is known.
    """

    house: str
    freight: str
    boards: int
    board_cost: Money
    stencil_cost: Money
    freight_cost: Money
    total: Money
    arrives: date
    days: int
    on_time: bool
    in_budget: bool | None


def order_of(design: Design, stencil: bool = True) -> Order:
    """Return the order that the brief asks for, spare boards included."""
    xs = [p[0] for p in design.board.outline] or [0, design.brief.case_width_nm]
    ys = [p[1] for p in design.board.outline] or [0, design.brief.case_height_nm]
    return Order(
        design.brief.quantity + design.build.spare_boards,
        mm(max(xs) - min(xs)),
        mm(max(ys) - min(ys)),
        design.board.rules.layers,
        design.build.colour,
        stencil,
    )


def add_working_days(start: date, days: int) -> date:
    """Return the date `days` working days (Monday to Friday) after `start`."""
    while days > 0:
        start += timedelta(days=1)
        if start.weekday() < 5:
            days -= 1
    return start


def board_price(house: House, order: Order) -> tuple[int, Money] | None:
    """Return (boards delivered, price with set-up and colour) or None if the house cannot make it."""
    colour = house.colours.get(order.colour)
    factor = house.layers.get(str(order.layers))
    quantity = next((q for q in house.quantities if q >= order.quantity), None)
    long, short = max(order.width_mm, order.height_mm), min(order.width_mm, order.height_mm)
    step = next(
        (s for s in house.size_steps if long <= max(s.up_to_mm) + 1e-6 and short <= min(s.up_to_mm) + 1e-6), None
    )
    fits = house.makes_size(order.width_mm, order.height_mm)
    if not fits or colour is None or factor is None or quantity is None or step is None:
        return None
    price = house.money(step.per_batch[house.quantities.index(quantity)]) * Decimal(str(factor))
    return quantity, house.money(house.setup) + price + house.money(colour.cost)


def quote(houses: list[House], order: Order, today: date, needed_by: date | None, budget: float) -> list[Offer]:
    """Return all offers, cheapest first in each currency, the budget's currency before the others.

    `budget` is in BUDGET_CURRENCY; 0 is none.
    """
    offers = [
        _offer(house, freight, boards, order, today, needed_by, budget)
        for house in houses
        if (boards := board_price(house, order))
        for freight in house.freight
    ]
    return sorted(offers, key=lambda o: (*_currency_rank(o), o.total.amount, o.arrives))


def _currency_rank(offer: Offer) -> tuple[bool, str]:
    return offer.total.currency != BUDGET_CURRENCY, offer.total.currency


def _offer(
    house: House,
    freight: Freight,
    boards: tuple[int, Money],
    order: Order,
    today: date,
    needed_by: date | None,
    budget: float,
) -> Offer:
    count, cost = boards
    stencil = house.money(house.stencil.cost if order.stencil else 0)
    working = house.working_days + house.colours[order.colour].days + (house.stencil.days if order.stencil else 0)
    arrives = add_working_days(today, working) + timedelta(days=freight.days)
    total = cost + stencil + house.money(freight.cost)
    return Offer(
        house=house.name,
        freight=freight.name,
        boards=count,
        board_cost=cost,
        stencil_cost=stencil,
        freight_cost=house.money(freight.cost),
        total=total,
        arrives=arrives,
        days=(arrives - today).days,
        on_time=needed_by is None or arrives <= needed_by,
        in_budget=_within(total, budget),
    )


def _within(total: Money, budget: float) -> bool | None:
    if budget <= 0:
        return True
    return total <= money(budget) if total.currency == BUDGET_CURRENCY else None


def cheapest(offers: list[Offer]) -> Offer | None:
    """Return the cheapest offer that is on time, else the cheapest.

    Of several currencies only the budget's is looked at; without one in it, None where the rest cannot be compared.
    """
    known = [o for o in offers if o.total.currency == BUDGET_CURRENCY] or offers
    if len({o.total.currency for o in known}) > 1:
        return None
    return min(known, key=lambda o: (not o.on_time, o.total.amount), default=None)


def soonest(offers: list[Offer]) -> Offer | None:
    """Return the offer that is here first; of several the cheaper one, those in the budget's currency first."""
    return min(offers, key=lambda o: (o.arrives, *_currency_rank(o), o.total.amount), default=None)


ORDER = rule(
    "order",
    Severity.FIX,
    "Boards, stencil and parts must all be here before the first one can be built.",
    "price sheets of the houses; date and budget of the brief",
    limits="date and budget of the brief",
    station="order",
)


def order_findings(design: Design, offers: list[Offer]) -> list[Finding]:
    """Return what the date and the budget say about the offers."""
    found = []
    needed = parse_date(design.brief.needed_by)
    if not offers:
        none = Subject(which="no offer")
        said = "Change the size or the colour."
        found.append(ORDER.found(none, "No house makes this board", said, severity=Severity.STOP))
    elif needed and not any(o.on_time for o in offers):
        first = soonest(offers)
        assert first is not None
        late = (first.arrives - needed).days
        found.append(
            ORDER.found(
                Subject(which="late"),
                f"The soonest boards come {late} days late",
                f"{first.house} by {first.freight}: {first.arrives:%a %d %b}; needed by {needed:%a %d %b}.",
                value=float(late),
                limit=0.0,
                unit="days",
            )
        )
    best = cheapest(offers)
    if best is not None and best.in_budget is False:
        found.append(
            ORDER.found(
                Subject(which="budget"),
                f"The boards cost {best.total.amount:.0f} {best.total.currency} of {design.brief.budget_eur:.0f}",
                "Take fewer, smaller, or slower ones.",
                value=float(best.total.amount),
                limit=design.brief.budget_eur,
                unit=BUDGET_CURRENCY,
            )
        )
    found += _not_comparable(design, offers)
    if best and best.boards > design.brief.quantity:
        spare = best.boards - design.brief.quantity
        found.append(
            ORDER.found(
                Subject(which="step"),
                f"{best.boards} boards cost no more than {design.brief.quantity}",
                f"{best.house} sells by steps; {spare} come as spares.",
                severity=Severity.NOTE,
            )
        )
    return found


def _not_comparable(design: Design, offers: list[Offer]) -> list[Finding]:
    """Return the note that says which prices are held against nothing."""
    foreign = sorted({o.total.currency for o in offers} - {BUDGET_CURRENCY})
    if not foreign:
        return []
    said = ", ".join(foreign)
    budget = f"the budget of {design.brief.budget_eur:g} {BUDGET_CURRENCY}" if design.brief.budget_eur else "the others"
    return [
        ORDER.found(
            Subject(which="currency"),
            f"Prices in {said} are not held against {budget}",
            "No rate between the currencies is known here: compare them yourself.",
            severity=Severity.NOTE,
        )
    ]
