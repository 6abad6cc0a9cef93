"""Rules on parts that are upside down, powered backwards, never on, or that switch nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import PULL_IN_SHARE, analyse
from zesty_trace.core.circuit.drivers import drivers, reaches_a_load
from zesty_trace.core.circuit.wired import SWITCHES, Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

DROP_OUT_SHARE = 0.1  # of the coil's voltage: relays let go from about there, common practice
DARK_A, COIL_MOST_SHARE = 1e-6, 1.4
_ENABLE = re.compile(r"^(N?)(OE|EN|E|CE|INH)(\d*)$")
_HOLDS = re.compile(r"^(N?)(HOLD|CLR|MR|SD|SLEEP|STBY|RST|RESET)(\d*)$")
_PAIRS = (("A", "B"), ("CANH", "CANL"), ("IN+", "IN-"), ("DIN", "DOUT"), ("1", "3"))

UPSIDE_DOWN = rule(
    "upside down",
    Severity.STOP,
    "A transistor with its ends exchanged conducts through its own diode, or hardly at all.",
    COMMON,
    limits="source or emitter on the side of the supply that its kind belongs to",
)
POWER_PINS = rule(
    "power pins",
    Severity.STOP,
    "A part with its supply pins exchanged is a diode across the supply: it burns at once.",
    COMMON,
    limits="ground pins on ground, supply pins on a supply",
)
COIL_VOLTAGE = rule(
    "coil voltage",
    Severity.FIX,
    "Below seven tenths of its voltage a relay may not pull in; far above it the coil burns.",
    "coil voltage of the part kind; solved over all states; shares are common practice",
    limits="0.7 to 1.4 of the coil's voltage while it is on",
)
DISABLED = rule(
    "disabled for good",
    Severity.FIX,
    "A part whose enable is tied to the wrong side never does anything.",
    COMMON,
    limits="no enable of an output that is used tied to its inactive level",
)
NEVER_LIT = rule(
    "never lit",
    Severity.FIX,
    "A lamp or an opto that carries no current in any state is wired to the wrong place.",
    "solved over all states",
    limits="a current in some state",
)
PAIR_JOINED = rule(
    "pair joined",
    Severity.FIX,
    "Two pins that only mean something against each other are one net.",
    COMMON,
    limits="each of the two on its own net",
)
FEEDBACK = rule(
    "feedback",
    Severity.STOP,
    "An amplifier whose output goes back to its + input alone sticks at a supply.",
    COMMON,
    limits="feedback to the - input",
)
SWITCHES_NOTHING = rule(
    "switches nothing",
    Severity.FIX,
    "A transistor with no load on it was meant to switch something that is wired past it.",
    COMMON,
    limits="a load, a supply or a plug behind each switch",
)


@static
def upside_down(wired: Wired) -> Iterator[Finding]:
    """Yield transistors whose drain or collector is where the source or emitter belongs."""
    for ref in wired.of_model(*SWITCHES):
        kind = wired.kind(ref)
        field = kind.is_a(m.FieldEffect)
        upper, lower, gate = (wired.net_at(ref, n) for n in (("D", "S", "G") if field else ("C", "E", "B")))
        if not upper or not lower or upper == lower:
            continue
        low_side = kind.is_a(m.Nmos, m.Npn) and upper == wired.ground
        high_side = kind.is_a(m.Pmos, m.Pnp) and upper in wired.rails and lower != wired.ground
        guards = field and _tied_to(wired, gate, wired.ground)  # in line with the supply, against wrong polarity
        if low_side or (high_side and not guards and lower not in wired.rails):
            names = ("drain", "source") if field else ("collector", "emitter")
            yield UPSIDE_DOWN.found(
                of_part(ref),
                f"{ref} is upside down: its {names[0]} is on {upper}",
                f"The {names[1]} of {kind.title.split(',')[0]} goes there, the {names[0]} to the load.",
                nets=(upper, lower),
            )


def _tied_to(wired: Wired, net: str, other: str) -> bool:
    return net == other or any(n.beyond == other for n in wired.near(net, m.Resistor))


@static
def power_pins(wired: Wired) -> Iterator[Finding]:
    """Yield ground pins on a supply, and supply pins on ground."""
    fed = {n for n in wired.rails if any(wired.spec(p).role == "supply_out" for p in wired.on(n))}
    for pin, spec in wired.pins():
        net = wired.net_of.get(pin)
        wrong = spec.role == "ground" and net in fed and not wired.kind(pin.ref).is_a(m.Battery)
        wrong = wrong or (spec.role in ("supply_in", "supply_out") and net is not None and net == wired.ground)
        if wrong and net:
            yield POWER_PINS.found(
                of_pin(pin),
                f"{wired.label(pin)} is on {net}",
                "It is a ground pin on a supply. Put it on ground."
                if spec.role == "ground"
                else "It is a supply pin on ground. Put it on its supply.",
                nets=(net,),
            )


@solved
def coil_voltage(wired: Wired) -> Iterator[Finding]:
    """Yield relays whose coil gets too little to pull in, or far too much, in the state that gives it most."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        rated = kind.facts.coil_v
        if not rated or len(kind.driven) != 2:
            continue
        first, second = (wired.net_at(ref, n) for n in kind.driven)
        if not first or not second or first == second:
            continue
        across = {
            o.state.name: abs(o.net_voltages().get(first, 0.0) - o.net_voltages().get(second, 0.0))
            for o in analyse(wired).all()
        }
        volt, off = max(across.values(), default=0.0), across.get("all off", 0.0)
        if DROP_OUT_SHARE * rated < off < volt:
            yield COIL_VOLTAGE.found(
                of_part(ref, "off"),
                f"The coil of {ref} still gets {say(off, 'V', 2)} when it is off",
                f"A relay lets go below a tenth of its {rated:g} V. Look what else leads from its coil to a supply.",
                nets=(first, second),
                value=off,
                limit=DROP_OUT_SHARE * rated,
                unit="V",
            )
        weak = 0.05 * rated < volt < PULL_IN_SHARE * rated
        if weak or volt > COIL_MOST_SHARE * rated:
            yield COIL_VOLTAGE.found(
                of_part(ref),
                f"The coil of {ref} gets {say(volt, 'V', 2)}, it is made for {rated:g} V",
                f"Take the relay for {say(volt, 'V', 2)}, or feed it from {rated:g} V.",
                severity=Severity.FIX if weak else Severity.STOP,
                nets=(first, second),
                value=volt,
                limit=PULL_IN_SHARE * rated if weak else COIL_MOST_SHARE * rated,
                unit="V",
            )


