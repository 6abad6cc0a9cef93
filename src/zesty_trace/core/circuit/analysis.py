"""What the solved circuit says about the design: voltages per net, heat per part, the spread that tolerances give."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from threading import Lock
from typing import Any

import numpy as np

from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.build import build_network, build_networks
from zesty_trace.core.circuit.network import FloatArray, Network, shape_of
from zesty_trace.core.circuit.solver import Solution, solve, solve_alike
from zesty_trace.core.circuit.states import OperatingState, fullest, operating_states
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import Part, Pin
from zesty_trace.errors import SolveError

_COPPER = re.compile(r"([\d.]+)\s*mm(?:2|²)\s*(?:of\s+)?copper", re.I)
COPPER_MM2, COPPER_POWER = 30.0, 0.28
PULL_IN_SHARE = 0.7  # of the coil's voltage: relays pull in from about there, common practice
MOST_ROUNDS = 4


def copper_mm2(part: Part) -> float:
    """Return the copper area that a part's notes ask for to spread its heat: `300 mm2 copper`; 0 without."""
    stated = _COPPER.search(part.notes)
    return float(stated.group(1)) if stated else 0.0


def theta_with_copper(theta_c_per_w: float, area_mm2: float) -> float:
    """Return R_thetaJA with an area of copper on the heat tab beyond the pads, °C/W.

    R = R0 (1 + A / 30 mm2)^-0.28: a fit to the curves of regulator application notes for small tab packages, which fall
    to about two thirds at 100 mm2 and 0.42 at one square inch (from memory; common practice).
    """
    return theta_c_per_w * float((1.0 + area_mm2 / COPPER_MM2) ** -COPPER_POWER)


@dataclass(frozen=True)
class Heat:
    """How warm a part gets: T = ambient + P x R_thetaJA (common practice; JESD51-2 defines R_thetaJA)."""

    ref: str
    state: str
    power_w: float
    theta_c_per_w: float
    temperature_c: float
    limit_c: float


@dataclass(frozen=True)
class Operating:
    """One state of the design, solved."""

    state: OperatingState
    solution: Solution

    def net_voltages(self) -> Mapping[str, float]:
        """Return net or private node -> V."""
        return self.solution.all_voltages()


class Analysis:
    """All states of one design, solved when first asked for."""

    def __init__(self, wired: Wired) -> None:
        design = wired.design
        self.wired, self.design = wired, design
        self._solved: dict[str, Operating] = {}
        self._all_lock, self._solved_all = Lock(), False
        self._peaks: dict[Pin, float] | None = None
        self.states = operating_states(wired)

    def operating(self, state: OperatingState) -> Operating:
        """Return the solved state. SolveError if it has no solution."""
        if state.name not in self._solved:
            network = build_network(self.wired, state)
            like = next(iter(self._solved.values()), None)
            solved = Operating(state, solve(network, near=like.solution if like else None))
            self._solved[state.name] = self._with_contacts(solved)
        return self._solved[state.name]

    def _with_contacts(self, solved: Operating) -> Operating:
        """Return the state with the contacts of each coil that pulls in moved over, in rounds if one moves another."""
        if not self._coils:
            return solved
        by_hand = solved.state.flipped
        for _ in range(MOST_ROUNDS):
            flipped = by_hand | {r for r, ends in self._coils.items() if self._pulls(r, ends, solved)}
            if flipped == solved.state.flipped:
                return solved
            state = replace(solved.state, flipped=flipped)
            solved = Operating(state, solve(build_network(self.wired, state), near=solved.solution))
        return solved

    @cached_property
    def _coils(self) -> dict[str, tuple[str, str]]:
        """Relay -> the nets of its coil."""
        found = {}
        for ref in self.design.parts:
            kind = self.wired.kind(ref)
            if kind.flipped and kind.facts.coil_v and len(kind.driven) == 2:
                ends = [self.wired.net_at(ref, name) for name in kind.driven]
                if all(ends):
                    found[ref] = (ends[0], ends[1])
        return found

    def _pulls(self, ref: str, ends: tuple[str, str], solved: Operating) -> bool:
        volts = solved.net_voltages()
        across = abs(volts.get(ends[0], 0.0) - volts.get(ends[1], 0.0))
        return across >= PULL_IN_SHARE * (self.wired.kind(ref).facts.coil_v or 0.0)

    def worst(self) -> Operating:
        """Return the state with most outputs on."""
        return self.operating(fullest(self.states))

    def all(self) -> list[Operating]:
        """Return every state, solved; those whose networks differ in values only are solved together."""
        with self._all_lock:  # the sheet and the review ask at the same time: one solves for both
            if not self._solved_all:
                self._solve_alike()
                self._solved_all = True
        return [self.operating(s) for s in self.states]

    def _solve_alike(self) -> None:
        alike: dict[object, list[tuple[OperatingState, Network]]] = {}
        waiting = list({s.name: s for s in self.states if s.name not in self._solved}.values())
        for state, network in zip(waiting, build_networks(self.wired, waiting), strict=True):
            alike.setdefault(shape_of(network), []).append((state, network))
        for group in alike.values():
            self._solve_together(group)

    def _solve_together(self, group: list[tuple[OperatingState, Network]]) -> None:
        try:
            solutions = solve_alike([network for _, network in group])
        except SolveError:
            return  # each is then solved alone, and the one at fault says so
        for (state, _), solution in zip(group, solutions, strict=True):
            self._solved[state.name] = self._with_contacts(Operating(state, solution))

    def heats(self) -> list[Heat]:
        """Return the warmest state of each part that has a thermal resistance, warmest first."""
        most: dict[str, tuple[float, str]] = {}
        for operating in self.all():
            for ref, power in operating.solution.part_powers().items():
                if ref not in most or power > most[ref][0]:
                    most[ref] = (power, operating.state.name)
        found = (self._heat(ref, state, power) for ref, (power, state) in most.items())
        return sorted((h for h in found if h), key=lambda h: -h.temperature_c)

    def _heat(self, ref: str, state: str, power_w: float) -> Heat | None:
        part = self.design.parts.get(ref)
        if part is None:
            return None
        kind = self.wired.kind(ref)
        theta = self.wired.package(ref).theta_ja_c_per_w
        if not theta or kind.connector:
            return None
        theta = theta_with_copper(theta, copper_mm2(part))
        limit = stated(kind.facts.junction_max_c, 125.0)
        return Heat(ref, state, power_w, theta, self.design.brief.ambient_c + power_w * theta, limit)

    @cached_property
    def highest(self) -> dict[str, float]:
        """Net -> its highest solved voltage over all operating states, V. SolveError as solving."""
        found: dict[str, float] = {}
        for operating in self.all():
            for net, volt in operating.net_voltages().items():
                found[net] = max(found.get(net, volt), volt)
        return found

    def pin_peaks(self) -> Mapping[Pin, float]:
        """Return the largest current magnitude of each pin over all states, A."""
        if self._peaks is None:
            peaks: dict[Pin, float] = {}
            for operating in self.all():
                for pin, amp in operating.solution.pin_currents().items():
                    peaks[pin] = max(peaks.get(pin, 0.0), abs(amp))
            self._peaks = peaks
        return self._peaks


