"""Two-wire buses read off the wiring: which level a strap has, which address a device answers, who shares a line."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Strap
from zesty_trace.core.circuit.build import element_ohm
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin


def strap_level(wired: Wired, pin: Pin) -> str | None:
    """Return "low", "high" or None (open, or on a signal) for a strap pin: the strongest tie decides.

    It looks through one resistor, one closed jumper or bead, and the common pin of a resistor network.
    """
    net = wired.net_of.get(pin)
    ties = sorted((ohm, other != wired.ground) for ohm, other in _ties(wired, net) if not wired.signal(other))
    return None if not ties else "high" if ties[0][1] else "low"


def _ties(wired: Wired, net: str | None) -> Iterator[tuple[float, str]]:
    """Yield the nets that a net is tied to, itself first, each with the resistance of the tie, Ω."""
    if not net:
        return
    yield 0.0, net
    for near in wired.near(net, m.Resistor, m.FixedResistor):
        if near.beyond:
            series = wired.kind(near.ref).model.series_ohm
            yield near.value if series is None else series, near.beyond
    for pin in wired.on(net):
        for element in wired.kind(pin.ref).elements if wired.kind(pin.ref).is_a(m.Composite) else ():
            name = wired.spec(pin).name
            if element.type == "resistor" and name in element.pins:
                far = wired.net_at(pin.ref, next((n for n in element.pins if n != name), name))
                if far and far != net:
                    yield element_ohm(wired.part(pin.ref), wired.kind(pin.ref), element), far


def bus_addresses(wired: Wired) -> dict[str, int | None]:
    """Return ref -> address of every device with a two-wire bus; None while one of its straps is undecided."""
    design = wired.design
    found: dict[str, int | None] = {}
    for ref in design.parts:
        bus = wired.kind(ref).bus
        if bus is None or bus.role != "device":
            continue
        address: int | None = bus.address
        for strap in bus.straps:
            level = strap_level(wired, strap_pin(wired, ref, strap))
            if level is None or address is None:
                address = None
                break
            address += strap.low if level == "low" else strap.high
        found[ref] = address
    return found


def strap_pin(wired: Wired, ref: str, strap: Strap) -> Pin:
    """Return the pin of a strap."""
    return Pin(ref, wired.kind(ref).pin_named(strap.pin).number)


def bus_groups(wired: Wired) -> list[set[str]]:
    """Return the sets of references that share a data line, level shifters (a transistor channel) counted as wire."""
    design = wired.design
    import networkx as nx

    net_of = wired.net_of
    graph = nx.Graph()
    for ref in design.parts:
        kind = wired.kind(ref)
        if kind.bus:
            net = net_of.get(Pin(ref, kind.pin_named(kind.bus.sda).number))
            if net:
                graph.add_edge(("part", ref), ("net", net))
        elif kind.is_a(m.Nmos):
            ends = [net_of.get(Pin(ref, kind.pin_named(name).number)) for name in ("D", "S")]
            if all(ends):
                graph.add_edge(("net", ends[0]), ("net", ends[1]))
    rails = {("net", n) for n in (*wired.rails, wired.ground)}
    graph.remove_nodes_from(rails)
    groups = [{name for what, name in part if what == "part"} for part in nx.connected_components(graph)]
    return [g for g in groups if len(g) > 1]
