"""A simulated board: the circuit of the design with spread part values and, on some, one fault."""

from __future__ import annotations

import zlib
from dataclasses import replace
from functools import cached_property

import numpy as np

from zesty_trace.core.bench.circuit import (
    Feed,
    bench_network,
    feeds,
    lights_of,
    output_nets,
    resistances,
)
from zesty_trace.core.bench.talk import Talk, bus_devices, controllers
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import sampled_scale
from zesty_trace.core.circuit.build import build_network
from zesty_trace.core.circuit.faults import Fault, Joints, apply_fault
from zesty_trace.core.circuit.network import Network, compile_network
from zesty_trace.core.circuit.solver import Solution, solve
from zesty_trace.core.circuit.states import OperatingState
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.errors import SolveError

HALVINGS = 16
Drive = tuple[frozenset[str], bool]  # output nets that are on, lights lit


class SimulatedBoard:
    """One board on the bench. Voltages and currents are those of the circuit model, nothing else."""

    def __init__(self, wired: Wired, serial: str, fault: Fault | None = None) -> None:
        design = wired.design
        self.wired, self.design, self.serial, self.fault = wired, design, serial, fault
        self.ground = wired.ground or "GND"
        self.feeds = {f.ref: f for f in feeds(wired)}
        self.feed: Feed = next(iter(self.feeds.values()))
        pins = {r: tuple(s.number for s in wired.kind(r).pins) for r in design.parts}
        self.joints = Joints(wired.net_of, pins, fault)
        self.drive: Drive = (frozenset(), False)
        self.pressed = ""
        self.powered: Solution | None = None
        self.supply_v = self.supply_a = 0.0
        self._ohms: dict[tuple[str, str, str], float] = {}
        self._known: dict[tuple[str, Drive, float], tuple[Solution, float]] = {}

    @property
    def nets(self) -> set[str]:
        """The nets that a probe can be put on."""
        return {*self.design.nets, self.ground}

    def _spread(self, network: Network) -> Network:
        network = _spread(network, self.serial)
        return apply_fault(network, self.fault, self.joints) if self.fault else network

    # Without power ------------------------------------------------------------------------------------------------

    def resistance(self, a: str, b: str) -> float:
        """Return what an ohmmeter reads between two nets with the supply unplugged, Ω."""
        key = (a, b, self.pressed)
        if key not in self._ohms:
            self.look_up([(a, b)])
        return self._ohms[key]

    def look_up(self, pairs: list[tuple[str, str]]) -> None:
        """Work out many resistances at once."""
        fresh = [p for p in dict.fromkeys(pairs) if (*p, self.pressed) not in self._ohms]
        if fresh:
            found = resistances(self._unplugged(), fresh, frozenset(controllers(self.wired)))
            for pair, ohm in zip(fresh, found.ohm, strict=True):
                self._ohms[(*pair, self.pressed)] = float(ohm)

    def _unplugged(self) -> Network:
        if not self.pressed:
            return self._spread(bench_network(self.wired, self.feed))
        state = OperatingState("pressed", flipped=frozenset((self.pressed,)), asleep=lights_of(self.wired))
        network = build_network(self.wired, state)
        return self._spread(network)

    # With power ---------------------------------------------------------------------------------------------------

    def power(self, volt: float, limit_a: float) -> None:
        """Switch the bench supply on: `volt`, or what is left when the current reaches `limit_a`."""
        solution, amp = self._at(volt)
        if amp > limit_a:
            low, high = 0.0, volt
            for _ in range(HALVINGS):
                volt = (low + high) / 2
                solution, amp = self._at(volt)
                low, high = (low, volt) if amp > limit_a else (volt, high)
        self.powered, self.supply_v, self.supply_a = solution, volt, amp

    def _at(self, volt: float) -> tuple[Solution, float]:
        key = (self.feed.ref, self.drive, round(volt, 9))
        if key not in self._known:
            self._known[key] = self._solve(self._network(volt, self.drive))
        return self._known[key]

    def _network(self, volt: float, drive: Drive) -> Network:
        feed = replace(self.feed, volt=volt)
        nets, lit = drive
        high = (
            frozenset(
                pin
                for net, pins in output_nets(self.wired).items()
                if net in nets
                for pin in pins
                if self._talk.running(pin.ref)
            )
            if nets
            else frozenset()
        )
        lights = lights_of(self.wired)
        dark = lights - self._talk.lit(lights) if lit else lights
        return self._spread(bench_network(self.wired, feed, high, dark))

    def _solve(self, network: Network) -> tuple[Solution, float]:
        source = next((k for k, e in enumerate(network.elements) if e.type == "source"), None)
        near = next(iter(self._known.values()), None)
        try:
            solution = solve(network, near=near[0] if near else None)
        except SolveError:
            solution = _dead(network)
        return solution, float(solution.terminal_current[source][0, 1]) if source is not None else 0.0

    @cached_property
    def _rest(self) -> Solution:
        return self._solve(self._spread(bench_network(self.wired, self.feed)))[0]

    @property
    def _talk(self) -> Talk:
        return Talk(self.wired, self.joints, self._rest_volt)

    def _rest_volt(self, net: str) -> float:
        return self._rest.all_voltages().get(net, 0.0)

    def power_off(self) -> None:
        """Switch the supply off."""
        self.powered, self.supply_v, self.supply_a = None, 0.0, 0.0

    def plug_into(self, ref: str) -> None:
        """Move the bench supply to another place. KeyError if the board cannot be fed there."""
        if ref != self.feed.ref:
            self.power_off()
            self.feed = self.feeds[ref]
            self.__dict__.pop("_rest", None)

    def switch(self, nets: frozenset[str], lit: bool) -> None:
        """Have the controller switch these outputs on and all others off, and the lights on or dark."""
        self.drive = (nets, lit)

    def voltage(self, a: str, b: str) -> float:
        """Return the voltage between two nets, V; 0 without supply."""
        if self.powered is None:
            return 0.0
        volts = self.powered.all_voltages()
        return volts.get(a, 0.0) - volts.get(b, 0.0)

    @property
    def _awake(self) -> bool:
        return self.powered is not None and self.supply_v > 0.9 * self.feed.volt

    def bus_answers(self) -> list[int]:
        """Return the addresses that answer: fitted, powered within range, on a bus that is pulled up and reached."""
        if not self._awake or not bus_devices(self.wired):
            return []
        return sorted(set(self._talk.bus_answers()))

    def shining(self) -> int:
        """Return how many lights shine."""
        if not self._awake or not self.drive[1]:
            return 0
        return len(self._talk.lit(lights_of(self.wired)))

    def answers(self, ref: str) -> bool:
        """Whether a controller runs and answers over its lines, or finds a device that it speaks to."""
        if not self._awake or ref not in self.design.parts:
            return False
        if ref in controllers(self.wired):
            return self._talk.controller_answers(ref)
        return self._talk.device_answers(ref)


