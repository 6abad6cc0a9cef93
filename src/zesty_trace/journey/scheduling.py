"""The calendar of a project: houses, parcels, the maker's hours, the chain that decides, what a change would win."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.labour import Job, jobs_of
from zesty_trace.core.ordering.maker import Own
from zesty_trace.core.ordering.money import BUDGET_CURRENCY, Money, rounded
from zesty_trace.core.ordering.ordered import BoardsOrdered
from zesty_trace.core.ordering.parts.buying import Purchase, buy
from zesty_trace.core.ordering.parts.need import batch_of
from zesty_trace.core.ordering.quote import Offer, cheapest, soonest
from zesty_trace.core.ordering.schedule import PARCEL_SPREAD, Schedule, Wait, schedule
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.journey.buying import expected, market_of, spent_on_orders
from zesty_trace.journey.hours import load_own, needed_by
from zesty_trace.journey.ordering import Asked, ask_houses, load_ordered, load_rates

FILES_HOURS = 0.5
NEED_BOARDS = ("printing", "hand", "cleaning")
CONSUMABLES_EUR = Decimal("0.35")  # paste, flux, alcohol, wipes for a board: common practice


@dataclass(frozen=True)
class Plan:
    """A schedule with what it is made of; `notes` say what is not known."""

    schedule: Schedule
    offer: Offer | None
    parts: Purchase | None
    own: Own
    boards: int
    notes: tuple[str, ...] = ()
    ordered: Decimal = Decimal(0)  # what was ordered before
    taken: bool = False  # whether the boards were ordered

    @property
    def costs(self) -> dict[str, Decimal]:
        """What it costs by what it is spent on, in the budget's currency; nothing where prices do not compare."""
        offered = self.offer.compared if self.offer is not None else None
        if offered is None and not self.taken:
            return {}
        hours = sum(t.hours for t in self.schedule.tasks)
        parts = self.parts
        freight = sum((p.cost.amount for p in parts.parcels), Decimal(0)) if parts is not None else Decimal(0)
        return {
            "boards and stencil": offered.amount if offered is not None else Decimal(0),
            "parts": parts.total.amount - freight if parts is not None else Decimal(0),
            "freight of parts": freight,
            "ordered before": self.ordered,
            "consumables": CONSUMABLES_EUR * self.boards,
            "hours": Decimal(str(round(hours, 4))) * Decimal(str(self.own.maker.rate_eur_per_h)),
        }

    @property
    def cost(self) -> Money | None:
        """What all boards cost together; None where prices do not compare."""
        return rounded(Money(sum(self.costs.values(), Decimal(0)), BUDGET_CURRENCY)) if self.costs else None

    @property
    def cost_each(self) -> Money | None:
        """What a finished board costs, those that fail counted in by the expected yield."""
        if self.cost is None or not self.boards:
            return None
        good = Decimal(self.boards) * Decimal(str(self.own.yield_))
        return rounded(Money(self.cost.amount / good, BUDGET_CURRENCY))


def plan_of(
    wired: Wired,
    project: Path,
    today: date,
    offer: Offer | None = None,
    parts: Purchase | None = None,
    own: Own | None = None,
    report: Report = quiet,
    draws: int = 4000,
) -> Plan:
    """Return the calendar for the cheapest offers in time, or for those that are given. InputError, Cancelled."""
    notes = []
    taken = load_ordered(project)
    offer = None if taken is not None else offer or cheapest(ask_houses(wired, today, project).offers)
    own = own or load_own(project)
    if parts is None:
        parts, said = _bought(wired, project, today, report)
        notes += said
    if parts is not None and parts.short:
        notes.append(f"{say_count(len(parts.short), 'part')} cannot be had: the day holds only if they are found")
    if offer is None and taken is None:
        notes.append("No house makes the boards, or their prices do not compare: their days are not in the schedule")
    batch = batch_of(wired)
    waits, needs = _waits(today, offer, parts)
    if taken is not None:
        waits.insert(0, _on_the_way(taken, today))
        needs.update({key: ["boards"] for key in NEED_BOARDS})
        if not taken.here and taken.expected < today:
            notes.append(f"The boards were expected {taken.expected:%a %d %b}: they are counted as here today")
    for name, day in expected(project).items():
        waits.append(Wait(f"order {name}", f"{name[11:-4]} on the way", today, max(today, day or today), 0.0))
        needs.setdefault("kitting", []).append(f"order {name}")
        if day is None or day < today:
            late = f"was expected {day:%a %d %b}" if day else "has no day on which it is expected"
            notes.append(f"{name} {late}: it is counted as here today")
    jobs = [Job("files", "Files written and looked through", FILES_HOURS), *jobs_of(wired, batch, own.placing)]
    found = schedule(today, waits, jobs, needs, own.maker, needed_by(wired.design), draws)
    ordered, unknown = spent_on_orders(project)
    notes += [f"The freight of {', '.join(unknown)} is not in the cost"] if unknown else []
    if taken is not None:
        paid = load_rates(project).in_budget(taken.total)
        ordered += paid.amount if paid is not None else Decimal(0)
        notes += [f"{taken.total} for boards is not in the cost: no rate is known"] if paid is None else []
    return Plan(found, offer, parts, own, sum(batch.values()), tuple(notes), ordered, taken is not None)


