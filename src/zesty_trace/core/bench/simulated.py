"""A simulated board: the circuit of the design with spread part values and, on some, one fault."""

from __future__ import annotations

import zlib
from dataclasses import replace

import numpy as np

from zesty_trace.core.bench.plan import resistance_ohm, supply_entry
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.analysis import sampled_scale
from zesty_trace.core.circuit.build import build_network, resting
from zesty_trace.core.circuit.faults import Fault, apply_fault
from zesty_trace.core.circuit.network import Network
from zesty_trace.core.circuit.solver import Solution, solve
from zesty_trace.core.circuit.topology import ground_net, kind_of
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.review.bus import bus_addresses

LIMIT_STEPS = 14


class SimulatedBoard:
    """One board on the bench. Voltages and currents are those of the circuit model, nothing else."""

    def __init__(self, design: Design, catalogue: Catalogue, serial: str, fault: Fault | None = None) -> None:
        self.design, self.catalogue, self.serial, self.fault = design, catalogue, serial, fault
        self.ground = ground_net(design, catalogue)
        self.entry = supply_entry(design, catalogue)
        network = _spread(build_network(design, catalogue, resting(design, catalogue)), serial)
        self.network = apply_fault(network, fault) if fault else network
        self.powered: Solution | None = None
        self.supply_v = self.supply_a = 0.0

    def resistance(self, a: str, b: str) -> float:
        """Return what an ohmmeter reads between two nets with the supply unplugged, Ω."""
        return resistance_ohm(self.network, a, b)

    def power(self, volt: float, limit_a: float) -> None:
        """Switch the bench supply on: `volt`, or what is left when the current reaches `limit_a`."""
        solution, amp = self._at(volt)
        if amp > limit_a:
            low, high = 0.0, volt
            for _ in range(LIMIT_STEPS):
                volt = (low + high) / 2
                solution, amp = self._at(volt)
                low, high = (low, volt) if amp > limit_a else (volt, high)
        self.powered, self.supply_v, self.supply_a = solution, volt, amp

    def _at(self, volt: float) -> tuple[Solution, float]:
        source = next(k for k, e in enumerate(self.network.elements) if e.type == "source")
        element = self.network.elements[source]
        fed = replace(element, values={**element.values, "volt": volt})
        elements = (*self.network.elements[:source], fed, *self.network.elements[source + 1 :])
        solution = solve(Network(elements, self.network.ground))
        return solution, float(solution.terminal_current[source][0, 1])

    def power_off(self) -> None:
        """Switch the supply off."""
        self.powered, self.supply_v, self.supply_a = None, 0.0, 0.0

    def voltage(self, a: str, b: str) -> float:
        """Return the voltage between two nets, V. KeyError for a net that is not on the board."""
        if self.powered is None:
            return 0.0
        return self.powered.voltage(a) - self.powered.voltage(b)

    def bus_answers(self) -> list[int]:
        """Return the addresses that answer: fitted, powered within range, on a bus that is pulled up."""
        if self.powered is None:
            return []
        found = []
        for ref, address in bus_addresses(self.design, self.catalogue).items():
            if address is not None and self._awake(ref):
                found.append(address)
        return sorted(set(found))

    def _awake(self, ref: str) -> bool:
        if self.fault and self.fault.kind == "missing" and self.fault.target == ref:
            return False
        kind = kind_of(self.design, self.catalogue, ref)
        net_of = self.design.net_of()

        def volt(name: str) -> float:
            net = net_of.get(Pin(ref, kind.pin_named(name).number), "")
            return self.voltage(net, self.ground) if net else 0.0

        supply = volt(str(kind.model["supply"]))
        if kind.bus is None or supply < kind.facts.get("v_min", 0.0) * 0.98:
            return False
        threshold = kind.facts.get("v_ih_fraction", 0.7) * supply
        return min(volt(kind.bus.sda), volt(kind.bus.scl)) > threshold


def _spread(network: Network, serial: str) -> Network:
    """Return the network with each toleranced value drawn for this serial number, always the same for the same one."""
    rng = np.random.default_rng(zlib.crc32(serial.encode()))
    elements = list(network.elements)
    for (k, name), factor in sampled_scale(network, rng, 1).items():
        e = elements[k]
        elements[k] = replace(e, values={**e.values, name: e.values[name] * float(factor[0])})
    return Network(tuple(elements), network.ground)


def demo_faults(design: Design, catalogue: Catalogue, quantity: int) -> dict[int, Fault]:
    """Return board number -> fault for a batch of stand-in boards: a short, a missing device, a wrong resistor."""
    from zesty_trace.core.bench.plan import divider_nets
    from zesty_trace.core.circuit.topology import supply_nets

    ground = ground_net(design, catalogue)
    faults: dict[int, Fault] = {}
    rails = supply_nets(design, catalogue)
    devices = [r for r in bus_addresses(design, catalogue) if not kind_of(design, catalogue, r).connector]
    dividers = divider_nets(design, catalogue)
    if rails and quantity >= 4:
        faults[4] = Fault("short", rails[-1], ground)
    if devices and quantity >= 7:
        faults[7] = Fault("missing", devices[-1])
    if dividers and quantity >= 10:
        foot = next(
            (p.ref for p in design.nets[dividers[0]] if kind_of(design, catalogue, p.ref).model["type"] == "resistor"),
            "",
        )
        faults[10] = Fault("wrong value", foot, factor=2.0)
    return faults
