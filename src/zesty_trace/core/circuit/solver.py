"""The DC operating point by modified nodal analysis and damped Newton, over a batch of parameter samples at once.

Method: C.-W. Ho, A. Ruehli, P. Brennan, "The modified nodal approach to network analysis", IEEE Trans. Circuits and
Systems 22 (1975). Junction voltages are limited in the manner of L. Nagel's SPICE2 report (1975); where plain Newton
fails, a conductance to ground is stepped down (gmin stepping), then the sources are stepped up.
"""

from __future__ import annotations

import itertools
import math
import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from types import MappingProxyType

import numpy as np

from zesty_trace.core.circuit.devices import BODY_DIODE_A, EQUATIONS, THERMAL_V, ZENER_SLOPE_V
from zesty_trace.core.circuit.network import (
    BoolArray,
    Compiled,
    Element,
    FloatArray,
    Group,
    IntArray,
    Network,
    compile_alike,
    compile_network,
)
from zesty_trace.core.design.model import Pin
from zesty_trace.errors import SolveError

GMIN_S = 1e-12
MAX_STEPS = 120
HOPELESS = 3  # failures in a row after which stepping is given up
RESIDUAL_A = 1e-10
STEP_V = 1e-9
LAST_STEP_V = 1e-4
FAR_BEYOND = 4.0
CHUNK = 250
MANY = 64
# plus, minus, n V_T, offset, knee
_Junction = tuple[IntArray, IntArray, FloatArray | float, FloatArray | float, FloatArray | float]


@dataclass(frozen=True)
class Totals:
    """Of one sample: amperes into each pin, and watts that each part absorbs."""

    amps: dict[Pin, float]
    watts: dict[str, float]


@dataclass(frozen=True)
class Solution:
    """Node voltages (V), pin currents (A, into the part) and element powers (W, absorbed), for B samples."""

    compiled: Compiled
    x: FloatArray  # (B, unknowns)
    terminal_current: dict[int, FloatArray]  # element index -> (B, terminals)
    residual_a: float
    iterations: int

    def voltages(self, node: str) -> FloatArray:
        """Return (B,) voltages of a node against ground. KeyError if there is no such node."""
        if node == self.compiled.network.ground:
            return np.zeros(len(self.x))
        try:
            return self.x[:, self.compiled.names.index(node)]
        except ValueError:
            raise KeyError(node) from None

    def voltage(self, node: str) -> float:
        """Return the voltage of a node in the first sample, V."""
        return float(self.voltages(node)[0])

    @cached_property
    def _volts(self) -> dict[str, float]:
        found = {name: float(self.x[0, k]) for k, name in enumerate(self.compiled.names)}
        return {**found, self.compiled.network.ground: 0.0}

    def all_voltages(self) -> Mapping[str, float]:
        """Return node -> V of the first sample, ground included."""
        return MappingProxyType(self._volts)

    @cached_property
    def _totals(self) -> Totals:
        return totals(self.compiled, self.x[:1])[0]

    def pin_currents(self) -> Mapping[Pin, float]:
        """Return pin -> A into the part, first sample."""
        return MappingProxyType(self._totals.amps)

    def powers(self, element: int) -> FloatArray:
        """Return (B,) watts that an element absorbs."""
        nodes = self.compiled.network.elements[element].nodes
        volts = np.stack([self.voltages(n) for n in nodes], axis=-1)
        return np.asarray((volts * self.terminal_current[element]).sum(axis=-1))

    def part_powers(self) -> Mapping[str, float]:
        """Return part or element name -> W absorbed, first sample."""
        return MappingProxyType(self._totals.watts)

    def unknowns_for(self, compiled: Compiled) -> FloatArray:
        """Return this solution as a start for another network: the nodes and branches of the same names, others 0."""
        start = np.zeros(compiled.size)
        known = self._volts
        start[: len(compiled.names)] = [known.get(name, 0.0) for name in compiled.names]
        own = _branch_rows(self.compiled)
        for name, row in _branch_rows(compiled).items():
            if name in own:
                start[row] = self.x[0, own[name]]
        return start


