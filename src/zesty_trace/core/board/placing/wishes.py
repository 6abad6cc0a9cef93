"""What the circuit asks of the placing beside short links: what should be near, and what should be apart."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from zesty_trace.core.board.copper import pattern_of
from zesty_trace.core.board.rules.distances import distances
from zesty_trace.core.board.voltages import MAINS_MM, mains_nets
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.errors import SolveError

NEAR_WEIGHT, APART_WEIGHT, BARRIER_WEIGHT = 3.0, 0.5, 20.0
WARM_W, WARM_APART_MM = 0.25, 6.0  # a part that warms its neighbours, and how far they should stand: common practice
BARRIER_SPARE_MM = 1.5


@dataclass
class Wishes:
    """Pairs of parts: near ones with their pairs of pads, a limit and a weight, and such as should be apart."""

    near: list[tuple[int, int, int, int]] = field(default_factory=list)
    near_limit: list[float] = field(default_factory=list)
    near_weight: list[float] = field(default_factory=list)
    near_pads: list[tuple[int, int]] = field(default_factory=list)
    apart: list[tuple[int, int]] = field(default_factory=list)
    apart_mm: list[float] = field(default_factory=list)
    apart_weight: list[float] = field(default_factory=list)


def wishes_of(wired: Wired, index: dict[str, int], pad_start: np.ndarray) -> Wishes:
    """Return what is asked for; `index` numbers the parts, `pad_start` their pads."""
    found = Wishes()
    for d in distances(wired):
        if d.ref in index and d.to in index:
            _near(found, wired, d.ref, d.to, d.net, d.limit_mm, index, pad_start)
    _warm(found, wired, index)
    _barrier(found, wired, index)
    return found


def _near(
    found: Wishes, wired: Wired, a: str, b: str, net: str, limit_mm: float, index: dict[str, int], start: np.ndarray
) -> None:
    pads_a, pads_b = (_pads_on(wired, r, net, int(start[index[r]])) for r in (a, b))
    first = len(found.near_pads)
    found.near_pads += [(p, q) for p in pads_a for q in pads_b]
    if len(found.near_pads) > first:
        found.near.append((index[a], index[b], first, len(found.near_pads)))
        found.near_limit.append(limit_mm)
        found.near_weight.append(NEAR_WEIGHT)


def _pads_on(wired: Wired, ref: str, net: str, start: int) -> list[int]:
    pads = pattern_of(wired, ref).pads
    return [start + k for k, p in enumerate(pads) if wired.net_of.get(Pin(ref, p.number), "") == net]


def _warm(found: Wishes, wired: Wired, index: dict[str, int]) -> None:
    """Keep parts that warm up apart from each other, from sensors of temperature, and from what dries out."""
    try:
        watts = {h.ref: h.power_w for h in analyse(wired).heats()}
    except SolveError:
        return
    warm = [r for r in index if watts.get(r, 0.0) > WARM_W]
    shy = [r for r in index if r not in warm and ("temperature" in wired.kind(r).title.lower() or _dries(wired, r))]
    for k, a in enumerate(warm):
        for b in (*warm[k + 1 :], *shy):
            found.apart.append((index[a], index[b]))
            found.apart_mm.append(WARM_APART_MM)
            found.apart_weight.append(APART_WEIGHT)


def _dries(wired: Wired, ref: str) -> bool:
    return wired.design.parts[ref].kind.startswith("electrolytic")


def _barrier(found: Wishes, wired: Wired, index: dict[str, int]) -> None:
    """Keep parts that have only mains pins away from those that have none."""
    mains = mains_nets(wired)
    if not mains:
        return
    nets = {r: {wired.net_of.get(p, "") for p in wired.pins_of(r)} - {""} for r in index}
    hot = [r for r in index if nets[r] and nets[r] <= mains]
    cold = [r for r in index if nets[r] and not nets[r] & mains]
    for a in hot:
        for b in cold:
            found.apart.append((index[a], index[b]))
            found.apart_mm.append(MAINS_MM + BARRIER_SPARE_MM)
            found.apart_weight.append(BARRIER_WEIGHT)
