"""Rules on what is fitted: options that leave pins floating, parts that must be exact, ratings, surroundings."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, Subject, of_net, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

AMBIENT_MARGIN_C = 10.0
DIM_A = 0.0003


OPTION_FLOATS = rule(
    "option floats",
    Severity.FIX,
    "A board without the option then behaves at random, on some days only.",
    COMMON,
    limits="a level for each input in each variant",
)
OPTION = rule(
    "option",
    Severity.FIX,
    "An option is a set of parts and a firmware switch; half of it is a board that nobody has tried.",
    COMMON,
    limits="what an option needs is fitted with it",
)
EXACT_VERSION = rule(
    "exact version",
    Severity.NOTE,
    "Boards, pinouts and images differ from version to version under the same name.",
    COMMON,
    limits="a note or a value that says which",
)
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
OPEN_DRAIN = rule(
    "open drain",
    Severity.FIX,
    "An open-drain output is a switch to ground.",
    COMMON,
    limits="something that lifts the line",
)
CONTACT_RATING = rule(
    "contact rating",
    Severity.STOP,
    "A contact past its rating welds shut or burns away.",
    "rating of the part kind; solved over all states",
    limits="contact_max_a of the kind",
)
NO_CONNECT_WIRED = rule(
    "no-connect wired", Severity.NOTE, "Inside the package it may be in use.", COMMON, limits="no net"
)


@static
def option_leaves_floating(wired: Wired) -> Iterator[Finding]:
    """Yield nets that lose what gives their inputs a level when a variant leaves parts out."""
    for variant in wired.design.variants:
        missing = {r for r, p in wired.design.parts.items() if not p.fitted(variant)}
        for net, pins in wired.design.nets.items():
            gone = [p for p in pins if p.ref in missing]
            left = [p for p in pins if p.ref not in missing]
            if not gone or net in wired.rails or net == wired.ground:
                continue
            inputs = [p for p in left if wired.spec(p).role == "input"]
            held = any(
                wired.spec(p).role not in ("input", "no_connect") and not wired.kind(p.ref).is_a(m.Capacitor)
                for p in left
            )
            if inputs and not held:
                names = ", ".join(wired.label(p) for p in inputs)
                yield OPTION_FLOATS.found(
                    of_net(net, variant),
                    f"On {variant} boards nothing gives {net} a level",
                    f"{', '.join(sorted({p.ref for p in gone}))} is left out there, and {names} only listen. Add a pull "
                    f"resistor that is always fitted.",
                    refs=tuple(p.ref for p in inputs),
                )


@static
def option_broken(wired: Wired) -> Iterator[Finding]:
    """Yield options that a variant fits in part, or without what they need."""
    by_name = {o.name: o for o in wired.design.options}
    for option in wired.design.options:
        for variant in wired.design.variants or ("",):
            on = [r for r in option.refs if r in wired.design.parts and wired.design.parts[r].fitted(variant)]
            if on and len(on) < len(option.refs):
                off = [r for r in option.refs if r not in on]
                yield _option(option.name, variant, f"is fitted without {', '.join(off)}", tuple(off))
            for need in option.needs if on else ():
                needed = by_name.get(need)
                if needed is None or not all(
                    r in wired.design.parts and wired.design.parts[r].fitted(variant) for r in needed.refs
                ):
                    yield _option(option.name, variant, f"needs {need}, which is not fitted", tuple(on))


def _option(name: str, variant: str, what: str, refs: tuple[str, ...]) -> Finding:
    return OPTION.found(
        Subject(which=f"{name} {variant} {what}"),
        f"{name} {what}" + (f" on {variant} boards" if variant else ""),
        "Fit the whole option or none of it (Options, in Schematic).",
        refs=refs,
    )


@static
def exact_version(wired: Wired) -> Iterator[Finding]:
    """Yield parts that come in versions that differ, and no version is written down."""
    for ref, part in wired.design.parts.items():
        if wired.kind(ref).facts.exact and not part.notes and not part.value:
            yield EXACT_VERSION.found(
                of_part(ref),
                f"Which version of {ref} worked is not written down",
                "Type what is printed on it into its notes before it is ordered.",
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
    """Yield relays whose contact carries more than it may in some state."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        most, common = kind.facts.contact_max_a, kind.pin("COM")
        amp = peaks.get(Pin(ref, common.number), 0.0) if common else 0.0
        if most is not None and amp > most:
            yield CONTACT_RATING.found(
                of_part(ref),
                f"The contact of {ref} would carry {say(amp, 'A')}, rated {say(most, 'A')}",
                "Take a relay rated for more, or share the load.",
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
        if 0.3 < volt < 0.97 * needed:
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
                "1 to 5 mA is bright enough for an indicator: lower its series resistor, or feed it from a higher supply.",
                value=amp,
                limit=DIM_A,
                unit="A",
            )


@static
def open_drain_pull_up(wired: Wired) -> Iterator[Finding]:
    """Yield open-drain outputs off the bus that nothing pulls up."""
    for net, pins in wired.design.nets.items():
        if net in wired.rails or net == wired.ground:
            continue
        drains = [p for p in pins if wired.spec(p).role == "open_drain" and not _bus_line(wired, p)]
        listeners = [p for p in pins if wired.spec(p).role in ("input", "bidirectional")]
        lifted = any(n.beyond in wired.rails for n in wired.near(net, m.Resistor, m.Led))
        if drains and listeners and not lifted and not any(wired.spec(p).role == "output" for p in pins):
            yield OPEN_DRAIN.found(
                of_net(net),
                f"{wired.label(drains[0])} can only pull {net} low",
                f"Nothing lifts it for {wired.label(listeners[0])}. A resistor of 10k to its supply does, or the pull-up "
                f"inside the pin if the firmware turns it on.",
                refs=(drains[0].ref, listeners[0].ref),
            )


def _bus_line(wired: Wired, pin: Pin) -> bool:
    bus = wired.kind(pin.ref).bus
    return bus is not None and wired.spec(pin).name in (bus.sda, bus.scl)


@static
def no_connect_wired(wired: Wired) -> Iterator[Finding]:
    """Yield pins that the data sheet says to leave open, and that are on a net."""
    for net, pins in wired.design.nets.items():
        for pin in pins:
            if wired.spec(pin).role == "no_connect":
                yield NO_CONNECT_WIRED.found(
                    of_pin(pin),
                    f"{wired.label(pin)} is to stay open, and is on {net}",
                    "Take it off unless its data sheet allows it.",
                    nets=(net,),
                )
