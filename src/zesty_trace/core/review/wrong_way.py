"""Rules on parts that are the wrong way round, on the wrong net, or on one net with both ends."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.drivers import is_programmed
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

DARK_A, REVERSED_V = 1e-6, 0.9
CONDUCTS_A = 1e-3
BACKWARDS_V = 0.5
_SERIAL = {"MOSI": "MISO", "TXD": "TXD", "TX": "TX", "SDA": "SCL", "SDI": "SDI", "SDO": "SDO"}
_CRYSTAL = re.compile(r"^(X|XI|XO|X1|X2|XIN|XOUT|XTAL\w*|OSC\w*)$", re.I)

SIGNAL_ON_SUPPLY = rule(
    "signal on a supply",
    Severity.STOP,
    "An output tied to a supply is a short each time it drives the other way.",
    COMMON,
    limits="no output, and no line that is driven, on a supply or on ground",
)
BOTH_ENDS = rule(
    "both ends on one net",
    Severity.FIX,
    "A part with both ends on one net does nothing; most likely one end belongs elsewhere.",
    COMMON,
    limits="two nets for two ends",
)
REVERSED = rule(
    "reversed",
    Severity.STOP,
    "The wrong way round it does not work, or it conducts where it should block and burns.",
    "solved over all operating states",
    limits="a forward current for a light, none for a clamp, a positive voltage for a polar load",
)
CROSSED = rule(
    "crossed lines",
    Severity.STOP,
    "Crossed lines never talk, and on a finished board only a knife parts them.",
    "UM10204 for SDA and SCL; common practice for serial lines",
    limits="each line on its own net",
)
CRYSTAL_PINS = rule(
    "crystal pins",
    Severity.STOP,
    "A crystal swings only between the two pins of an oscillator.",
    COMMON,
    limits="both ends on the oscillator pins of one part",
)


@static
def signal_on_supply(wired: Wired) -> Iterator[Finding]:
    """Yield outputs, bus lines and controller pins that sit on a supply net or on ground."""
    for pin, spec in wired.pins():
        net = wired.net_of.get(pin)
        if net is None or (net != wired.ground and net not in wired.rails):
            continue
        kind = wired.kind(pin.ref)
        line = kind.bus is not None and spec.name in (kind.bus.sda, kind.bus.scl)
        if not line and spec.role not in ("output", "open_drain", "bidirectional"):
            continue
        if not line and spec.role == "bidirectional" and not is_programmed(kind) and not kind.is_a(m.Supplied):
            continue
        if not line and spec.role == "open_drain" and net == wired.ground:
            continue  # it only ever pulls there
        hard = line or spec.role != "bidirectional"
        what = "ground" if net == wired.ground else f"the supply {net}"
        yield SIGNAL_ON_SUPPLY.found(
            of_pin(pin),
            f"{wired.label(pin)} sits on {what}",
            "It drives against the supply. Put it on the net that it belongs to."
            if hard
            else "If the program ever drives it, it is a short. Leave it open, or tie it through a resistor.",
            severity=Severity.STOP if hard else Severity.FIX,
            nets=(net,),
        )


@static
def both_ends(wired: Wired) -> Iterator[Finding]:
    """Yield two-ended parts, coils and lights that have both ends on one net."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        pairs = [tuple(kind.driven)] if len(kind.driven) == 2 and not kind.is_a(m.Supplied) else []
        if len(kind.pins) == 2 and not kind.is_a(m.Inlet, m.Battery) and kind.prefix not in ("J", "TP", "H"):
            pairs.append((kind.pins[0].name, kind.pins[1].name))
        for a, b in pairs:
            net = wired.net_at(ref, a)
            if net and net == wired.net_at(ref, b):
                yield BOTH_ENDS.found(
                    of_part(ref),
                    f"Both ends of {ref} are on {net}",
                    f"{kind.title}: {a} and {b} are joined, so it does nothing. Put one end where it belongs.",
                    nets=(net,),
                )
                break


def _voltages(wired: Wired, first: str, second: str) -> list[float]:
    """Return the voltage from one net to another in each state, V."""
    return [
        o.net_voltages().get(first, 0.0) - o.net_voltages().get(second, 0.0)
        for o in analyse(wired).all()
        if o.state.supply_v != 0
    ]


def _turned(design: Design, first: Pin, second: Pin) -> Design:
    nets = design.net_of()
    a, b = nets[first], nets[second]
    return edits.connect(edits.connect(design, first, b), second, a)


def _ends(wired: Wired, ref: str, plus: str, minus: str) -> tuple[Pin, Pin, str, str] | None:
    kind = wired.kind(ref)
    if kind.pin(plus) is None or kind.pin(minus) is None:
        return None
    first, second = wired.pin(ref, plus), wired.pin(ref, minus)
    a, b = wired.net_of.get(first, ""), wired.net_of.get(second, "")
    return (first, second, a, b) if a and b and a != b else None


