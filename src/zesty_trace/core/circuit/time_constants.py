"""Times and peaks that direct current does not show: reset delay, filters, bus edges, inrush, droop, coils, snubbers.

Formulas: RC charging t = RC ln(V / (V - Vt)); corner f = 1 / (2 pi RC); UM10204 rise time tr = 0.8473 Rp Cb; coil
turn-off by energy, V = I sqrt(L / C); contact protection C = I^2 / 10 in uF and R = V / (10 I^(1 + 50 / V)) (common
practice, from memory).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.circuit.analysis import Analysis, analyse
from zesty_trace.core.circuit.build import BRICK_OHM, build_network
from zesty_trace.core.circuit.network import Element
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.wired import Neighbour, Wired, worked_out
from zesty_trace.core.design.model import Pin
from zesty_trace.core.quantities import say
from zesty_trace.errors import SolveError

RISE_FACTOR = 0.8473  # ln(0.7 / 0.3), UM10204
BUS_SPEEDS = ((1_000_000.0, 120e-9), (400_000.0, 300e-9), (100_000.0, 1000e-9))  # UM10204: fast plus, fast, standard
PIN_F, TRACK_F = 10e-12, 50e-12
ESR_OHM = 0.1  # of the capacitors and the lead together: common practice
# How long a supply takes to follow a load step: common practice.
RESPONSE_S: dict[type[m.Model], float] = {m.Regulator: 10e-6, m.Converter: 30e-6}
COIL_STRAY_F = 100e-12  # winding, track and switch: common practice
COIL_H = 5e-3
LEAD_OHM = 0.1  # of a supply lead: common practice
BULK_OHM, CERAMIC_OHM = 0.2, 0.02  # in a row with a capacitor: common practice
NOTHING_V = 5000.0  # where a coil's current finds no way
SMALL_OHM = 1.0  # a resistor up to this in a supply line holds no inrush back that counts


@dataclass(frozen=True)
class TimeConstant:
    """One number with its unit, what it is about and how it was worked out; `limit` where one is known."""

    what: str
    where: str
    value: float
    unit: str
    how: str
    refs: tuple[str, ...] = ()
    nets: tuple[str, ...] = ()
    limit: float | None = None

    def say(self) -> str:
        """Return the number in words; what takes for ever never happens."""
        return say(self.value, self.unit) if math.isfinite(self.value) else "never"


def charge_time_s(ohm: float, farad: float, supply_v: float, threshold_v: float) -> float:
    """Return how long an RC takes from 0 V to `threshold_v`, s. ValueError if it never gets there."""
    if not 0 < threshold_v < supply_v:
        raise ValueError("the threshold is not between zero and the supply")
    return ohm * farad * math.log(supply_v / (supply_v - threshold_v))


def corner_hz(ohm: float, farad: float) -> float:
    """Return the -3 dB corner of a first-order RC filter, Hz."""
    return 1.0 / (2.0 * math.pi * ohm * farad)


def coil_peak_v(amp: float, henry: float, stray_f: float = COIL_STRAY_F) -> float:
    """Return the voltage to which a coil rises when switched off with nothing to take its current, V."""
    return amp * math.sqrt(henry / stray_f)


def coil_decay_s(amp: float, henry: float, ohm: float, clamp_v: float) -> float:
    """Return how long a coil's current takes to die through a clamp of `clamp_v` in series with its own `ohm`, s."""
    return henry / ohm * math.log(1.0 + amp * ohm / clamp_v)


def contact_snubber(amp: float, volt: float) -> tuple[float, float]:
    """Return (F, Ω) of the RC across a contact that breaks `amp` at `volt`."""
    return amp**2 / 10.0 * 1e-6, volt / (10.0 * amp ** (1.0 + 50.0 / volt))


def droop_v(amp: float, farad: float, response_s: float, esr_ohm: float = ESR_OHM) -> float:
    """Return how far a supply drops on a load step of `amp` before its regulator follows, V."""
    return amp * esr_ohm + amp * response_s / farad


