"""Rules on the brief: what it lacks or contradicts, and what does not fit into the case."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from functools import partial

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, rule
from zesty_trace.core.quantities import mm
from zesty_trace.core.review.prototype import prototype_findings

BRIEF = rule(
    "brief",
    Severity.FIX,
    "Later stations check against the brief; what it does not say cannot be checked.",
    "common practice",
    limits="a quantity, a date to come, a budget, parts, and a case that holds them",
    station="brief",
)
OWN_SUPPLY = rule(
    "own supply",
    Severity.FIX,
    "Every voltage and all the heat are worked out from the supply.",
    "USB Type-C: 5 V by default",
    limits="0.5 V from what the inlet gives by itself",
    station="brief",
)
OWN_SUPPLY_V = 0.5


def own_supply_v(wired: Wired) -> float | None:
    """Return the voltage that an inlet gives by itself, with nothing on the board to negotiate another; else None."""
    kinds = [wired.kind(ref) for ref in wired.design.parts]
    if any(k.choices for k in kinds):
        return None
    return next((k.facts.gives_v for k in kinds if k.facts.gives_v is not None), None)


def brief_findings(wired: Wired, today: date | None = None) -> list[Finding]:
    """Return what the brief lacks or contradicts, and where the prototype's readings differ from the model."""
    return [*_asked(wired, today), *_supply(wired), *_case(wired), *prototype_findings(wired)]


def _asked(wired: Wired, today: date | None) -> Iterator[Finding]:
    b = wired.design.brief

    def lacks(which: str, title: str, detail: str) -> Finding:
        return BRIEF.found(Subject(which=which), title, detail)

    if not wired.design.parts:
        yield lacks("parts", "There are no parts yet", "Import the prototype: parts.csv and wiring.csv.")
    if b.quantity < 1:
        yield lacks("quantity", "No boards are asked for", "Set the quantity to 1 or more.")
    needed = None
    try:
        needed = date.fromisoformat(b.needed_by) if b.needed_by else None
    except ValueError:
        title = f"“{b.needed_by[:40]}” is no date that is understood"
        yield lacks("date", title, "Write the day on which the boards are needed as year-month-day.")
    if not b.needed_by:
        yield lacks("date", "There is no date", "Set the day on which the boards are needed.")
    elif today and needed is not None and needed < today:
        yield lacks("date", f"The boards were needed by {needed:%d %b %Y}", "That day is over: set a new one.")
    if b.budget_eur <= 0:
        yield lacks("budget", "There is no budget", "Set what the boards may cost.")


def _supply(wired: Wired) -> Iterator[Finding]:
    said, own = wired.design.brief.supply_v, own_supply_v(wired)
    if own and said and abs(own - said) > OWN_SUPPLY_V:
        yield OWN_SUPPLY.found(
            Subject(),
            f"The brief says {said:g} V, the inlet gives {own:g} V",
            "Nothing on the board asks the source for more. Set the supply, or add a negotiation chip.",
            value=said,
            limit=own,
            unit="V",
            mend=Mend(f"Set the supply to {own:g} V", partial(edits.set_brief, supply_v=own)),
        )


def _case(wired: Wired) -> Iterator[Finding]:
    b = wired.design.brief
    for hole in b.template:
        if not (0 <= hole.x_nm <= b.case_width_nm and 0 <= hole.y_nm <= b.case_height_nm):
            yield BRIEF.found(
                of_part(hole.ref, "template"),
                f"The case holds {hole.ref} outside the board",
                "Check its place, or the board's size.",
                refs=(),
            )
    for ref in wired.design.parts:
        height = wired.package(ref).height + wired.raised.get(ref, 0) / 1e6
        if height > mm(b.case_depth_nm):
            yield BRIEF.found(
                of_part(ref, "height"),
                f"{ref} is {height:g} mm tall, the case has {mm(b.case_depth_nm):g} mm",
                "Take a lower package, lay it down, or choose a deeper case.",
                refs=(),
                value=height,
                limit=mm(b.case_depth_nm),
                unit="mm",
            )
