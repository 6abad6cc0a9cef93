"""Which pieces of copper of different nets are nearer than the rules allow, measured as exact shapes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import on_board
from zesty_trace.core.board.touch import LayerCopper, layer_copper
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName
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
    found = [pair for layer in wired.design.board.stack for pair in _on_layer(wired, layer)]
    nearest: dict[tuple[object, ...], TooNear] = {}
    for pair in sorted(found, key=lambda p: p.gap_mm):
        ends = sorted(((pair.net_a or pair.what_a), (pair.net_b or pair.what_b)))
        nearest.setdefault((pair.layer, *ends), pair)
    return tuple(nearest.values())


def _on_layer(wired: Wired, layer: LayerName) -> list[TooNear]:
    near = mm(wired.design.board.rules.clearance_nm) - ROUNDING_MM
    copper = layer_copper(wired, layer)
    items = [(i.net, i.what, i.shape) for i in copper.items] + [(p.net, "pour", p.shape) for p in copper.pours]
    found = []
    for a, b, gap in _near_pairs(copper):
        (net_a, what_a, shape_a), (net_b, what_b, shape_b) = items[a], items[b]
        if gap > near or (net_a == net_b and net_a) or _one_pad(what_a, what_b, net_a, net_b):
            continue
        found.append(TooNear(layer, net_a, net_b, what_a, what_b, gap, nearest_place(shape_a, shape_b)))
    return found


def nearest_place(a: Any, b: Any) -> Point:
    """Return the place where two shapes are nearest to each other."""
    from shapely.ops import nearest_points

    at: Any = nearest_points(a, b)[0]
    return Point(round(at.x * 1e6), round(at.y * 1e6))


def _near_pairs(copper: LayerCopper) -> Iterator[tuple[int, int, float]]:
    """Yield pairs of different nets that may be too near and their gaps, mm, pours numbered after all else."""
    left, right, gap = copper.pairs
    keep = (copper.nets[left] != copper.nets[right]) | (copper.nets[left] < 0)
    yield from zip(left[keep].tolist(), right[keep].tolist(), gap[keep].tolist(), strict=True)
    count = len(copper.items)
    for k, piece in enumerate(copper.pours):
        for m in range(k):
            if copper.pours[m].net != piece.net:
                yield count + m, count + k, float(copper.pours[m].shape.distance(piece.shape))
        net = copper.number.get(piece.net, -2)
        yield from ((item, count + k, off) for item, off in copper.pour_gaps[k].items() if copper.nets[item] != net)


def _one_pad(what_a: str, what_b: str, net_a: str, net_b: str) -> bool:
    """Whether the two are pads of one pin that is on no net: they are one to the part as well."""
    return not net_a and not net_b and what_a == what_b and what_a.startswith("pad")
