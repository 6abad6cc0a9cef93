"""What touches what on a layer: many shapes asked at once, pours apart, since they are few and large."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import copper_items, on_board
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName

I64 = npt.NDArray[np.int64]


class PourPiece(NamedTuple):
    """One piece of a pour: its net, its identity, its shape, prepared for many questions."""

    net: str
    node: tuple[object, ...]
    shape: Any


class LayerCopper:
    """The copper of a layer. `nets` numbers the nets; copper of no net has -1."""

    def __init__(self, wired: Wired, layer: LayerName) -> None:
        from shapely import STRtree, prepare

        self.items = copper_items(wired, layer)
        self.shapes = np.array([i.shape for i in self.items], dtype=object)
        self.number = {net: k for k, net in enumerate(wired.design.nets)}
        self.nets = np.array([self.number.get(i.net, -1) for i in self.items], dtype=np.int64)
        self.tree = STRtree(self.shapes)
        self.pours = [
            PourPiece(net, ("pour", layer, net, k), piece)
            for net, area in pour_shapes(wired, layer)
            for k, piece in enumerate(getattr(area, "geoms", []))
        ]
        for piece in self.pours:
            prepare(piece.shape)

    def touching(self) -> tuple[I64, I64]:
        """Return the pairs of items of one net that touch, each once, pours left out."""
        left, right = self.tree.query(self.shapes, predicate="intersects")
        keep = (left < right) & (self.nets[left] == self.nets[right]) & (self.nets[left] >= 0)
        return left[keep], right[keep]

    def on_pour(self, piece: PourPiece) -> I64:
        """Return the items of a pour's net that it touches."""
        from shapely import intersects

        mine = np.flatnonzero(self.nets == self.number.get(piece.net, -2))
        return mine[intersects(piece.shape, self.shapes[mine])] if len(mine) else mine

    def touched(self, spots: Any, nets: I64, own: I64) -> npt.NDArray[np.bool_]:
        """Return which spots touch copper of their net other than the item `own` (-1 for none), pours counted in."""
        from shapely import intersects

        found = np.zeros(len(spots), dtype=bool)
        if not len(spots):
            return found
        left, right = self.tree.query(spots, predicate="intersects")
        keep = (self.nets[right] == nets[left]) & (right != own[left])
        found[left[keep]] = True
        for piece in self.pours:
            open_ones = np.flatnonzero(~found & (nets == self.number.get(piece.net, -2)))
            if len(open_ones):
                found[open_ones] = intersects(piece.shape, spots[open_ones])
        return found


@worked_out_from(on_board)
def _layers(wired: Wired) -> dict[LayerName, LayerCopper]:
    return {"top": LayerCopper(wired, "top"), "bottom": LayerCopper(wired, "bottom")}


def layer_copper(wired: Wired, layer: LayerName) -> LayerCopper:
    """Return the copper of a layer, ready for questions."""
    return _layers(wired)[layer]
