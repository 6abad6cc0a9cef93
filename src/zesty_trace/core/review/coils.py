"""Rule: the current of a coil must find a way when its switch opens."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.time_constants import coil_pins
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_part, rule
from zesty_trace.core.review.drive import COMMON, add_between
from zesty_trace.core.review.register import static

COIL_SUPPRESSION = rule(
    "coil suppression",
    Severity.STOP,
    "The current of a coil cannot stop at once: without a path it drives the switch far above its rating, and the "
    "spike resets the controller.",
    COMMON,
    limits="a diode across each switched coil",
)


@static
def coil_suppression(wired: Wired) -> Iterator[Finding]:
    """Yield switched inductive loads without a path for their current when the switch opens."""
    for ref in wired.design.parts:
        ends = coil_pins(wired.kind(ref))
        if ends is None:
            continue
        plus, minus = (wired.net_of.get(Pin(ref, n), "") for n in ends)
        if minus in wired.rails or plus == wired.ground:  # a relay's coil has no polarity of its own
            plus, minus = minus, plus
        if not plus or not minus or plus == minus or (minus == wired.ground and plus in wired.rails):
            continue
        if _suppressed(wired, minus, plus):
            continue
        if turned := _diode_at(wired, plus, minus):
            yield COIL_SUPPRESSION.found(
                of_part(ref),
                f"The diode {turned} across {ref} is the wrong way round",
                f"It conducts when {ref} is on, and is a short. Its cathode goes to {plus}.",
                refs=(ref, turned),
                nets=(plus, minus),
                mend=Mend(f"Turn {turned} round", partial(turn_round, ref=turned)),
            )
            continue
        fresh = Part(ref=edits.fresh_ref(wired.design, "D"), kind="schottky_diode", package="D-SMA")
        yield COIL_SUPPRESSION.found(
            of_part(ref),
            f"{ref} has no path for its current when it is switched off",
            f"Put a diode across it, cathode to {plus}. A solid-state switch with a snubber is the other school.",
            nets=(minus,),
            mend=Mend(f"Add {fresh.ref} across {ref}", partial(add_between, part=fresh, first=plus, second=minus)),
        )


def turn_round(design: Design, ref: str) -> Design:
    """Return the design with the two ends of a part exchanged."""
    nets = design.net_of()
    first, second = Pin(ref, "1"), Pin(ref, "2")
    a, b = nets[first], nets[second]
    return edits.connect(edits.connect(design, first, b), second, a)


def _diode_at(wired: Wired, anode: str, cathode: str) -> str | None:
    """Return a diode from one net to another."""
    for pin in wired.on(anode):
        if wired.kind(pin.ref).is_a(m.Diode) and wired.spec(pin).name == "A" and wired.beyond(pin) == cathode:
            return pin.ref
    return None


def _suppressed(wired: Wired, minus: str, plus: str) -> bool:
    """Whether the current of a coil between two nets finds a way when it is switched off.

    A diode to its other end, also with a resistor or a Zener in line; a Zener or a clamp across the switch; the common
    pin of a driver array on its supply; a resistor and a capacitor across it (common practice).
    """
    if _diode_at(wired, minus, plus):
        return True
    return any(
        _diode_in_line(wired, pin, plus) or _clamps(wired, pin, plus) or _array(wired, pin, plus)
        for pin in wired.on(minus)
    )


def _diode_in_line(wired: Wired, pin: Pin, plus: str) -> bool:
    """Whether a part on the coil's switched end leads to its other end through a diode, or through a capacitor."""
    kind = wired.kind(pin.ref)
    beyond = wired.beyond(pin) if len(kind.pins) == 2 else None
    if not beyond or beyond == plus or not wired.signal(beyond):
        return False
    if kind.is_a(m.Diode) and wired.spec(pin).name == "A":
        return any(n.beyond == plus for n in wired.near(beyond, m.Resistor, m.Zener, m.Diode))
    if not kind.is_a(m.Resistor, m.Zener):
        return False
    snubber = any(n.beyond in (plus, wired.ground) for n in wired.near(beyond, m.Capacitor))
    return snubber or _diode_at(wired, beyond, plus) is not None


def _clamps(wired: Wired, pin: Pin, plus: str) -> bool:
    kind = wired.kind(pin.ref)
    clamp = kind.is_a(m.Zener) or kind.facts.stand_off_v is not None
    return clamp and wired.spec(pin).name == "K" and wired.beyond(pin) in (wired.ground, plus)


def _array(wired: Wired, pin: Pin, plus: str) -> bool:
    kind, spec = wired.kind(pin.ref), wired.spec(pin)
    if not kind.is_a(m.Composite) or kind.flipped or kind.pin("COM") is None:
        return False
    net = wired.net_at(pin.ref, "COM")
    return spec.name != "COM" and spec.name not in kind.driven and net != "" and (net == plus or net in wired.rails)
