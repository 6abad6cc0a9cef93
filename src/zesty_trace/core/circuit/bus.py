"""Two-wire buses read off the wiring: which level a strap has, which address a device answers, who shares a line."""

from __future__ import annotations

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Strap
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin


def strap_level(wired: Wired, pin: Pin) -> str | None:
    """Return "low", "high" or None (open, or on a signal) for a strap pin, looking through one resistor."""
    design = wired.design
    net_of = wired.net_of
    rails, ground = wired.rails, wired.ground
    net = net_of.get(pin)
    nets = {net} if net else set()
    for near in design.nets.get(net or "", ()):
        if wired.kind(near.ref).is_a(m.Resistor):
            nets.add(net_of.get(Pin(near.ref, "2" if near.number == "1" else "1"), ""))
    if ground in nets:
        return "low"
    return "high" if nets & set(rails) else None


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
