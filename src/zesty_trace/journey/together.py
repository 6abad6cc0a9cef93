"""One plan over boards, stencil, panel, suppliers, parcels and days: the cheapest in time, the soonest within the
budget, and the one with the fewest surprises.

Boards and parts meet only in the money and in the day on which building can begin. So all offers for boards that no
other beats, singly and on panels, are put together with all purchases of parts that no other beats in money and day;
each of those is exact (a mixed-integer programme). The best of all pairs is the best of all plans, up to the gap of the
purchases; if there are more purchases than are weighed, that is said.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money
from zesty_trace.core.ordering.panels import on_panels
from zesty_trace.core.ordering.parts.buying import Purchase, buy
from zesty_trace.core.ordering.parts.programme import Market
from zesty_trace.core.ordering.quote import Offer, comparable
from zesty_trace.core.ordering.reasons import Question, reasons
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import Cancelled
from zesty_trace.journey.buying import market_of
from zesty_trace.journey.hours import load_own
from zesty_trace.journey.ordering import ask_houses
from zesty_trace.journey.scheduling import Plan, doubt_days, plan_of

MOST_PURCHASES = 16  # of different days: the frontier of parts is followed so far


@dataclass(frozen=True)
class Together:
    """Boards and parts of one plan, its calendar, and how it came to be chosen."""

    name: str
    plan: Plan
    words: tuple[str, ...]

    @property
    def spent(self) -> Decimal:
        """What is paid for boards and parts, in the budget's currency."""
        return spent(self.plan)


@dataclass(frozen=True)
class Answer:
    """The plans that were chosen of all that were weighed; `gap` is how far a purchase may be from the best."""

    chosen: tuple[Together, ...]
    weighed: int
    gap: float
    notes: tuple[str, ...]


def spent(plan: Plan) -> Decimal:
    """Return what is paid for boards and parts, with what was ordered before, in the budget's currency."""
    boards = plan.offer.compared.amount if plan.offer is not None and plan.offer.compared is not None else Decimal(0)
    return plan.ordered + boards + (plan.parts.total.amount if plan.parts is not None else Decimal(0))


def purchases(market: Market, report: Report = quiet) -> tuple[list[Purchase], list[str]]:
    """Return the purchases that no other beats in money and day, the cheapest and latest first; and what is said."""
    if not market.suppliers:
        return [], ["No supplier is known: parts are taken to be here already"]
    notes: list[str] = []
    free = replace(market, by=None)
    found: list[Purchase] = []
    by: date | None = None
    least: int | None = None
    while True:
        if len(found) == MOST_PURCHASES:
            notes.append(f"Purchases sooner than {found[-1].arrives:%a %d %b} were not weighed")
            break
        plan = buy(replace(free, by=by), "cheapest")
        least = plan.missing if least is None else least
        if plan.missing > least or plan.arrives is None:
            break
        found.append(plan)
        by = plan.arrives - timedelta(days=1)
        if not report(0.6 * len(found) / MOST_PURCHASES, f"weighing purchases: {plan.arrives:%d %b}"):
            raise Cancelled
    return found, notes


def together(wired: Wired, project: Path, today: date, report: Report = quiet) -> Answer:
    """Return the cheapest plan in time, the soonest within the budget, and the one with the fewest surprises.

    InputError for files that cannot be read; Cancelled.
    """
    asked = ask_houses(wired, today, project)
    question = asked.question
    boards: list[Offer | None] = [None]  # of boards that were ordered only the parts are still open
    if not asked.ordered:
        houses = list(question.houses)
        panels = on_panels(houses, question.order, today, question.needed_by, question.budget, question.rates)
        boards = [*_unbeaten([*asked.offers, *panels])] or [None]
    market, wrong = market_of(wired, project, today)
    parts, notes = purchases(market, report)
    notes = [*map(str, wrong), *notes]
    own = load_own(project)
    plans = []
    goods: list[Purchase | None] = list(parts) or [None]
    if parts:  # fewer parcels, fewer surprises
        fewest = [buy(replace(market, by=day), "fewest parcels", report) for day in dict.fromkeys((market.by, None))]
        goods += [p for p in fewest if p.missing <= parts[0].missing]
    pairs = [(o, p) for o in boards for p in goods]
    for k, (offer, bought) in enumerate(pairs):
        if not report(0.6 + 0.4 * k / len(pairs), "putting boards and parts together"):
            raise Cancelled
        plans.append(plan_of(wired, project, today, offer, bought, own))
    gap = max((p.gap for p in goods if p is not None), default=0.0)
    chosen = _choose(plans, question.budget)
    return Answer(
        tuple(Together(name, plan, tuple(_words(plan, plans, question))) for name, plan in chosen),
        len(plans), gap, tuple(dict.fromkeys([*notes, *(n for p in plans for n in p.notes)])),
    )  # fmt: skip


