"""The mixed-integer programme of a purchase: suppliers, price steps, parcels, strips that are cut (HiGHS).

For every offer and price step there is a count of lots and whether the step is taken; for every supplier and way of
sending whether that parcel is sent, with free freight as a way of its own that needs enough goods; for every sort of
strip whether its pieces are cut or bought. Money is counted in ten-thousandths.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Any, NamedTuple

import numpy as np

from zesty_trace.core.ordering.days import WEEKDAYS, Calendar
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, Rates, rounded
from zesty_trace.core.ordering.parts.headers import Cutting
from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.sorts import stands_in
from zesty_trace.core.ordering.parts.suppliers import Parcel, PartOffer, Supplier

UNIT = Decimal("0.0001")
NO_RATES = Rates()
SECONDS = 20.0


class Choice(NamedTuple):
    """One price step of one offer for one need: prices in the budget's currency."""

    need: int
    supplier: int
    offer: PartOffer
    least: int
    most: int
    price: Decimal
    instead: str


class Way(NamedTuple):
    """One way that a supplier sends: the parcel, what it costs and how many goods it needs, budget's currency."""

    supplier: int
    parcel: Parcel
    cost: Decimal
    needs_goods: Decimal


@dataclass(frozen=True)
class Market:
    """What is needed and who sells it, on a day."""

    needs: tuple[Need, ...]
    suppliers: tuple[Supplier, ...]
    today: date
    by: date | None = None
    rates: Rates = NO_RATES
    here: Calendar = WEEKDAYS
    cut: tuple[Cutting, ...] = ()
    line_cost: Decimal = Decimal(0)  # what one order line more is worth to the maker; it is not paid

    def rate(self, k: int) -> Decimal:
        """Return what one unit of the currency of a supplier costs in the budget's currency."""
        currency = self.suppliers[k].currency
        return Decimal(1) if currency == BUDGET_CURRENCY else self.rates.per[currency]

    def known(self) -> list[int]:
        """Return the suppliers whose prices can be counted."""
        return [k for k, s in enumerate(self.suppliers) if self.rates.in_budget(Money(Decimal(1), s.currency))]


def ways_of(market: Market, k: int) -> list[Way]:
    """Return the ways in which a supplier sends anything in time."""
    supplier, rate = market.suppliers[k], market.rate(k)
    found = []
    for parcel in supplier.parcels:
        if market.by is not None and supplier.arrives(parcel, 0, market.today, market.here) > market.by:
            continue
        cost = rounded(Money(parcel.cost * rate, BUDGET_CURRENCY)).amount
        found.append(Way(k, parcel, cost, supplier.order_least * rate))
        if parcel.free_from > 0 and cost > 0:
            found.append(Way(k, parcel, Decimal(0), max(parcel.free_from, supplier.order_least) * rate))
    return found


def choices_of(market: Market, wanted: Sequence[Need], k: int) -> list[Choice]:
    """Return the price steps at which a supplier sells what is wanted."""
    supplier, rate = market.suppliers[k], market.rate(k)
    found = []
    for n, need in enumerate(wanted):
        for offer in supplier.offers:
            if offer.sort.kind != need.sort.kind:
                continue
            instead = stands_in(offer.sort, need.sort, need.exact)
            if instead is None:
                continue
            for step, (least, price) in enumerate(offer.steps):
                last = offer.steps[step + 1][0] - 1 if step + 1 < len(offer.steps) else 10**9
                most = min(last, offer.stock if offer.stock is not None else 10**9)
                low = max(least, offer.minimum)
                low = math.ceil(low / offer.multiple) * offer.multiple
                high = most // offer.multiple * offer.multiple
                if low <= high:
                    found.append(Choice(n, k, offer, low, high, price * rate, instead))
    return found


class Solved(NamedTuple):
    """How many pieces of each choice, which ways are used, what is short of each need, which cuttings are done."""

    counts: list[int]
    sent: list[int]
    short: list[int]
    done: list[int]
    gap: float


class Group(NamedTuple):
    """A cutting for which strips would be bought: its strips and its pieces among what is wanted."""

    cutting: Cutting
    strip: int
    pieces: tuple[int, ...]


