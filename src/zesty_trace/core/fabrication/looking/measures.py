"""What is measured of a set: tracks, gaps, rings, holes, webs of mask, areas; all from the files, with places."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from zesty_trace.core.fabrication.finished import BoardSet, Hole
from zesty_trace.core.gerber.shapes import scale_of

CRUMB_MM2 = 1e-4
LOOKED_AT_MM = 1.0  # gaps wider than that are not measured
ROUNDING_MM = 0.002
FEW = 50  # places listed


class At(NamedTuple):
    """A measured length, mm, where it is, on which layer."""

    mm: float
    x: float
    y: float
    layer: str


class HoleRow(NamedTuple):
    """Holes of one size: diameter in mm, plated or not (None where no file says), how many, and how many are slots."""

    diameter: float
    plated: bool | None
    holes: int
    slots: int


@dataclass(frozen=True)
class Measures:
    """Measures of a set, worked out when they are first asked for."""

    board: BoardSet

    @cached_property
    def islands(self) -> dict[str, list[Any]]:
        """The pieces of copper of each layer."""
        from shapely import get_parts

        return {
            layer: [p for p in get_parts(self.board.copper(layer)).tolist() if p.area > CRUMB_MM2]
            for layer in self.board.layers
        }

    @cached_property
    def tracks(self) -> list[At]:
        """The narrowest strokes of copper, the narrowest first; each width and layer once."""
        found: dict[tuple[str, float], At] = {}
        for layer in self.board.layers:
            for mark in self.board.images["copper", layer].marks:
                if mark.kind == "stroke" and mark.dark and mark.aperture is not None and mark.aperture.sizes:
                    sizes = mark.aperture.sizes if mark.aperture.template in "CRO" else ()
                    width = min(sizes, default=0.0) * scale_of(mark.matrix)
                    if width > 0:
                        (x, y), *_ = mark.points
                        found.setdefault((layer, round(width, 4)), At(width, x, y, layer))
        return sorted(found.values())

    @cached_property
    def gaps(self) -> list[At]:
        """The narrowest gaps between pieces of copper of a layer, the narrowest first."""
        return sorted(g for layer, parts in self.islands.items() for g in gaps_between(parts, layer))[:FEW]

    @cached_property
    def rings(self) -> list[tuple[At, Hole]]:
        """The copper round each plated hole, on each layer where there is some; the narrowest first, below 0 where it
        breaks out."""
        found = [(ring, self.board.holes[k]) for (k, _), ring in self._rings.items() if ring is not None]
        return sorted(found, key=lambda f: f[0])

    @cached_property
    def _rings(self) -> dict[tuple[int, str], At | None]:
        """The copper round each hole that is not known to be bare, by its number and layer."""
        holes = [(k, h) for k, h in enumerate(self.board.holes) if h.plated is not False]
        return {(k, layer): self._ring(hole, layer) for k, hole in holes for layer in self.board.layers}

    @cached_property
    def passing(self) -> list[At]:
        """How near plated holes pass copper of inner layers that they do not meet, the nearest first."""
        found = []
        for layer in (k for k in self.board.layers if k.startswith("inner")):
            tree = self._trees[layer]
            for hole in self.board.holes if len(tree) else ():
                if hole.plated is not False and not len(tree.query(hole.shape, predicate="intersects")):
                    nearest = int(tree.nearest(hole.shape))
                    away = float(self.islands[layer][nearest].distance(hole.shape))
                    found.append(At(away, *hole.points[0], layer))
        return sorted(found)

    @cached_property
    def bare_pads(self) -> list[tuple[str, Hole]]:
        """Plated holes without any copper round them, with the outer layer."""
        return [
            (layer, self.board.holes[k])
            for (k, layer), ring in self._rings.items()
            if ring is None and self.board.holes[k].plated and not layer.startswith("inner")
        ]

    @cached_property
    def _trees(self) -> dict[str, Any]:
        from shapely import STRtree

        return {layer: STRtree(parts) for layer, parts in self.islands.items()}

    def _ring(self, hole: Hole, layer: str) -> At | None:
        """Return the least copper from a hole's wall outwards; copper that is left out for the drill itself counts."""
        from shapely import LineString, Point, Polygon, union_all

        near = self._trees[layer].query(hole.shape, predicate="intersects").tolist()
        if not near:
            return None
        course = LineString(hole.points) if hole.slot else Point(hole.points[0])
        copper = union_all([self.islands[layer][k] for k in near])
        grown, parts = hole.shape.buffer(ROUNDING_MM), []
        for piece in getattr(copper, "geoms", [copper]):
            kept = [r for r in piece.interiors if not (_within(r.bounds, grown.bounds) and grown.covers(Polygon(r)))]
            parts.append(Polygon(piece.exterior, kept))
        whole = union_all(parts)
        x, y = hole.points[0]
        if not whole.covers(course):
            return At(-hole.diameter / 2, x, y, layer)
        return At(float(whole.boundary.distance(course)) - hole.diameter / 2, x, y, layer)

    @cached_property
    def hole_table(self) -> list[HoleRow]:
        """The holes by size."""
        counts = Counter((round(h.diameter, 3), h.plated) for h in self.board.holes)
        slots = Counter((round(h.diameter, 3), h.plated) for h in self.board.holes if h.slot)
        order = sorted(counts, key=lambda k: (k[0], str(k[1])))
        return [HoleRow(d, plated, counts[d, plated], slots[d, plated]) for d, plated in order]

    @cached_property
    def hole_gaps(self) -> list[At]:
        """The narrowest walls between holes."""
        return gaps_between([h.shape for h in self.board.holes], "holes", touching=True)[:FEW]

    @cached_property
    def webs(self) -> list[At]:
        """The narrowest webs of mask between openings."""
        from shapely import get_parts

        found: list[At] = []
        for side in ("top", "bottom"):
            parts = [p for p in get_parts(self.board.shape("mask", side)).tolist() if p.area > CRUMB_MM2]
            found += gaps_between(parts, side)
        return sorted(found)[:FEW]

    @cached_property
    def silk_lines(self) -> list[At]:
        """The thinnest lines of silk."""
        found: dict[tuple[str, float], At] = {}
        for (role, side), image in self.board.images.items():
            for mark in image.marks if role == "silk" else ():
                if mark.kind == "stroke" and mark.dark and mark.aperture is not None and mark.aperture.round:
                    width = mark.aperture.sizes[0] * scale_of(mark.matrix)
                    (x, y), *_ = mark.points
                    found.setdefault((side, round(width, 4)), At(width, x, y, side))
        return sorted(found.values())

    @cached_property
    def areas(self) -> dict[str, float]:
        """The area of copper of each layer, mm²."""
        return {layer: float(self.board.copper(layer).area) for layer in self.board.layers}


