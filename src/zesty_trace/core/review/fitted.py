"""Rules on what is fitted: options that leave pins floating, parts that must be exact, ratings, surroundings."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON

AMBIENT_MARGIN_C = 10.0
DIM_A = 0.0003


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
                yield Finding(
                    "option floats",
                    f"{variant} {net}",
                    Severity.FIX,
                    f"On {variant} boards nothing gives {net} a level",
                    f"{', '.join(sorted({p.ref for p in gone}))} is left out there, and {names} only listen. Add a pull "
                    f"resistor that is always fitted.",
                    "A board without the option then behaves at random, on some days only.",
                    COMMON,
                    "schematic",
                    tuple(p.ref for p in inputs),
                    (net,),
                )


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
    return Finding(
        "option",
        f"{name} {variant} {what}",
        Severity.FIX,
        f"{name} {what}" + (f" on {variant} boards" if variant else ""),
        "Fit the whole option or none of it (Options, in Schematic).",
        "An option is a set of parts and a firmware switch; half of it is a board that nobody has tried.",
        COMMON,
        "schematic",
        refs,
    )


def exact_version(wired: Wired) -> Iterator[Finding]:
    """Yield parts that come in versions that differ, and no version is written down."""
    for ref, part in wired.design.parts.items():
        if wired.kind(ref).facts.exact and not part.notes and not part.value:
            yield Finding(
                "exact version",
                ref,
                Severity.NOTE,
                f"Which version of {ref} worked is not written down",
                "Type what is printed on it into its notes before it is ordered.",
                "Boards, pinouts and images differ from version to version under the same name.",
                COMMON,
                "schematic",
                (ref,),
            )


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
        for what, value, limit, unit in (
            ("stands at", volt, most_v, "V"),
            ("would carry", amp, facts.current_max_a, "A"),
        ):
            if limit and value > limit:
                yield Finding(
                    "transistor rating",
                    f"{ref} {unit}",
                    Severity.STOP,
                    f"{ref} {what} {say(value, unit)}, rated {say(limit, unit)}",
                    "Take one rated half as much again, or share the load.",
                    "Past its rating a transistor fails as a short.",
                    "rating of the part kind; solved over all states",
                    "schematic",
                    (ref,),
                    tuple(nets),
                    value=value,
                    limit=limit,
                    unit=unit,
                )


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
            yield Finding(
                "gate drive",
                ref,
                Severity.FIX,
                f"{ref} gets {say(volt, 'V')} at its gate, wants {say(needed, 'V')}",
                "Take one that is fully on at this voltage, or drive the gate from a higher supply.",
                "Half on, a transistor drops volts and burns watts.",
                "gate voltage at which the kind's on-resistance is stated",
                "schematic",
                (ref,),
                (gate, drain),
                value=volt,
                limit=needed,
                unit="V",
            )


def ambient(wired: Wired) -> Iterator[Finding]:
    """Yield parts that the surroundings alone bring near their limit."""
    for ref in wired.design.parts:
        limit = wired.kind(ref).facts.ambient_max_c
        if limit and wired.design.brief.ambient_c > limit - AMBIENT_MARGIN_C:
            yield Finding(
                "ambient",
                ref,
                Severity.FIX,
                f"{ref} sits in {wired.design.brief.ambient_c:.0f} °C, made for up to {limit:.0f} °C",
                "Take one made for more, or move it out of the heat.",
                "Ten degrees more halve the life of an electrolytic; a cell swells.",
                COMMON,
                "schematic",
                (ref,),
                value=wired.design.brief.ambient_c,
                limit=limit - AMBIENT_MARGIN_C,
                unit="°C",
            )


def led_dim(wired: Wired) -> Iterator[Finding]:
    """Yield LEDs that are lit, but too weakly to be seen in daylight."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.of_model(m.Led):
        amp = peaks.get(Pin(ref, "1"), 0.0)
        if 1e-6 < amp < DIM_A:
            yield Finding(
                "LED dim",
                ref,
                Severity.NOTE,
                f"{ref} gets {say(amp, 'A', 2)}, hardly to be seen",
                "1 to 5 mA is bright enough for an indicator: lower its series resistor, or feed it from a higher supply.",
                "A blue or white LED needs 3 V before it lights at all.",
                COMMON,
                "schematic",
                (ref,),
                value=amp,
                limit=DIM_A,
                unit="A",
            )


def open_drain_pull_up(wired: Wired) -> Iterator[Finding]:
    """Yield open-drain outputs off the bus that nothing pulls up."""
    for net, pins in wired.design.nets.items():
        if net in wired.rails or net == wired.ground:
            continue
        drains = [p for p in pins if wired.spec(p).role == "open_drain" and not _bus_line(wired, p)]
        listeners = [p for p in pins if wired.spec(p).role in ("input", "bidirectional")]
        lifted = any(n.beyond in wired.rails for n in wired.near(net, m.Resistor, m.Led))
        if drains and listeners and not lifted and not any(wired.spec(p).role == "output" for p in pins):
            yield Finding(
                "open drain",
                net,
                Severity.FIX,
                f"{wired.label(drains[0])} can only pull {net} low",
                f"Nothing lifts it for {wired.label(listeners[0])}. A resistor of 10k to its supply does, or the pull-up "
                f"inside the pin if the firmware turns it on.",
                "An open-drain output is a switch to ground.",
                COMMON,
                "schematic",
                (drains[0].ref, listeners[0].ref),
                (net,),
            )


def _bus_line(wired: Wired, pin: Pin) -> bool:
    bus = wired.kind(pin.ref).bus
    return bus is not None and wired.spec(pin).name in (bus.sda, bus.scl)


def no_connect_wired(wired: Wired) -> Iterator[Finding]:
    """Yield pins that the data sheet says to leave open, and that are on a net."""
    for net, pins in wired.design.nets.items():
        for pin in pins:
            if wired.spec(pin).role == "no_connect":
                yield Finding(
                    "no-connect wired",
                    str(pin),
                    Severity.NOTE,
                    f"{wired.label(pin)} is to stay open, and is on {net}",
                    "Take it off unless its data sheet allows it.",
                    "Inside the package it may be in use.",
                    COMMON,
                    "schematic",
                    (pin.ref,),
                    (net,),
                )