@static
def disabled(wired: Wired) -> Iterator[Finding]:
    """Yield enables tied to the level at which the outputs that they switch, and that are used, stay off."""
    for pin, spec in wired.pins():
        enables, holds = _ENABLE.match(spec.name), _HOLDS.match(spec.name)
        kind, net = wired.kind(pin.ref), wired.net_of.get(pin)
        match = enables or holds
        if match is None or spec.role != "input" or net is None or not kind.is_a(m.Load):
            continue
        active_low = bool(match.group(1)) or match.group(2) == "INH"
        on_when_low = active_low if enables else not active_low
        off = net in (wired.supply_of(pin.ref), *wired.rails) if on_when_low else net == wired.ground
        used = _used_outputs(wired, pin.ref, match.group(3) if match.group(2) in ("OE", "EN", "CLR", "RST") else "")
        if off and used:
            yield DISABLED.found(
                of_pin(pin),
                f"{wired.label(pin)} is tied to {net}: {', '.join(used[:3])} never come on",
                f"It works while this pin is {'low' if on_when_low else 'high'}.",
                nets=(net,),
            )


def _used_outputs(wired: Wired, ref: str, number: str) -> list[str]:
    """Return the outputs of a part that are on a net with something, those of one channel where it has its number."""
    used = [
        s.name
        for s in wired.kind(ref).pins
        if s.role in ("output", "bidirectional") and len(wired.on(wired.net_of.get(Pin(ref, s.number)))) > 1
    ]
    own = [name for name in used if number and name.endswith(number)]
    pins = wired.kind(ref).pins
    enables = sum(bool((match := _ENABLE.match(s.name)) and match.group(3)) for s in pins if s.role == "input")
    one_each = enables == sum(s.role == "output" for s in pins)  # an enable for each output, not for all of them
    return own if number and (one_each or (own and enables < 2)) else used


