"""Two sets of files laid over each other: what copper, mask, paste, silk and holes one has and the other has not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from zesty_trace.core.fabrication.finished import BoardSet, Hole

ROUNDING_MM = 0.005  # shapes that differ by less are alike: chords of circles, rounding of coordinates
MOVED_MM = 1.0  # a hole of one size that is so near to where one was has moved
MOST_PLACES = 20


class LayerDifference(NamedTuple):
    """Areas that only the first or only the second set has, mm², and the middles of the largest."""

    role: str
    side: str
    only_first_mm2: float
    only_second_mm2: float
    at: tuple[tuple[float, float], ...]
    first: Any
    second: Any

    @property
    def same(self) -> bool:
        """Whether both are alike but for rounding."""
        return self.only_first_mm2 == self.only_second_mm2 == 0.0


@dataclass(frozen=True)
class Difference:
    """What differs. `missing` are layers that only one has: (role, side, which)."""

    layers: tuple[LayerDifference, ...]
    missing: tuple[tuple[str, str, str], ...]
    added: tuple[Hole, ...]
    removed: tuple[Hole, ...]
    moved: tuple[tuple[Hole, Hole], ...]
    resized: tuple[tuple[Hole, Hole], ...]

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        holes = self.added or self.removed or self.moved or self.resized
        return not (self.missing or holes) and all(k.same for k in self.layers)


def compare(first: BoardSet, second: BoardSet) -> Difference:
    """Return what differs between two sets, the second being the newer one."""
    keys = sorted(set(first.images) | set(second.images))
    both = [k for k in keys if k in first.images and k in second.images]
    missing = tuple((*k, "first" if k in second.images else "second") for k in keys if k not in both)
    layers = tuple(_layer(*k, _of(first, *k), _of(second, *k)) for k in both)
    return Difference(layers, missing, *_holes(first.holes, second.holes))


def _of(board: BoardSet, role: str, side: str) -> Any:
    if role == "copper":
        return board.copper(side)
    if role == "outline" and board.edges.board is not None:
        return board.edges.board
    return board.shape(role, side)


def _layer(role: str, side: str, a: Any, b: Any) -> LayerDifference:
    first, second = _more(a, b), _more(b, a)
    parts = [p for s in (first, second) for p in getattr(s, "geoms", [s]) if not p.is_empty]
    largest = sorted(parts, key=lambda p: -p.area)[:MOST_PLACES]
    spots = tuple((p.representative_point().x, p.representative_point().y) for p in largest)
    return LayerDifference(role, side, float(first.area), float(second.area), spots, first, second)


def _more(a: Any, b: Any) -> Any:
    """Return what one has beyond the other, thin slivers of rounding left out."""
    from shapely import MultiPolygon, get_parts

    raw = a.difference(b)
    kept = [p for p in get_parts(raw).tolist() if p.geom_type == "Polygon" and not p.buffer(-ROUNDING_MM).is_empty]
    return MultiPolygon(kept)


Holes = tuple[tuple[Hole, ...], tuple[Hole, ...], tuple[tuple[Hole, Hole], ...], tuple[tuple[Hole, Hole], ...]]


def _holes(first: tuple[Hole, ...], second: tuple[Hole, ...]) -> Holes:
    """Return holes added, removed, moved and resized: at one place first, then the nearest of one size."""
    left, right = list(first), list(second)
    resized: list[tuple[Hole, Hole]] = []
    for old, new in _pairs(left, right, ROUNDING_MM * 2, same_size=False):
        if abs(old.diameter - new.diameter) > ROUNDING_MM or (
            old.plated != new.plated and None not in (old.plated, new.plated)
        ):
            resized.append((old, new))
    moved = _pairs(left, right, MOVED_MM, same_size=True)
    return tuple(right), tuple(left), tuple(moved), tuple(resized)


def _pairs(left: list[Hole], right: list[Hole], within: float, same_size: bool) -> list[tuple[Hole, Hole]]:
    """Take pairs out of both lists, nearest first."""
    from scipy.spatial import cKDTree

    if not left or not right:
        return []
    a, b = (np.array([h.points[0] + h.points[-1] for h in holes]) for holes in (left, right))
    near = cKDTree(a).query_ball_tree(cKDTree(b), within)
    options = sorted((float(np.hypot(*(a[i] - b[j])[:2])), i, j) for i, js in enumerate(near) for j in js)
    used_a: set[int] = set()
    used_b: set[int] = set()
    found = []
    for _, i, j in options:
        alike = abs(left[i].diameter - right[j].diameter) <= ROUNDING_MM
        if i not in used_a and j not in used_b and (alike or not same_size):
            used_a.add(i)
            used_b.add(j)
            found.append((left[i], right[j]))
    left[:] = [h for k, h in enumerate(left) if k not in used_a]
    right[:] = [h for k, h in enumerate(right) if k not in used_b]
    return found
