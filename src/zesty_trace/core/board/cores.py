"""Copper as lines with a radius: how far many pieces are apart, without their polygons.

A track is its centre line grown by half its width, a via or a round pad a point grown by its radius; those are exact.
A rectangle lies in the line along its middle grown to its corners, so its distance is a lower bound: where that
bound is below what is asked for, the polygons are measured.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import BoardPad, Hole, pad_lines
from zesty_trace.core.quantities import mm

I64 = npt.NDArray[np.int64]
F64 = npt.NDArray[np.float64]
TOUCH_MM = 1e-6


class Cores(NamedTuple):
    """Lines from `a` to `b` (n, 2), mm, grown by `radius`; `item` is the piece that each belongs to.

    `bound` says that the shape lies within, but does not fill it.
    """

    a: F64
    b: F64
    radius: F64
    bound: npt.NDArray[np.bool_]
    item: I64

    def boxes(self, grow_mm: float = 0.0) -> Any:
        """Return the diagonals of the upright boxes round them, grown: a tree asks for no more of a shape."""
        from shapely import linestrings

        low = np.minimum(self.a, self.b) - self.radius[:, None] - grow_mm
        high = np.maximum(self.a, self.b) + self.radius[:, None] + grow_mm
        return linestrings(np.stack([low, high], axis=1))


def join(parts: Sequence[Cores]) -> Cores:
    """Return several as one."""
    return Cores(*(np.concatenate(column) for column in zip(*parts, strict=True)))


def pad_cores(pads: Sequence[BoardPad], first: int = 0) -> Cores:
    """Return the cores of pads, numbered from `first`."""
    from shapely import get_coordinates

    lines, radius, solid = pad_lines(pads)
    at, owner = get_coordinates(lines, return_index=True)
    start = np.searchsorted(owner, np.arange(len(pads)))
    end = np.searchsorted(owner, np.arange(len(pads)), side="right") - 1
    reach = np.where(solid, radius, radius * math.sqrt(2))
    return Cores(at[start], at[end], reach, ~solid, np.arange(first, first + len(pads)))


def hole_cores(holes: Sequence[Hole]) -> Cores:
    """Return the cores of holes, exact."""
    ends = np.array([(h.x_nm, h.y_nm, h.x2_nm, h.y2_nm) for h in holes], dtype=float).reshape(-1, 4) / 1e6
    radius = np.array([mm(h.drill_nm) / 2 for h in holes])
    return Cores(ends[:, :2], ends[:, 2:], radius, np.zeros(len(holes), dtype=bool), np.arange(len(holes)))


def line_cores(lines: Sequence[Sequence[tuple[int, int]]], widths_nm: Sequence[int], first: int = 0) -> Cores:
    """Return the cores of polylines, nanometres: one a segment, a point for a line of one point."""
    full = [line if len(line) > 1 else (line[0], line[0]) for line in lines]
    counts = np.array([len(line) for line in full], dtype=np.int64)
    spots = np.array([p for line in full for p in line], dtype=float).reshape(-1, 2) / 1e6
    owner = np.repeat(np.arange(len(full)), counts)
    keep = owner[1:] == owner[:-1]
    radius = np.array([mm(w) / 2 for w in widths_nm])[owner[:-1][keep]] if full else np.zeros(0)
    item = first + owner[:-1][keep]
    return Cores(spots[:-1][keep], spots[1:][keep], radius, np.zeros(len(item), dtype=bool), item)


def between(one: Cores, i: I64, two: Cores, j: I64) -> F64:
    """Return the gaps, mm, between cores `i` of one and `j` of the other: below zero where they overlap."""
    a, b, c, d = one.a[i], one.b[i], two.a[j], two.b[j]
    least = np.minimum(
        np.minimum(_point_line(a, c, d), _point_line(b, c, d)), np.minimum(_point_line(c, a, b), _point_line(d, a, b))
    )
    cross = (_side(a, b, c) * _side(a, b, d) < 0) & (_side(c, d, a) * _side(c, d, b) < 0)
    distance: F64 = np.where(cross, 0.0, np.sqrt(least)) - one.radius[i] - two.radius[j]
    return distance


def _point_line(p: F64, a: F64, b: F64) -> F64:
    """Return the squared distances of points from segments."""
    way = b - a
    long = np.einsum("ij,ij->i", way, way)
    share = np.einsum("ij,ij->i", p - a, way) / np.where(long > 0, long, 1.0)
    off = p - a - np.clip(share, 0.0, 1.0)[:, None] * way
    found: F64 = np.einsum("ij,ij->i", off, off)
    return found


def _side(a: F64, b: F64, p: F64) -> F64:
    found: F64 = (b[:, 0] - a[:, 0]) * (p[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (p[:, 0] - a[:, 0])
    return found


class Pairs(NamedTuple):
    """Pieces that are near each other: their numbers, and the gaps between them, mm, 0 where they touch."""

    left: I64
    right: I64
    gap: F64


class Exact(NamedTuple):
    """What pieces are: lines or, for rectangles, polygons, grown by `radii`, mm."""

    lines: npt.NDArray[np.object_]
    radii: F64


def near_pairs(cores: Cores, exact: Exact, near_mm: float) -> Pairs:
    """Return the pairs of pieces at most `near_mm` apart, each once, the lower number first."""
    from shapely import STRtree

    tree = STRtree(cores.boxes())
    left, right = tree.query(cores.boxes(near_mm))
    keep = cores.item[left] < cores.item[right]
    left, right = left[keep], right[keep]
    gap = between(cores, left, cores, right)
    close = gap <= near_mm
    left, right, gap = left[close], right[close], gap[close]
    return _measured(cores.item[left], cores.item[right], gap, cores.bound[left] | cores.bound[right], exact, near_mm)


def _measured(left: I64, right: I64, gap: F64, bound: npt.NDArray[np.bool_], exact: Exact, near_mm: float) -> Pairs:
    """Return pairs of pieces, each once with its least gap; what is a bound only is measured."""
    from shapely import distance

    if not len(left):
        return Pairs(left, right, gap)
    order = np.lexsort((gap, right, left))
    left, right, gap, bound = left[order], right[order], gap[order], bound[order]
    first = np.r_[True, (left[1:] != left[:-1]) | (right[1:] != right[:-1])]
    left, right, gap, bound = left[first], right[first], gap[first].copy(), bound[first]
    a, b = left[bound], right[bound]
    gap[bound] = distance(exact.lines[a], exact.lines[b]) - exact.radii[a] - exact.radii[b]
    gap = np.maximum(np.where(gap < TOUCH_MM, 0.0, gap), 0.0)
    keep = gap <= near_mm
    return Pairs(left[keep], right[keep], gap[keep])
