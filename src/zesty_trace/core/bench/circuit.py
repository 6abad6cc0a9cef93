"""The circuit as it stands on the bench.

Fed at one inlet, the others unplugged, the cells out, lights dark unless asked.

And the ohmmeter on it: all resistances between nets of an unpowered board, worked out as one batch.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.build import INPUT_LEAK_OHM, build_network, cell_voltage, charge_current
from zesty_trace.core.circuit.devices import REVERSE_OHM
from zesty_trace.core.circuit.drivers import controller_outputs
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.network import Element, FloatArray, Network
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.states import OperatingState
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.errors import EditError

TEST_VOLT, TEST_OHM, CLIP_OHM = 0.2, 1000.0, 1e-3
OFF = 1e12
OPEN_OHM = 1e9  # what the meter says beyond its range
RANGE_OHM = 2e7
FLOAT_V = 4.2  # a lithium charger without its cell, common practice


@dataclass(frozen=True)
class Feed:
    """Where the bench supply goes: in at an inlet, or in place of a cell."""

    ref: str
    net: str
    volt: float


def feeds(wired: Wired) -> list[Feed]:
    """Return every place where a board can be fed, the inlet of the brief's supply first, then by reference.

    EditError if there is none. The order of the parts in the design does not matter.
    """
    design = wired.design
    net_of = wired.net_of
    found = []
    for ref, part in design.parts.items():
        kind = wired.kind(ref)
        if not kind.is_a(m.Inlet, m.Battery):
            continue
        net = next((net_of[p] for s in kind.pins if s.role == "supply_out" and (p := Pin(ref, s.number)) in net_of), "")
        volt = cell_voltage(part, kind, None) if kind.is_a(m.Battery) else inflow(wired, ref).volt
        if net:
            found.append(Feed(ref, net, volt))
    if not found:
        raise EditError("The board has no supply inlet", "schematic", "Add a barrel jack or another inlet")

    def rank(feed: Feed) -> tuple[bool, float, int, str]:
        kind = wired.kind(feed.ref)
        said = design.brief.supply_v
        return kind.is_a(m.Battery), abs(feed.volt - said) if said else 0.0, len(feed.ref), feed.ref

    return sorted(found, key=rank)


def lights_of(wired: Wired) -> frozenset[str]:
    """Return the lights that are told by data what to show."""
    design = wired.design
    return frozenset(r for r in design.parts if wired.kind(r).facts.light)


def output_nets(wired: Wired) -> dict[str, frozenset[Pin]]:
    """Return net -> the controller pins that drive it, for each output, in the order of the pins."""
    net_of = wired.net_of
    found: dict[str, set[Pin]] = {}
    for pin in controller_outputs(wired):
        found.setdefault(net_of[pin], set()).add(pin)
    return {net: frozenset(pins) for net, pins in found.items()}


def bench_network(
    wired: Wired,
    feed: Feed,
    high: frozenset[Pin] = frozenset(),
    dark: frozenset[str] | None = None,
) -> Network:
    """Return the circuit fed at `feed`, with these outputs high and these lights dark (by default all)."""
    dark = lights_of(wired) if dark is None else dark
    state = OperatingState("bench", high=high, asleep=dark, supply_v=None, quiet=True)
    network = build_network(wired, state)
    elements = [_fed(e, feed) for e in network.elements if e.type != "source" or e.name == feed.ref]
    return Network(tuple(_without_cell(e, wired, feed) for e in elements), network.ground)


def _fed(element: Element, feed: Feed) -> Element:
    if element.type != "source":
        return element
    values = {"volt": feed.volt, "ohm": 0.02}
    return replace(element, values=values, tolerances={"volt": 0.005})


def _without_cell(element: Element, wired: Wired, feed: Feed) -> Element:
    """Let a charger whose cell is out hold its end voltage, as linear chargers do.

    With the cell's place fed it rests.
    """
    design = wired.design
    if element.type != "current_load" or element.name not in design.parts:
        return element
    kind = wired.kind(element.name)
    if not kind.is_a(m.Charger):
        return element
    if wired.kind(feed.ref).is_a(m.Battery):
        return replace(element, values={**element.values, "amp": 0.0})
    ground = next((Pin(element.name, s.number) for s in kind.pins if s.role == "ground"), None)
    node = wired.net_of.get(ground, f"{element.name} ground") if ground else f"{element.name} ground"
    limit = charge_current(wired, element.name) or 0.001
    values = {
        "v_out": stated(kind.facts.float_v, FLOAT_V),
        "v_drop": 0.1,
        "r_drop": 0.3,
        "i_q": 0.0005,
        "i_limit": limit,
        "r_out": 0.05,
    }
    return Element(element.name, "regulator", (*element.nodes, node), values, (*element.pins, ground), {"v_out": 0.02})


def unpowered(network: Network, drivers: frozenset[str] = frozenset(), leaks: bool = True) -> Network:
    """Return the circuit of a board without supply: sources unplugged, chips draw nothing, regulators rest.

    A resting regulator is what its output takes back, a resistor to ground (see `devices.REVERSE_OHM`). The pins of
    `drivers`, the controllers, drive nothing: only their leakage is left. Without `leaks` chips conduct nothing at all:
    no real board reads higher than that.
    """
    kept = []
    for e in network.elements:
        if not leaks and (
            e.type in ("current_load", "regulator", "converter") or e.values.get("ohm") == INPUT_LEAK_OHM
        ):
            continue
        if e.type == "current_load":
            kept.append(replace(e, values={**e.values, "amp": 0.0}))
        elif e.type in ("regulator", "converter"):
            ends = (e.nodes[1], e.nodes[2])
            kept.append(Element(e.name, "resistor", ends, {"ohm": REVERSE_OHM}, e.pins[1:3]))
        elif e.type != "source" and not (e.name in drivers and e.tolerances):
            kept.append(e)
    return Network(tuple(kept), network.ground)


@dataclass(frozen=True)
class Ohms:
    """Resistances of pairs of nets, Ω, and how far part tolerances can move each, as a share of it."""

    ohm: FloatArray  # (P,)
    spread: FloatArray  # (P,)


def resistances(
    network: Network, pairs: Sequence[tuple[str, str]], drivers: frozenset[str] = frozenset(), leaks: bool = True
) -> Ohms:
    """Return what an ohmmeter reads between each pair: 0.2 V through 1 kΩ, so that no junction conducts.

    The spread follows from Tellegen's theorem: a resistance moves by the sum of each part's tolerance times its share
    of the power in the circuit. Beyond 20 MΩ the reading is 1 GΩ, "open".
    """
    network = unpowered(network, drivers, leaks)
    if not pairs:
        return Ohms(np.zeros(0), np.zeros(0))
    plus, minus = sorted({a for a, _ in pairs}), sorted({b for _, b in pairs})
    base = len(network.elements) + 1
    meter = [Element("meter", "source", ("meter +", "meter -"), {"volt": TEST_VOLT, "ohm": CLIP_OHM})]
    meter += [Element("red", "resistor", ("meter +", a), {"ohm": TEST_OHM}) for a in plus]
    meter += [Element("black", "resistor", ("meter -", b), {"ohm": CLIP_OHM}) for b in minus]
    scale = {}
    for k, a in enumerate(plus):
        scale[base + k, "ohm"] = np.array([1.0 if a == p else OFF for p, _ in pairs])
    for k, b in enumerate(minus):
        scale[base + len(plus) + k, "ohm"] = np.array([1.0 if b == p else OFF for _, p in pairs])
    solution = solve(network.with_elements(meter), scale)
    rows = np.arange(len(pairs))
    volt_a = np.array([solution.voltages(a)[r] for r, (a, _) in zip(rows, pairs, strict=True)])
    volt_b = np.array([solution.voltages(b)[r] for r, (_, b) in zip(rows, pairs, strict=True)])
    amp = (solution.voltages("meter +") - volt_a) / TEST_OHM
    volt = volt_a - volt_b
    with np.errstate(divide="ignore", invalid="ignore"):
        ohm = np.where(amp > TEST_VOLT / RANGE_OHM, volt / amp, OPEN_OHM)
    ohm = np.where(ohm > RANGE_OHM, OPEN_OHM, np.maximum(ohm, 0.0))
    moved = np.zeros(len(pairs))
    for k, element in enumerate(network.elements):
        width = max(element.tolerances.values(), default=0.0)
        if width:
            moved += width * np.abs(solution.powers(k))
    total = np.maximum(np.abs(volt * amp), 1e-30)
    return Ohms(ohm, np.where(ohm < OPEN_OHM, moved / total, 0.0))
