"""Rules on what parts stand in any state: fuses, clamps, inputs of optos and lamps, bases, switches."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import Operating, analyse
from zesty_trace.core.circuit.drivers import drivers
from zesty_trace.core.circuit.wired import SWITCHES, Wired
from zesty_trace.core.findings import Finding, Severity, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static
from zesty_trace.core.stated import leading_value, rating

FUSE_SHARE = 0.9
ZENER_W, STAND_OFF_SHARE = 0.5, 1.0
CLAMP_MOST_V = 0.1

FUSE_RATING = rule(
    "fuse rating",
    Severity.STOP,
    "A fuse that carries more than its rating opens, at once or on a warm day.",
    "rating stated with the part; solved over all states",
    limits="0.9 of the rating",
)
CLAMP_VOLTAGE = rule(
    "clamp voltage",
    Severity.STOP,
    "A clamp that stands below its line's voltage conducts all the time and burns.",
    "stand-off voltage of the part kind, or Zener voltage; net voltage solved",
    limits="stand_off_v of the kind, or the Zener voltage, and 0.5 W",
)
INPUT_CURRENT = rule(
    "input current",
    Severity.STOP,
    "Without its resistor an opto's input, a lamp in a package or a base takes what the pin gives, until one fails.",
    "rating of the part kind; current solved over all states",
    limits="driven_max_a of the kind",
)
BASE_RESISTOR = rule(
    "base resistor",
    Severity.STOP,
    "A base is a diode: straight on an output it takes all that the output gives.",
    COMMON,
    limits="a resistor between each output or supply and a base",
)
NEVER_OFF = rule(
    "never off",
    Severity.STOP,
    "A switch that cannot be switched off is a wire.",
    "solved in all states; threshold of the part kind",
    limits="a state in which the gate is below its threshold",
)


@solved
def fuse_rating(wired: Wired) -> Iterator[Finding]:
    """Yield fuses that carry more than their rating in some state."""
    peaks = analyse(wired).pin_peaks()
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        most = rating(part.value, "A") or leading_value(part.value) if kind.prefix == "F" else None
        amp = max((peaks.get(p, 0.0) for p in wired.pins_of(ref)), default=0.0)
        if most and amp > FUSE_SHARE * most:
            yield FUSE_RATING.found(
                of_part(ref),
                f"{ref} would carry {say(amp, 'A')}, rated {say(most, 'A')}",
                "Take a larger fuse if what is behind it stands more; else look for what draws so much.",
                severity=Severity.STOP if amp > most else Severity.FIX,
                value=amp,
                limit=FUSE_SHARE * most,
                unit="A",
            )


@solved
def clamp_voltage(wired: Wired) -> Iterator[Finding]:
    """Yield clamps and Zener diodes whose line stands above their voltage, or that turn too much into heat."""
    analysis = analyse(wired)
    for ref in wired.of_model(m.Zener, m.Diode):
        kind = wired.kind(ref)
        stands = kind.facts.stand_off_v
        net = wired.net_at(ref, "K")
        if not kind.pin("K") or not net or wired.net_at(ref, "A") != wired.ground:
            continue
        volt = analysis.highest.get(net, 0.0)
        if stands is not None and volt > stands + CLAMP_MOST_V:
            yield CLAMP_VOLTAGE.found(
                of_part(ref),
                f"{net} stands at {say(volt, 'V')}, {ref} holds off {stands:g} V",
                "Take a clamp for the next higher voltage; what it guards must stand that.",
                nets=(net,),
                value=volt,
                limit=stands,
                unit="V",
            )
        elif kind.is_a(m.Zener):
            watt = max((o.solution.part_powers().get(ref, 0.0) for o in analysis.all()), default=0.0)
            if watt > ZENER_W:
                yield CLAMP_VOLTAGE.found(
                    of_part(ref),
                    f"{ref} would turn {say(watt, 'W')} into heat on {net}",
                    "Its line is driven above its voltage with nothing in between: put a resistor in line.",
                    nets=(net,),
                    value=watt,
                    limit=ZENER_W,
                    unit="W",
                )


@solved
def input_current(wired: Wired) -> Iterator[Finding]:
    """Yield inputs of optos, lamps in packages and alike that get more current than they may."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        most = kind.facts.driven_max_a
        for name in kind.driven if most else ():
            pin = wired.pin(ref, name)
            amp = peaks.get(pin, 0.0)
            if most and amp > most:
                yield INPUT_CURRENT.found(
                    of_pin(pin),
                    f"{wired.label(pin)} would carry {say(amp, 'A', 2)}, rated {say(most, 'A', 2)}",
                    "Put a resistor in line with it, or a larger one.",
                    nets=(wired.net_of[pin],),
                    value=amp,
                    limit=most,
                    unit="A",
                )
                break


@static
def base_resistor(wired: Wired) -> Iterator[Finding]:
    """Yield bases that sit straight on an output or on a supply."""
    outputs = {wired.net_of[d.pin]: d.pin for d in drivers(wired) if d.how == "push-pull"}
    for ref in wired.of_model(m.Bipolar):
        net, emitter = wired.net_at(ref, "B"), wired.net_at(ref, "E")
        if not net or net == emitter:
            continue
        follower = emitter not in (*wired.rails, wired.ground) and wired.net_at(ref, "C") in (
            *wired.rails,
            wired.ground,
        )
        if follower or (net not in outputs and net not in wired.rails):
            continue
        cause = wired.label(outputs[net]) if net in outputs else net
        yield BASE_RESISTOR.found(
            of_part(ref),
            f"The base of {ref} sits straight on {cause}",
            "Put 1k to 10k in between: a tenth of the collector current is enough.",
            nets=(net,),
        )


@solved
def never_off(wired: Wired) -> Iterator[Finding]:
    """Yield switches that an output is meant to switch, and that conduct in every state."""
    driven = {n for d in drivers(wired) if d.loaded for n in _reached(wired, wired.net_of[d.pin])}
    for ref in wired.of_model(*SWITCHES):
        kind = wired.kind(ref)
        names = ("G", "S") if kind.is_a(m.FieldEffect) else ("B", "E")
        gate, source = (wired.net_at(ref, n) for n in names)
        if gate not in driven or source not in (*wired.rails, wired.ground) or gate == source:
            continue
        sign = 1.0 if kind.is_a(m.Nmos, m.Npn) else -1.0
        least = kind.model.threshold_v if isinstance(kind.model, m.FieldEffect) else 0.5
        states = [o for o in analyse(wired).all() if _plugged(o)]
        drives = [sign * (o.net_voltages().get(gate, 0.0) - o.net_voltages().get(source, 0.0)) for o in states]
        if drives and min(drives) > least + 0.3:
            yield NEVER_OFF.found(
                of_part(ref),
                f"{ref} is on in every state: its gate never comes within {say(min(drives), 'V', 2)} of {source}",
                "The output that switches it does not reach its supply. Drive it through an N-channel or NPN switch "
                "with a resistor up to its source.",
                nets=(gate, source),
                value=min(drives),
                limit=least,
                unit="V",
            )


def _plugged(operating: Operating) -> bool:
    return operating.state.supply_v != 0 and not operating.state.unplugged


def _reached(wired: Wired, net: str) -> set[str]:
    """Return a net and those behind one series resistor."""
    return {net, *(n.beyond for n in wired.near(net, m.Resistor) if n.beyond and wired.signal(n.beyond))}
