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
from zesty_trace.core.ordering.ordered import BoardOrders
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
PARCELS = ("parts ", "order ")  # the keys of waits for parts begin so
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
    before = _ordered_before(project, today)
    taken = bool(before.boards)
    offer = None if taken else offer or cheapest(ask_houses(wired, today, project).offers)
    own = own or load_own(project)
    if parts is None:
        parts, said = _bought(wired, project, today, report)
        notes += said
    if parts is not None and parts.short:
        notes.append(f"{say_count(len(parts.short), 'part')} cannot be had: the day holds only if they are found")
    if offer is None and not taken:
        notes.append("No house makes the boards, or their prices do not compare: their days are not in the schedule")
    batch = batch_of(wired)
    waits = [*before.waits, *_waits(today, offer, parts)]
    boards = ["boards"] if any(w.key == "boards" for w in waits) else []
    needs = dict.fromkeys(NEED_BOARDS, boards) | {"kitting": [w.key for w in waits if w.key.startswith(PARCELS)]}
    jobs = [Job("files", "Files written and looked through", FILES_HOURS), *jobs_of(wired, batch, own.placing)]
    found = schedule(today, waits, jobs, needs, own.maker, needed_by(wired.design), draws)
    return Plan(found, offer, parts, own, sum(batch.values()), (*notes, *before.notes), before.spent, taken)


@dataclass(frozen=True)
class _Before:
    """What was ordered before: boards, what is waited for, what it cost in the budget's currency, what is to say."""

    boards: BoardOrders
    waits: tuple[Wait, ...]
    spent: Decimal
    notes: tuple[str, ...]


def _ordered_before(project: Path, today: date) -> _Before:
    """Return what a project has ordered. InputError."""
    spent, unknown = spent_on_orders(project)
    notes = [f"The freight of {', '.join(unknown)} is not in the cost"] if unknown else []
    waits = []
    taken = load_ordered(project)
    if taken:
        waits.append(_boards_on_the_way(taken, today))
    for order in taken.coming:
        if order.expected < today:
            notes.append(f"The boards were expected {order.expected:%a %d %b}: they are counted as here today")
    for order in taken.standing:
        paid = load_rates(project).in_budget(order.total)
        spent += paid.amount if paid is not None else Decimal(0)
        notes += [f"{order.total} for boards is not in the cost: no rate is known"] if paid is None else []
    for name, day in expected(project).items():
        ends = max(today, day or today)
        late = PARCEL_SPREAD * (ends - today).days
        waits.append(Wait(f"order {name}", f"{name[11:-4]} on the way", today, ends, late))
        if day is None or day < today:
            when = f"was expected {day:%a %d %b}" if day else "has no day on which it is expected"
            notes.append(f"{name} {when}: it is counted as here today")
    return _Before(taken, tuple(waits), spent, tuple(notes))


def _boards_on_the_way(taken: BoardOrders, today: date) -> Wait:
    """Return the wait for the last boards that were ordered, as much in doubt as when offered; none if all are here."""
    if not taken.coming:
        return Wait("boards", "Boards are here", today, today)
    last = max(taken.coming, key=lambda o: o.expected)
    ends = max(today, last.expected)
    late = last.days_late or PARCEL_SPREAD * (ends - max(today, min(last.ships, ends))).days
    return Wait("boards", "Boards on the way", today, ends, late if ends > today else 0.0)


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


def _waits(today: date, offer: Offer | None, parts: Purchase | None) -> list[Wait]:
    """Return the waits for what is not ordered yet."""
    waits = []
    if offer is not None:
        under_way = f"Boards under way, {offer.freight}"
        waits.append(Wait("fabrication", f"Boards made by {offer.house}", today, offer.ships))
        waits.append(Wait("boards", under_way, offer.ships, offer.arrives, doubt_days(offer), ("fabrication",)))
    for sent in parts.parcels if parts is not None else ():
        late = PARCEL_SPREAD * (sent.arrives - today).days
        title = f"Parts of {sent.supplier}, {sent.parcel}"
        waits.append(Wait(f"parts {sent.supplier}", title, today, sent.arrives, late))
    return waits


def wins(wired: Wired, project: Path, today: date, plan: Plan, asked: Asked | None = None) -> list[str]:
    """Return what one change would win in days or money: other boards, other parts, more hours."""
    asked = asked or ask_houses(wired, today, project)

    def other(offer: Offer | None = plan.offer, parts: Purchase | None = plan.parts, own: Own = plan.own) -> Plan:
        return plan_of(wired, project, today, offer, parts, own, draws=0)

    changes: list[tuple[str, Plan]] = []
    quick = soonest(asked.offers) if plan.offer is not None else None
    if quick is not None and quick is not plan.offer:
        changes.append((f"boards from {quick.how}", other(quick)))
    if plan.parts is not None and plan.parts.lines:
        fast = buy(market_of(wired, project, today)[0], "soonest")
        changes.append(("the soonest parts", other(parts=fast)))
        if quick is not None and all(_days_won(plan, p) <= 0 for _, p in changes):
            changes.append((f"the soonest parts and boards from {quick.how} together", other(quick, fast)))
    longer = replace(plan.own.maker, hours=tuple(h + 1 if h else 0.0 for h in plan.own.maker.hours))
    changes.append(("an hour more on each working day", other(own=replace(plan.own, maker=longer))))
    return [_won(plan, changed, what) for what, changed in changes]


def _days_won(plan: Plan, other: Plan) -> int:
    return (plan.schedule.ready - other.schedule.ready).days


def _won(plan: Plan, other: Plan, what: str) -> str:
    days = _days_won(plan, other)
    if days <= 0:
        return f"{what} would win no day"
    cost = ""
    if plan.cost is not None and other.cost is not None and other.cost.amount != plan.cost.amount:
        more = other.cost.amount - plan.cost.amount
        cost = f" for {abs(more):.2f} {BUDGET_CURRENCY} {'more' if more > 0 else 'less'}"
    return f"{what} would win {say_count(days, 'day')}{cost}"


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