def _on_the_way(taken: BoardsOrdered, today: date) -> Wait:
    """Return the wait for boards that were ordered: none if they are here."""
    if taken.here:
        return Wait("boards", "Boards are here", today, today)
    ends = max(today, taken.expected)
    return Wait("boards", "Boards on the way", today, ends, PARCEL_SPREAD * (ends - today).days)


def _bought(wired: Wired, project: Path, today: date, report: Report) -> tuple[Purchase | None, list[str]]:
    """Return the cheapest purchase in time, or the soonest where that leaves less short; and what is to be said."""
    market, wrong = market_of(wired, project, today)
    said = [str(e) for e in wrong]
    if not market.suppliers:
        return None, [*said, "No supplier is known: parts are taken to be here already"]
    cheapest = buy(market, "cheapest", report)
    if not cheapest.short:
        return cheapest, said
    first = buy(market, "soonest", report)
    if first.missing >= cheapest.missing:
        return cheapest, said
    by = f"by {market.by:%a %d %b}" if market.by else "in time"
    return first, [*said, f"Not all parts can be here {by}, when the work must begin: the soonest purchase is taken"]


def doubt_days(offer: Offer) -> float:
    """Return how much later the parcel of an offer is in one case of ten: as the sheet says, else by its way."""
    return offer.days_late or PARCEL_SPREAD * (offer.arrives - offer.ships).days


def _waits(today: date, offer: Offer | None, parts: Purchase | None) -> tuple[list[Wait], dict[str, list[str]]]:
    waits = []
    needs: dict[str, list[str]] = {}
    if offer is not None:
        late = doubt_days(offer)
        waits.append(Wait("fabrication", f"Boards made by {offer.house}", today, offer.ships))
        waits.append(
            Wait("boards", f"Boards under way, {offer.freight}", offer.ships, offer.arrives, late, ("fabrication",))
        )
        needs.update({key: ["boards"] for key in NEED_BOARDS})
    for sent in parts.parcels if parts is not None else ():
        key = f"parts {sent.supplier}"
        late = PARCEL_SPREAD * (sent.arrives - today).days
        waits.append(Wait(key, f"Parts of {sent.supplier}, {sent.parcel}", today, sent.arrives, late))
        needs.setdefault("kitting", []).append(key)
    return waits, needs


def wins(wired: Wired, project: Path, today: date, plan: Plan, asked: Asked | None = None) -> list[str]:
    """Return what one change would win in days or money: other boards, other parts, more hours."""
    asked = asked or ask_houses(wired, today, project)
    said = []
    quick = soonest(asked.offers) if not plan.taken else None
    if quick is not None and plan.offer is not None and quick is not plan.offer:
        other = plan_of(wired, project, today, quick, plan.parts, plan.own, draws=0)
        said += _won(plan, other, f"boards from {quick.how}")
    market, _ = market_of(wired, project, today)
    if plan.parts is not None and plan.parts.lines:
        fast = buy(market, "soonest")
        other = plan_of(wired, project, today, plan.offer, fast, plan.own, draws=0)
        said += _won(plan, other, "the soonest parts")
        if quick is not None and not any("win " in w and "no day" not in w for w in said):
            both = plan_of(wired, project, today, quick, fast, plan.own, draws=0)
            said += _won(plan, both, f"the soonest parts and boards from {quick.how} together")
    more = replace(
        plan.own, maker=replace(plan.own.maker, hours=tuple(h + 1 if h else 0.0 for h in plan.own.maker.hours))
    )
    other = plan_of(wired, project, today, plan.offer, plan.parts, more, draws=0)
    said += _won(plan, other, "an hour more on each working day")
    return said


def _won(plan: Plan, other: Plan, what: str) -> list[str]:
    days = (plan.schedule.ready - other.schedule.ready).days
    if days <= 0:
        return [f"{what} would win no day"]
    cost = ""
    if plan.cost is not None and other.cost is not None and other.cost.amount != plan.cost.amount:
        more = other.cost.amount - plan.cost.amount
        cost = f" for {abs(more):.2f} {BUDGET_CURRENCY} {'more' if more > 0 else 'less'}"
    return [f"{what} would win {say_count(days, 'day')}{cost}"]


def calendar_bytes(plan: Plan, name: str, made: date) -> bytes:
    """Return the schedule as an iCalendar file (RFC 5545): a day-long event for each task."""
    from icalendar import Calendar as File
    from icalendar import Event

    file = File()
    file.add("prodid", "-//Zesty Trace//schedule//EN")
    file.add("version", "2.0")
    for task in plan.schedule.tasks:
        event = Event()
        event.add("uid", f"{task.key.replace(' ', '-')}-{made.isoformat()}@zesty-trace")
        event.add("dtstamp", datetime(made.year, made.month, made.day))
        event.add("summary", f"{name}: {task.title}")
        event.add("dtstart", task.start)
        event.add("dtend", task.end + timedelta(days=1))
        hours = f"{task.hours:.1f} h of work. " if task.hours else ""
        chain = "It decides the day of all." if task.critical else f"{say_count(task.slack_days, 'day')} of slack."
        event.add("description", hours + chain)
        file.add_component(event)
    return bytes(file.to_ical())
