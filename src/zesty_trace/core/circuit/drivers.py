"""Which pins drive their nets, how, and from which supply; and which could and are not modelled.

A push-pull output stands between its supply and its ground with the resistance of its transistors; an open-drain
output only pulls low; a bus pin of a memory drives when it is read. A controller's pin is an output where it can only
be meant as one. Resistances are typical of the kind (common practice).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import Drive, Kind, PinSpec
from zesty_trace.core.circuit.op_amps import amplified
from zesty_trace.core.circuit.wired import SWITCHES, Wired, worked_out
from zesty_trace.core.design.model import Pin

How = Literal["push-pull", "open drain", "bus"]


@dataclass(frozen=True)
class Driver:
    """A pin that drives its net. `active` pins are on or off by themselves; `loaded` ones reach something to switch."""

    pin: Pin
    how: How
    ohm: float
    supply: Pin
    ground: Pin
    programmed: bool
    loaded: bool


def drive_of(kind: Kind) -> Drive | None:
    """Return how a kind's outputs drive; None where it does not say."""
    if kind.drive is not None:
        return kind.drive
    if isinstance(kind.model, m.Controller):
        return Drive(ohm=kind.model.drive_ohm, supply=kind.model.supply, ground=kind.model.ground)
    return None


def is_programmed(kind: Kind) -> bool:
    """Whether a program sets the kind's pins: a controller, bare or on a plug-in board."""
    return kind.is_a(m.Controller) or (kind.drive is not None and kind.bus is not None and kind.bus.role == "host")


def on_bus(kind: Kind, spec: PinSpec) -> bool:
    """Whether a pin is a line of the kind's two-wire bus: released at rest, pulled up."""
    return kind.bus is not None and spec.name in (kind.bus.sda, kind.bus.scl)


def can_drive(kind: Kind, spec: PinSpec) -> bool:
    """Whether a pin can drive its net, by its role."""
    if kind.is_a(m.Open) or (kind.is_a(m.Composite) and kind.drive is None):
        return False  # a plug, or a part whose elements say what it does
    return spec.role in ("output", "open_drain", "bidirectional") and not on_bus(kind, spec)


def is_switched(wired: Wired, pin: Pin) -> bool:
    """Whether a pin is one that outputs are made to drive: a gate, a base, an LED, a coil, an opto's input, a load."""
    kind, spec = wired.kind(pin.ref), wired.spec(pin)
    if kind.is_a(m.Led, m.CurrentLoad) or spec.name in kind.driven:
        return True
    if kind.is_a(*SWITCHES) and spec.role == "input":
        return True
    return kind.is_a(m.Resistor) and kind.external


@worked_out
def reaches_a_load(wired: Wired, pin: Pin) -> bool:
    """Whether a pin reaches something to switch, directly or through one series part."""
    net = wired.net_of.get(pin)
    if net is None or not wired.signal(net):
        return False
    nets = {net}
    for near in wired.design.nets[net]:
        if near.ref != pin.ref and wired.two_terminal(near.ref):
            beyond = wired.beyond(near)
            if beyond and wired.signal(beyond):
                nets.add(beyond)
    return any(is_switched(wired, p) for n in nets for p in wired.design.nets[n] if p.ref != pin.ref)


def _feeds_an_input(wired: Wired, pin: Pin) -> bool:
    """Whether a pin is the only one on its net that could drive the inputs there."""
    listens = False
    for near in wired.on(wired.net_of.get(pin)):
        if near == pin:
            continue
        kind, spec = wired.kind(near.ref), wired.spec(near)
        if spec.role in ("output", "open_drain", "bidirectional", "supply_out", "supply_in", "ground"):
            return False
        listens = listens or (spec.role == "input" and kind.is_a(m.Load) and not kind.connector)
    return listens


@worked_out
def drivers(wired: Wired) -> tuple[Driver, ...]:
    """Return the pins that drive their nets, in the order of parts and pins."""
    found = []
    for pin, spec in wired.pins():
        kind = wired.kind(pin.ref)
        drive, net = drive_of(kind), wired.net_of.get(pin)
        if drive is None or net is None or pin in amplified(wired) or not can_drive(kind, spec):
            continue
        ends = (wired.pin(pin.ref, drive.supply), wired.pin(pin.ref, drive.ground))
        loaded, programmed = reaches_a_load(wired, pin), is_programmed(kind)
        if spec.role == "open_drain":
            if drive.sink_ohm is not None and not programmed:
                found.append(Driver(pin, "open drain", drive.sink_ohm, *ends, programmed, loaded))
        elif spec.role == "output":
            found.append(Driver(pin, "push-pull", drive.ohm, *ends, programmed, loaded))
        elif programmed:
            if loaded or _feeds_an_input(wired, pin):
                found.append(Driver(pin, "push-pull", drive.ohm, *ends, programmed, loaded))
        else:
            found.append(Driver(pin, "bus", drive.ohm, *ends, programmed, loaded))
    return tuple(found)


@worked_out
def driver_at(wired: Wired) -> dict[Pin, Driver]:
    """Return pin -> how it drives."""
    return {d.pin: d for d in drivers(wired)}


@worked_out
def controller_outputs(wired: Wired) -> tuple[Pin, ...]:
    """Return the controllers' pins that switch something: those that a bench turns on one after the other."""
    return tuple(
        d.pin for d in drivers(wired) if d.programmed and d.loaded and wired.spec(d.pin).role == "bidirectional"
    )


@worked_out
def unmodelled_outputs(wired: Wired) -> tuple[Pin, ...]:
    """Return the pins that can drive a net and whose kind does not say how: what they do is not known."""
    found = []
    for pin, spec in wired.pins():
        kind, net = wired.kind(pin.ref), wired.net_of.get(pin)
        if net is None or not wired.signal(net) or not can_drive(kind, spec) or len(wired.on(net)) < 2:
            continue
        drive = drive_of(kind)
        if drive is None or (spec.role == "open_drain" and drive.sink_ohm is None and not is_programmed(kind)):
            found.append(pin)
    return tuple(found)


@worked_out
def unknown_nets(wired: Wired) -> frozenset[str]:
    """Return the nets whose voltage is not known, because an output that is not modelled drives them."""
    known = {wired.net_of[d.pin] for d in drivers(wired) if d.how == "push-pull"}
    return frozenset(wired.net_of[p] for p in unmodelled_outputs(wired)) - known