def _branch_rows(compiled: Compiled) -> dict[str, int]:
    """Return element name -> row of its branch current."""
    elements = compiled.network.elements
    return {
        elements[k].name: int(row)
        for group in compiled.groups
        if len(group.branch)
        for k, row in zip(group.index, group.branch, strict=True)
    }


def solve(
    network: Network,
    scale: Mapping[tuple[int, str], FloatArray] | None = None,
    near: FloatArray | Solution | None = None,
) -> Solution:
    """Return the operating point of `network`, for each sample of `scale` (see compile_network).

    `near` is where to start from: unknowns (U,), or the solution of a like network.
    Raises SolveError with the nets that would not settle.
    """
    compiled = compile_network(network, scale)
    if compiled.batch > CHUNK:
        return _in_chunks(network, scale or {}, compiled)
    start = near.unknowns_for(compiled) if isinstance(near, Solution) else near
    if compiled.batch > 1 and start is None:
        start = solve(network).x[0]  # samples lie near the nominal circuit: a few steps from there
    return _solve(compiled, start)


def solve_alike(networks: Sequence[Network]) -> list[Solution]:
    """Return the operating point of each of some networks that differ in values only, solved as one batch.

    SolveError if one of them does not settle.
    """
    whole = _solve(compile_alike(networks), solve(networks[0]).x[0])
    sums = totals(whole.compiled, whole.x)
    found = []
    for k, network in enumerate(networks):
        rows = np.zeros(len(networks), dtype=bool)
        rows[k] = True
        currents = {e: amps[k : k + 1] for e, amps in whole.terminal_current.items()}
        own = replace(_only(whole.compiled, rows), network=network)
        solution = Solution(own, whole.x[k : k + 1], currents, whole.residual_a, whole.iterations)
        solution.__dict__["_totals"] = sums[k]  # what the cached property would work out one by one
        found.append(solution)
    return found


def _solve(compiled: Compiled, start: FloatArray | None) -> Solution:
    x = np.zeros((compiled.batch, compiled.size))
    if start is not None:
        x += start
    x, good, steps = _newton(compiled, x, GMIN_S, 1.0)
    if not good.all() and start is not None:  # a start that leads nowhere is worse than none
        x, good, steps = _newton(compiled, np.zeros_like(x), GMIN_S, 1.0)
    if not good.all():
        x, good = _step_gmin(compiled, x, good)
    if not good.all():
        x, good = _step_sources(compiled, x, good)
    residual, _ = _assemble(compiled, x, x, 1.0, _conductances(compiled, GMIN_S))
    if not good.all():
        raise SolveError(
            f"The circuit does not settle ({int((~good).sum())} of {compiled.batch} samples)",
            ", ".join(_worst_nets(compiled, residual[~good])),
            "Check the parts on these nets for a missing value or a wrong connection",
        )
    worst = float(np.abs(residual[:, : len(compiled.names)]).max(initial=0.0))
    return Solution(compiled, x, terminal_currents(compiled, x), worst, steps)


def _in_chunks(network: Network, scale: Mapping[tuple[int, str], FloatArray], compiled: Compiled) -> Solution:
    """Solve a large batch piece by piece, so that its matrices stay in the cache, a piece on each core."""
    near = solve(network).x[0]

    def piece(start: int) -> Solution:
        return solve(network, {key: factors[start : start + CHUNK] for key, factors in scale.items()}, near)

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        parts = list(pool.map(piece, range(0, compiled.batch, CHUNK)))
    currents = {k: np.concatenate([p.terminal_current[k] for p in parts]) for k in parts[0].terminal_current}
    return Solution(
        compiled,
        np.concatenate([p.x for p in parts]),
        currents,
        max(p.residual_a for p in parts),
        max(p.iterations for p in parts),
    )


def _worst_nets(compiled: Compiled, residual: FloatArray) -> list[str]:
    size = np.abs(residual[:, : len(compiled.names)]).max(axis=0)
    return [compiled.names[k] for k in np.argsort(size)[::-1][:3]]


