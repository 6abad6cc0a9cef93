"""What the boards cost and when they are here, from every house and every freight."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.ordering.houses import Freight, House
from zesty_trace.core.quantities import mm


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
    """One house, one freight. `boards` may be more than asked, since houses sell by steps."""

    house: str
    freight: str
    boards: int
    board_cost: float
    stencil_cost: float
    freight_cost: float
    total: float
    arrives: date
    days: int
    currency: str
    on_time: bool
    in_budget: bool


def order_of(design: Design, stencil: bool = True) -> Order:
    """Return the order that the brief asks for, spare boards included."""
    xs = [p[0] for p in design.board.outline] or [0, design.brief.case_width_nm]
    ys = [p[1] for p in design.board.outline] or [0, design.brief.case_height_nm]
    return Order(
        design.brief.quantity + design.build.spare_boards,
        mm(max(xs) - min(xs)),
        mm(max(ys) - min(ys)),
        2,
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


def board_price(house: House, order: Order) -> tuple[int, float] | None:
    """Return (boards delivered, price with set-up and colour) or None if the house cannot make it."""
    colour = house.colours.get(order.colour)
    factor = house.layers.get(str(order.layers))
    quantity = next((q for q in house.quantities if q >= order.quantity), None)
    long, short = max(order.width_mm, order.height_mm), min(order.width_mm, order.height_mm)
    step = next(
        (s for s in house.size_steps if long <= max(s.up_to_mm) + 1e-6 and short <= min(s.up_to_mm) + 1e-6), None
    )
    if colour is None or factor is None or quantity is None or step is None:
        return None
    price = step.per_batch[house.quantities.index(quantity)] * factor
    return quantity, house.setup + price + colour.cost


def quote(houses: list[House], order: Order, today: date, needed_by: date | None, budget: float) -> list[Offer]:
    """Return all offers, cheapest first."""
    offers = [
        _offer(house, freight, order, today, needed_by, budget)
        for house in houses
        if board_price(house, order)
        for freight in house.freight
    ]
    return sorted(offers, key=lambda o: (o.total, o.arrives))


def _offer(house: House, freight: Freight, order: Order, today: date, needed_by: date | None, budget: float) -> Offer:
    boards, cost = board_price(house, order) or (0, 0.0)
    stencil = house.stencil.cost if order.stencil else 0.0
    working = house.working_days + house.colours[order.colour].days + (house.stencil.days if order.stencil else 0)
    arrives = add_working_days(today, working) + timedelta(days=freight.days)
    total = cost + stencil + freight.cost
    return Offer(
        house.name,
        freight.name,
        boards,
        cost,
        stencil,
        freight.cost,
        total,
        arrives,
        (arrives - today).days,
        house.currency,
        needed_by is None or arrives <= needed_by,
        budget <= 0 or total <= budget,
    )


def cheapest(offers: list[Offer]) -> Offer | None:
    """Return the cheapest offer that is on time, else the cheapest."""
    return min(offers, key=lambda o: (not o.on_time, o.total), default=None)


def soonest(offers: list[Offer]) -> Offer | None:
    """Return the offer that is here first, the cheaper one of two."""
    return min(offers, key=lambda o: (o.arrives, o.total), default=None)


def parse_date(text: str) -> date | None:
    """Return the date of the brief, or None if there is none."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        return None


def order_findings(design: Design, offers: list[Offer]) -> list[Finding]:
    """Return what the date and the budget say about the offers."""
    found = []
    needed = parse_date(design.brief.needed_by)
    if not offers:
        found.append(_finding("no offer", Severity.STOP, "No house makes this board", "Change the size or the colour."))
    elif needed and not any(o.on_time for o in offers):
        first = soonest(offers)
        assert first is not None
        late = (first.arrives - needed).days
        found.append(
            _finding(
                "late",
                Severity.FIX,
                f"The soonest boards come {late} days late",
                f"{first.house} by {first.freight}: {first.arrives:%a %d %b}; needed by {needed:%a %d %b}.",
            )
        )
    best = cheapest(offers)
    if best and design.brief.budget_eur and best.total > design.brief.budget_eur:
        found.append(
            _finding(
                "budget",
                Severity.FIX,
                f"The boards cost {best.total:.0f} {best.currency} of {design.brief.budget_eur:.0f}",
                "Take fewer, smaller, or slower ones.",
            )
        )
    if best and best.boards > design.brief.quantity:
        spare = best.boards - design.brief.quantity
        found.append(
            _finding(
                "step",
                Severity.NOTE,
                f"{best.boards} boards cost no more than {design.brief.quantity}",
                f"{best.house} sells by steps; {spare} come as spares.",
            )
        )
    return found


def _finding(key: str, severity: Severity, title: str, detail: str) -> Finding:
    why = "Boards, stencil and parts must all be here before the first one can be built."
    return Finding(
        "order", key, severity, title, detail, why, "price sheets of the houses; date and budget of the brief", "order"
    )
