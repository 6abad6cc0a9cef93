"""What is near what on a layer, and what touches: all pieces at once, pours by their edges."""

from __future__ import annotations

from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import board_pads, laid_copper, on_board
from zesty_trace.core.board.cores import (
    I64,
    TOUCH_MM,
    Cores,
    Exact,
    Pairs,
    between,
    join,
    line_cores,
    near_pairs,
    pad_cores,
)
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName
from zesty_trace.core.quantities import mm


class PourPiece(NamedTuple):
    """One piece of a pour: its net, its identity, its shape, prepared for many questions."""

    net: str
    node: tuple[object, ...]
    shape: Any


class LayerCopper:
    """The copper of a layer. `nets` numbers the nets; copper of no net has -1."""

    def __init__(self, wired: Wired, layer: LayerName) -> None:
        board = wired.design.board
        laid = laid_copper(wired, layer)
        self.items, self.exact = laid.items, Exact(laid.lines, laid.radii)
        self.number = {net: k for k, net in enumerate(wired.design.nets)}
        self.nets = np.array([self.number.get(i.net, -1) for i in self.items], dtype=np.int64)
        self.clearance_mm = mm(board.rules.clearance_nm)
        pads = [p for p in board_pads(wired) if layer in p.layers]
        tracks = [t for t in board.tracks if t.layer == layer]
        vias = [((v.x_nm, v.y_nm),) for v in board.vias]
        self.cores = join(
            (
                pad_cores(pads),
                line_cores([t.points for t in tracks], [t.width_nm for t in tracks], len(pads)),
                line_cores(vias, [v.diameter_nm for v in board.vias], len(pads) + len(tracks)),
            )
        )
        self._wired, self._layer = wired, layer

    @cached_property
    def pours(self) -> list[PourPiece]:
        """The pieces of the layer's pours."""
        from shapely import prepare

        found = [
            PourPiece(net, ("pour", self._layer, net, k), piece)
            for net, area in pour_shapes(self._wired, self._layer)
            for k, piece in enumerate(getattr(area, "geoms", []))
        ]
        for piece in found:
            prepare(piece.shape)
        return found

    @cached_property
    def tree(self) -> Any:
        """The boxes of the cores, to be asked what is near."""
        from shapely import STRtree

        return STRtree(self.cores.boxes())

    @cached_property
    def pairs(self) -> Pairs:
        """Pairs of items that are no farther apart than the clearance."""
        return near_pairs(self.cores, self.exact, self.clearance_mm)

    @cached_property
    def pour_gaps(self) -> tuple[dict[int, float], ...]:
        """For each piece of a pour the items within the clearance of it, and their gaps, mm, 0 where they touch."""
        return tuple(self._near_pour(piece) for piece in self.pours)

    def touching(self) -> tuple[I64, I64]:
        """Return the pairs of items of one net that touch, each once, pours left out."""
        left, right, gap = self.pairs
        keep = (gap <= 0) & (self.nets[left] == self.nets[right]) & (self.nets[left] >= 0)
        return left[keep], right[keep]

    def on_pour(self, k: int) -> I64:
        """Return the items of its net that the k-th piece of pour touches."""
        net = self.number.get(self.pours[k].net, -2)
        touched = [i for i, gap in self.pour_gaps[k].items() if gap <= 0 and self.nets[i] == net]
        return np.array(touched, dtype=np.int64)

    def _near_pour(self, piece: PourPiece) -> dict[int, float]:
        from shapely import contains_xy, distance, linestrings

        edge = _ring_cores(piece.shape)
        e, c = self.tree.query(edge.boxes(self.clearance_mm))
        gap = between(edge, e, self.cores, c)
        keep = gap <= self.clearance_mm
        e, c, gap = e[keep], c[keep], gap[keep]
        bound = self.cores.bound[c]
        if bound.any():
            lines = linestrings(np.stack([edge.a[e[bound]], edge.b[e[bound]]], axis=1))
            item = self.cores.item[c[bound]]
            gap[bound] = distance(lines, self.exact.lines[item]) - self.exact.radii[item]
        found: dict[int, float] = {}
        for item, value in zip(self.cores.item[c].tolist(), gap.tolist(), strict=True):
            if value <= self.clearance_mm and value < found.get(item, 1e9):
                found[item] = max(0.0, value) if value > TOUCH_MM else 0.0
        inside = contains_xy(piece.shape, self.cores.a[:, 0], self.cores.a[:, 1])
        found.update((item, 0.0) for item in np.unique(self.cores.item[inside]).tolist())
        return found

    def touched(self, spots: Cores, nets: I64, own: I64) -> npt.NDArray[np.bool_]:
        """Return which spots touch copper of their net other than the item `own` (-1 for none), pours counted in."""
        from shapely import contains_xy

        found = np.zeros(len(spots.a), dtype=bool)
        left, right = self.tree.query(spots.boxes())
        item = self.cores.item[right]
        keep = (self.nets[item] == nets[left]) & (item != own[left])
        left, right = left[keep], right[keep]
        near = between(spots, left, self.cores, right) <= TOUCH_MM
        left, right = left[near], right[near]
        bound = self.cores.bound[right]
        found[left[~bound]] = True
        found[left[bound][_meets(spots, left[bound], self.exact.lines[self.cores.item[right[bound]]])]] = True
        for piece in self.pours:
            open_ones = np.flatnonzero(~found & (nets == self.number.get(piece.net, -2)))
            inside = contains_xy(piece.shape, spots.a[open_ones, 0], spots.a[open_ones, 1])
            found[open_ones[inside]] = True
            rest = open_ones[~inside]
            found[rest[_meets(spots, rest, np.full(len(rest), piece.shape, dtype=object))]] = True
        return found


def _meets(spots: Cores, which: I64, shapes: Any) -> npt.NDArray[np.bool_]:
    from shapely import dwithin, points

    found: npt.NDArray[np.bool_] = dwithin(shapes, points(spots.a[which]), spots.radius[which] + TOUCH_MM)
    return found


def _ring_cores(shape: Any) -> Cores:
    """Return the edge of a polygon as cores without width."""
    from shapely import get_coordinates, get_rings

    at, ring = get_coordinates(get_rings(shape), return_index=True)
    keep = ring[1:] == ring[:-1]
    a, b = at[:-1][keep], at[1:][keep]
    none = np.zeros(len(a))
    return Cores(a, b, none, none > 0, np.arange(len(a)))


@worked_out_from(on_board)
def layer_copper(wired: Wired, layer: LayerName) -> LayerCopper:
    """Return the copper of a layer, ready for questions."""
    return LayerCopper(wired, layer)
