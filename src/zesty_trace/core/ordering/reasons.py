"""What one change would win: colour, quantity, size, stencil, speed; each priced anew and said with its number."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date

from zesty_trace.core.ordering.days import WEEKDAYS, Calendar
from zesty_trace.core.ordering.houses import House
from zesty_trace.core.ordering.money import Money, Rates
from zesty_trace.core.ordering.quote import NO_RATES, Offer, Order, cheapest, every_order, quote
from zesty_trace.core.quantities import say_count

TRIM_MOST_MM = 10.0  # more than that is another board
MORE_BOARDS = 3.0  # so many times the boards asked for are worth a word
ON_BENCH_MM = 100.0  # a frame that is so much larger than the board does not line up with it: common practice


@dataclass(frozen=True)
class Question:
    """What is asked of all houses, by when and for how much."""

    houses: tuple[House, ...]
    order: Order
    today: date
    needed_by: date | None = None
    budget: float = 0.0
    rates: Rates = NO_RATES
    here: Calendar = WEEKDAYS

    def offers(self, order: Order | None = None) -> list[Offer]:
        """Return the offers for the order, or for another one instead."""
        order = order or self.order
        return quote(list(self.houses), order, self.today, self.needed_by, self.budget, self.rates, self.here)

    def every_offer(self) -> list[Offer]:
        """Return the offers of all houses in every colour, finish and stencil that they make, cheapest first."""
        found = []
        for house in self.houses:
            for order in every_order(house, self.order):
                found += quote([house], order, self.today, self.needed_by, self.budget, self.rates, self.here)
        return sorted(found, key=lambda o: (o.compared is None, o.amount, o.arrives, o.how))

    def of_house(self, name: str) -> House:
        """Return a house by name."""
        return next(h for h in self.houses if h.name == name)


def reasons(asked: Question, best: Offer) -> list[str]:
    """Return sentences about an offer: what it would be with one thing changed."""
    return [
        *_colour(asked, best),
        *_finish(asked, best),
        *_quantity(asked, best),
        *_size(asked, best),
        *_stencil(asked, best),
        *_speed(asked, best),
    ]


def _day(day: date) -> str:
    return f"{day:%a %d %b}"


def _late(asked: Question, offer: Offer) -> str:
    """Return how an arrival stands to the day; "" without one."""
    if asked.needed_by is None:
        return ""
    days = (offer.arrives - asked.needed_by).days
    if days > 0:
        return f": misses {_day(asked.needed_by)} by {say_count(days, 'day')}"
    return ""


def _same_way(asked: Question, best: Offer, order: Order) -> Offer | None:
    """Return the same house, speed and freight for another order."""
    return next(
        (o for o in asked.offers(order) if (o.house, o.freight, o.speed) == (best.house, best.freight, best.speed)),
        None,
    )


def _colour(asked: Question, best: Offer) -> Iterator[str]:
    house = asked.of_house(best.house)
    mine = house.colours[asked.order.colour]
    quick = min(house.colours, key=lambda c: (house.colours[c].days, house.colours[c].cost, c))
    if mine.days > house.colours[quick].days:
        other = _same_way(asked, best, replace(asked.order, colour=quick))
        if other is not None and other.arrives < best.arrives:
            added = mine.days - house.colours[quick].days
            yield (
                f"{asked.order.colour} adds {say_count(added, 'working day')} at {house.name}{_late(asked, best)}; "
                f"{quick} arrives {_day(other.arrives)}"
            )
    if mine.cost > 0:
        yield f"{asked.order.colour} costs {house.money(mine.cost)} more than {quick} at {house.name}"


def _finish(asked: Question, best: Offer) -> Iterator[str]:
    house = asked.of_house(best.house)
    mine = house.finishes[asked.order.finish]
    plain = min(house.finishes, key=lambda c: (house.finishes[c].cost, house.finishes[c].days, c))
    if mine.cost > house.finishes[plain].cost or mine.days > house.finishes[plain].days:
        more = house.money(mine.cost - house.finishes[plain].cost)
        days = mine.days - house.finishes[plain].days
        late = f" and {say_count(days, 'working day')}" if days > 0 else ""
        yield f"{asked.order.finish} costs {more}{late} more than {plain} at {house.name}"


def _quantity(asked: Question, best: Offer) -> Iterator[str]:
    house = asked.of_house(best.house)
    asked_for = asked.order.quantity
    if best.boards > asked_for:
        yield f"{best.boards} cost what {asked_for} would: {house.name} sells by steps"
    for quantity in house.quantities:
        if not best.boards < quantity <= MORE_BOARDS * asked_for:
            continue
        other = _same_way(asked, best, replace(asked.order, quantity=quantity))
        if other is not None and other.total <= best.total:
            yield f"{quantity} cost the same as {best.boards}"
        elif other is not None:
            yield f"{quantity} boards instead of {best.boards} cost {other.total - best.total} more"
        break
    fewer = [q for q in house.quantities if q < asked_for]
    if fewer:
        other = _same_way(asked, best, replace(asked.order, quantity=fewer[-1]))
        if other is not None and other.total < best.total:
            yield f"{fewer[-1]} boards would save {best.total - other.total}"


def _size(asked: Question, best: Offer) -> Iterator[str]:
    """Say what trimming the board to the next smaller step would save."""
    house = asked.of_house(best.house)
    w, h = asked.order.width_mm, asked.order.height_mm
    for step in reversed(house.size_steps):
        long, short = max(step.up_to_mm), min(step.up_to_mm)
        cuts = [("width", w - a, a, "height", h - b, b) for a, b in ((long, short), (short, long))]
        for name, more, to, other_name, other_more, other_to in cuts:
            over, other_over = max(0.0, more), max(0.0, other_more)
            if over + other_over <= 0 or max(over, other_over) > TRIM_MOST_MM:
                continue
            trimmed = replace(asked.order, width_mm=min(w, to), height_mm=min(h, other_to))
            other = _same_way(asked, best, trimmed)
            if other is None or not other.total < best.total:
                continue
            parts = [f"{v:.1f} mm in {n}" for n, v in ((name, over), (other_name, other_over)) if v > 0]
            saved = best.total - other.total
            yield f"Trim {' and '.join(parts)} to reach the {long:g} x {short:g} mm step and save {saved}"
            return


def _stencil(asked: Question, best: Offer) -> Iterator[str]:
    house = asked.of_house(best.house)
    if asked.order.stencil == "none" or house.stencil is None:
        return
    w, h = asked.order.width_mm, asked.order.height_mm
    framed = house.stencil.framed
    if asked.order.stencil == "frameless" and framed is not None:
        cut = f"{math.ceil((w + 40) / 10) * 10:g} x {math.ceil((h + 40) / 10) * 10:g}"
        size = f"{framed.width_mm:g} x {framed.height_mm:g}"
        yield f"Stencil frameless, cut {cut} mm: the framed one is {size} mm for a board of {w:.0f} x {h:.0f} mm"
    if asked.order.stencil == "framed" and framed is not None and framed.width_mm - w > ON_BENCH_MM:
        saved = house.money(framed.cost) - house.money(house.stencil.cost)
        yield (
            f"The framed stencil is {framed.width_mm:g} x {framed.height_mm:g} mm for a board of {w:.0f} x {h:.0f} mm; "
            f"frameless {'saves' if saved.amount > 0 else 'costs'} {_plain(saved)}"
        )


def _plain(sum_: Money) -> str:
    return str(sum_ if sum_.amount >= 0 else Money(-sum_.amount, sum_.currency))


def _speed(asked: Question, best: Offer) -> Iterator[str]:
    for other in asked.offers():
        if (other.house, other.freight) == (best.house, best.freight) and other.speed != best.speed:
            days = (best.arrives - other.arrives).days
            if other.speed == "express" and days > 0:
                more = other.total - best.total
                yield f"Express build arrives {_day(other.arrives)}, {say_count(days, 'day')} sooner, for {more} more"
            elif other.speed == "standard" and other.total < best.total:
                saved, late = best.total - other.total, _late(asked, other)
                yield f"The standard build saves {saved} and arrives {_day(other.arrives)}{late}"


def trade(asked: Question, offers: list[Offer]) -> str:
    """Return in words what more days would save, or more money would win; "" if one offer has both."""
    best = cheapest(offers)
    if best is None:
        return ""
    later = [o for o in offers if o.compared is not None and o.amount < best.amount]
    if later:
        other = min(later, key=lambda o: o.amount)
        days = (other.arrives - best.arrives).days
        saved = Money(best.amount - other.amount, (other.compared or other.total).currency)
        return f"{say_count(days, 'day')} later saves {saved}: {other.how}"
    return ""
