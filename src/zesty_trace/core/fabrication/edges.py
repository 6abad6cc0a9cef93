"""The edge of a board out of the lines of its outline file: rings, cut-outs, and where it is not closed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zesty_trace.core.gerber.image import GerberImage

SNAP_MM = 0.005  # ends of lines so near to each other are one


@dataclass(frozen=True)
class Edges:
    """`board` is the area of the board without its cut-outs, mm, None if no ring is closed.

    `gaps` are (x, y, mm) where lines end with nothing to go on with; `boards` counts areas apart, `divided` says that
    lines cut the area into several.
    """

    board: Any = None
    cutouts: tuple[Any, ...] = ()
    gaps: tuple[tuple[float, float, float], ...] = ()
    boards: int = 0
    divided: bool = False
    there: bool = False

    @property
    def size_mm(self) -> tuple[float, float] | None:
        """Width and height over all."""
        if self.board is None:
            return None
        x0, y0, x1, y1 = self.board.bounds
        return x1 - x0, y1 - y0


def edges_of(image: GerberImage | None) -> Edges:
    """Return the edge that an outline file draws: what matters is the middle of its lines."""
    from shapely import get_parts, polygonize_full, set_precision, union_all

    if image is None:
        return Edges()
    lines = image.lines
    if not lines:
        return Edges(there=True)
    joined = set_precision(union_all(lines), SNAP_MM, mode="valid_output")
    faces, cuts, dangles, _ = polygonize_full([joined])
    polygons = [p for p in get_parts(faces).tolist() if p.area > SNAP_MM]
    gaps = _gaps([*get_parts(dangles).tolist(), *get_parts(cuts).tolist()])
    if not polygons:
        return Edges(gaps=gaps, there=True)
    return _nested(polygons, gaps)


def _nested(polygons: list[Any], gaps: tuple[tuple[float, float, float], ...]) -> Edges:
    """Return what is board and what is cut out: rings within rings take turns."""
    from shapely import Polygon, union_all

    fulls = [Polygon(p.exterior) for p in polygons]
    order = sorted(range(len(fulls)), key=lambda k: -fulls[k].area)
    spots = {k: polygons[k].representative_point() for k in order}
    deep = {k: sum(fulls[n].contains(spots[k]) for n in order if n != k) for k in order}
    solid = [polygons[k] for k in order if deep[k] % 2 == 0]
    board = union_all(solid)
    boards = len(getattr(board, "geoms", [board]))
    cutouts = tuple(polygons[k] for k in order if deep[k] % 2 == 1)
    return Edges(board, cutouts, gaps, boards, divided=len(solid) > boards, there=True)


def _gaps(loose: list[Any]) -> tuple[tuple[float, float, float], ...]:
    """Return where lines end, with the distance to the next such end."""
    import math

    ends: dict[tuple[float, float], int] = {}
    for line in loose:
        for x, y in (line.coords[0], line.coords[-1]):
            key = (round(x, 4), round(y, 4))
            ends[key] = ends.get(key, 0) + 1
    single = [p for p, n in ends.items() if n == 1]
    found = []
    for p in single:
        away = min((math.dist(p, q) for q in single if q != p), default=0.0)
        found.append((p[0], p[1], round(away, 4)))
    return tuple(sorted(found))