class Programme:
    """The programme: columns are lots and takings of every choice, ways, what is short of every need, cuttings."""

    def __init__(self, market: Market) -> None:
        self.market = market
        known = market.known()
        there = {n.sort: count for c in market.cut for n, count in c.there}
        needs = (replace(n, cut=there.get(n.sort, 0)) for n in market.needs)
        wanted = [n for n in needs if n.buy]
        offered = {o.sort.kind for k in known for o in market.suppliers[k].offers}
        self.groups: list[Group] = []
        for c in market.cut:
            sorts = {n.sort for n, _ in c.pieces}
            pieces = tuple(i for i, n in enumerate(wanted) if n.sort in sorts)
            if pieces and c.plan.bought and c.strip.sort.kind in offered:
                self.groups.append(Group(c, len(wanted), pieces))
                wanted.append(c.strip)
        self.wanted = wanted
        self.choices = [c for k in known for c in choices_of(market, wanted, k)]
        self.ways = [w for k in known for w in ways_of(market, k)]
        self.lots = 0
        self.takes = len(self.choices)
        self.sends = 2 * len(self.choices)
        self.shorts = self.sends + len(self.ways)
        self.cuts = self.shorts + len(wanted)
        self.width = self.cuts + len(self.groups)
        self.rows: list[dict[int, float]] = []
        self.low: list[float] = []
        self.high: list[float] = []
        self._lay_out()

    def _row(self, entries: dict[int, float], low: float, high: float) -> None:
        self.rows.append(entries)
        self.low.append(low)
        self.high.append(high)

    def comes(self, choice: Choice, way: int) -> date:
        """Return when something of a choice is here, sent in a way."""
        m = self.market
        supplier = m.suppliers[choice.supplier]
        return supplier.arrives(self.ways[way].parcel, choice.offer.lead_days, m.today, m.here)

    def usable(self, choice: Choice) -> list[int]:
        """Return the ways in which something of this choice is here in time."""
        by = self.market.by
        mine = [w for w, way in enumerate(self.ways) if way.supplier == choice.supplier]
        return [w for w in mine if by is None or self.comes(choice, w) <= by]

    def _worth_more(self, supplier: int) -> Decimal:
        """Return for how much more than is needed buying can pay: the freight that it saves, or the least order."""
        free = any(w.needs_goods > 0 and w.cost == 0 for w in self.ways if w.supplier == supplier)
        freight = max((w.cost for w in self.ways if w.supplier == supplier), default=Decimal(0)) if free else Decimal(0)
        return max(freight, self.market.suppliers[supplier].order_least * self.market.rate(supplier))

    def most(self, k: int) -> int:
        """Return the most pieces of a choice that can make sense: what is needed, and what reaches free freight."""
        c = self.choices[k]
        lots = math.ceil(self.wanted[c.need].buy / c.offer.multiple)
        more = self._worth_more(c.supplier)
        if more > 0 and c.price > 0:
            lots += math.ceil(more / (c.price * c.offer.multiple))
        return max(c.least, min(c.most, lots * c.offer.multiple))

    def _lay_out(self) -> None:
        strips = {g.strip: self.cuts + j for j, g in enumerate(self.groups)}
        pieces = {n: self.cuts + j for j, g in enumerate(self.groups) for n in g.pieces}
        for n, need in enumerate(self.wanted):
            row = {self.lots + k: float(c.offer.multiple) for k, c in enumerate(self.choices) if c.need == n}
            row[self.shorts + n] = 1.0
            if n in pieces:
                row[pieces[n]] = float(need.buy)
            if n in strips:
                row[strips[n]] = -float(need.buy)
            self._row(row, 0.0 if n in strips else need.buy, np.inf)
        offers: dict[tuple[int, str], list[int]] = {}
        for k, c in enumerate(self.choices):
            lot, take = self.lots + k, self.takes + k
            self._row({lot: float(c.offer.multiple), take: -float(c.least)}, 0.0, np.inf)
            self._row({lot: float(c.offer.multiple), take: -float(self.most(k))}, -np.inf, 0.0)
            self._row({take: 1.0, **{self.sends + w: -1.0 for w in self.usable(c)}}, -np.inf, 0.0)
            offers.setdefault((c.supplier, c.offer.number), []).append(k)
        for (_, _), ks in offers.items():
            for n in {self.choices[k].need for k in ks}:
                self._row({self.takes + k: 1.0 for k in ks if self.choices[k].need == n}, 0.0, 1.0)
            stock = self.choices[ks[0]].offer.stock
            if stock is not None and len(ks) > 1:
                self._row({self.lots + k: float(self.choices[k].offer.multiple) for k in ks}, 0.0, float(stock))
        for k in {w.supplier for w in self.ways}:
            mine = [w for w, way in enumerate(self.ways) if way.supplier == k]
            self._row({self.sends + w: 1.0 for w in mine}, 0.0, 1.0)
            goods = {self.lots + i: self._cost(c) for i, c in enumerate(self.choices) if c.supplier == k}
            for w in mine:
                if self.ways[w].needs_goods > 0:
                    self._row({**goods, self.sends + w: -_units(self.ways[w].needs_goods)}, 0.0, np.inf)

    def _cost(self, c: Choice) -> float:
        """Return what a lot costs, in units."""
        return _units(c.price * c.offer.multiple)

    def _costs(self) -> Any:
        """Return what each column costs, in units."""
        found = np.zeros(self.width)
        for k, c in enumerate(self.choices):
            found[self.lots + k] = self._cost(c)
            found[self.takes + k] = _units(self.market.line_cost)
        for w, way in enumerate(self.ways):
            found[self.sends + w] = _units(way.cost)
        return found

    def cost(self, solved: Solved) -> Decimal:
        """Return what a plan costs, with what its lines are worth."""
        line = self.market.line_cost
        goods = (c.price * n + line for c, n in zip(self.choices, solved.counts, strict=True) if n)
        sent = (w.cost for w, used in zip(self.ways, solved.sent, strict=True) if used)
        return sum(goods, Decimal(0)) + sum(sent, Decimal(0))

    def taken_from(self, other: Programme, solved: Solved) -> Solved | None:
        """Return what was solved with fewer suppliers, as a solution of this programme; None if needs differ."""
        if other.wanted != self.wanted:
            return None

        def name(p: Programme, supplier: int) -> str:
            return p.market.suppliers[supplier].name

        counts = {
            (c.need, name(other, c.supplier), c.offer.number, c.least): n
            for c, n in zip(other.choices, solved.counts, strict=True)
        }
        sent = {(name(other, w.supplier), *w[1:]): n for w, n in zip(other.ways, solved.sent, strict=True)}
        return solved._replace(
            counts=[counts.get((c.need, name(self, c.supplier), c.offer.number, c.least), 0) for c in self.choices],
            sent=[sent.get((name(self, w.supplier), *w[1:]), 0) for w in self.ways],
        )

    def weights(self) -> list[float]:
        """Return what a piece weighs that is short of each need: a strip as much as the pieces that are cut from it."""
        found = [1.0] * len(self.wanted)
        for g in self.groups:
            found[g.strip] = float(math.ceil(sum(self.wanted[n].buy for n in g.pieces) / g.cutting.plan.bought))
        return found

    def _shorts(self) -> Any:
        found = np.zeros(self.width)
        found[self.shorts : self.cuts] = self.weights()
        return found

    def least_short(self, seconds: float) -> float:
        """Return how little can be short in all, by weight; infinite if time was too short to say."""
        if not self.wanted:
            return 0.0
        first = self._run(self._shorts(), [], seconds)
        return float(round(first.fun)) if first is not None and first.status == 0 else math.inf

    def fewest(self, seconds: float) -> tuple[float, int] | None:
        """Return how little can be short, and the fewest parcels for that; None if time was too short to say."""
        first = self._run(self._shorts(), [], seconds)
        if first is None or first.status != 0:
            return None
        sends = np.zeros(self.width)
        sends[self.sends : self.shorts] = 1.0
        least = self._run(sends, [(self._shorts(), round(first.fun))], seconds)
        return (float(round(first.fun)), round(least.fun)) if least is not None and least.status == 0 else None

    def solve(self, few_parcels: bool, seconds: float) -> Solved:
        """Leave as little short as can be, then send as few parcels as can be if asked, then pay least."""
        if not self.wanted:
            return Solved([], [], [], [], 0.0)
        shorts, sends = self._shorts(), np.zeros(self.width)
        sends[self.sends : self.shorts] = 1.0
        first = self._run(shorts, [], seconds)
        if first is None:
            nothing = [0] * len(self.choices), [0] * len(self.ways)
            return Solved(*nothing, [n.buy for n in self.wanted], [0] * len(self.groups), math.inf)
        kept = [(shorts, round(first.fun))]
        if few_parcels:
            fewest = self._run(sends, kept, seconds)
            kept += [(sends, round(fewest.fun))] if fewest is not None else []
        last = self._run(self._costs(), kept, seconds)
        if last is None:  # the time was too short to weigh money: what is here is a plan, how good is not known
            last, off = first, math.inf
        else:
            off = max(0.0, last.fun - (last.mip_dual_bound or 0.0)) / max(abs(last.fun), 1.0)
        if first.status != 0:  # nor is it known whether less could be short
            off = math.inf
        x = np.rint(last.x).astype(int).tolist()
        counts = [x[self.lots + k] * c.offer.multiple for k, c in enumerate(self.choices)]
        return Solved(counts, x[self.sends : self.shorts], x[self.shorts : self.cuts], x[self.cuts :], float(off))

    def _run(self, costs: Any, kept: list[tuple[Any, int]], seconds: float) -> Any:
        """Solve with these costs, keeping what was reached before; None if time was too short for any plan."""
        from scipy.optimize import Bounds, LinearConstraint, milp
        from scipy.sparse import csr_array, vstack

        upper = np.zeros(self.width)
        for k, c in enumerate(self.choices):
            upper[self.lots + k] = self.most(k) // c.offer.multiple
            upper[self.takes + k] = 1
        upper[self.sends : self.shorts] = 1
        upper[self.shorts : self.cuts] = [n.buy for n in self.wanted]
        upper[self.cuts :] = 1
        entries = [(i, j, v) for i, row in enumerate(self.rows) for j, v in row.items()]
        i, j, v = zip(*entries, strict=True)
        matrix = csr_array((v, (i, j)), shape=(len(self.rows), self.width))
        if kept:
            matrix = vstack([matrix, csr_array(np.array([row for row, _ in kept]))])
        low = [*self.low, *[-np.inf] * len(kept)]
        high = [*self.high, *[float(most) for _, most in kept]]
        found = milp(
            costs,
            constraints=LinearConstraint(matrix, low, high),
            bounds=Bounds(np.zeros(self.width), upper),
            integrality=np.ones(self.width),
            options={"time_limit": seconds, "mip_rel_gap": 0.0},
        )
        return found if found.x is not None else None


def _units(sum_: Decimal) -> float:
    return float(sum_ / UNIT)