def _unbeaten(offers: Sequence[Offer]) -> list[Offer]:
    """Return the offers that no other beats in money, day and doubt, the soonest first."""
    found: list[Offer] = []
    for offer in sorted(comparable(list(offers)), key=lambda o: (o.arrives, o.amount, doubt_days(o))):
        if not any(o.amount <= offer.amount and doubt_days(o) <= doubt_days(offer) for o in found):
            found.append(offer)
    return found


def _choose(plans: Sequence[Plan], budget: float) -> list[tuple[str, Plan]]:
    timely = [p for p in plans if p.schedule.needed is None or p.schedule.ready <= p.schedule.needed]
    paid = [p for p in plans if budget <= 0 or spent(p) <= Decimal(str(budget))]
    cheapest = min(timely or plans, key=lambda p: (spent(p), p.schedule.ready))
    soonest = min(paid or plans, key=lambda p: (p.schedule.ready, spent(p)))
    surest = max(paid or plans, key=lambda p: (p.schedule.likely or 0.0, -spent(p)))
    dear = "" if paid else ", though above the budget"
    return [
        ("the cheapest in time" if timely else "the cheapest, for nothing is in time", cheapest),
        (f"the soonest within the budget{dear}", soonest),
        (f"the fewest surprises{dear}", surest),
    ]


def _words(plan: Plan, plans: Sequence[Plan], question: Question) -> list[str]:
    """Say what a plan is, and what one change would win."""
    s = plan.schedule
    words = []
    if plan.parts is not None and plan.parts.short:
        lacks = ", ".join(str(n.sort) for n, _ in plan.parts.short[:3])
        others = " and more" if len(plan.parts.short) > 3 else ""
        words.append(f"Nobody sends {lacks}{others}: all below holds only if they are found elsewhere")
    if plan.offer is not None:
        words.append(f"Boards from {plan.offer.how}: {plan.offer.total}, here {plan.offer.arrives:%a %d %b}")
    for sent in plan.parts.parcels if plan.parts is not None else ():
        sums = f"{sent.goods} and {sent.cost}"
        words.append(f"Parts from {sent.supplier} by {sent.parcel}: {sums}, here {sent.arrives:%a %d %b}")
    likely = f", in time in {100 * s.likely:.0f} cases of 100" if s.likely is not None else ""
    words.append(f"Ready {s.ready:%a %d %b}{likely}")
    cheaper = [p for p in plans if spent(p) < spent(plan)]
    if cheaper:
        other = min(cheaper, key=lambda p: (spent(p), p.schedule.ready))
        days = (other.schedule.ready - s.ready).days
        saved = Money(spent(plan) - spent(other), BUDGET_CURRENCY)
        when = f"{say_count(days, 'day')} later" if days > 0 else f"Ready {other.schedule.ready:%a %d %b}"
        words.append(f"{when} saves {saved}: {_differs(plan, other)}")
    sooner = [p for p in plans if p.schedule.ready < s.ready]
    if sooner:
        other = min(sooner, key=lambda p: (p.schedule.ready, spent(p)))
        more = Money(spent(other) - spent(plan), BUDGET_CURRENCY)
        days = (s.ready - other.schedule.ready).days
        cost = f"costs {more} more" if more.amount > 0 else f"saves {Money(-more.amount, BUDGET_CURRENCY)}"
        words.append(f"{say_count(days, 'day')} sooner {cost}: {_differs(plan, other)}")
    if plan.offer is not None and "panel" not in plan.offer.freight:
        words += reasons(question, plan.offer)
    return words


def _differs(plan: Plan, other: Plan) -> str:
    """Say what is other about another plan."""
    said = []
    if other.offer is not None and other.offer is not plan.offer:
        said.append(f"boards from {other.offer.how}")
    if other.parts is not None and other.parts is not plan.parts:
        parcels = ", ".join(f"{p.supplier} {p.parcel}" for p in other.parts.parcels)
        said.append(f"parts by {parcels}" if parcels else "no parts")
    return "; ".join(said) or "the same"
