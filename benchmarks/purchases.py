"""How long purchases of 60 parts at 4 suppliers take, how good they are: `python -m benchmarks.purchases [markets]`.

Beside each purchase stands a plain one: every part where it alone is cheapest, then the freight of all who send.
"""

from __future__ import annotations

import random
import statistics
import sys
import time
from collections.abc import Sequence
from datetime import date
from decimal import Decimal

from zesty_trace.core.ordering.parts.buying import GOALS, buy
from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.programme import Market
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.suppliers import Parcel, PartOffer, Supplier

LINES, SHOPS = 60, 4
TODAY = date(2026, 11, 27)


def random_market(seed: int) -> Market:
    """Return needs and suppliers with steps, minimums, multiples, stock, lead days, free freight, least orders."""
    r = random.Random(seed)
    needs = tuple(Need(Sort(f"kind_{n}", "10k", "R0603"), "part", (), r.randint(5, 200), 0, 0) for n in range(LINES))
    shops = []
    for s in range(SHOPS):
        offers = []
        for need in needs:
            if r.random() < 0.8:
                base, counts = Decimal(r.randint(5, 3000)) / 1000, sorted(r.sample([1, 5, 10, 25, 50, 100, 250], 3))
                steps = tuple((n, (base * Decimal(100 - 12 * k) / 100)) for k, n in enumerate(counts))
                stock, lead = r.choice([None, None, r.randint(50, 500)]), r.choice([0, 0, 1, 5])
                multiple = r.choice([1, 1, 5, 10])
                offers.append(PartOffer(f"{s}-{need.sort.kind}", need.sort, steps, 1, multiple, stock, lead))
        parcels = (
            Parcel("post", 4, Decimal("4.90"), Decimal(r.choice([40, 80, 150]))),
            Parcel("express", 1, Decimal(15)),
        )
        least = Decimal(r.choice([0, 0, 20]))
        shops.append(Supplier(f"S{s}", "EUR", parcels, tuple(offers), order_least=least))
    return Market(needs, tuple(shops), TODAY, date(2026, 12, 14))


def plain(m: Market) -> Decimal:
    """Return what it costs to buy each part where it alone is cheapest; what stock and least orders say is left out."""
    total, used = Decimal(0), set()
    for need in m.needs:
        found = [
            (offer.price(count) * count, k)
            for k, shop in enumerate(m.suppliers)
            for offer in shop.offers
            if offer.sort == need.sort
            for count in [-(-max(need.buy, offer.minimum) // offer.multiple) * offer.multiple]
        ]
        if found:
            cost, k = min(found)
            total += cost
            used.add(k)
    return total + sum((m.suppliers[k].parcels[0].cost for k in used), Decimal(0))


def main() -> None:
    """Print a table."""
    markets = [random_market(k) for k in range(int(sys.argv[1]) if len(sys.argv) > 1 else 8)]
    buy(markets[0])  # the solver is imported
    print(f"{LINES} parts at {SHOPS} suppliers, {len(markets)} markets")
    for goal in GOALS:
        times, gaps, shares = [], [], []
        for market in markets:
            start = time.perf_counter()
            plan = buy(market, goal)
            times.append(time.perf_counter() - start)
            gaps.append(plan.gap)
            shares.append(float(plan.total.amount / plain(market)))
        money = f"money {statistics.median(shares):.3f} of the plain one"
        print(f"{goal:15} {_of(times)} s, gap at most {max(gaps):.1e}, {money}")


def _of(times: Sequence[float]) -> str:
    return f"{statistics.median(times):5.2f} in the median, {max(times):5.2f} at worst"


if __name__ == "__main__":
    main()