def _only(compiled: Compiled, rows: BoolArray) -> Compiled:
    groups = tuple(
        Group(g.type, g.index, g.nodes, g.branch, {n: v[rows] for n, v in g.values.items()}) for g in compiled.groups
    )
    return replace(compiled, groups=groups, batch=int(rows.sum()))


def _step_gmin(compiled: Compiled, x: FloatArray, good: BoolArray) -> tuple[FloatArray, BoolArray]:
    part = _only(compiled, ~good)
    y = np.zeros((part.batch, part.size))
    failures = 0
    for decade in range(2, 13):
        y, fine, _ = _newton(part, y, 10.0**-decade, 1.0)
        failures = 0 if fine.any() else failures + 1
        if failures == HOPELESS:
            break
    return _merge(x, good, y, fine)


def _step_sources(compiled: Compiled, x: FloatArray, good: BoolArray) -> tuple[FloatArray, BoolArray]:
    part = _only(compiled, ~good)
    y = np.zeros((part.batch, part.size))
    failures = 0
    for share in np.linspace(0.05, 1.0, 20):
        y, fine, _ = _newton(part, y, GMIN_S, float(share))
        failures = 0 if fine.any() else failures + 1
        if failures == HOPELESS:
            break
    return _merge(x, good, y, fine)


def _merge(x: FloatArray, good: BoolArray, y: FloatArray, fine: BoolArray) -> tuple[FloatArray, BoolArray]:
    x, good = x.copy(), good.copy()
    rows = np.flatnonzero(~good)
    x[rows[fine]] = y[fine]
    good[rows] = fine
    return x, good


def _newton(compiled: Compiled, x: FloatArray, gmin: float, share: float) -> tuple[FloatArray, BoolArray, int]:
    """Return the unknowns, which samples converged, and the iterations taken.

    A sample has converged when the equations hold at its own voltages and the last step was small: Newton's method is
    quadratic there, so the step that is not taken would be far smaller still.
    """
    x, good = x.copy(), np.zeros(compiled.batch, dtype=bool)
    seen = x.copy()  # where the devices are evaluated: follows x, but limited
    moved = np.full(compiled.batch, np.inf)
    rows, part = np.arange(compiled.batch), compiled  # the samples that still move, and their circuit
    fixed = _conductances(compiled, gmin)
    nodes, bound, junctions = len(compiled.names), _bound_v(compiled), _all_junctions(compiled)
    for step in range(MAX_STEPS + 1):
        at, at_seen = x[rows], seen[rows]
        residual, jacobian = _assemble(part, at, at_seen, share, fixed)
        apart = np.abs(at - at_seen).max(axis=1, initial=0.0)
        worst = np.nan_to_num(np.abs(residual), nan=np.inf).max(axis=1, initial=0.0)
        good[rows] = fine = (worst < RESIDUAL_A) & (apart < STEP_V) & (moved[rows] < LAST_STEP_V)
        if fine.all() or step == MAX_STEPS:
            break
        try:
            if step == 0 and len(rows) >= MANY:  # samples near each other: one mean Jacobian takes them most of the way
                fresh = at - residual @ np.linalg.inv(jacobian.mean(axis=0)).T
            else:
                fresh = at + np.linalg.solve(jacobian, -residual[..., None])[..., 0]
        except np.linalg.LinAlgError:
            break
        np.clip(fresh[:, :nodes], -bound, bound, out=fresh[:, :nodes])
        moved[rows] = np.abs(fresh - at)[:, :nodes].max(axis=1, initial=0.0)
        seen[rows] = _limit(junctions, at_seen, fresh)
        x[rows] = fresh
        if 2 * fine.sum() >= len(rows):
            rows, part, fixed = rows[~fine], _only(part, ~fine), fixed[~fine]
            junctions = _all_junctions(part)
    return x, good, step


