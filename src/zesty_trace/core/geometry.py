"""Plain plane geometry in integer nanometres, angles in millidegrees counter-clockwise, y up."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any, NamedTuple


class Point(NamedTuple):
    """A point on the board, nanometres, y up."""

    x_nm: int
    y_nm: int


class Box(NamedTuple):
    """A rectangle along the axes, in the unit of its place. On the board y points up, on the sheet down."""

    x0: float
    y0: float
    x1: float
    y1: float

    @property
    def width(self) -> float:
        """How far it reaches along x."""
        return self.x1 - self.x0

    @property
    def height(self) -> float:
        """How far it reaches along y."""
        return self.y1 - self.y0

    @property
    def area(self) -> float:
        """Width times height."""
        return self.width * self.height

    @property
    def middle(self) -> tuple[float, float]:
        """Its middle."""
        return (self.x0 + self.x1) / 2, (self.y0 + self.y1) / 2

    def grown(self, by: float) -> Box:
        """Return it with each edge moved out."""
        return Box(self.x0 - by, self.y0 - by, self.x1 + by, self.y1 + by)

    def moved(self, dx: float, dy: float) -> Box:
        """Return it moved."""
        return Box(self.x0 + dx, self.y0 + dy, self.x1 + dx, self.y1 + dy)

    def meets(self, other: Box) -> bool:
        """Whether they share more than an edge."""
        return self.x0 < other.x1 and other.x0 < self.x1 and self.y0 < other.y1 and other.y0 < self.y1

    def shared(self, other: Box) -> float:
        """Return the area that both cover."""
        wide = min(self.x1, other.x1) - max(self.x0, other.x0)
        high = min(self.y1, other.y1) - max(self.y0, other.y0)
        return wide * high if wide > 0 and high > 0 else 0.0


def box_of(points: Iterable[tuple[float, float]]) -> Box:
    """Return the smallest box around points; an empty one at the origin if there are none.

    >>> box_of([(1, 2), (4, 0)]).width
    3
    """
    xs, ys = [], []
    for x, y in points:
        xs.append(x)
        ys.append(y)
    return Box(min(xs), min(ys), max(xs), max(ys)) if xs else Box(0, 0, 0, 0)


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


def buffered(shape: Any, by: float, **how: Any) -> Any:
    """Return a shape grown by a distance, or shrunk below 0, as shapely does it, and again if that cannot be.

    GEOS 3.14.1 now and then gives nothing, or far too much, for one distance and what is right for those beside it.
    """
    found = shape.buffer(by, **how)
    for share in (1e-4, -1e-4, 3e-4, -3e-4, 1e-3):
        if _possible(shape, found, by):
            break
        found = shape.buffer(by * (1 + share), **how)
    return found


def _possible(shape: Any, found: Any, by: float) -> bool:
    """Whether an area can have come of growing by a distance: it changes by about its edge times that."""
    room = 2.5 * shape.length * abs(by) + 4 * by * by + 1.0
    return bool(shape.area - room <= found.area <= shape.area + room)
