"""What the boards cost and when they are here: every house, speed and freight, each sum by its parts.

Sums are Decimals in the currency of the house, each part rounded to its smallest coin; they are compared in the
budget's currency by a table of rates, or not at all.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Literal

from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.days import WEEKDAYS, Calendar
from zesty_trace.core.ordering.houses import Freight, House
from zesty_trace.core.ordering.money import Money, Rates, money, rounded
from zesty_trace.core.quantities import mm

FR4_G_CM3 = 1.9  # glass-reinforced epoxy with its copper: common practice
NO_RATES = Rates()
NOTHING = money(0)
Sort = Literal["none", "frameless", "framed"]
Speed = Literal["standard", "express"]


@dataclass(frozen=True)
class Order:
    """What is asked for; `thickness` is in mm, as price sheets name it."""

    quantity: int
    width_mm: float
    height_mm: float
    layers: int
    colour: str
    stencil: Sort = "none"
    finish: str = "lead-free tin"
    thickness: str = "1.6"

    def grams(self, boards: int) -> float:
        """Return what so many boards weigh."""
        return boards * self.width_mm * self.height_mm * float(self.thickness) / 1000 * FR4_G_CM3


@dataclass(frozen=True)
class Offer:
    """One house, one speed, one freight. `boards` may be more than asked, since houses sell by steps.

    `compared` is the total in the budget's currency; None where no rate is known. `on_time` is None where nobody can
    say by when, `in_budget` where the total does not compare.
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
    on_time: bool | None
    in_budget: bool | None
    speed: Speed = "standard"
    fees: Money = NOTHING
    tax: Money = NOTHING
    ships: date = date.min
    days_late: float = 0.0
    order: Order | None = None
    compared: Money | None = None

    @property
    def amount(self) -> Decimal:
        """The total in the budget's currency, or as a number that is only compared with others of its currency."""
        return (self.compared or self.total).amount

    @property
    def how(self) -> str:
        """House, speed and freight in words."""
        return f"{self.house}{', express build' if self.speed == 'express' else ''}, {self.freight}"


def thickness_of(design: Design) -> str:
    """Return the thickness of a board as price sheets name it, mm."""
    return f"{mm(design.board.rules.thickness_nm):g}"


def order_of(design: Design, stencil: Sort = "none") -> Order:
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
        design.build.finish,
        thickness_of(design),
    )


def board_price(house: House, order: Order) -> tuple[int, Money] | None:
    """Return (boards delivered, price with set-up and all choices) or None if the house cannot make it."""
    if why_not(house, order):
        return None
    quantity = next(q for q in house.quantities if q >= order.quantity)
    step = house.step_for(order.width_mm, order.height_mm)
    assert step is not None
    factor = Decimal(str(house.layers[str(order.layers)]))
    batch = house.money(step.per_batch[house.quantities.index(quantity)]) * factor
    extras = house.colours[order.colour].cost, house.finishes[order.finish].cost, house.thickness[order.thickness].cost
    total = house.money(house.setup) + batch
    for extra in extras:
        total = total + house.money(extra)
    return quantity, rounded(total)


def why_not(house: House, order: Order) -> str:
    """Return why a house does not make an order; "" if it does."""
    long, short = max(order.width_mm, order.height_mm), min(order.width_mm, order.height_mm)
    if order.quantity < 1:
        return f"{order.quantity} boards are none"
    if order.quantity > house.quantities[-1]:
        return f"sells up to {house.quantities[-1]} at once, {order.quantity} are asked for"
    if house.step_for(order.width_mm, order.height_mm) is None:
        most = max(max(s.up_to_mm) for s in house.size_steps)
        least = max(min(s.up_to_mm) for s in house.size_steps)
        wide = min(most, max(house.max_width_mm, house.max_height_mm))
        high = min(least, house.max_width_mm, house.max_height_mm)
        return f"makes up to {wide:g} x {high:g} mm, the board is {long:.1f} x {short:.1f} mm"
    for what, choices, wanted in (
        ("layers of copper", house.layers, str(order.layers)), ("the colour", house.colours, order.colour),
        ("the finish", house.finishes, order.finish), ("the thickness of mm", house.thickness, order.thickness),
    ):  # fmt: skip
        if wanted not in choices:
            return f"has not {what} {wanted}: only {', '.join(choices)}"
    if order.stencil != "none" and house.stencil is None:
        return "makes no stencils"
    if order.stencil == "framed" and house.stencil is not None and house.stencil.framed is None:
        return "makes no framed stencils"
    return ""


def quote(
    houses: list[House],
    order: Order,
    today: date,
    needed_by: date | None,
    budget: float,
    rates: Rates = NO_RATES,
    here: Calendar = WEEKDAYS,
) -> list[Offer]:
    """Return all offers, cheapest first; those that do not compare come last, by currency.

    `budget` is in BUDGET_CURRENCY, 0 is none; `here` says on which days a parcel is taken in.
    """
    found = [
        offer
        for house in houses
        if board_price(house, order) is not None
        for speed in _speeds(house)
        for freight in house.freight
        if (offer := _offer(house, speed, freight, order, today, here)) is not None
    ]
    judged = [_judged(o, needed_by, budget, rates) for o in found]
    return sorted(judged, key=lambda o: (*_currency_rank(o), o.amount, o.arrives, o.house, o.freight, o.speed))