@solved
def lights_reversed(wired: Wired) -> Iterator[Finding]:
    """Yield LEDs that never light and are held the wrong way round in some state."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.of_model(m.Led):
        ends = _ends(wired, ref, "A", "K")
        if ends is None:
            continue
        volts = _voltages(wired, ends[2], ends[3])
        if peaks.get(ends[0], 0.0) < DARK_A and min(volts, default=0.0) < -REVERSED_V:
            yield REVERSED.found(
                of_part(ref),
                f"{ref} is the wrong way round: it never lights",
                f"Its cathode is up to {say(-min(volts), 'V', 2)} above its anode. LEDs stand little more than 5 V so.",
                nets=(ends[2], ends[3]),
                value=-min(volts),
                limit=0.0,
                unit="V",
                mend=Mend(f"Turn {ref} round", partial(_turned, first=ends[0], second=ends[1])),
            )


@solved
def clamps_reversed(wired: Wired) -> Iterator[Finding]:
    """Yield Zener diodes and clamps that conduct forward, as plain diodes do."""
    for ref in wired.of_model(m.Zener, m.Diode):
        kind = wired.kind(ref)
        clamp = kind.is_a(m.Zener) or kind.facts.stand_off_v is not None
        ends = _ends(wired, ref, "A", "K")
        if not clamp or ends is None or (ends[2] != wired.ground and ends[3] != wired.ground):
            continue
        amp = max((o.solution.pin_currents().get(ends[0], 0.0) for o in analyse(wired).all()), default=0.0)
        if ends[3] == wired.ground and amp > CONDUCTS_A:
            yield REVERSED.found(
                of_part(ref),
                f"{ref} is the wrong way round: it conducts {say(amp, 'A', 2)} from {ends[2]} to ground",
                f"A clamp blocks until its own voltage: its cathode goes to {ends[2]}.",
                nets=(ends[2],),
                value=amp,
                limit=CONDUCTS_A,
                unit="A",
                mend=Mend(f"Turn {ref} round", partial(_turned, first=ends[0], second=ends[1])),
            )


@solved
def loads_reversed(wired: Wired) -> Iterator[Finding]:
    """Yield polar loads, fans, sounders and solid-state relays, that only ever get their supply the wrong way round."""
    for ref in wired.of_model(m.CurrentLoad, m.Composite):
        ends = _ends(wired, ref, "+", "-") or _ends(wired, ref, "PLUS", "MINUS")
        volts = _voltages(wired, ends[2], ends[3]) if ends else []
        if ends and volts and min(volts) < -BACKWARDS_V and max(volts) < BACKWARDS_V:
            yield REVERSED.found(
                of_part(ref),
                f"{ref} is the wrong way round: {say(min(volts), 'V', 2)} from + to -",
                "It does not turn or sound, and most are damaged by it.",
                nets=(ends[2], ends[3]),
                value=-min(volts),
                limit=BACKWARDS_V,
                unit="V",
                mend=Mend(f"Turn {ref} round", partial(_turned, first=ends[0], second=ends[1])),
            )


@static
def crossed_lines(wired: Wired) -> Iterator[Finding]:
    """Yield nets on which the data line of one part meets the clock of another, or two serial outputs meet."""
    for net, pins in wired.design.nets.items():
        names: dict[str, list[Pin]] = {}
        for pin in pins:
            kind, spec = wired.kind(pin.ref), wired.spec(pin)
            bus = kind.bus
            name = "SDA" if bus and spec.name == bus.sda else "SCL" if bus and spec.name == bus.scl else spec.name
            names.setdefault(name.upper(), []).append(pin)
        for a, b in _SERIAL.items():
            mine, theirs = names.get(a, []), names.get(b, [])
            chips = [p for p in (*mine, *theirs) if wired.spec(p).role != "passive"]
            pair = next(((p, q) for p in mine for q in theirs if p.ref != q.ref and {p, q} <= {*chips}), None)
            if pair and (a != b or pair[0] < pair[1]):
                yield CROSSED.found(
                    of_net(net, a),
                    f"{wired.label(pair[0])} meets {wired.label(pair[1])} on {net}",
                    "Data goes to data and clock to clock; a serial output goes to the other side's input.",
                    refs=(pair[0].ref, pair[1].ref),
                )


@static
def crystal_pins(wired: Wired) -> Iterator[Finding]:
    """Yield crystals that do not stand between the two oscillator pins of one part."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if kind.prefix != "Y" or not kind.is_a(m.Open) or len(kind.pins) < 2:
            continue
        nets = [wired.net_of.get(Pin(ref, s.number), "") for s in kind.pins[:2]]
        ends = [_oscillators(wired, ref, net) for net in nets]
        chips = {r for r, _ in ends[0]} & {r for r, _ in ends[1]}
        if not all(nets) or (chips and {n for _, n in ends[0]} != {n for _, n in ends[1]}):
            continue
        wrong = next((net for net, e in zip(nets, ends, strict=True) if not e), nets[1])
        yield CRYSTAL_PINS.found(
            Subject(refs=(ref,)),
            f"{ref} is not between two oscillator pins: {wrong} reaches none",
            "Put its ends on the X1 and X2 pins of the part that it clocks.",
            nets=(wrong,),
        )


def _oscillators(wired: Wired, ref: str, net: str) -> set[tuple[str, str]]:
    return {
        (p.ref, wired.spec(p).name)
        for p in wired.on(net)
        if p.ref != ref and _CRYSTAL.match(wired.spec(p).name) and wired.kind(p.ref).is_a(m.Supplied, m.Composite)
    }
