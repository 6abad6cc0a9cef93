"""Plain plane geometry in integer nanometres, angles in millidegrees counter-clockwise, y up."""

from __future__ import annotations

import math
from typing import NamedTuple


class Point(NamedTuple):
    """A point on the board, nanometres, y up."""

    x_nm: int
    y_nm: int


def rotate(x: float, y: float, angle_mdeg: int) -> tuple[float, float]:
    """Return (x, y) turned counter-clockwise about the origin; quarter turns are exact."""
    quarter, rest = divmod(angle_mdeg % 360_000, 90_000)
    for _ in range(quarter):
        x, y = -y, x
    if rest:
        a = math.radians(rest / 1000)
        x, y = x * math.cos(a) - y * math.sin(a), x * math.sin(a) + y * math.cos(a)
    return x, y


def distance(a: tuple[float, float], b: tuple[float, float]) -> float:
    """Return the straight distance between two points, in their unit."""
    return math.hypot(a[0] - b[0], a[1] - b[1])
