"""What a shortage means: how many boards can still be built, which wait for what, and what else there is."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

import numpy as np

from zesty_trace.core.ordering.money import Money
from zesty_trace.core.ordering.parts.headers import Cutting
from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.programme import Market
from zesty_trace.core.ordering.parts.sorts import Sort, stands_in, stated_of
from zesty_trace.core.ordering.parts.stock import Drawer
from zesty_trace.core.ordering.parts.suppliers import PartOffer, Supplier
from zesty_trace.core.quantities import say_count

MOST_ALTERNATES = 6
MOST_OFF_PCT = 50.0  # what is further off in value is another part


@dataclass(frozen=True)
class Waiting:
    """Boards that can be built with what is there and comes: by variant, of how many; and what the others wait for."""

    built: dict[str, int]
    of: dict[str, int]
    lacks: dict[str, tuple[tuple[Sort, int], ...]]

    @property
    def words(self) -> str:
        """The boards in words."""
        said = []
        for variant, count in self.of.items():
            name = f" {variant}" if variant else ""
            lacks = ", ".join(f"{n} x {sort}" for sort, n in self.lacks.get(variant, ())[:2])
            waits = f", {count - self.built[variant]} wait for {lacks}" if self.built[variant] < count else ""
            said.append(f"{self.built[variant]} of {count}{name}{waits}")
        return f"Can be built: {'; '.join(said)}" if said else ""


def waiting(batch: Mapping[str, int], needs: Sequence[Need], short: Sequence[tuple[Need, int]]) -> Waiting:
    """Return the most boards that can be built in spite of what is short (a mixed-integer programme).

    Losses are not counted on: what was bought for them may be fitted. Where several sums of boards are as large, more
    of the variant that comes first in the batch.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp

    variants = [v for v, count in batch.items() if count]
    missing = [(n, n.wanted - count, count) for n, count in short if n.by_board]
    most = np.array([float(batch[v]) for v in variants])
    if not missing or not variants:
        return Waiting({v: batch[v] for v in variants}, {v: batch[v] for v in variants}, {})
    rows = np.array([[float(dict(n.by_board).get(v, 0)) for v in variants] for n, _, _ in missing])
    have = np.array([float(there) for _, there, _ in missing])
    worth = np.array([1.0 + 1e-3 * (len(variants) - k) / (1 + sum(batch.values())) for k in range(len(variants))])
    found = milp(
        -worth,
        constraints=LinearConstraint(rows, -np.inf, have),
        bounds=Bounds(np.zeros(len(variants)), most),
        integrality=np.ones(len(variants)),
    )
    counts = {v: round(float(x)) for v, x in zip(variants, found.x, strict=True)}
    lacks = {}
    for k, v in enumerate(variants):
        if counts[v] < batch[v]:
            rest = have - rows @ np.array([float(counts[x]) for x in variants])
            left = batch[v] - counts[v]
            wants = [(n.sort, int(rows[i, k] * left - rest[i])) for i, (n, _, _) in enumerate(missing)]
            lacks[v] = tuple((sort, count) for sort, count in wants if count > 0)
    return Waiting(counts, {v: batch[v] for v in variants}, lacks)


def short_pieces(short: Sequence[tuple[Need, int]], cut: Sequence[Cutting]) -> list[tuple[Need, int]]:
    """Return what is short as parts of boards: for a strip that is short, all pieces that are cut from such strips."""
    found = []
    for need, count in short:
        cutting = next((c for c in cut if c.strip == need), None)
        if cutting is None:
            found.append((need, count))
        else:
            there = {n.sort: k for n, k in cutting.there}
            found += [(n, k - there.get(n.sort, 0)) for n, k in cutting.pieces if k > there.get(n.sort, 0)]
    return found


@dataclass(frozen=True)
class Alternate:
    """Something that might do for what is short: what it is, where, at what price, and on what condition."""

    sort: Sort
    where: str
    condition: str
    price: str = ""


def alternates(market: Market, need: Need, drawers: Sequence[Drawer] = ()) -> list[Alternate]:
    """Return what else there is for a need: the same later, more of it elsewhere, near values, ratings and packages.

    Nothing of it is taken by itself: each has a condition to look at first. The nearest come first. Only parts of the
    same kind are looked at; for a part of an exact version only that version.
    """
    found: list[tuple[float, Alternate]] = []
    for supplier in market.suppliers:
        for offer in supplier.offers:
            if offer.sort.kind == need.sort.kind:
                far, condition = _condition(market, supplier, offer, need)
                price = f"{offer.steps[0][1]:f} {supplier.currency}"
                if condition:
                    found.append((far, Alternate(offer.sort, supplier.name, condition, price)))
    for drawer in drawers:
        if drawer.sort.kind == need.sort.kind and drawer.count:
            far, condition = _unlike(drawer.sort, need)
            if condition:
                where = f"{drawer.count} in {drawer.place or 'a drawer'}"
                found.append((far, Alternate(drawer.sort, where, condition)))
    found.sort(key=lambda x: (x[0], x[1].sort, x[1].where))
    return [a for _, a in found[:MOST_ALTERNATES]]


def _condition(market: Market, supplier: Supplier, offer: PartOffer, need: Need) -> tuple[float, str]:
    """Return how far an offer is from what is needed, and on what condition it would do; "" where none is known."""
    if stands_in(offer.sort, need.sort, need.exact) is None:
        return _unlike(offer.sort, need)
    m = market
    if m.rates.in_budget(Money(Decimal(1), supplier.currency)) is None:
        return 0.3, f"the same, but no rate for {supplier.currency} is known"
    first = min(supplier.arrives(p, offer.lead_days, m.today, m.here) for p in supplier.parcels)
    if m.by is not None and first > m.by:
        days = (first - m.by).days
        return 0.0, f"the same, here {_day(first)}: {say_count(days, 'day')} after it is wanted"
    if offer.stock is not None and offer.stock < max(need.buy, offer.minimum):
        return 0.1, f"the same, {offer.stock} in stock"
    return 0.2, "the same; the order would have to be larger" if supplier.order_least else ""


def _unlike(sort: Sort, need: Need) -> tuple[float, str]:
    """Return how far a part of the same kind is from what is needed, and what must be looked at."""
    if need.exact or stands_in(sort, need.sort) is not None:
        return 9.0, ""
    conditions, far = [], 1.0
    if sort.package and sort.package != need.sort.package:
        conditions.append(f"another package ({sort.package}): the board must be changed")
        far += 2.0
    theirs, mine = stated_of(sort.value), stated_of(need.sort.value)
    if theirs is not None and mine is not None:
        if abs(theirs.value - mine.value) > 1e-6 * max(abs(mine.value), abs(theirs.value)):
            off = 100 * (theirs.value / mine.value - 1) if mine.value else math.inf
            if abs(off) > MOST_OFF_PCT:
                return math.inf, ""
            conditions.append(f"{off:+.0f} % in value: see what the circuit does with it")
            far += abs(off) / 10
        elif stands_in(Sort(sort.kind, sort.value, need.sort.package), need.sort) is None:
            conditions.append("rated less, or its rating is not said")
            far += 0.5
    elif sort.value.casefold() != need.sort.value.casefold():
        conditions.append(f"“{sort.value}” instead of “{need.sort.value}”")
        far += 3.0
    return far, "; ".join(conditions)


def _day(day: date) -> str:
    return f"{day:%a %d %b}"
