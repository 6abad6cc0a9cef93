"""Rules on connections: every pin accounted for, no net that ends in the air, a ground to measure from."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, of_part, rule
from zesty_trace.core.review.register import static

WHY = "A pin that was forgotten looks just like one left open on purpose, until the board does not start."


UNCONNECTED_PIN = rule(
    "unconnected pin",
    Severity.FIX,
    WHY,
    "common practice: every pin accounted for",
    limits="every pin on a net of two pins or more, or left open on purpose",
)
GROUND = rule(
    "ground",
    Severity.STOP,
    "Every voltage is measured against ground; without it nothing can be worked out.",
    "common practice",
    limits="one net of ground pins",
)


def unaccounted_pins(wired: Wired) -> list[Pin]:
    """Return pins that are on no net and not marked as left open. Pins that the kind says to leave open do not count."""
    design = wired.design
    placed = {*wired.net_of, *design.not_connected}
    return [p for p, spec in wired.pins() if p not in placed and spec.role != "no_connect"]


@static
def unconnected_pins(wired: Wired) -> Iterator[Finding]:
    """Yield, part by part, pins that are not accounted for."""
    by_part: dict[str, list[Pin]] = {}
    for pin in unaccounted_pins(wired):
        by_part.setdefault(pin.ref, []).append(pin)
    for ref, pins in by_part.items():
        roles = {s.number: s.role for s in wired.kind(ref).pins}
        needed = [p for p in pins if roles[p.number] in ("supply_in", "ground")]
        names = ", ".join(wired.label(p) for p in pins)
        yield UNCONNECTED_PIN.found(
            of_part(ref),
            f"{ref}: {len(pins)} pin{'s' if len(pins) > 1 else ''} not accounted for",
            f"{names} {'go' if len(pins) > 1 else 'goes'} nowhere. Connect, or say that it is meant."
            + (" A supply or ground pin is among them." if needed else ""),
            severity=Severity.STOP if needed else Severity.FIX,
            value=float(len(pins)),
            limit=0.0,
            unit="pins",
            mend=None if needed else Mend("Leave open on purpose", partial(_leave_all, pins=tuple(pins))),
        )


def _leave_all(design: Design, pins: tuple[Pin, ...]) -> Design:
    for pin in pins:
        design = edits.leave_open(design, pin)
    return design


@static
def lonely_nets(wired: Wired) -> Iterator[Finding]:
    """Yield nets with a single pin."""
    for net, pins in wired.design.nets.items():
        if len(pins) == 1:
            yield UNCONNECTED_PIN.found(
                of_net(net),
                f"{net} ends in the air",
                f"Only {wired.label(pins[0])} is on it. Connect its other end, or take the pin off.",
                source="common practice",
                refs=(pins[0].ref,),
                value=1.0,
                limit=2.0,
                unit="pins",
            )


@static
def ground_missing(wired: Wired) -> Iterator[Finding]:
    """Yield a finding if nothing says which net is ground."""
    if wired.design.parts and not wired.ground:
        yield GROUND.found(Subject(), "There is no ground net", "Put the ground pins on one net, for example GND.")