def _dead(network: Network) -> Solution:
    """Return a board on which nothing can be read, for a fault whose circuit has no solution."""
    compiled = compile_network(network)
    currents = {k: np.zeros((1, len(e.nodes))) for k, e in enumerate(network.elements)}
    return Solution(compiled, np.zeros((1, compiled.size)), currents, 0.0, 0)


def _spread(network: Network, serial: str) -> Network:
    """Return the network with each toleranced value drawn for this serial number, always the same for the same one.

    What a value becomes depends on the part and the serial number alone, whatever state the circuit is in.
    """
    elements = list(network.elements)
    seen: dict[tuple[str, str], int] = {}
    for k, e in enumerate(elements):
        if not e.tolerances:
            continue
        place = seen[e.name, e.type] = seen.get((e.name, e.type), -1) + 1
        rng = np.random.default_rng(zlib.crc32(f"{serial}/{e.name}/{e.type}/{place}".encode()))
        scale = sampled_scale(Network((e,), network.ground), rng, 1)
        values = dict(e.values)
        for (_, name), factor in scale.items():
            values[name] *= float(factor[0])
        elements[k] = replace(e, values=values)
    return Network(tuple(elements), network.ground)


def demo_faults(wired: Wired, quantity: int) -> dict[int, Fault]:
    """Return board number -> fault for a batch of stand-in boards: a short, a missing device, a wrong resistor."""
    design = wired.design
    from zesty_trace.core.bench.plan import divider_nets

    ground = wired.ground
    faults: dict[int, Fault] = {}
    rails = wired.rails
    devices = [r for r in bus_devices(wired) if not wired.kind(r).connector]
    dividers = divider_nets(wired)
    if rails and quantity >= 4:
        faults[4] = Fault("short", rails[-1], ground)
    if devices and quantity >= 7:
        faults[7] = Fault("missing", devices[-1])
    if dividers and quantity >= 10:
        foot = next(
            (p.ref for p in design.nets[dividers[0]] if wired.kind(p.ref).is_a(m.Resistor)),
            "",
        )
        faults[10] = Fault("wrong value", foot, factor=2.0)
    return faults
