"""What comes in at an inlet: by the inlet's own word, its standard, the brief, or, if nobody says, an assumption."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.wired import Wired, worked_out
from zesty_trace.core.stated import rating, read_stated
from zesty_trace.errors import InputError

Sayer = Literal["inlet", "standard", "negotiated", "brief", "assumed"]
LOW_V, HIGH_V = 5.0, 12.0  # the two usual supplies of a bench, common practice
LOGIC_MOST_V = 6.5  # a part on the inlet's own net that stands less than this means the lower one


@dataclass(frozen=True)
class Inflow:
    """The voltage of an inlet, the current that its source gives (A), and who says so."""

    volt: float
    limit_a: float
    said_by: Sayer


@worked_out
def inflow(wired: Wired, ref: str) -> Inflow:
    """Return what comes in at an inlet."""
    brief, kind, value = wired.design.brief, wired.kind(ref), wired.design.parts[ref].value
    limit = rating(value, "A")
    amp = brief.supply_limit_a if limit is None else limit
    own = _own(value)
    if own:
        return Inflow(own, amp, "inlet")
    asked = _negotiated(wired)
    if kind.facts.gives_v is not None and asked is None:
        return Inflow(kind.facts.gives_v, amp, "standard")
    if brief.supply_v > 0:
        return Inflow(brief.supply_v, amp, "brief")
    if kind.facts.gives_v is not None and asked:
        return Inflow(asked, amp, "negotiated")
    return Inflow(_likely(wired, ref), amp, "assumed")


def _own(value: str) -> float:
    try:
        found = read_stated(value)
    except InputError:
        return 0.0
    return found.value if found.unit in ("V", "") else 0.0


def _negotiated(wired: Wired) -> float | None:
    """Return the highest voltage that a part of the board can ask for; None if nothing asks."""
    volts = [c.volt for ref in wired.design.parts for c in wired.kind(ref).choices]
    return max(volts, default=None)


def _likely(wired: Wired, ref: str) -> float:
    plus = wired.pin_of_role(ref, "supply_out")
    net = wired.net_of.get(plus, "") if plus else ""
    stands = [wired.kind(p.ref).facts.feed_range_v for p in wired.on(net) if not wired.kind(p.ref).is_a(m.Inlet)]
    return LOW_V if any(s and s[1] <= LOGIC_MOST_V for s in stands) else HIGH_V
