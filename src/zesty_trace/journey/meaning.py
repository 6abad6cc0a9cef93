"""What the facts of the brief already mean: room, height, load, heat, price, dates, and what is still missing.

Room is that of the packages' courtyards (IPC-7351); more than 60 % of one face is tight for hand routing on two layers
(common practice). Heat is T = ambient + P x R_thetaJA (JESD51-2 defines R_thetaJA).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.shelf import space_mm2
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.days import read_date
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.quote import Offer, cheapest, soonest
from zesty_trace.core.ordering.reasons import Question
from zesty_trace.core.quantities import mm, say, say_count
from zesty_trace.errors import SolveError, ZestyError
from zesty_trace.journey.ordering import ask_houses

TIGHT_SHARE, FULL_SHARE = 0.6, 1.0
MARGIN_C = 20.0


@dataclass(frozen=True)
class Meaning:
    """One thing that follows from the brief and the parts. `word` is fine, look, or missing."""

    what: str
    said: str
    word: str = "fine"


def meanings(wired: Wired, today: date, project: Path | None = None) -> list[Meaning]:
    """Return what follows, in the order of the work."""
    found = [*_room(wired), *_load(wired), *_heat(wired), *_order(wired, today, project)]
    missing = _missing(wired)
    if missing:
        found.append(Meaning("Not said yet", ", ".join(missing), "missing"))
    return found


def _room(wired: Wired) -> Iterator[Meaning]:
    b, parts = wired.design.brief, wired.design.parts
    if not parts or not b.case_width_nm or not b.case_height_nm:
        return
    board = mm(b.case_width_nm) * mm(b.case_height_nm)
    names = {r: p.package or wired.kind(r).packages[0] for r, p in parts.items()}
    area = sum(space_mm2(wired.catalogue, name) for name in names.values())
    share = area / board
    how = (
        "one face has room" if share < TIGHT_SHARE else "tight on one face" if share < FULL_SHARE else "needs two faces"
    )
    yield Meaning(
        "Room",
        f"{say_count(len(parts), 'part')} take {area / 100:.1f} of {board / 100:.1f} cm² ({share:.0%}): {how}",
        "fine" if share < TIGHT_SHARE else "look",
    )
    tallest = max(names, key=lambda r: land_pattern(wired.catalogue.package(names[r])).height_nm)
    high, room = land_pattern(wired.catalogue.package(names[tallest])).height_nm, b.case_depth_nm
    word = "fine" if high <= room else "look"
    yield Meaning("Height", f"{tallest} is the tallest, {mm(high):.1f} mm of {mm(room):.0f} mm in the case", word)


def _load(wired: Wired) -> Iterator[Meaning]:
    if not wired.design.parts:
        return
    try:
        peaks = analyse(wired).pin_peaks()
    except SolveError as error:
        yield Meaning("Load", f"Not worked out: {error}", "missing")
        return
    for ref in wired.of_model(m.Inlet):
        pin = wired.pin_of_role(ref, "supply_out")
        comes = inflow(wired, ref)
        if pin is None or pin not in peaks:
            continue
        amp = abs(peaks[pin])
        yield Meaning(
            "Load",
            f"{ref} gives {say(amp, 'A')} at most, of {say(comes.limit_a, 'A')} at {say(comes.volt, 'V')}",
            "fine" if amp <= comes.limit_a else "look",
        )


def _heat(wired: Wired) -> Iterator[Meaning]:
    if not wired.design.parts:
        return
    try:
        heats = analyse(wired).heats()
    except SolveError:
        return
    if heats:
        hot, total = heats[0], sum(h.power_w for h in heats)
        yield Meaning(
            "Heat",
            f"{hot.ref} is the warmest, {hot.temperature_c:.0f} °C of {hot.limit_c:.0f} °C; "
            f"the board turns up to {say(total, 'W')} to heat at {wired.design.brief.ambient_c:.0f} °C",
            "fine" if hot.temperature_c <= hot.limit_c - MARGIN_C else "look",
        )


def _order(wired: Wired, today: date, project: Path | None) -> Iterator[Meaning]:
    """Say the band of prices, and by when it must be ordered."""
    b = wired.design.brief
    try:
        asked = ask_houses(wired, today, project)
        needed = read_date(b.needed_by)
    except ZestyError as error:
        yield Meaning("Boards", f"Not worked out: {error}", "missing")
        return
    own = [o for o in asked.offers if o.compared is not None]
    cheap, fast = cheapest(own), soonest(own)
    if not cheap or not fast:
        yield Meaning("Boards", "No house on file makes this size", "look")
        return
    low, high = min(o.amount for o in own), max(o.amount for o in own)
    budget = f", budget {b.budget_eur:.0f} {BUDGET_CURRENCY}" if b.budget_eur else ""
    over = bool(b.budget_eur) and float(low) > b.budget_eur
    yield Meaning(
        "Boards",
        f"{say_count(cheap.boards, 'board')} cost {low:.0f} to {high:.0f} {BUDGET_CURRENCY} with freight{budget}",
        "look" if over else "fine",
    )
    yield _dates(asked.question, needed, cheap, fast)


def _latest(asked: Question, needed: date, of: Offer | None = None) -> date | None:
    """Return the last day on which an order is here in time, of one house and freight or of any; weekends count."""
    day = needed
    while day >= asked.today:
        offers = replace(asked, today=day).offers()
        mine = (o for o in offers if of is None or (o.house, o.freight, o.speed) == (of.house, of.freight, of.speed))
        if any(o.arrives <= needed for o in mine):
            return day
        day -= timedelta(days=1)
    return None


def _dates(asked: Question, needed: date | None, cheap: Offer, fast: Offer) -> Meaning:
    days = f"{fast.days} to {cheap.days} days" if fast.days != cheap.days else say_count(fast.days, "day")
    if needed is None:
        return Meaning("Dates", f"Boards take {days}; nobody has said when they are needed", "missing")
    last = _latest(asked, needed)
    if last is None:
        return Meaning(
            "Dates", f"Too late: the soonest are here {fast.arrives:%a %d %b}, needed {needed:%a %d %b}", "look"
        )
    easy = _latest(asked, needed, cheap)
    by = f"by {easy:%a %d %b} for the cheapest, " if easy and easy < last else ""
    return Meaning("Dates", f"Boards take {days}: order {by}by {last:%a %d %b} at the latest")


def _missing(wired: Wired) -> list[str]:
    b = wired.design.brief
    assumed = [r for r in wired.of_model(m.Inlet) if inflow(wired, r).said_by == "assumed"]
    told = (
        (not b.purpose, "what it is for"),
        (not b.needed_by, "when it is needed"),
        (not b.budget_eur, "the budget"),
        (bool(assumed), f"the voltage at {', '.join(assumed)}"),
        (not wired.design.parts, "the prototype's parts and wiring"),
        (not b.template and bool(wired.design.parts), "what the case holds in place"),
    )
    return [text for lacks, text in told if lacks]