@solved
def never_lit(wired: Wired) -> Iterator[Finding]:
    """Yield lamps and opto inputs that an output is to switch, and that carry no current in any state."""
    peaks = analyse(wired).pin_peaks()
    outputs = {wired.net_of[d.pin] for d in drivers(wired) if reaches_a_load(wired, d.pin)}
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        lamp = kind.is_a(m.Led) or any(e.type == "diode" and set(e.pins) <= {*kind.driven} for e in kind.elements)
        if not lamp or kind.pin("A") is None or kind.pin("K") is None:
            continue
        ends = [wired.net_at(ref, n) for n in ("A", "K")]
        near = {*ends, *(n.beyond for e in ends for n in wired.near(e, m.Resistor))}
        if all(ends) and ends[0] != ends[1] and near & outputs and peaks.get(wired.pin(ref, "A"), 0.0) < DARK_A:
            yield NEVER_LIT.found(
                of_part(ref),
                f"{ref} carries no current in any state",
                f"From {ends[0]} to {ends[1]} nothing ever flows. Look where its ends go.",
                nets=(ends[0], ends[1]),
                value=0.0,
                limit=DARK_A,
                unit="A",
            )


@static
def pair_joined(wired: Wired) -> Iterator[Finding]:
    """Yield parts with both lines of a pair, both inputs of an amplifier, or both ends of a track on one net."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if len(kind.pins) < 3 or not kind.is_a(m.Load, m.Composite, m.Potentiometer):
            continue
        for a, b in _PAIRS:
            if kind.pin(a) is None or kind.pin(b) is None or (a == "1" and kind.pin("W") is None):
                continue
            net = wired.net_at(ref, kind.pin(a).name) if kind.pin(a) else ""  # type: ignore[union-attr]
            if net and net == wired.net_at(ref, kind.pin(b).name):  # type: ignore[union-attr]
                yield PAIR_JOINED.found(
                    of_part(ref),
                    f"{ref}.{a} and {ref}.{b} are both on {net}",
                    "They work against each other. Put each on its own net.",
                    nets=(net,),
                )


@static
def feedback(wired: Wired) -> Iterator[Finding]:
    """Yield amplifiers whose output is on their + input, with nothing back to the - input."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        for spec in kind.pins:
            if not spec.name.startswith("OUT") or spec.role != "output":
                continue
            plus, minus = (kind.pin(f"IN{spec.name[3:]}{sign}") for sign in "+-")
            net = wired.net_of.get(Pin(ref, spec.number), "")
            if plus is None or minus is None or not net:
                continue
            back = {net, *(n.beyond for n in wired.near(net, m.Resistor, m.Capacitor, m.Diode))}
            if wired.net_at(ref, plus.name) == net and wired.net_at(ref, minus.name) not in back:
                yield FEEDBACK.found(
                    of_pin(Pin(ref, spec.number)),
                    f"{ref}.{spec.name} goes back to {plus.name}, not to {minus.name}",
                    "Exchange its two inputs.",
                    nets=(net,),
                )


@static
def switches_nothing(wired: Wired) -> Iterator[Finding]:
    """Yield low-side and high-side switches with nothing behind them but diodes, capacitors and test points."""
    for ref in wired.of_model(*SWITCHES):
        field = wired.kind(ref).is_a(m.FieldEffect)
        upper, lower = (wired.net_at(ref, n) for n in (("D", "S") if field else ("C", "E")))
        if not upper or not wired.signal(upper) or (lower != wired.ground and lower not in wired.rails):
            continue
        idle = (m.Diode, m.Zener, m.Capacitor)
        others = [p for p in wired.on(upper) if p.ref != ref]
        if others and all(wired.kind(p.ref).is_a(*idle) or wired.kind(p.ref).prefix == "TP" for p in others):
            yield SWITCHES_NOTHING.found(
                of_part(ref),
                f"{ref} switches nothing: no load is on {upper}",
                "What it was to switch is wired past it.",
                nets=(upper,),
            )