def _bound_v(compiled: Compiled) -> float:
    """Return a voltage that no node of this circuit can reach: a step past it is a step astray."""
    found = [
        float(np.abs(g.values[name]).max(initial=0.0))
        for g in compiled.bent
        for name in ("volt", "v_out", "v_z")
        if name in g.values
    ]
    return FAR_BEYOND * max(found, default=1.0) + 10.0


def _limit(junctions: Sequence[_Junction], old: FloatArray, new: FloatArray) -> FloatArray:
    """Return node voltages that let no junction run away: a whole sample's step is shortened as far as needed."""
    allowed = np.ones(len(new))
    padded_old = np.concatenate([old, np.zeros((len(old), 1))], axis=1)
    padded_step = np.concatenate([new - old, np.zeros((len(old), 1))], axis=1)
    for a, b, n_vt, offset, knee in junctions:
        before = padded_old[:, a] - padded_old[:, b] - offset
        step = padded_step[:, a] - padded_step[:, b]
        room = np.where(before < knee - n_vt, knee - before, 3.0 * n_vt)
        share = np.where(step > room, room / np.maximum(step, 1e-30), 1.0)
        allowed = np.minimum(allowed, share.min(axis=1, initial=1.0))
    return np.asarray(old + allowed[:, None] * (new - old))


def _critical_v(i_s: FloatArray | float, n_vt: FloatArray | float) -> FloatArray:
    """Return where a junction's curve bends most sharply (Nagel 1975): up to there a step is free."""
    return np.asarray(n_vt * np.log(n_vt / (math.sqrt(2.0) * np.asarray(i_s))))


def _all_junctions(compiled: Compiled) -> list[_Junction]:
    return [junction for group in compiled.bent for junction in _junctions(group)]


def _junctions(group: Group) -> list[_Junction]:
    n, v = group.nodes, group.values
    if group.type in ("diode", "zener"):
        n_vt = v["n"] * THERMAL_V
        found: list[_Junction] = [(n[:, 0], n[:, 1], n_vt, 0.0, _critical_v(v["i_s"], n_vt))]
        if group.type == "zener":
            found.append((n[:, 1], n[:, 0], ZENER_SLOPE_V, v["v_z"], 20.0 * ZENER_SLOPE_V))
        return found
    knee = _critical_v(v.get("i_s", BODY_DIODE_A), THERMAL_V)
    ends = {
        "nmos": ((2, 0),),
        "pmos": ((0, 2),),
        "npn": ((1, 2), (1, 0)),
        "pnp": ((2, 1), (0, 1)),
    }.get(group.type, ())
    return [(n[:, a], n[:, b], THERMAL_V, 0.0, knee) for a, b in ends]


def _conductances(compiled: Compiled, gmin: float) -> FloatArray:
    """Return the part of the Jacobian (B, U, U) that no step changes: the resistors, and `gmin` from each node to ground."""
    batch, size, nodes = compiled.batch, compiled.size, len(compiled.names)
    ohms = [g.values["ohm"] for g in compiled.groups if g.type == "resistor"]
    g = 1.0 / ohms[0] if ohms else np.zeros((batch, 0))
    fixed = compiled.ohmic(np.stack([g, -g, -g, g], axis=-1).reshape(batch, -1))
    fixed = np.ascontiguousarray(fixed.reshape(batch, size + 1, size + 1)[:, :size, :size])
    diagonal = np.arange(nodes)
    fixed[:, diagonal, diagonal] += gmin
    return fixed


