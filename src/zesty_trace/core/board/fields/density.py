"""Current density in the copper of a net: where it crowds, what it loses, from the currents of its pins.

The same sheet conduction as between two pads, with the current of every pin let in or taken out at its pads.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from zesty_trace.core.board.copper import board_pads, pad_shape
from zesty_trace.core.board.fields.conduction import (
    F64,
    Mesh,
    depths_mm,
    holes_of,
    inside_pads,
    joints,
    laplacian,
    merged,
    mesh_of_layers,
    net_area,
    sheet_ohm,
)
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LayerName, Pin
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

LEAST_A = 1e-6


class Flow(NamedTuple):
    """What flows in the copper of a net in its busiest state.

    `density_a_mm2` is per triangle of the mesh; `drop_v` the most between two of its pads, `loss_w` what the copper
    turns into heat; the densest place with its layer.
    """

    net: str
    state: str
    current_a: float
    drop_v: float
    loss_w: float
    mesh: Mesh
    density_a_mm2: F64
    layers: tuple[LayerName, ...]
    densest: Point
    densest_on: LayerName

    @property
    def most_a_mm2(self) -> float:
        """The highest density."""
        return float(self.density_a_mm2.max())


def busiest_net(wired: Wired) -> str:
    """Return the net, ground left out, through which the most current goes; "" if nothing is known of any."""
    totals = {net: total for net, (_, _, total) in _states(wired).items() if net != wired.ground}
    placed = {p.net for p in board_pads(wired) if p.layers}
    return max((n for n in totals if n in placed), key=lambda n: totals[n], default="")


def flow_of(wired: Wired, net: str) -> Flow:
    """Return the current density in the copper of a net, in the state in which the most flows through it.

    EditError for a net that is unknown, carries nothing, or is not in one piece; SolveError if the circuit has no
    solution.
    """
    if net not in wired.design.nets:
        raise EditError(f"There is no net {net}", net, "See the nets of the schematic")
    known = _states(wired).get(net)
    if known is None or known[2] < LEAST_A:
        raise EditError(f"{net} carries no current in any state", net, "Choose a net between a supply and a load")
    state, currents, total = known
    return _solved(wired, net, state, _at_pads(wired, net, currents), total)


def _states(wired: Wired) -> dict[str, tuple[str, dict[Pin, float], float]]:
    """Return for each net its busiest state: name, current into each pin's part, and the sum that flows, A."""
    found: dict[str, tuple[str, dict[Pin, float], float]] = {}
    for operating in analyse(wired).all():
        amps = operating.solution.pin_currents()
        for net, pins in wired.design.nets.items():
            own = {p: amps.get(p, 0.0) for p in pins}
            total = max(sum(a for a in own.values() if a > 0), -sum(a for a in own.values() if a < 0))
            if net not in found or total > found[net][2]:
                found[net] = (operating.state.name, own, total)
    return found


def _at_pads(wired: Wired, net: str, currents: dict[Pin, float]) -> dict[Pin, float]:
    """Return the currents that leave the copper at its pads: what goes to things off the board, at the connectors."""
    there = {p.pin for p in board_pads(wired) if p.net == net and p.layers}
    at = {pin: amp for pin, amp in currents.items() if pin in there}
    rest = -sum(at.values())
    doors = [p for p in there if wired.kind(p.ref).connector] or sorted(there, key=lambda p: -abs(at.get(p, 0.0)))[:1]
    for pin in doors:
        at[pin] = at.get(pin, 0.0) + rest / len(doors)
    return {pin: amp for pin, amp in at.items() if abs(amp) > LEAST_A}


def _solved(wired: Wired, net: str, state: str, currents: dict[Pin, float], total: float) -> Flow:
    from scipy.sparse.csgraph import connected_components
    from scipy.sparse.linalg import spsolve

    rules = wired.design.board.rules
    stack = wired.design.board.stack
    areas = {layer: net_area(wired, net, layer) for layer in stack}
    pads = {pin: [p for p in board_pads(wired) if p.pin == pin and p.layers] for pin in currents}
    ends = {pin: [(layer, pad_shape(p)) for p in own for layer in p.layers] for pin, own in pads.items()}
    holes = list(holes_of(wired, net))
    marks = {layer: [s for end in ends.values() for on, s in end if on == layer] for layer in areas}
    mesh = mesh_of_layers(areas, marks, holes)
    terminals = {pin: inside_pads(mesh, end, list(areas)) for pin, end in ends.items()}
    if len(currents) < 2 or not len(mesh.triangles) or not all(map(len, terminals.values())):
        raise EditError(f"{net} has no copper between its pads", net, "Route it first")
    foils = [rules.foil_um(k) for k in areas]
    groups, barrels = joints(mesh, holes, depths_mm(len(areas), mm(rules.thickness_nm)))
    owner = merged(len(mesh.points), [*groups, *terminals.values()])
    matrix = laplacian(mesh, [sheet_ohm(um) for um in foils], owner, barrels)
    _, piece = connected_components(matrix, directed=False)
    nodes = {pin: int(owner[t[0]]) for pin, t in terminals.items()}
    if len({piece[n] for n in nodes.values()}) > 1:
        raise EditError(f"The copper of {net} is not in one piece", net, "Route it first")
    ground = next(iter(nodes.values()))
    volts, into = np.zeros(matrix.shape[0]), np.zeros(matrix.shape[0])
    for pin, node in nodes.items():
        into[node] -= currents[pin]  # what goes into the part leaves the copper
    live = np.flatnonzero((piece == piece[ground]) & (np.arange(len(volts)) != ground))
    volts[live] = spsolve(matrix[live][:, live].tocsc(), into[live])
    potential = volts[owner]
    density = _densities(mesh, potential)
    at = int(density.argmax())
    x, y = mesh.points[mesh.triangles[at]].mean(axis=0)
    where = Point(round(x * 1e6), round(y * 1e6))
    layer = stack[int(mesh.layer_of[mesh.triangles[at, 0]])]
    seen = [volts[n] for n in nodes.values()]
    loss = float(-sum(currents[pin] * volts[node] for pin, node in nodes.items()))
    return Flow(net, state, total, max(seen) - min(seen), abs(loss), mesh, density, stack, where, layer)


def _densities(mesh: Mesh, potential: F64) -> F64:
    """Return the current density in each triangle, A/mm²: the slope of the potential over the resistivity."""
    from zesty_trace.core.board.fields.conduction import RESISTIVITY_OHM_M

    p, v = mesh.points[mesh.triangles], potential[mesh.triangles]
    e1, e2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    twice = e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]
    d1, d2 = v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]
    flat = np.where(np.abs(twice) < 1e-9, np.inf, twice)
    gx, gy = (d1 * e2[:, 1] - d2 * e1[:, 1]) / flat, (d2 * e1[:, 0] - d1 * e2[:, 0]) / flat
    found: F64 = np.hypot(gx, gy) * 1e3 / RESISTIVITY_OHM_M * 1e-6  # V/mm -> A/mm²
    return found
