"""Faults as edits on the circuit: what a simulated board does, and what a failed reading may come from."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zesty_trace.core.circuit.network import Element, Network

SHORT_OHM = 0.05


@dataclass(frozen=True)
class Fault:
    """One fault: `short` (two nets), `missing` (ref), `wrong value` (ref, parameter, factor), `open` (ref, net)."""

    kind: str
    target: str
    other: str = ""
    factor: float = 1.0

    def __str__(self) -> str:
        words = {
            "short": f"{self.target} shorted to {self.other}",
            "missing": f"{self.target} not fitted",
            "wrong value": f"{self.target} is {self.factor:g} times its value",
            "open": f"{self.target} not soldered on {self.other}",
        }
        return words[self.kind]


def apply_fault(network: Network, fault: Fault) -> Network:
    """Return the network with the fault in it. ValueError for an unknown kind of fault."""
    if fault.kind == "short":
        return network.with_elements([Element("short", "resistor", (fault.target, fault.other), {"ohm": SHORT_OHM})])
    if fault.kind == "missing":
        return network.without(fault.target)
    if fault.kind == "wrong value":
        return replace(network, elements=tuple(_scaled(e, fault) for e in network.elements))
    if fault.kind == "open":
        return replace(network, elements=tuple(_lifted(e, fault) for e in network.elements))
    raise ValueError(f"unknown fault {fault.kind}")


def _scaled(element: Element, fault: Fault) -> Element:
    if element.name != fault.target:
        return element
    main = next(iter(element.values))
    return replace(element, values={**element.values, main: element.values[main] * fault.factor})


def _lifted(element: Element, fault: Fault) -> Element:
    if element.name != fault.target:
        return element
    nodes = tuple(f"{fault.target} lifted" if n == fault.other else n for n in element.nodes)
    return replace(element, nodes=nodes)
