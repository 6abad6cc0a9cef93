"""Rules on analogue inputs and clocks: divider range, source impedance, shared ground, crystal load."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.markings import nearest
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_net, of_part, rule
from zesty_trace.core.quantities import say, say_part_value
from zesty_trace.core.review.drive import COMMON, add_between
from zesty_trace.core.review.register import solved, static
from zesty_trace.core.stated import rating

ADC_SOURCE_OHM = 10e3
HOLDING_F = 10e-9
HEAVY_GROUND_A = 3.0
STRAY_F = 5e-12
LOAD_SHARE, UNLIKE = 0.25, 2.5  # how far off the load may be, and how unlike its two capacitors
_ANALOGUE = re.compile(r"^(AIN\d+|A\d|IN\d)$")


DIVIDER_RANGE = rule(
    "divider range",
    Severity.STOP,
    "Above its supply a converter reads full scale and the pin conducts into the supply.",
    "solved over all operating states; range of the converter is its supply",
    limits="the supply of the converter",
)
SOURCE_IMPEDANCE = rule(
    "source impedance",
    Severity.FIX,
    "A converter takes a gulp of charge per reading; through a large resistor it reads low and jumps.",
    COMMON,
    limits="10 kΩ without 10 nF at the pin",
)
SHARED_GROUND = rule(
    "shared ground",
    Severity.NOTE,
    "Each milliohm that both share turns an ampere into a millivolt of error.",
    COMMON,
    limits="3 A",
)
CRYSTAL_LOAD = rule(
    "crystal load",
    Severity.FIX,
    "Without its load a crystal starts late, or off its frequency, or not at all.",
    "CL = C1 C2 / (C1 + C2) + stray (5 pF, common practice)",
    limits="the load that the crystal wants, within a quarter",
)


def analogue_pins(wired: Wired) -> Iterator[tuple[Pin, str]]:
    """Yield converter inputs that are on a net, with the net."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        converts = kind.is_a(m.Controller) or kind.id.startswith("adc")
        for spec in kind.pins if converts else ():
            net = wired.net_of.get(Pin(ref, spec.number))
            if _ANALOGUE.match(spec.name) and spec.role in ("bidirectional", "passive", "input") and net:
                yield Pin(ref, spec.number), net


@solved
def divider_range(wired: Wired) -> Iterator[Finding]:
    """Yield divided voltages above the converter's supply, with the foot resistor that brings them to nine tenths."""
    for pin, net in analogue_pins(wired):
        supply = wired.supply_of(pin.ref)
        feet = [n for n in wired.near(net, m.Resistor) if n.beyond == wired.ground and n.value > 0]
        tops = [n for n in wired.near(net, m.Resistor) if n.beyond not in (wired.ground, "", net) and n.value > 0]
        volt, limit = analyse(wired).highest.get(net, 0.0), analyse(wired).highest.get(supply or "", 0.0)
        source = analyse(wired).highest.get(tops[0].beyond, 0.0) if tops else 0.0
        if not feet or not supply or not 0 < limit < min(volt, source):
            continue
        wanted = 0.9 * limit
        foot = say_part_value(nearest(tops[0].value * wanted / max(source - wanted, 1e-9), 24))
        yield DIVIDER_RANGE.found(
            of_net(net),
            f"{net} reaches {say(volt, 'V')}, {wired.label(pin)} reads up to {say(limit, 'V')}",
            f"With {feet[0].ref} at {foot} it would stay near {say(wanted, 'V', 2)}.",
            refs=(pin.ref, feet[0].ref),
            value=volt,
            limit=limit,
            unit="V",
            mend=Mend(f"Make {feet[0].ref} {foot}", partial(edits.change_part, ref=feet[0].ref, value=foot)),
        )


@static
def divider_impedance(wired: Wired) -> Iterator[Finding]:
    """Yield converter inputs fed through so much resistance, with no capacitor, that they read low."""
    for pin, net in analogue_pins(wired):
        feeds = [n.value for n in wired.near(net, m.Resistor) if n.value > 0]
        held = sum(n.value for n in wired.near(net, m.Capacitor) if n.beyond == wired.ground)
        if not feeds or held >= HOLDING_F:
            continue
        ohm = 1.0 / sum(1.0 / f for f in feeds)
        if ohm <= ADC_SOURCE_OHM or any(wired.spec(p).role == "output" for p in wired.design.nets[net]):
            continue
        fresh = Part(ref=edits.fresh_ref(wired.design, "C"), kind="ceramic_capacitor", value="100n", package="C0603")
        yield SOURCE_IMPEDANCE.found(
            of_net(net),
            f"{wired.label(pin)} is fed through {say(ohm, 'Ω')}, at most {say(ADC_SOURCE_OHM, 'Ω')}",
            f"{fresh.ref} of 100n from {net} to {wired.ground} holds the level while it is sampled.",
            refs=(pin.ref,),
            value=ohm,
            limit=ADC_SOURCE_OHM,
            unit="Ω",
            mend=Mend(f"Add {fresh.ref} 100n", partial(add_between, part=fresh, first=net, second=wired.ground)),
        )