def in_circuit(wired: Wired) -> tuple[Any, ...]:
    """Return all that the solved circuit depends on: where parts sit on sheet and board is none of it."""
    d = wired.design
    return wired.catalogue, d.parts, d.nets, d.states, d.brief


@worked_out_from(in_circuit)
def analyse(wired: Wired) -> Analysis:
    """Return the analysis of a design."""
    return Analysis(wired)


@dataclass(frozen=True)
class Spread:
    """A nominal value and how far part tolerances can move it either way."""

    nominal: float
    low: float
    high: float


def tolerance_scales(network: Network) -> list[tuple[tuple[int, str], float]]:
    """Return ((element index, parameter), relative half-width) of everything that has a tolerance."""
    return [
        ((k, name), width)
        for k, element in enumerate(network.elements)
        for name, width in element.tolerances.items()
        if width > 0
    ]


def worst_case(network: Network) -> tuple[Solution, dict[str, Spread]]:
    """Return the nominal solution and the worst-case spread of every node, V.

    Each toleranced value is moved to both ends alone; the shifts of one sign are added up (worst-case by
    sensitivity, common practice). One batch solves all corners.
    """
    items = tolerance_scales(network)
    scale = {key: np.ones(2 * len(items) + 1) for key, _ in items}
    for row, (key, width) in enumerate(items):
        scale[key][1 + 2 * row] += width
        scale[key][2 + 2 * row] -= width
    solution = solve(network, scale)
    spreads = {name: _spread(solution.voltages(name)) for name in network.nodes()}
    return solution, spreads


def _spread(values: FloatArray) -> Spread:
    shift = values[1:] - values[0]
    up = np.maximum(shift[0::2], shift[1::2]).clip(min=0).sum()
    down = np.minimum(shift[0::2], shift[1::2]).clip(max=0).sum()
    return Spread(float(values[0]), float(values[0] + down), float(values[0] + up))


def branch_spread(solution: Solution, element: int, terminal: int) -> Spread:
    """Return the worst-case spread of a terminal current of a worst_case solution, A."""
    return _spread(solution.terminal_current[element][:, terminal])


def monte_carlo(network: Network, samples: int, seed: int = 1) -> tuple[Solution, dict[str, Spread]]:
    """Return the solved samples and, per node, the median with the bounds that hold all but 1 in 1000 on each side, V.

    Values are drawn by sampled_scale; the same seed gives the same samples. ValueError for fewer than 2 samples.
    """
    if samples < 2:
        raise ValueError("a spread needs two samples or more")
    scale = sampled_scale(network, np.random.default_rng(seed), samples)
    solution = solve(network, scale)
    spreads = {}
    for name in network.nodes():
        low, middle, high = np.quantile(solution.voltages(name), (0.001, 0.5, 0.999))
        spreads[name] = Spread(float(middle), float(low), float(high))
    return solution, spreads


def current_spreads(solution: Solution) -> dict[str, Spread]:
    """Return ref -> spread of the current into its first wired pin over the samples, A, as monte_carlo does."""
    found: dict[str, Spread] = {}
    for k, element in enumerate(solution.compiled.network.elements):
        if element.name not in found and element.pins and element.pins[0] is not None:
            low, middle, high = np.quantile(np.abs(solution.terminal_current[k][:, 0]), (0.001, 0.5, 0.999))
            found[element.name] = Spread(float(middle), float(low), float(high))
    return found


def sampled_scale(network: Network, rng: np.random.Generator, samples: int) -> Mapping[tuple[int, str], FloatArray]:
    """Return random factors for each toleranced value: normal, the tolerance at three sigma, cut off there."""
    return {
        key: 1.0 + width * np.clip(rng.standard_normal(samples) / 3.0, -1.0, 1.0)
        for key, width in tolerance_scales(network)
    }