def every_order(house: House, order: Order) -> list[Order]:
    """Return an order in every colour, finish and, if one is wanted at all, stencil that a house makes."""
    stencils: list[Sort] = [order.stencil]
    if order.stencil != "none":
        stencils = ["frameless"] if house.stencil is not None else []
        stencils += ["framed"] if house.stencil is not None and house.stencil.framed is not None else []
    return [
        replace(order, colour=colour, finish=finish, stencil=stencil)
        for colour in house.colours
        for finish in house.finishes
        for stencil in stencils
    ]


def _speeds(house: House) -> tuple[Speed, ...]:
    return ("standard", "express") if house.express is not None else ("standard",)


def _currency_rank(offer: Offer) -> tuple[bool, str]:
    return offer.compared is None, offer.total.currency if offer.compared is None else ""


def _offer(house: House, speed: Speed, freight: Freight, order: Order, today: date, here: Calendar) -> Offer | None:
    """Return one offer; None if the parcel is too heavy for this freight."""
    priced = board_price(house, order)
    assert priced is not None
    boards, cost = priced
    stencil, stencil_days, stencil_g = _stencil(house, order.stencil)
    kilograms = (order.grams(boards) + stencil_g) / 1000
    if freight.up_to_kg and kilograms > freight.up_to_kg:
        return None
    working = house.working_days
    if speed == "express" and house.express is not None:
        working = house.express.working_days
        cost = cost + house.money(house.express.cost)
    extras = (house.colours[order.colour], house.finishes[order.finish], house.thickness[order.thickness])
    working += sum(e.days for e in extras) + stencil_days
    ships = house.calendar.after(today, working)
    sent = rounded(house.money(freight.cost) + house.money(freight.per_kg) * math.ceil(round(kilograms, 9)))
    fees = house.money(0)
    for fee in house.fees:
        fees = fees + house.money(fee.cost)
    tax = _tax(house, cost + stencil + fees, sent)
    arrives = WEEKDAYS.after(ships, freight.days) if freight.working else ships + timedelta(days=freight.days)
    arrives = here.next_open(arrives)
    total = cost + stencil + fees + sent + tax
    return Offer(
        house.name, freight.name, boards, cost, stencil, sent, total, arrives, (arrives - today).days, None, None,
        speed, fees, tax, ships, freight.days_late, order,
    )  # fmt: skip


def _stencil(house: House, sort: Sort) -> tuple[Money, int, float]:
    """Return price, working days and grams of a stencil."""
    if sort == "none" or house.stencil is None:
        return house.money(0), 0, 0.0
    if sort == "framed" and house.stencil.framed is not None:
        framed = house.stencil.framed
        return house.money(framed.cost), framed.days, framed.weight_g
    return house.money(house.stencil.cost), house.stencil.days, house.stencil.weight_g


def _tax(house: House, goods: Money, sent: Money) -> Money:
    """Return duty on goods above what is free of it, and tax on goods, duty and freight."""
    free = goods <= house.money(house.duty_free_to)
    duty = house.money(0) if free else rounded(goods * (Decimal(str(house.duty_pct)) / 100))
    return duty + rounded((goods + duty + sent) * (Decimal(str(house.tax_pct)) / 100))


def _judged(offer: Offer, needed_by: date | None, budget: float, rates: Rates) -> Offer:
    compared = rates.in_budget(offer.total)
    within = None if compared is None and budget > 0 else budget <= 0 or (compared or money(0)) <= money(budget)
    on_time = None if needed_by is None else offer.arrives <= needed_by
    return replace(offer, compared=compared, in_budget=within, on_time=on_time)


def comparable(offers: list[Offer]) -> list[Offer]:
    """Return the offers that can be compared: in the budget's currency, else of one currency, else none."""
    known = [o for o in offers if o.compared is not None]
    if known:
        return known
    return offers if len({o.total.currency for o in offers}) <= 1 else []


def cheapest(offers: list[Offer]) -> Offer | None:
    """Return the cheapest offer that is on time, else the cheapest; None where they cannot be compared."""
    return min(comparable(offers), key=lambda o: (o.on_time is False, o.amount, o.arrives), default=None)


def soonest(offers: list[Offer]) -> Offer | None:
    """Return the offer that is here first; of several the cheaper one, those that compare first."""
    return min(offers, key=lambda o: (o.arrives, *_currency_rank(o), o.amount), default=None)


def frontier(offers: list[Offer]) -> list[Offer]:
    """Return the offers that no other beats in both money and day, the soonest first."""
    found: list[Offer] = []
    for offer in sorted(comparable(offers), key=lambda o: (o.arrives, o.amount)):
        if not found or offer.amount < found[-1].amount:
            found.append(offer)
    return found


def refused(houses: list[House], order: Order) -> Iterator[tuple[str, str]]:
    """Yield the houses that do not make an order, and why."""
    for house in houses:
        if why := why_not(house, order):
            yield house.name, why
