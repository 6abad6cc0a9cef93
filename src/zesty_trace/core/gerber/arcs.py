"""Arcs found again in chords: corners that lie on one circle, as shapes with round ends and corners have them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

Spot = tuple[float, float]
ON_MM = 5e-4  # how far a corner may be off the circle
MOST_TURN = math.radians(12.0)  # from chord to chord: polygons that are meant as such turn more
LEAST_SWEEP = math.radians(15.0)
MOST_SWEEP = math.radians(170.0)  # of one arc: what is longer becomes several
LEAST_CHORDS = 3
LARGEST_MM = 500.0


class Step(NamedTuple):
    """Where a line or arc goes to; `centre` is that of an arc, None of a line, `left` whether it turns to the left."""

    to: Spot
    centre: Spot | None = None
    left: bool = True


def steps_of(points: Sequence[Spot]) -> list[Step]:
    """Return a polyline as lines and arcs: its own corners, or fewer."""
    found: list[Step] = []
    k = 0
    while k < len(points) - 1:
        end, centre, left = _arc_from(points, k)
        if centre is None:
            k += 1
            found.append(Step(points[k]))
        else:
            k = end
            found.append(Step(points[k], centre, left))
    return found


def _arc_from(points: Sequence[Spot], k: int) -> tuple[int, Spot | None, bool]:
    """Return how far an arc goes from a corner, its centre, and whether it turns left; no centre where none begins."""
    if k + LEAST_CHORDS >= len(points):
        return k, None, True
    centre = circle_through(points[k], points[k + 1], points[k + 2])
    if centre is None:
        return k, None, True
    radius = math.dist(centre, points[k])
    first = _turn(centre, points[k], points[k + 1])
    if radius > LARGEST_MM or not 0 < abs(first) <= MOST_TURN:
        return k, None, True
    end, sweep = k, 0.0
    while end + 1 < len(points):
        turn = _turn(centre, points[end], points[end + 1])
        on = abs(math.dist(centre, points[end + 1]) - radius) <= ON_MM
        if not on or turn * first <= 0 or abs(turn) > MOST_TURN or abs(sweep + turn) > MOST_SWEEP:
            break
        end, sweep = end + 1, sweep + turn
    if end - k < LEAST_CHORDS or abs(sweep) < LEAST_SWEEP:
        return k, None, True
    return end, centre, sweep > 0


def circle_through(a: Spot, b: Spot, c: Spot) -> Spot | None:
    """Return the centre of the circle through three points; None if they are on a line."""
    bx, by, cx, cy = b[0] - a[0], b[1] - a[1], c[0] - a[0], c[1] - a[1]
    cross = 2 * (bx * cy - by * cx)
    if abs(cross) < 1e-12:
        return None
    bb, cc = bx * bx + by * by, cx * cx + cy * cy
    return a[0] + (cy * bb - by * cc) / cross, a[1] + (bx * cc - cx * bb) / cross


def _turn(centre: Spot, a: Spot, b: Spot) -> float:
    """Return the angle from a to b about a centre."""
    ax, ay, bx, by = a[0] - centre[0], a[1] - centre[1], b[0] - centre[0], b[1] - centre[1]
    return math.atan2(ax * by - ay * bx, ax * bx + ay * by)
