"""Which pieces of copper of different nets are nearer than the rules allow, measured as exact shapes."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import Any

from zesty_trace.core.board.copper import copper_items, on_board
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LAYERS, LayerName
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

ROUNDING_MM = 0.002


@dataclass(frozen=True)
class TooNear:
    """Two pieces of copper, the gap between them and where it is. A net is "" where a piece belongs to none."""

    layer: LayerName
    net_a: str
    net_b: str
    what_a: str
    what_b: str
    gap_mm: float
    at: Point

    @property
    def nets(self) -> tuple[str, ...]:
        """The nets of the two."""
        return tuple(n for n in (self.net_a, self.net_b) if n)


@worked_out_from(on_board)
def nets_too_near(wired: Wired) -> tuple[TooNear, ...]:
    """Return each pair of nets with copper nearer than the rule, by its nearest pieces."""
    found = [pair for layer in LAYERS for pair in _on_layer(wired, layer)]
    nearest: dict[tuple[object, ...], TooNear] = {}
    for pair in sorted(found, key=lambda p: p.gap_mm):
        ends = sorted(((pair.net_a or pair.what_a), (pair.net_b or pair.what_b)))
        nearest.setdefault((pair.layer, *ends), pair)
    return tuple(nearest.values())


def _on_layer(wired: Wired, layer: LayerName) -> list[TooNear]:
    import numpy as np
    from shapely import STRtree, dwithin, prepare
    from shapely.ops import nearest_points

    near = mm(wired.design.board.rules.clearance_nm) - ROUNDING_MM
    items = [(i.net, i.what, i.shape) for i in copper_items(wired, layer)]
    alone = [shape for _, _, shape in items]
    for net, area in pour_shapes(wired, layer):
        items += [(net, "pour", piece) for piece in getattr(area, "geoms", [])]
    if not items:
        return []
    pairs: list[tuple[int, int]] = []
    if alone:
        left, right = STRtree(alone).query(alone, predicate="dwithin", distance=near)
        pairs += [(a, b) for a, b in zip(left.tolist(), right.tolist(), strict=True) if a < b]
    filled = range(len(alone), len(items))  # few and large: looked at one by one
    pairs += [(a, b) for a, b in combinations(filled, 2)]
    for b in filled:
        prepare(items[b][2])
        if alone:
            pairs += [(int(a), b) for a in np.flatnonzero(dwithin(items[b][2], np.array(alone, dtype=object), near))]
    found = []
    for a, b in pairs:
        (net_a, what_a, shape_a), (net_b, what_b, shape_b) = items[a], items[b]
        if (net_a == net_b and net_a) or _one_pad(what_a, what_b, net_a, net_b):
            continue
        gap = float(shape_a.distance(shape_b))
        if gap > near:
            continue
        at: Any = nearest_points(shape_a, shape_b)[0]
        spot = Point(round(at.x * 1e6), round(at.y * 1e6))
        found.append(TooNear(layer, net_a, net_b, what_a, what_b, gap, spot))
    return found


def _one_pad(what_a: str, what_b: str, net_a: str, net_b: str) -> bool:
    """Whether the two are pads of one pin that is on no net: they are one to the part as well."""
    return not net_a and not net_b and what_a == what_b and what_a.startswith("pad")
