"""What never moves, painted on the grid once: pads, hand-made copper, holes, the board's edge."""

from __future__ import annotations

import numpy as np

from zesty_trace.core.board.routing.grid import F64, I16, I32
from zesty_trace.core.board.routing.kernel import entry


@entry
def _own(fixed: I16, at: int, owner: int) -> None:
    held = fixed[at]
    if held == 0:
        fixed[at] = owner
    elif held != owner:
        fixed[at] = -1


@entry
def paint_shapes(fixed: I16, columns: int, shapes: F64, reach: float) -> None:
    """Give the cells of one layer nearer than `reach` to a shape to the shape's owner.

    `fixed` is one layer, flat. A shape is (x, y, half width, half height, cos, sin, corner radius, owner), in cells:
    a turned rectangle with round corners; a track is one as well. Owner -1 keeps every net out.
    """
    rows = fixed.shape[0] // columns
    for k in range(shapes.shape[0]):
        cx, cy, half_w, half_h = shapes[k, 0], shapes[k, 1], shapes[k, 2], shapes[k, 3]
        cos, sin, corner, owner = shapes[k, 4], shapes[k, 5], shapes[k, 6], int(shapes[k, 7])
        limit = (reach + corner - 1e-6) ** 2
        wide = abs(half_w * cos) + abs(half_h * sin) + reach
        high = abs(half_w * sin) + abs(half_h * cos) + reach
        for r in range(max(0, int(cy - high)), min(rows, int(cy + high) + 2)):
            for c in range(max(0, int(cx - wide)), min(columns, int(cx + wide) + 2)):
                dx, dy = c - cx, r - cy
                u = abs(dx * cos + dy * sin) - (half_w - corner)
                v = abs(-dx * sin + dy * cos) - (half_h - corner)
                u = max(u, 0.0)
                v = max(v, 0.0)
                if u * u + v * v < limit:
                    _own(fixed, r * columns + c, owner)


@entry
def blot(fixed: I16, columns: int, cells: I32, reach: float) -> None:
    """Keep every net out of the cells nearer than `reach` to the middle of any of `cells`."""
    rows, wide = fixed.shape[0] // columns, int(reach) + 1
    limit = reach * reach
    for k in range(cells.shape[0]):
        row, column = cells[k] // columns, cells[k] % columns
        for r in range(max(0, row - wide), min(rows, row + wide + 1)):
            for c in range(max(0, column - wide), min(columns, column + wide + 1)):
                if (r - row) * (r - row) + (c - column) * (c - column) < limit:
                    fixed[r * columns + c] = -1


@entry
def paint_edge(fixed: I16, columns: int, ring: F64, reach: float) -> None:
    """Keep every net out of the cells nearer than `reach` to a closed ring (N, 2), cells."""
    rows = fixed.shape[0] // columns
    count = ring.shape[0]
    limit = (reach - 1e-6) ** 2
    for k in range(count):
        ax, ay = ring[k, 0], ring[k, 1]
        bx, by = ring[(k + 1) % count, 0], ring[(k + 1) % count, 1]
        ex, ey = bx - ax, by - ay
        long = ex * ex + ey * ey
        for r in range(max(0, int(min(ay, by) - reach)), min(rows, int(max(ay, by) + reach) + 2)):
            for c in range(max(0, int(min(ax, bx) - reach)), min(columns, int(max(ax, bx) + reach) + 2)):
                t = 0.0 if long == 0 else ((c - ax) * ex + (r - ay) * ey) / long
                t = min(1.0, max(0.0, t))
                dx, dy = c - ax - t * ex, r - ay - t * ey
                if dx * dx + dy * dy < limit:
                    fixed[r * columns + c] = -1


@entry
def paint_area(fixed: I16, columns: int, points: F64, ring_at: I32, outside: bool) -> None:
    """Keep every net out of the cells outside, or inside, the rings (even-odd rule); `ring_at` parts `points`."""
    rows = fixed.shape[0] // columns
    crossings = np.empty(points.shape[0] + 2)
    for r in range(rows):
        found = 0
        for ring in range(ring_at.shape[0] - 1):
            a, b = ring_at[ring], ring_at[ring + 1]
            for k in range(a, b):
                j = k + 1 if k + 1 < b else a
                y0, y1 = points[k, 1], points[j, 1]
                if (y0 <= r) != (y1 <= r):
                    crossings[found] = points[k, 0] + (r - y0) / (y1 - y0) * (points[j, 0] - points[k, 0])
                    found += 1
        for k in range(1, found):
            value, j = crossings[k], k
            while j > 0 and crossings[j - 1] > value:
                crossings[j] = crossings[j - 1]
                j -= 1
            crossings[j] = value
        inside, c = False, 0
        for k in range(found + 1):
            end = min(columns, max(0, int(np.ceil(crossings[k])))) if k < found else columns
            if inside != outside:
                for cell in range(c, end):
                    fixed[r * columns + cell] = -1
            c, inside = max(c, end), not inside


@entry
def spread_owner(fixed: I16, into: I16) -> None:
    """Bring what one map forbids into another."""
    for k in range(fixed.shape[0]):
        if fixed[k] != 0:
            _own(into, k, fixed[k])
