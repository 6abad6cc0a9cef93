"""The pads of a finished board: copper that its mask leaves free, and what it belongs to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from zesty_trace.core.fabrication.finished import BoardSet, Hole
from zesty_trace.core.fabrication.looking.tracing import NO_NET, Copper

CRUMB_MM2 = 0.01
ROUNDING_MM = 0.01
FACES = ("top", "bottom")


@dataclass(frozen=True)
class SetPad:
    """A pad of the files, mm: the layers where it is bare copper, its hole, its piece of copper, who it says it is."""

    shape: Any
    layers: tuple[str, ...]
    hole: Hole | None
    piece: int
    name: tuple[str, str] | None

    @cached_property
    def at(self) -> tuple[float, float]:
        """Its middle: that of its hole, or of its box."""
        if self.hole is not None:
            xs, ys = zip(*self.hole.points, strict=True)
            return sum(xs) / len(xs), sum(ys) / len(ys)
        x0, y0, x1, y1 = self.shape.bounds
        return (x0 + x1) / 2, (y0 + y1) / 2


def pads_of(board: BoardSet, copper: Copper) -> list[SetPad]:
    """Return the pads of a set: pieces of copper within openings of the mask, one for both sides of a plated hole."""
    from shapely import STRtree

    holes = [h for h in board.holes if h.plated is not False]
    tree = STRtree([h.shape for h in holes])
    names = _Names(board)
    found: list[SetPad] = []
    through: dict[int, SetPad] = {}
    for side in FACES:
        if side not in board.layers:
            continue
        for shape in _bare(board, side):
            hits = sorted(tree.query(shape, predicate="intersects").tolist())
            on = [
                k
                for k in hits
                if shape.buffer(0.01).contains(holes[k].shape) or shape.convex_hull.contains(holes[k].shape)
            ]
            piece = _piece(copper, side, shape)
            if piece is None:
                continue
            name = names.at(shape, side)
            if len(on) == 1 and on[0] in through:
                first = through[on[0]]
                both = SetPad(first.shape.union(shape), (*first.layers, side), first.hole, piece, first.name or name)
                found[found.index(first)] = through[on[0]] = both
                continue
            pad = SetPad(shape, (side,), holes[on[0]] if len(on) == 1 else None, piece, name)
            if len(on) == 1:
                through[on[0]] = pad
            found.append(pad)
    return found


def _bare(board: BoardSet, side: str) -> list[Any]:
    """Return the pieces of copper that the mask leaves free; without a mask file, what was flashed."""
    from shapely import get_parts

    image = board.images.get(("mask", side))
    copper = board.copper(side)
    if image is None:
        flashes = board.images["copper", side]
        shapes = [s for m, s in zip(flashes.marks, flashes.shapes, strict=True) if m.kind == "flash" and m.dark]
        return [s for s in shapes if s.area > CRUMB_MM2]
    openings = image.shape
    parts = get_parts(copper.intersection(openings)).tolist()
    return [p for p in parts if p.geom_type == "Polygon" and p.area > CRUMB_MM2]


def _piece(copper: Copper, side: str, shape: Any) -> int | None:
    """Return the piece of copper that a bare area belongs to."""
    spot = shape.representative_point()
    for k in sorted(copper.tree.query(spot, predicate="intersects").tolist()):
        if copper.islands[k][0] == side:
            return copper.group[k]
    return None


class _Names:
    """Who pads say that they are: by the attributes of the copper files, else by a netlist of the set."""

    def __init__(self, board: BoardSet) -> None:
        from shapely import Point, STRtree

        self.known: list[tuple[str, tuple[str, str]]] = []
        spots: list[Any] = []
        for side in FACES:
            image = board.images.get(("copper", side))
            for mark, shape in zip(image.marks, image.shapes, strict=True) if image else ():
                if mark.pin is not None and mark.dark and not shape.is_empty:
                    x, y = mark.points[0] if mark.kind == "flash" else shape.representative_point().coords[0]
                    spots.append(Point(x, y))
                    self.known.append((side, mark.pin))
        if not self.known:
            for r in _records(board):
                spots.append(Point(r.x, r.y))
                self.known.append((r.access, (r.ref, r.pin)))
        self.tree = STRtree(spots)

    def at(self, shape: Any, side: str) -> tuple[str, str] | None:
        """Return the one name within a shape on a side."""
        full = shape.convex_hull
        hits = {
            self.known[k][1]
            for k in self.tree.query(full, predicate="intersects").tolist()
            if self.known[k][0] in (side, "both")
        }
        return next(iter(hits)) if len(hits) == 1 else None


def _records(board: BoardSet) -> Iterable[Any]:
    """Return the points of the set's first netlist that belong to a pin of a part."""
    for _, records in sorted(board.netlists.items()):
        return [r for r in records if r.ref and r.pin and not r.via and r.ref.upper() != "VIA"]
    return ()


def net_names(contacts: Iterable[Any], copper: Copper) -> dict[int, list[str]]:
    """Return piece of copper -> the names of nets that contacts give it."""
    found: dict[int, list[str]] = {}
    for c in contacts:
        piece = copper.at(c)
        if piece is not None and c.net.upper() != NO_NET and c.net not in found.setdefault(piece, []):
            found[piece].append(c.net)
    return found