@solved
def shared_ground(wired: Wired) -> Iterator[Finding]:
    """Yield boards where amperes of load return through the ground from which an analogue input is measured."""
    measured = [pin for pin, net in analogue_pins(wired) if net != wired.ground]
    heavy: dict[str, float] = {}
    for pin, amp in analyse(wired).pin_peaks().items():
        if wired.net_of.get(pin) == wired.ground and not wired.kind(pin.ref).is_a(m.Inlet, m.Battery):
            heavy[pin.ref] = heavy.get(pin.ref, 0.0) + amp
    ref, amp = max(heavy.items(), key=lambda h: h[1], default=("", 0.0))
    if measured and amp > HEAVY_GROUND_A:
        yield SHARED_GROUND.found(
            of_part(ref),
            f"{say(amp, 'A')} of {ref} returns through the ground that {measured[0].ref} measures from",
            "Let the load's ground run to the inlet on its own copper and join the two grounds there, in one place.",
            refs=(ref, measured[0].ref),
            nets=(wired.ground,),
            value=amp,
            limit=HEAVY_GROUND_A,
            unit="A",
        )


def _load_inside(wired: Wired, nets: list[str]) -> float:
    """Return the load capacitance that the chip on a crystal's nets has in it, F."""
    chips = {p.ref for p in wired.on(nets[0])} & {p.ref for p in wired.on(nets[1])}
    return max((wired.kind(r).facts.oscillator_load_f or 0.0 for r in chips), default=0.0)


@static
def crystal_load(wired: Wired) -> Iterator[Finding]:
    """Yield crystals without their two capacitors, or with ones that load them far from what they want."""
    for ref in wired.design.parts:
        said = rating(wired.part(ref).value, "F")
        wanted = wired.kind(ref).facts.load_f if said is None else said
        if not wanted or wanted <= STRAY_F:  # less than the tracks have: no capacitors to work out
            continue
        nets = [wired.net_of.get(Pin(ref, n), "") for n in ("1", "2")]
        caps = [sum(n.value for n in wired.near(net, m.Capacitor) if n.beyond == wired.ground) for net in nets]
        each = say_part_value(nearest(2 * (wanted - STRAY_F), 12))
        if not all(nets):
            continue
        inside = _load_inside(wired, nets)
        if not all(caps) and not (inside and not any(caps)):
            missing = [net for net, c in zip(nets, caps, strict=True) if not c]
            fresh = Part(ref=edits.fresh_ref(wired.design, "C"), kind="ceramic_capacitor", value=each, package="C0603")
            yield CRYSTAL_LOAD.found(
                of_part(ref),
                f"{ref} has no load capacitor on {' and '.join(missing)}",
                f"It wants {say(wanted, 'F')}: {each} from each side to ground.",
                nets=tuple(missing),
                value=0.0,
                limit=wanted,
                unit="F",
                mend=Mend(
                    f"Add {fresh.ref} {each}", partial(add_between, part=fresh, first=missing[0], second=wired.ground)
                ),
            )
            continue
        outside = caps[0] * caps[1] / (caps[0] + caps[1]) + STRAY_F if any(caps) else 0.0
        load = outside + inside
        far = abs(load - wanted) > 2 * LOAD_SHARE * wanted or (any(caps) and max(caps) > UNLIKE * min(caps))
        if abs(load - wanted) > LOAD_SHARE * wanted:
            yield CRYSTAL_LOAD.found(
                of_part(ref),
                f"{ref} is loaded with {say(load, 'F')}, wants {say(wanted, 'F')}",
                f"Two capacitors of {each} come nearest.",
                severity=Severity.FIX if far else Severity.NOTE,
                why="A wrong load pulls the frequency by tens of ppm; far off, the crystal does not start.",
                nets=tuple(nets),
                value=load,
                limit=wanted,
                unit="F",
            )
