"""Rules on what is driven: LEDs, controller pins, gates, coils, resistors, capacitors."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.markings import at_least
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.drivers import drivers
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_part, of_pin, rule
from zesty_trace.core.quantities import say, say_part_value
from zesty_trace.core.review.register import solved, static
from zesty_trace.core.stated import leading_value, rating

COMMON = "common practice"
RESISTOR_SHARE = 0.7
CAPACITOR_SHARE = 0.8


LED_CURRENT = rule(
    "LED current",
    Severity.STOP,
    "Past its rating an LED fades in weeks, or goes at once; half the rating is bright enough.",
    "rating of the part kind; current solved over all states",
    limits="rated current of the kind",
)
PIN_CURRENT = rule(
    "pin current",
    Severity.STOP,
    "An overloaded pin drops its level, then dies.",
    "rating of the part kind; current solved over all states",
    limits="pin_max_a of the kind",
)
GATE_PULL_DOWN = rule(
    "gate pull-down",
    Severity.FIX,
    "During reset and flashing controller pins are inputs; a floating gate turns on by itself.",
    COMMON,
    limits="a resistor from the gate to the source",
)
RESISTOR_POWER = rule(
    "resistor power",
    Severity.FIX,
    "A resistor at its rating is too hot to touch, drifts, and browns the board.",
    "rating of the package at 70 °C; power solved over all states",
    limits="0.7 of the power of the package",
)
CAPACITOR_RATING = rule(
    "capacitor rating",
    Severity.FIX,
    "Past its rating a capacitor fails short, an electrolytic with a bang. Keep a fifth in hand.",
    COMMON,
    limits="0.8 of the stated voltage",
)
POLARITY = rule(
    "polarity",
    Severity.STOP,
    "A reversed electrolytic heats up and bursts. Wear eye protection.",
    COMMON,
    limits="the way in which an electrolytic stands",
)


def add_between(design: Design, part: Part, first: str, second: str) -> Design:
    """Add a two-pin part with pin 1 on `first` and pin 2 on `second`."""
    design, ref = edits.add_fresh_part(design, part)
    return edits.connect(edits.connect(design, Pin(ref, "1"), first), Pin(ref, "2"), second)


@solved
def led_current(wired: Wired) -> Iterator[Finding]:
    """Yield LEDs that carry more than their rated current, with the series value that gives half of it."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if not isinstance(kind.model, m.Led):
            continue
        amp, rated = peaks.get(Pin(ref, "1"), 0.0), kind.model.rated_a
        if amp <= rated:
            continue
        series = _series_resistor(wired, ref)
        mend = None
        detail = "It has no series resistor: put one in line."
        if series:
            wanted = say_part_value(at_least(_series_for(wired, ref, series, amp, rated / 2), 12))
            detail = (
                f"{series} is {wired.design.parts[series].value}; {wanted} would give about {say(rated / 2, 'A', 2)}."
            )
            mend = Mend(f"Make {series} {wanted}", partial(edits.change_part, ref=series, value=wanted))
        yield LED_CURRENT.found(
            of_part(ref),
            f"{ref} would carry {say(amp, 'A', 2)}, rated {say(rated, 'A', 2)}",
            detail,
            refs=(ref, *((series,) if series else ())),
            value=amp,
            limit=rated,
            unit="A",
            mend=mend,
        )


def _series_for(wired: Wired, ref: str, series: str, amp: float, wanted_a: float) -> float:
    """Return the series value for a current, from the circuit itself: i = V / (R + Rs) through two solved points."""
    now = leading_value(wired.design.parts[series].value) or 1.0
    more = now + 100.0
    trial = analyse(wired.with_design(edits.change_part(wired.design, series, value=f"{more:g}")))
    less = trial.pin_peaks().get(Pin(ref, "1"), 0.0)
    if less <= 0 or less >= amp:
        return 2 * now
    volt = (more - now) / (1 / less - 1 / amp)
    return volt / wanted_a - (volt / amp - now)


def _series_resistor(wired: Wired, ref: str) -> str | None:
    for number in ("1", "2"):
        net = wired.net_of.get(Pin(ref, number), "")
        if net in wired.rails or net == wired.ground:
            continue
        for pin in wired.design.nets.get(net, ()):
            if wired.kind(pin.ref).is_a(m.Resistor):
                return pin.ref
    return None


