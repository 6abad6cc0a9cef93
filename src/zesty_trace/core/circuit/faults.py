"""Faults of a built board as edits on its circuit.

What a simulated board does, and what a failed reading may come from.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal, get_args

from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.design.model import Pin

SHORT_OHM = 0.05
FaultKind = Literal["short", "missing", "wrong value", "open", "reversed"]
FAULT_KINDS: tuple[FaultKind, ...] = get_args(FaultKind)


@dataclass(frozen=True)
class Fault:
    """One fault of a built board.

    `short` (two nets), `missing` (ref), `wrong value` (ref, factor), `open` (ref, net; of one pin only if `pin` is
    given), `reversed` (ref, turned half round).
    """

    kind: FaultKind
    target: str
    other: str = ""
    factor: float = 1.0
    pin: str = ""

    def __str__(self) -> str:
        words = {
            "short": f"{self.target} shorted to {self.other}",
            "missing": f"{self.target} not fitted",
            "wrong value": f"{self.target} is {self.factor:g} times its value",
            "open": f"{self.target}{f' pin {self.pin}' if self.pin else ''} not soldered on {self.other}",
            "reversed": f"{self.target} the wrong way round",
        }
        return words.get(self.kind, self.kind)


@dataclass(frozen=True)
class Joints:
    """Which pin really sits on which net of a built board: the wiring, less what a fault has done to it."""

    wiring: Mapping[Pin, str]
    pins: Mapping[str, tuple[str, ...]]  # ref -> pin numbers in order
    fault: Fault | None = None

    def net(self, pin: Pin) -> str | None:
        """Return the net that the pin touches; None if it touches none."""
        fault = self.fault
        if fault is None or fault.target != pin.ref or fault.kind not in ("missing", "open", "reversed"):
            return self.wiring.get(pin)
        if fault.kind == "missing":
            return None
        if fault.kind == "reversed":
            return self.wiring.get(self._opposite(pin))
        if fault.pin:
            return None if fault.pin == pin.number else self.wiring.get(pin)
        net = self.wiring.get(pin)
        return None if net == fault.other else net

    def _opposite(self, pin: Pin) -> Pin:
        """Return the pin whose land this pin touches when the part is turned half round: pins run round the body."""
        numbers = self.pins.get(pin.ref, ())
        if pin.number not in numbers:
            return pin
        place = (numbers.index(pin.number) + len(numbers) // 2) % len(numbers)
        return Pin(pin.ref, numbers[place])

    def whole(self, pin: Pin) -> bool:
        """Whether the pin touches the net that it should."""
        return self.wiring.get(pin) is not None and self.net(pin) == self.wiring[pin]

    def bridged(self, net: str) -> bool:
        """Whether the net is joined to another one."""
        return self.fault is not None and self.fault.kind == "short" and net in (self.fault.target, self.fault.other)


def apply_fault(network: Network, fault: Fault, joints: Joints | None = None) -> Network:
    """Return the network with the fault in it.

    ValueError for an unknown kind of fault, or a turned part without joints.
    """
    if fault.kind == "short":
        return network.with_elements([Element("short", "resistor", (fault.target, fault.other), {"ohm": SHORT_OHM})])
    if fault.kind == "missing":
        return network.without(fault.target)
    if fault.kind == "wrong value":
        return replace(network, elements=tuple(_scaled(e, fault) for e in network.elements))
    if fault.kind == "open" and not fault.pin:
        return replace(network, elements=tuple(_lifted(e, fault) for e in network.elements))
    if fault.kind in ("open", "reversed"):
        if joints is None:
            raise ValueError("the joints of the board are needed for this fault")
        return replace(network, elements=tuple(_moved(e, fault, joints) for e in network.elements))
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


def _moved(element: Element, fault: Fault, joints: Joints) -> Element:
    if element.name != fault.target or not element.pins:
        return element
    nodes = tuple(
        node if pin is None else joints.net(pin) or f"{pin} lifted"
        for node, pin in zip(element.nodes, element.pins, strict=True)
    )
    return replace(element, nodes=nodes)