def _assemble(
    compiled: Compiled, x: FloatArray, seen: FloatArray, share: float, fixed: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Return the residual (B, U) of the equations linearised at `seen` and taken at `x`, and the Jacobian (B, U, U).

    `fixed` is what _conductances gives.
    """
    batch, size = compiled.batch, compiled.size
    at_seen = np.concatenate([seen, np.zeros((batch, 1))], axis=1)
    apart = np.concatenate([x - seen, np.zeros((batch, 1))], axis=1)
    moved = bool(apart.any())  # mostly not: then there is nothing to carry on from `seen` to `x`
    left: list[FloatArray] = [np.zeros((batch, 0))]
    right: list[FloatArray] = [np.zeros((batch, 0))]
    for group in compiled.bent:
        values = group.values
        if group.type == "source" and share != 1.0:
            values = {**values, "volt": values["volt"] * share}
        i = at_seen[:, group.branch] if len(group.branch) else None
        stamp = EQUATIONS[group.type](at_seen[:, group.nodes], i, values)
        flow = stamp.current
        if moved:
            dv = apart[:, group.nodes]
            flow = flow + (stamp.by_v @ dv[..., None])[..., 0]
        right.append(stamp.by_v.reshape(batch, -1))
        if stamp.by_i is not None and stamp.f is not None and stamp.f_v is not None and stamp.f_i is not None:
            law = stamp.f
            if moved:
                di = apart[:, group.branch]
                flow = flow + stamp.by_i * di[..., None]
                law = law + (stamp.f_v * dv).sum(axis=-1) + stamp.f_i * di
            left += [flow.reshape(batch, -1), law]
            right += [stamp.by_i.reshape(batch, -1), stamp.f_v.reshape(batch, -1), stamp.f_i]
        else:
            left.append(flow.reshape(batch, -1))
    residual = compiled.residual(np.concatenate(left, axis=1))[:, :size] + (fixed @ x[..., None])[..., 0]
    jacobian = compiled.jacobian(np.concatenate(right, axis=1)).reshape(batch, size + 1, size + 1)
    return residual, jacobian[:, :size, :size] + fixed


def terminal_currents(compiled: Compiled, x: FloatArray) -> dict[int, FloatArray]:
    """Return element index -> (B, terminals) currents into the terminals at the unknowns `x`, A."""
    padded = np.concatenate([x, np.zeros((len(x), 1))], axis=1)
    currents: dict[int, FloatArray] = {}
    for group in compiled.groups:
        i = padded[:, group.branch] if len(group.branch) else None
        flow = EQUATIONS[group.type](padded[:, group.nodes], i, group.values).current
        for column, k in enumerate(group.index):
            currents[k] = flow[:, column, :]
    return currents


def totals(compiled: Compiled, x: FloatArray) -> list[Totals]:
    """Return the currents of pins and the powers of parts for each sample of `x` (B, U)."""
    padded = np.concatenate([x, np.zeros((len(x), 1))], axis=1)
    elements = compiled.network.elements
    names: dict[str, int] = {}
    pins: dict[Pin, int] = {}
    watts = np.zeros((len(x), len(elements)))
    amps = np.zeros((len(x), sum(len(e.nodes) for e in elements)))
    for group in compiled.groups:
        i = padded[:, group.branch] if len(group.branch) else None
        volt = padded[:, group.nodes]
        flow = EQUATIONS[group.type](volt, i, group.values).current
        rows = [names.setdefault(elements[k].name, len(names)) for k in group.index]
        np.add.at(watts.T, np.array(rows), (volt * flow).sum(axis=-1).T)
        for column, k in enumerate(group.index):
            for terminal, pin in enumerate(elements[k].pins):
                if pin is not None:
                    amps[:, pins.setdefault(pin, len(pins))] += flow[:, column, terminal]
    return [
        Totals(dict(zip(pins, a, strict=False)), dict(zip(names, w, strict=False)))
        for a, w in zip(amps.tolist(), watts.tolist(), strict=True)
    ]


def floating_nodes(network: Network) -> list[str]:
    """Return nodes with no path for direct current to ground, in a stable order."""
    import networkx as nx

    graph = nx.Graph()
    graph.add_node(network.ground)
    for element in network.elements:
        graph.add_edges_from(_paths(element))
        graph.add_nodes_from(element.nodes)
    reached = nx.node_connected_component(graph, network.ground)
    return [n for n in network.nodes() if n not in reached]


def _paths(element: Element) -> list[tuple[str, str]]:
    n = element.nodes
    if element.type in ("nmos", "pmos"):
        return [(n[0], n[2])]
    return list(itertools.pairwise(n))