@solved
def pin_overload(wired: Wired) -> Iterator[Finding]:
    """Yield controller outputs that give or take more than a pin may."""
    peaks = analyse(wired).pin_peaks()
    for pin in (d.pin for d in drivers(wired)):
        limit = wired.kind(pin.ref).facts.pin_max_a
        amp = peaks.get(pin, 0.0)
        if limit and amp > limit:
            yield PIN_CURRENT.found(
                of_pin(pin),
                f"{wired.label(pin)} would drive {say(amp, 'A', 2)}, may {say(limit, 'A', 2)}",
                "Use a transistor, or a larger series resistor.",
                nets=(wired.net_of[pin],),
                value=amp,
                limit=limit,
                unit="A",
            )


def _held(wired: Wired, net: str, source: str) -> bool:
    """Whether a resistor ties a gate to its source, at the gate or before the resistor in line with it."""
    if wired.resistors_between(net, source):
        return True
    before = [n.beyond for n in wired.near(net, m.Resistor) if n.beyond and wired.signal(n.beyond)]
    return any(wired.resistors_between(other, source) for other in before)


@static
def gate_pull_down(wired: Wired) -> Iterator[Finding]:
    """Yield transistor gates that float while the controller is not running."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if not kind.is_a(m.FieldEffect):
            continue
        gate = Pin(ref, kind.pin_named("G").number)
        source = wired.net_of.get(Pin(ref, kind.pin_named("S").number), "")
        net = wired.net_of.get(gate)
        if net is None or net in wired.rails or net == wired.ground or _held(wired, net, source):
            continue
        fresh = Part(ref=edits.fresh_ref(wired.design, "R"), kind="resistor", value="10k", package="R0603")
        yield GATE_PULL_DOWN.found(
            of_part(ref),
            f"{ref} has no resistor from gate to source",
            f"Until the firmware runs, its gate floats and the load may switch on. {fresh.ref} of 10k holds it off.",
            nets=(net,),
            mend=Mend(f"Add {fresh.ref} 10k", partial(add_between, part=fresh, first=net, second=source)),
        )


@solved
def resistor_power(wired: Wired) -> Iterator[Finding]:
    """Yield resistors near or past the power that their package can lose."""
    peaks: dict[str, float] = {}
    for operating in analyse(wired).all():
        for ref, watt in operating.solution.part_powers().items():
            peaks[ref] = max(peaks.get(ref, 0.0), watt)
    for ref in wired.design.parts:
        rated = wired.package(ref).power_w
        watt = peaks.get(ref, 0.0)
        if not rated or watt <= RESISTOR_SHARE * rated:
            continue
        yield RESISTOR_POWER.found(
            of_part(ref),
            f"{ref} would turn {say(watt, 'W')} into heat, rated {say(rated, 'W')}",
            f"Use a bigger package, or share the load between two. {RESISTOR_SHARE:.0%} of the rating is taken as "
            "the limit.",
            severity=Severity.STOP if watt > rated else Severity.FIX,
            value=watt,
            limit=RESISTOR_SHARE * rated,
            unit="W",
        )


@solved
def capacitor_rating(wired: Wired) -> Iterator[Finding]:
    """Yield polar capacitors that are reversed, and any whose stated rating is too near its voltage."""
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        if not kind.is_a(m.Capacitor):
            continue
        first, second = (wired.net_of.get(Pin(ref, n)) for n in ("1", "2"))
        if first is None or second is None:
            continue
        volt = max(
            (o.net_voltages().get(first, 0.0) - o.net_voltages().get(second, 0.0) for o in analyse(wired).all()),
            key=abs,
        )
        if kind.polarity and volt < -0.5:
            yield _reversed(ref, first, second, volt)
        rated = rating(part.value, "V")
        if rated and abs(volt) > CAPACITOR_SHARE * rated:
            yield CAPACITOR_RATING.found(
                of_part(ref),
                f"{ref} stands at {say(abs(volt), 'V')}, rated {rated:g} V",
                f"Take one rated {abs(volt) / CAPACITOR_SHARE:.0f} V or more.",
                severity=Severity.STOP if abs(volt) > rated else Severity.FIX,
                nets=(first,),
                value=abs(volt),
                limit=CAPACITOR_SHARE * rated,
                unit="V",
            )


def _reversed(ref: str, first: str, second: str, volt: float) -> Finding:
    def swap(design: Design) -> Design:
        return edits.connect(edits.connect(design, Pin(ref, "1"), second), Pin(ref, "2"), first)

    return POLARITY.found(
        of_part(ref),
        f"{ref} is the wrong way round: {say(abs(volt), 'V')} against its polarity",
        f"Its plus is on {first}, the lower side.",
        nets=(first, second),
        value=volt,
        limit=0.0,
        unit="V",
        mend=Mend(f"Turn {ref} round", swap),
    )
