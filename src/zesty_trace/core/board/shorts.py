"""Which pieces of copper of different nets are nearer than the rules allow, measured as exact shapes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import on_board
from zesty_trace.core.board.touch import LayerCopper, layer_copper
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
    from shapely.ops import nearest_points

    near = mm(wired.design.board.rules.clearance_nm) - ROUNDING_MM
    copper = layer_copper(wired, layer)
    items = [(i.net, i.what, i.shape) for i in copper.items] + [(p.net, "pour", p.shape) for p in copper.pours]
    found = []
    for a, b in _near_pairs(copper, near):
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


def _near_pairs(copper: LayerCopper, near: float) -> Iterator[tuple[int, int]]:
    """Yield pairs that may be too near, pours numbered after all else.

    A pour is asked by the pieces of its edge, and by what lies wholly in it: it is too large to be asked as a whole.
    """
    import numpy as np
    from shapely import get_coordinates, intersects, linestrings

    count = len(copper.items)
    if count:
        left, right = copper.tree.query(copper.shapes, predicate="dwithin", distance=near)
        keep = (left < right) & ((copper.nets[left] != copper.nets[right]) | (copper.nets[left] < 0))
        yield from zip(left[keep].tolist(), right[keep].tolist(), strict=True)
    for k, piece in enumerate(copper.pours):
        others = [m for m in range(k) if copper.pours[m].net != piece.net]
        yield from ((count + m, count + k) for m in others)
        if not count:
            continue
        rings = [piece.shape.exterior, *piece.shape.interiors]
        steps = [np.stack([c[:-1], c[1:]], axis=1) for c in map(get_coordinates, rings)]
        _, at_edge = copper.tree.query(linestrings(np.concatenate(steps)), predicate="dwithin", distance=near)
        foreign = copper.nets != copper.number.get(piece.net, -2)
        close = np.zeros(count, dtype=bool)
        close[at_edge] = True
        open_ones = np.flatnonzero(foreign & ~close)
        close[open_ones] = intersects(piece.shape, copper.shapes[open_ones])
        yield from ((int(a), count + k) for a in np.flatnonzero(close & foreign))


def _one_pad(what_a: str, what_b: str, net_a: str, net_b: str) -> bool:
    """Whether the two are pads of one pin that is on no net: they are one to the part as well."""
    return not net_a and not net_b and what_a == what_b and what_a.startswith("pad")