def gaps_between(parts: list[Any], layer: str, touching: bool = False) -> list[At]:
    """Return the gaps between shapes that are nearer to each other than LOOKED_AT_MM, the narrowest first."""
    from shapely import STRtree, distance, get_coordinates, shortest_line

    if len(parts) < 2:
        return []
    shapes = np.array(parts, dtype=object)
    left, right = STRtree(shapes).query(shapes, predicate="dwithin", distance=LOOKED_AT_MM)
    keep = left < right
    left, right = left[keep], right[keep]
    away = distance(shapes[left], shapes[right])
    order = np.argsort(away, kind="stable")[:FEW]
    found = []
    for k in order.tolist():
        if away[k] > 0 or touching:
            ends = get_coordinates(shortest_line(shapes[left[k]], shapes[right[k]]))
            x, y = ends.mean(axis=0).tolist() if len(ends) else get_coordinates(shapes[left[k]].centroid)[0].tolist()
            found.append(At(float(away[k]), x, y, layer))
    return found


def _within(inner: tuple[float, ...], outer: tuple[float, ...]) -> bool:
    """Whether a box (low x, low y, high x, high y) lies inside another."""
    return inner[0] >= outer[0] and inner[1] >= outer[1] and inner[2] <= outer[2] and inner[3] <= outer[3]
