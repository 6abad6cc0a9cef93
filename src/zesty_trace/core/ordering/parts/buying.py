"""What to buy where and how many: a mixed-integer programme over suppliers, price steps and parcels (HiGHS).

For every offer and price step there is a count of lots and whether the step is taken; for every supplier and way of
sending whether that parcel is sent, with free freight as a way of its own that needs enough goods. Money is counted in
ten-thousandths. The plan says how far it may be from the best (the optimality gap).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Any, Literal, NamedTuple

import numpy as np

from zesty_trace.core.ordering.days import WEEKDAYS, Calendar
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, Rates, rounded
from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.sorts import stands_in
from zesty_trace.core.ordering.parts.suppliers import Parcel, PartOffer, Supplier
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled

UNIT = Decimal("0.0001")
NO_RATES = Rates()
SECONDS = 20.0
PROVEN = 1e-6
Goal = Literal["cheapest", "soonest", "fewest parcels"]
GOALS: tuple[Goal, ...] = ("cheapest", "soonest", "fewest parcels")


@dataclass(frozen=True)
class Bought:
    """A line of a purchase: what is bought for a need, where, how many, and why it is so."""

    need: Need
    supplier: str
    offer: PartOffer
    count: int
    price: Decimal
    total: Money
    instead: str
    why: str = ""


@dataclass(frozen=True)
class Sent:
    """A parcel of a purchase."""

    supplier: str
    parcel: str
    cost: Money
    arrives: date
    goods: Money


@dataclass(frozen=True)
class Purchase:
    """A plan. `short` are needs with how many pieces nobody can send in time; `gap` is the share it may be off."""

    goal: Goal
    lines: tuple[Bought, ...]
    parcels: tuple[Sent, ...]
    short: tuple[tuple[Need, int], ...]
    total: Money
    gap: float
    left_out: tuple[str, ...] = ()

    @property
    def how_good(self) -> str:
        """How far it may be from the best plan, in words."""
        if self.gap < PROVEN:
            return "no plan is better"
        if math.isinf(self.gap):
            return "how good it is is not known: the time to weigh it was too short"
        return f"at most {100 * self.gap:.2f} % from the best"

    @property
    def arrives(self) -> date | None:
        """The day on which the last parcel is there; None where nothing is bought."""
        return max((p.arrives for p in self.parcels), default=None)


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


def buy(market: Market, goal: Goal = "cheapest", report: Report = quiet, seconds: float = SECONDS) -> Purchase:
    """Return the best purchase by a goal; among equally good ones the cheapest. Cancelled if `report` says so.

    What cannot be had in time is short; everything else is still planned.
    """
    wanted = tuple(n for n in market.needs if n.buy)
    known = [k for k, s in enumerate(market.suppliers) if market.rates.in_budget(Money(Decimal(1), s.currency))]
    left_out = tuple(
        f"{s.name}: no rate for {s.currency} is known" for k, s in enumerate(market.suppliers) if k not in known
    )
    if not report(0.1, "laying out offers"):
        raise Cancelled
    ways = [w for k in known for w in _ways(market, k)]
    choices = [c for k in known for c in _choices(market, wanted, k)]
    if not report(0.3, f"weighing {len(choices)} price steps"):
        raise Cancelled
    programme = _Programme(market, wanted, choices, ways)
    solved = programme.solve(goal == "fewest parcels", seconds)
    if goal == "soonest":
        programme, solved = _soonest(programme, solved, known, seconds)
    if not report(0.9, "saying why"):
        raise Cancelled
    return _purchase(programme, goal, solved, left_out)


def _soonest(p: _Programme, whole: _Solved, known: list[int], seconds: float) -> tuple[_Programme, _Solved]:
    """Return the cheapest plan for the first day by which no more is short than must be."""
    m = p.market
    days = sorted({p.comes(c, way) for c in p.choices for way in p.usable(c)})
    low, high, best = 0, len(days) - 1, (p, whole)
    while low <= high:
        middle = (low + high) // 2
        sooner = replace(m, by=days[middle])
        ways = [w for k in known for w in _ways(sooner, k)]
        tried = _Programme(sooner, p.wanted, p.choices, ways)
        solved = tried.solve(False, seconds)
        if sum(solved.short) <= sum(whole.short):
            best, high = (tried, solved), middle - 1
        else:
            low = middle + 1
    return best


def _rate(market: Market, supplier: Supplier) -> Decimal:
    if supplier.currency == BUDGET_CURRENCY:
        return Decimal(1)
    return market.rates.per[supplier.currency]


def _rate_of(market: Market, k: int) -> Decimal:
    return _rate(market, market.suppliers[k])


def _ways(market: Market, k: int) -> list[Way]:
    supplier = market.suppliers[k]
    rate = _rate(market, supplier)
    found = []
    for parcel in supplier.parcels:
        if market.by is not None and supplier.arrives(parcel, 0, market.today, market.here) > market.by:
            continue
        cost = rounded(Money(parcel.cost * rate, BUDGET_CURRENCY)).amount
        found.append(Way(k, parcel, cost, supplier.order_least * rate))
        if parcel.free_from > 0 and cost > 0:
            found.append(Way(k, parcel, Decimal(0), max(parcel.free_from, supplier.order_least) * rate))
    return found


def _choices(market: Market, wanted: Sequence[Need], k: int) -> list[Choice]:
    supplier = market.suppliers[k]
    rate = _rate(market, supplier)
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


class _Solved(NamedTuple):
    counts: list[int]
    sent: list[int]
    short: list[int]
    gap: float


class _Programme:
    """The programme: columns are lots and takings of every choice, ways, and pieces that are short of every need."""

    def __init__(self, market: Market, wanted: Sequence[Need], choices: list[Choice], ways: list[Way]) -> None:
        self.market, self.wanted, self.choices, self.ways = market, wanted, choices, ways
        self.lots = 0
        self.takes = len(choices)
        self.sends = 2 * len(choices)
        self.shorts = self.sends + len(ways)
        self.width = self.shorts + len(wanted)
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
        return max(freight, self.market.suppliers[supplier].order_least * _rate_of(self.market, supplier))

    def most(self, k: int) -> int:
        """Return the most pieces of a choice that can make sense: what is needed, and what reaches free freight."""
        c = self.choices[k]
        lots = math.ceil(self.wanted[c.need].buy / c.offer.multiple)
        more = self._worth_more(c.supplier)
        if more > 0 and c.price > 0:
            lots += math.ceil(more / (c.price * c.offer.multiple))
        return max(c.least, min(c.most, lots * c.offer.multiple))

    def _lay_out(self) -> None:
        for n, need in enumerate(self.wanted):
            row = {self.lots + k: float(c.offer.multiple) for k, c in enumerate(self.choices) if c.need == n}
            self._row({**row, self.shorts + n: 1.0}, need.buy, np.inf)
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
        for w, way in enumerate(self.ways):
            found[self.sends + w] = _units(way.cost)
        return found

    def solve(self, few_parcels: bool, seconds: float) -> _Solved:
        """Leave as little short as can be, then send as few parcels as can be if asked, then pay least."""
        if not self.wanted:
            return _Solved([], [], [], 0.0)
        shorts, sends = np.zeros(self.width), np.zeros(self.width)
        shorts[self.shorts :], sends[self.sends : self.shorts] = 1.0, 1.0
        first = self._run(shorts, [], seconds)
        if first is None:
            return _Solved([0] * len(self.choices), [0] * len(self.ways), [n.buy for n in self.wanted], math.inf)
        kept = [(shorts, round(first.fun))]
        if few_parcels:
            fewest = self._run(sends, kept, seconds)
            kept += [(sends, round(fewest.fun))] if fewest is not None else []
        last = self._run(self._costs(), kept, seconds)
        if last is None:  # the time was too short to weigh money: what is here is a plan, how good is not known
            last, off = first, math.inf
        else:
            off = max(0.0, last.fun - (last.mip_dual_bound or 0.0)) / max(abs(last.fun), 1.0)
        x = np.rint(last.x).astype(int).tolist()
        counts = [x[self.lots + k] * c.offer.multiple for k, c in enumerate(self.choices)]
        return _Solved(counts, x[self.sends : self.shorts], x[self.shorts :], float(off))

    def _run(self, costs: Any, kept: list[tuple[Any, int]], seconds: float) -> Any:
        """Solve with these costs, keeping what was reached before; None if time was too short for any plan."""
        from scipy.optimize import Bounds, LinearConstraint, milp
        from scipy.sparse import csr_array, vstack

        upper = np.zeros(self.width)
        for k, c in enumerate(self.choices):
            upper[self.lots + k] = self.most(k) // c.offer.multiple
            upper[self.takes + k] = 1
        upper[self.sends : self.shorts] = 1
        upper[self.shorts :] = [n.buy for n in self.wanted]
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


def _purchase(p: _Programme, goal: Goal, solved: _Solved, left_out: tuple[str, ...]) -> Purchase:
    m = p.market
    lines = []
    goods: dict[int, Decimal] = {}
    taken = [(c, count) for c, count in zip(p.choices, solved.counts, strict=False) if count]
    for c, count in taken:
        total = rounded(Money(c.price * count, BUDGET_CURRENCY))
        goods[c.supplier] = goods.get(c.supplier, Decimal(0)) + total.amount
        need, name = p.wanted[c.need], m.suppliers[c.supplier].name
        others = [(m.suppliers[k.supplier].name, n) for k, n in taken if k.need == c.need and k is not c]
        why = f"with {' and '.join(f'{n} from {s}' for s, n in others)}" if others else _why(p, c, count)
        lines.append(Bought(need, name, c.offer, count, c.price, total, c.instead, why))
    parcels = []
    for way, sent in zip(p.ways, solved.sent, strict=False):
        if sent and way.supplier in goods:
            supplier = m.suppliers[way.supplier]
            pairs = zip(p.choices, solved.counts, strict=False)
            slowest = max((c.offer.lead_days for c, n in pairs if n and c.supplier == way.supplier), default=0)
            comes = supplier.arrives(way.parcel, slowest, m.today, m.here)
            paid, cost = (Money(v, BUDGET_CURRENCY) for v in (goods[way.supplier], way.cost))
            parcels.append(Sent(supplier.name, way.parcel.name, cost, comes, paid))
    short = tuple((need, count) for need, count in zip(p.wanted, solved.short, strict=False) if count)
    amount = sum(goods.values(), Decimal(0)) + sum((s.cost.amount for s in parcels), Decimal(0))
    order = sorted(lines, key=lambda b: (b.supplier, b.need.sort))
    return Purchase(goal, tuple(order), tuple(parcels), short, Money(amount, BUDGET_CURRENCY), solved.gap, left_out)


def _why(p: _Programme, c: Choice, count: int) -> str:
    """Say why a line is what it is."""
    need = p.wanted[c.need]
    words = []
    if count > need.buy:
        exact = [k for k in p.choices if (k.need, k.supplier, k.offer.number) == (c.need, c.supplier, c.offer.number)]
        fewer = [k for k in exact if k.least <= need.buy <= k.most]
        fitting = math.ceil(need.buy / c.offer.multiple) * c.offer.multiple
        if fewer and fitting < count:
            saved = fewer[0].price * fitting - c.price * count
            if saved > 0:
                words.append(f"buy {count}, not {fitting}: {rounded(Money(saved, BUDGET_CURRENCY))} cheaper in all")
        if not words:
            because = f"sold by {c.offer.multiple}" if fitting >= count else f"{c.offer.minimum} is the least"
            words.append(f"{count} for {need.buy}: {because}")
    others = [
        (k.price * max(k.least, math.ceil(need.buy / k.offer.multiple) * k.offer.multiple), k)
        for k in p.choices
        if k.need == c.need and k.supplier != c.supplier
    ]
    if others:
        cheapest = min(others, key=lambda o: o[0])
        more = c.price * count - cheapest[0]
        name = p.market.suppliers[cheapest[1].supplier].name
        if more > 0:
            sum_ = rounded(Money(more, BUDGET_CURRENCY))
            words.append(f"{sum_} dearer than at {name}, but saves a parcel or comes in time")
    if c.instead:
        words.append(f"stands in: {c.instead}")
    return "; ".join(words)
