"""What to buy where and how many, and why: the best purchase by money, day or parcels.

The plan says how far it may be from the best (the optimality gap).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from itertools import combinations
from typing import Literal

from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, rounded
from zesty_trace.core.ordering.parts.headers import Cutting
from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.programme import SECONDS, Choice, Market, Programme, Solved
from zesty_trace.core.ordering.parts.suppliers import PartOffer
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import Cancelled

PROVEN = 1e-6
MOST_SETS = 12
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
    """A plan. `short` are needs with how many pieces nobody can send in time; `gap` is the share it may be off.

    `cut` are strips that are cut, bought or there; `by` is the day on which all should be here.
    """

    goal: Goal
    lines: tuple[Bought, ...]
    parcels: tuple[Sent, ...]
    short: tuple[tuple[Need, int], ...]
    total: Money
    gap: float
    left_out: tuple[str, ...] = ()
    cut: tuple[Cutting, ...] = ()
    by: date | None = None

    @property
    def missing(self) -> int:
        """How many pieces are short in all."""
        return sum(count for _, count in self.short)

    @property
    def how_good(self) -> str:
        """How far it may be from the best plan, in words."""
        if self.gap < PROVEN:
            return "no plan is better"
        if math.isinf(self.gap):
            return "how good it is is not known: the time to weigh it was too short"
        return f"at most {100 * self.gap:.2f} % from the best"

    @property
    def until(self) -> str:
        """Until when things can come, in words."""
        return f" by {self.by:%a %d %b}" if self.by is not None and self.goal != "soonest" else ""

    @property
    def late_days(self) -> int:
        """How many days after the day that is asked for the last parcel comes."""
        if self.arrives is None or self.by is None:
            return 0
        return max(0, (self.arrives - self.by).days)

    @property
    def brief(self) -> str:
        """The plan in a line: money, parcels, day, what is short."""
        here = f", here {self.arrives:%a %d %b}" if self.arrives else ""
        late = f", {say_count(self.late_days, 'day')} LATE" if self.late_days else ""
        short = f", {say_count(len(self.short), 'part')} SHORT" if self.short else ""
        return f"{self.total} in {say_count(len(self.parcels), 'parcel')}{here}{late}{short}"

    @property
    def arrives(self) -> date | None:
        """The day on which the last parcel is there; None where nothing is bought."""
        return max((p.arrives for p in self.parcels), default=None)


def buy(market: Market, goal: Goal = "cheapest", report: Report = quiet, seconds: float = SECONDS) -> Purchase:
    """Return the best purchase by a goal; among equally good ones the cheapest. Cancelled if `report` says so.

    What cannot be had in time is short; everything else is still planned. The soonest leaves as little short as can be
    at any time, and may be later than the day that is asked for.
    """
    known = market.known()
    left_out = tuple(
        f"{s.name}: no rate for {s.currency} is known" for k, s in enumerate(market.suppliers) if k not in known
    )
    if not report(0.1, "laying out offers"):
        raise Cancelled
    programme = Programme(replace(market, by=None) if goal == "soonest" else market)
    if not report(0.3, f"weighing {len(programme.choices)} price steps"):
        raise Cancelled
    if goal == "soonest":
        programme = _soonest(programme, report, seconds)
    if goal == "fewest parcels":
        programme, solved = _fewest(programme, report, seconds)
    else:
        solved = programme.solve(False, seconds)
    if not report(0.9, "saying why"):
        raise Cancelled
    return replace(_purchase(programme, goal, solved), left_out=left_out, by=market.by)


def _soonest(p: Programme, report: Report, seconds: float) -> Programme:
    """Return the programme of the first day by which no more is short than must be."""
    days = sorted({p.comes(c, way) for c in p.choices for way in p.usable(c)})
    least, best = p.least_short(seconds), p
    low, high = 0, len(days) - 1
    while low <= high:
        middle = (low + high) // 2
        if not report(0.5, f"trying {days[middle]:%d %b}"):
            raise Cancelled
        tried = Programme(replace(p.market, by=days[middle]))
        if tried.least_short(seconds) <= least:
            best, high = tried, middle - 1
        else:
            low = middle + 1
    return best


def _fewest(p: Programme, report: Report, seconds: float) -> tuple[Programme, Solved]:
    """Return the cheapest plan of the fewest parcels: the best of all sets of so many suppliers, each solved alone.

    That is quicker than one programme that counts parcels; with too many sets it is that one.
    """
    m = p.market
    least, count = (p.fewest(seconds) if p.wanted else None) or (0.0, 0)
    if not count or math.comb(len(m.known()), count) > MOST_SETS:
        return p, p.solve(True, seconds)
    found: list[tuple[Decimal, Programme, Solved]] = []
    for chosen in combinations(m.known(), count):
        if not report(0.5, "weighing " + ", ".join(m.suppliers[k].name for k in chosen)):
            raise Cancelled
        few = Programme(replace(m, suppliers=tuple(m.suppliers[k] for k in chosen)))
        if few.least_short(seconds) <= least:
            solved = few.solve(False, seconds)
            found.append((few.cost(solved), few, solved))
    if not found:
        return p, p.solve(True, seconds)
    _, best, solved = min(found, key=lambda f: f[0])
    solved = solved._replace(gap=max(s.gap for _, _, s in found))
    whole = p.taken_from(best, solved)  # so that reasons can name those who are not bought from
    return (p, whole) if whole is not None else (best, solved)


def _purchase(p: Programme, goal: Goal, solved: Solved) -> Purchase:
    m = p.market
    lines = []
    goods: dict[int, Decimal] = {}
    taken = [(c, count) for c, count in zip(p.choices, solved.counts, strict=False) if count]
    cut = {g.strip: g.cutting for g, done in zip(p.groups, solved.done, strict=False) if done}
    for c, count in taken:
        total = rounded(Money(c.price * count, BUDGET_CURRENCY))
        goods[c.supplier] = goods.get(c.supplier, Decimal(0)) + total.amount
        need, name = p.wanted[c.need], m.suppliers[c.supplier].name
        others = [(m.suppliers[k.supplier].name, n) for k, n in taken if k.need == c.need and k is not c]
        why = f"with {' and '.join(f'{n} from {s}' for s, n in others)}" if others else _why(p, c, count, solved)
        if c.need in cut:
            why = "; ".join(w for w in (cut[c.need].words, why) if w)
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
    there = tuple(c.of_what_is_there for c in m.cut if c.there and c not in cut.values())
    return Purchase(
        goal, tuple(order), tuple(parcels), short, Money(amount, BUDGET_CURRENCY), solved.gap,
        cut=(*there, *cut.values()),
    )  # fmt: skip


def _why(p: Programme, c: Choice, count: int, solved: Solved) -> str:
    """Say why a line is what it is."""
    words = [w for w in (_why_so_many(p, c, count), _why_there(p, c, count, solved)) if w]
    if c.instead:
        words.append(f"stands in: {c.instead}")
    return "; ".join(words)


def _why_so_many(p: Programme, c: Choice, count: int) -> str:
    need = p.wanted[c.need]
    if count <= need.buy:
        return ""
    exact = [k for k in p.choices if (k.need, k.supplier, k.offer.number) == (c.need, c.supplier, c.offer.number)]
    fewer = [k for k in exact if k.least <= need.buy <= k.most]
    fitting = math.ceil(need.buy / c.offer.multiple) * c.offer.multiple
    if fewer and fitting < count:
        saved = fewer[0].price * fitting - c.price * count
        if saved > 0:
            return f"buy {count}, not {fitting}: {rounded(Money(saved, BUDGET_CURRENCY))} cheaper in all"
        return f"{count} for {need.buy}: it makes the freight free, or the order large enough"
    return f"{count} for {need.buy}: " + (
        f"sold by {c.offer.multiple}" if fitting >= count else f"{c.offer.minimum} is the least"
    )


def _why_there(p: Programme, c: Choice, count: int, solved: Solved) -> str:
    """Say why it is not bought where it alone would be cheaper."""
    need, m = p.wanted[c.need], p.market
    others = []
    for k in p.choices:
        pieces = max(k.least, math.ceil(need.buy / k.offer.multiple) * k.offer.multiple)
        if k.need == c.need and k.supplier != c.supplier and pieces <= k.most:
            others.append((k.price * pieces, k))
    if not others:
        return ""
    amount, other = min(others, key=lambda o: o[0])
    more = c.price * count - amount
    if more <= 0:
        return ""
    supplier = m.suppliers[other.supplier]
    sum_ = rounded(Money(more, BUDGET_CURRENCY))
    used = {w.supplier: k for k, w in enumerate(p.ways) if k < len(solved.sent) and solved.sent[k]}
    ways = [k for k, w in enumerate(p.ways) if w.supplier == other.supplier]
    if not p.usable(other):
        first = min(supplier.arrives(x, other.offer.lead_days, m.today, m.here) for x in supplier.parcels)
        because = f"there it comes on {first:%a %d %b}, too late"
    elif other.supplier not in used:
        freight = min(p.ways[k].parcel.cost * m.rate(other.supplier) for k in ways)
        because = f"without a parcel from there, {rounded(Money(freight, BUDGET_CURRENCY))} at least"
    elif used[other.supplier] not in p.usable(other):
        because = "the parcel that is sent from there would be too late with it"
    else:
        because = "it makes the freight free, or the order large enough"
    return f"{sum_} dearer than at {supplier.name}: {because}"
