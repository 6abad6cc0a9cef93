"""The DC operating point by modified nodal analysis and damped Newton, over a batch of parameter samples at once.

From nothing, the supplies are first held at what they are made for. Where Newton's method fails (see `newton`), a
conductance to ground is stepped down (gmin stepping), then the sources are stepped up.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from types import MappingProxyType

import numpy as np

from zesty_trace.core.circuit.devices import EQUATIONS
from zesty_trace.core.circuit.network import (
    BoolArray,
    Compiled,
    Element,
    FloatArray,
    Network,
    compile_alike,
    compile_network,
)
from zesty_trace.core.circuit.newton import (
    SUPPLIES,
    Held,
    Way,
    assemble,
    conductances,
    newton,
    only,
    padded,
    state_at,
)
from zesty_trace.core.circuit.start import first_guess
from zesty_trace.core.design.model import Pin
from zesty_trace.errors import SolveError

GMIN_S = 1e-12
HELD_STEPS, NEAR_STEPS = 45, 30
LEAST_LOAD, MOST_LOAD = 1e-3, 1.02  # of a supply's limit, when it is let go
HOPELESS = 3  # failures in a row after which stepping is given up
CHUNK = 250


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


def _branch_rows(compiled: Compiled) -> dict[tuple[str, tuple[str, ...]], int]:
    """Return name and nodes of an element -> row of its branch current."""
    elements = compiled.network.elements
    return {
        (elements[k].name, elements[k].nodes): int(row)
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
        own = replace(only(whole.compiled, rows), network=network)
        solution = Solution(own, whole.x[k : k + 1], currents, whole.residual_a, whole.iterations)
        solution.__dict__["_totals"] = sums[k]  # what the cached property would work out one by one
        found.append(solution)
    return found


def _solve(compiled: Compiled, start: FloatArray | None) -> Solution:
    x = np.zeros((compiled.batch, compiled.size))
    if start is None:
        x, good, steps = _from_nothing(compiled)
    else:
        x, good, steps = newton(compiled, x + start, Way(GMIN_S, near=True, most=NEAR_STEPS))
    if not good.all():  # a start that leads nowhere is worse than none
        x, good, more = _rest(compiled, x, good, _from_nothing) if start is not None else (x, good, 0)
        steps += more
    for way_round in (_step_gmin, _step_sources):
        if not good.all():
            x, good, more = _rest(compiled, x, good, way_round)
            steps += more
    residual, _ = assemble(compiled, x, state_at(compiled, x), conductances(compiled, GMIN_S), Way(GMIN_S), False)
    if not good.all():
        raise SolveError(
            f"The circuit does not settle ({int((~good).sum())} of {compiled.batch} samples)",
            ", ".join(_worst_nets(compiled, residual[~good])),
            "Check the parts on these nets for a missing value or a wrong connection",
        )
    worst = float(np.abs(residual[:, : len(compiled.names)]).max(initial=0.0))
    return Solution(compiled, x, terminal_currents(compiled, x), worst, steps)


_Found = tuple[FloatArray, BoolArray, int]


def _from_nothing(compiled: Compiled) -> _Found:
    """Return what comes of the expected rails: first every supply is held there, then let go.

    What a regulator does at its limit is worked out near where it stands then, and not on the way from 0 V.
    """
    first = first_guess(compiled, compiled.network, conductances(compiled, GMIN_S)[0])
    x = np.tile(first, (compiled.batch, 1))
    at = np.append(first, 0.0)
    volts = {g.type: at[g.nodes[:, 1]] - at[g.nodes[:, 2]] for g in compiled.bent if g.type in SUPPLIES}
    steps = 0
    if volts:
        x, _, steps = newton(compiled, x, Way(GMIN_S, held=Held(volts), rough=True, most=HELD_STEPS))
        for group in compiled.groups:
            if group.type in SUPPLIES:
                limit = group.values["i_limit"]
                x[:, group.branch] = np.clip(x[:, group.branch], LEAST_LOAD * limit, MOST_LOAD * limit)
    x, good, more = newton(compiled, x, Way(GMIN_S, near=bool(volts)))
    return x, good, steps + more


def _rest(compiled: Compiled, x: FloatArray, good: BoolArray, way_round: Callable[[Compiled], _Found]) -> _Found:
    """Return the batch with the samples that had not settled worked out another way."""
    y, fine, steps = way_round(only(compiled, ~good))
    x, good = x.copy(), good.copy()
    rows = np.flatnonzero(~good)
    x[rows[fine]] = y[fine]
    good[rows] = fine
    return x, good, steps


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


def _step_gmin(compiled: Compiled) -> _Found:
    return _step_by_step(compiled, [Way(10.0**-decade, near=True) for decade in range(2, 13)])


def _step_sources(compiled: Compiled) -> _Found:
    return _step_by_step(compiled, [Way(GMIN_S, float(share), near=True) for share in np.linspace(0.05, 1.0, 20)])


def _step_by_step(compiled: Compiled, ways: Sequence[Way]) -> _Found:
    """Return where a row of circuits that change little from one to the next leads from 0 V."""
    x, good, steps, failures = np.zeros((compiled.batch, compiled.size)), np.zeros(compiled.batch, dtype=bool), 0, 0
    for way in ways:
        x, good, more = newton(compiled, x, way)
        steps += more
        failures = 0 if good.any() else failures + 1
        if failures == HOPELESS:
            break
    return x, good, steps


def terminal_currents(compiled: Compiled, x: FloatArray) -> dict[int, FloatArray]:
    """Return element index -> (B, terminals) currents into the terminals at the unknowns `x`, A."""
    at = padded(x)
    currents: dict[int, FloatArray] = {}
    for group in compiled.groups:
        i = at[:, group.branch] if len(group.branch) else None
        flow = EQUATIONS[group.type](at[:, group.nodes], i, group.values).current
        for column, k in enumerate(group.index):
            currents[k] = flow[:, column, :]
    return currents


def totals(compiled: Compiled, x: FloatArray) -> list[Totals]:
    """Return the currents of pins and the powers of parts for each sample of `x` (B, U)."""
    at = padded(x)
    elements = compiled.network.elements
    names: dict[str, int] = {}
    pins: dict[Pin, int] = {}
    watts = np.zeros((len(x), len(elements)))
    amps = np.zeros((len(x), sum(len(e.nodes) for e in elements)))
    for group in compiled.groups:
        i = at[:, group.branch] if len(group.branch) else None
        volt = at[:, group.nodes]
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
    if element.type == "amplifier":
        return [(n[2], n[4])]
    return list(itertools.pairwise(n))
