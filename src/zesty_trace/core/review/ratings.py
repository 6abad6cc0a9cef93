"""Rules on ratings: transistors, contacts, gates, the heat of the surroundings, and lights too weak to see."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, of_part, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

AMBIENT_MARGIN_C = 10.0
DIM_A = 0.0003


TRANSISTOR_RATING = rule(
    "transistor rating",
    Severity.STOP,
    "Past its rating a transistor fails as a short.",
    "rating of the part kind; solved over all states",
    limits="voltage and current ratings of the kind",
)
GATE_DRIVE = rule(
    "gate drive",
    Severity.FIX,
    "Half on, a transistor drops volts and burns watts.",
    "gate voltage at which the kind's on-resistance is stated",
    limits="0.97 of the voltage at which the on-resistance is stated",
)
AMBIENT = rule(
    "ambient",
    Severity.FIX,
    "Ten degrees more halve the life of an electrolytic; a cell swells.",
    COMMON,
    limits=f"ambient_max_c of the kind less {AMBIENT_MARGIN_C:g} °C",
)
LED_DIM = rule(
    "LED dim",
    Severity.NOTE,
    "A blue or white LED needs 3 V before it lights at all.",
    COMMON,
    limits=f"{DIM_A * 1e3:g} mA",
)
UNDRIVEN_V = 0.05  # below this nobody drives the gate at all
CONTACT_RATING = rule(
    "contact rating",
    Severity.STOP,
    "A contact past its rating welds shut or burns away.",
    "rating of the part kind; solved over all states",
    limits="contact_max_a of the kind",
)


@solved
def transistor_rating(wired: Wired) -> Iterator[Finding]:
    """Yield transistors past their voltage or current rating in any state."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.of_model(m.Nmos, m.Pmos, m.Npn, m.Pnp):
        facts = wired.kind(ref).facts
        upper, lower = ("D", "S") if wired.kind(ref).pin("D") else ("C", "E")
        nets = [wired.net_of.get(wired.pin(ref, n), "") for n in (upper, lower)]
        volt = max(
            (
                abs(o.net_voltages().get(nets[0], 0.0) - o.net_voltages().get(nets[1], 0.0))
                for o in analyse(wired).all()
            ),
            default=0.0,
        )
        amp = peaks.get(wired.pin(ref, upper), 0.0)
        most_v = facts.collector_emitter_max_v if facts.drain_source_max_v is None else facts.drain_source_max_v
        gate_v = _gate_voltage(wired, ref) if facts.gate_source_max_v is not None else 0.0
        for which, what, value, limit, unit in (
            ("V", "stands at", volt, most_v, "V"),
            ("A", "would carry", amp, facts.current_max_a, "A"),
            ("gate", "gets at its gate", gate_v, facts.gate_source_max_v, "V"),
        ):
            if limit and value > limit:
                yield TRANSISTOR_RATING.found(
                    of_part(ref, which),
                    f"{ref} {what} {say(value, unit)}, rated {say(limit, unit)}",
                    "Take one rated half as much again, or share the load.",
                    nets=tuple(nets),
                    value=value,
                    limit=limit,
                    unit=unit,
                )


def _gate_voltage(wired: Wired, ref: str) -> float:
    """Return the largest voltage between gate and source over all states, V."""
    gate, source = (wired.net_at(ref, n) for n in ("G", "S"))
    volts = [o.net_voltages() for o in analyse(wired).all()]
    return max((abs(v.get(gate, 0.0) - v.get(source, 0.0)) for v in volts), default=0.0)


@solved
def contact_rating(wired: Wired) -> Iterator[Finding]:
    """Yield contacts, of relays, switches, buttons and plugs, that carry more than they may in some state."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        most = kind.facts.contact_max_a
        pins = [Pin(ref, s.number) for s in kind.pins if s.name not in kind.driven]
        worst = max(pins, key=lambda p: peaks.get(p, 0.0), default=None)
        amp = peaks.get(worst, 0.0) if worst else 0.0
        if most is not None and worst is not None and amp > most:
            yield CONTACT_RATING.found(
                of_part(ref),
                f"{wired.label(worst)} would carry {say(amp, 'A')}, rated {say(most, 'A')}",
                "Take one rated for more, share the load, or look for what draws so much.",
                value=amp,
                limit=most,
                unit="A",
            )


@solved
def gate_drive(wired: Wired) -> Iterator[Finding]:
    """Yield transistors whose gate never gets the voltage at which their on-resistance is stated."""
    for ref in wired.of_model(m.Nmos, m.Pmos):
        kind = wired.kind(ref)
        gate, source, drain = (wired.net_of.get(wired.pin(ref, n), "") for n in ("G", "S", "D"))
        if not gate or not source or gate in wired.rails or source not in (*wired.rails, wired.ground):
            continue
        if not isinstance(kind.model, m.FieldEffect):
            continue
        sign = 1 if kind.is_a(m.Nmos) else -1
        drives = [
            sign * (o.net_voltages().get(gate, 0.0) - o.net_voltages().get(source, 0.0)) for o in analyse(wired).all()
        ]
        volt, needed = max(drives, default=0.0), kind.model.on_gate_v
        if UNDRIVEN_V < volt < 0.97 * needed:
            yield GATE_DRIVE.found(
                of_part(ref),
                f"{ref} gets {say(volt, 'V')} at its gate, wants {say(needed, 'V')}",
                "Take one that is fully on at this voltage, or drive the gate from a higher supply.",
                nets=(gate, drain),
                value=volt,
                limit=needed,
                unit="V",
            )


@static
def ambient(wired: Wired) -> Iterator[Finding]:
    """Yield parts that the surroundings alone bring near their limit."""
    for ref in wired.design.parts:
        limit = wired.kind(ref).facts.ambient_max_c
        if limit and wired.design.brief.ambient_c > limit - AMBIENT_MARGIN_C:
            yield AMBIENT.found(
                of_part(ref),
                f"{ref} sits in {wired.design.brief.ambient_c:.0f} °C, made for up to {limit:.0f} °C",
                "Take one made for more, or move it out of the heat.",
                value=wired.design.brief.ambient_c,
                limit=limit - AMBIENT_MARGIN_C,
                unit="°C",
            )


@solved
def led_dim(wired: Wired) -> Iterator[Finding]:
    """Yield LEDs that are lit, but too weakly to be seen in daylight."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.of_model(m.Led):
        amp = peaks.get(Pin(ref, "1"), 0.0)
        if 1e-6 < amp < DIM_A:
            yield LED_DIM.found(
                of_part(ref),
                f"{ref} gets {say(amp, 'A', 2)}, hardly to be seen",
                "1 to 5 mA is bright enough for an indicator: lower its series resistor, or feed it from a higher "
                "supply.",
                value=amp,
                limit=DIM_A,
                unit="A",
            )