@worked_out
def time_constants(wired: Wired) -> tuple[TimeConstant, ...]:
    """Return what can be read off this design, in reading order. SolveError as solving."""
    design = wired.design
    if not design.parts:
        return ()
    return tuple(_Times(wired).run())


@worked_out
def droops(wired: Wired) -> tuple[TimeConstant, ...]:
    """Return how far supplies drop on a load step. SolveError as solving."""
    return tuple(_Times(wired).droops())


@worked_out
def capacitance_behind(wired: Wired, ref: str) -> tuple[float, tuple[str, ...]]:
    """Return what an inlet or a cell has to charge through parts that hold nothing back, F, and on which nets."""
    times = _Times(wired)
    out = wired.pin_of_role(ref, "supply_out")
    nets, _ = times.reached(wired.net_of.get(out, "") if out else "")
    return sum(times.capacitance(n) for n in nets), tuple(nets)


class _Times:
    def __init__(self, wired: Wired) -> None:
        design = wired.design
        self.wired, self.design = wired, design
        self.net_of = wired.net_of
        self.ground = wired.ground
        self.rails = wired.rails
        self.analysis: Analysis = analyse(wired)

    @cached_property
    def volts(self) -> Mapping[str, float]:
        """Net -> V with most outputs on."""
        return self.analysis.worst().net_voltages()

    def run(self) -> Iterator[TimeConstant]:
        yield from self._resets_and_filters()
        yield from self._buses()
        yield from self._inrush()
        yield from self.droops()
        yield from self._coils()

    def kind(self, ref: str) -> Kind:
        return self.wired.kind(ref)

    def _near(self, net: str, *models: type[m.Model]) -> list[Neighbour]:
        return self.wired.near(net, *models)

    def _resets_and_filters(self) -> Iterator[TimeConstant]:
        for net in self.design.nets:
            if net in self.rails or net == self.ground:
                continue
            farads = [n for n in self._near(net, m.Capacitor) if n.beyond == self.ground and n.value > 0]
            resistors = [n for n in self._near(net, m.Resistor) if n.value > 0 and n.beyond != net]
            if not farads or not resistors:
                continue
            farad = sum(n.value for n in farads)
            ohm = 1.0 / sum(1.0 / n.value for n in resistors)
            refs = tuple(n.ref for n in (*farads, *resistors))
            reset = next((p for p in self.design.nets[net] if self._pin_name(p) in ("NRST", "RST", "RESET")), None)
            pulls = [n.beyond for n in resistors if n.beyond in self.rails]
            if reset and pulls:
                supply = self.volts.get(pulls[0], 0.0)
                threshold = supply * stated(self.kind(reset.ref).facts.input_high_share, 0.7)
                end = ohm * sum(self.volts.get(n.beyond, 0.0) / n.value for n in resistors)
                if supply > 0:
                    how = f"{say(ohm, 'Ω')} and {say(farad, 'F')} up to {say(threshold, 'V')} of {say(end, 'V')}"
                    delay = charge_time_s(ohm, farad, end, threshold) if end > threshold else math.inf
                    yield TimeConstant("Reset delay", self.wired.label(reset), delay, "s", how, refs, (net,))
            else:
                yield TimeConstant(
                    "Filter corner",
                    net,
                    corner_hz(ohm, farad),
                    "Hz",
                    f"{say(ohm, 'Ω')} and {say(farad, 'F')}",
                    refs,
                    (net,),
                )

    def _pin_name(self, pin: Pin) -> str:
        return next((s.name for s in self.kind(pin.ref).pins if s.number == pin.number), "")

    def _buses(self) -> Iterator[TimeConstant]:
        for net, pins in self.design.nets.items():
            devices = [p for p in pins if self._on_bus(p)]
            pulls = [n for n in self._near(net, m.Resistor) if n.beyond in self.rails and n.value > 0]
            if len(devices) < 2 or not pulls:
                continue
            ohm = 1.0 / sum(1.0 / n.value for n in pulls)
            farad = TRACK_F + PIN_F * len(devices)
            rise = RISE_FACTOR * ohm * farad
            fast = next((hz for hz, limit in BUS_SPEEDS if rise <= limit), None)
            good = f"good for {say(fast, 'Hz', 1)}" if fast else "too slow for any speed"
            yield TimeConstant(
                "Bus rise time",
                net,
                rise,
                "s",
                f"0.8473 x {say(ohm, 'Ω')} x {say(farad, 'F')}: {good}",
                tuple(n.ref for n in pulls),
                (net,),
                BUS_SPEEDS[-1][1],
            )

    def _on_bus(self, pin: Pin) -> bool:
        bus = self.kind(pin.ref).bus
        return bus is not None and self._pin_name(pin) in (bus.sda, bus.scl)

    def capacitance(self, net: str) -> float:
        """Return what stands between a net and ground, F."""
        return sum(n.value for n in self._near(net, m.Capacitor) if n.beyond == self.ground)

    def _inrush(self) -> Iterator[TimeConstant]:
        for ref in self.design.parts:
            kind = self.kind(ref)
            if not kind.is_a(m.Inlet, m.Battery):
                continue
            out = next((s.number for s in kind.pins if s.role == "supply_out"), "")
            net = self.net_of.get(Pin(ref, out), "")
            nets, refs = self.reached(net)
            farad = sum(self.capacitance(n) for n in nets)
            volt = self.volts.get(net, 0.0)
            amp = self._first_rush(ref, out)
            if farad <= 0 or volt <= 0 or not amp:
                continue
            ohm = volt / amp
            yield TimeConstant(
                "Inrush",
                ref,
                amp,
                "A",
                f"{say(volt, 'V')} into {say(farad, 'F')} through {say(ohm, 'Ω')}, over in "
                f"{say(3 * ohm * farad, 's', 2)}",
                (ref, *refs),
                tuple(nets),
            )

    def _first_rush(self, ref: str, out: str) -> float | None:
        """Return what a supply gives at the first moment, every capacitor empty: each a resistor as small as its own.

        None where that circuit has no solution.
        """
        state = self.analysis.states[0]
        source = self.kind(ref).is_a(m.Inlet)
        network = build_network(self.wired, replace(state, supply_v=None if source else 0.0, unplugged=frozenset()))
        if source:
            network = network.changed(ref, ohm=BRICK_OHM + LEAD_OHM)
        empty = []
        for name in self.wired.of_model(m.Capacitor):
            ends = [self.net_of.get(p, "") for p in self.wired.pins_of(name)]
            if len(ends) == 2 and all(ends):
                own = BULK_OHM if self.kind(name).polarity else CERAMIC_OHM
                empty.append(Element(name, "resistor", (ends[0], ends[1]), {"ohm": own}))
        try:
            solved = solve(network.with_elements(empty))
        except SolveError:
            return None
        return -solved.pin_currents().get(Pin(ref, out), 0.0)

    def reached(self, net: str) -> tuple[list[str], list[str]]:
        """Return the nets that a supply reaches through fuses, coils and diodes, and those parts."""
        nets, refs, waiting = [net], [], [net]
        while waiting:
            for near in self._near(waiting.pop(), m.FixedResistor, m.Diode, m.Resistor):
                if self.kind(near.ref).is_a(m.Resistor) and near.value > SMALL_OHM:
                    continue
                if near.beyond and near.beyond not in nets and near.beyond != self.ground:
                    nets.append(near.beyond)
                    waiting.append(near.beyond)
                    refs.append(near.ref)
        return nets, refs

    def droops(self) -> Iterator[TimeConstant]:
        rest = self.analysis.operating(self.analysis.states[0]).solution.pin_currents()
        full = self.analysis.worst().solution.pin_currents()
        for net in self.rails:
            source = next(
                (
                    p
                    for p in self.design.nets[net]
                    if self.kind(p.ref).is_a(*RESPONSE_S) and self._role(p) == "supply_out"
                ),
                None,
            )
            farad = self.capacitance(net)
            if source is None or farad <= 0:
                continue
            step = abs(full.get(source, 0.0) - rest.get(source, 0.0))
            volt = self.volts.get(net, 0.0)
            if step > 1e-4 and volt > 0:
                response = next(s for shape, s in RESPONSE_S.items() if self.kind(source.ref).is_a(shape))
                yield TimeConstant(
                    "Load-step droop",
                    net,
                    droop_v(step, farad, response),
                    "V",
                    f"{say(step, 'A')} from {say(farad, 'F')} for {say(response, 's', 2)}",
                    (source.ref,),
                    (net,),
                    0.1 * volt,
                )

    def _role(self, pin: Pin) -> str:
        return next((s.role for s in self.kind(pin.ref).pins if s.number == pin.number), "")

    def _coils(self) -> Iterator[TimeConstant]:
        peaks = self.analysis.pin_peaks()
        for ref in self.design.parts:
            kind = self.kind(ref)
            ends = coil_pins(kind)
            if ends is None:
                continue
            amp = max(peaks.get(Pin(ref, n), 0.0) for n in ends)
            henry = stated(kind.facts.coil_h, COIL_H)
            nets = (self.net_of.get(Pin(ref, ends[0]), ""), self.net_of.get(Pin(ref, ends[1]), ""))
            if amp < 1e-4 or not all(nets):
                continue
            volt = max(self.volts.get(n, 0.0) for n in nets)
            peak, across = self._turned_off(ref, nets, amp)
            if across < NOTHING_V / 2:
                gone = say(coil_decay_s(amp, henry, max(volt, 1.0) / amp, max(across, 0.1)), "s", 2)
                how = f"{say(amp, 'A')} goes on against {say(across, 'V')} and dies in {gone}"
            elif farad := self._snubber(nets):
                peak = volt + coil_peak_v(amp, henry, farad)
                how = f"{say(amp, 'A')} in {say(henry, 'H')} rings into {say(farad, 'F')}"
            else:
                peak = coil_peak_v(amp, henry)
                how = f"{say(amp, 'A')} in {say(henry, 'H')} with nothing to take it: the switch breaks down first"
            yield TimeConstant("Coil turn-off", ref, peak, "V", how, (ref,), nets)

    def _turned_off(self, ref: str, nets: tuple[str, str], amp: float) -> tuple[float, float]:
        """Return the highest voltage at a coil's ends the moment that it is switched off, and that across it, V.

        With everything off, its current goes on: solved with a source of that current in the place of the coil.
        """
        plus, minus = sorted(nets, key=lambda n: -self.volts.get(n, 0.0) if n in self.rails else 0.0)
        goes_on = Element("goes on", "source", (minus, plus), {"volt": NOTHING_V, "ohm": NOTHING_V / amp})
        network = build_network(self.wired, self.analysis.states[0]).without(ref).with_elements([goes_on])
        try:
            volts = solve(network).all_voltages()
        except SolveError:
            return 0.0, NOTHING_V
        ends = [volts.get(n, 0.0) for n in nets]
        return max(ends, key=abs), abs(ends[0] - ends[1])

    def _snubber(self, nets: tuple[str, str]) -> float:
        """Return the capacitance that stands across a coil or its switch, through a resistor or not, F."""
        best = 0.0
        for net in nets:
            if not self.wired.signal(net):
                continue
            behind = [net, *(n.beyond for n in self._near(net, m.Resistor) if n.beyond and self.wired.signal(n.beyond))]
            far = {*nets, self.ground} - {net}
            best = max([best, *(c.value for b in behind for c in self._near(b, m.Capacitor) if c.beyond in far)])
        return best


def coil_pins(kind: Kind) -> tuple[str, str] | None:
    """Return the pin numbers of a coil: a relay's, or those of an inductive load; None for other kinds."""
    names = {s.name: s.number for s in kind.pins}
    if "COIL1" in names:
        return names["COIL1"], names["COIL2"]
    return (kind.pins[0].number, kind.pins[1].number) if kind.facts.inductive else None
