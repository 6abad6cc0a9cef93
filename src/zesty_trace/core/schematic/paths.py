"""Ways along the grid of a sheet: the cheapest path from a pin to the cells of its net.

A path has prices for bends, crossings and nearness to other things (A*, after Hart, Nilsson and Raphael 1968, over cell
and direction).
"""

from __future__ import annotations

import heapq
from array import array
from collections.abc import Iterable, Sequence

import numpy as np

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.sheet import Spot

BEND, CROSS = 3.0, 4.0
PATIENT = 12000  # cells looked at for one wire
FREE, ACROSS, UPDOWN, CLOSED = 0, 1, 2, 3
STEPS = ((1, 0), (0, 1), (-1, 0), (0, -1))


class Grid:
    """Who uses each cell, and how: free, across, up-down, or closed to other nets."""

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height, self.patience = width, height, PATIENT
        size = width * height
        self.owner = [0] * size
        self.use = [FREE] * size
        self.price = array("d", bytes(8 * size))
        self.body = bytearray(size)

    def inside(self, x: int, y: int) -> bool:
        return 0 <= x < self.width and 0 <= y < self.height

    def lay_ground(self, closed: Iterable[tuple[range, range]], prices: Iterable[tuple[Box, float]]) -> None:
        """Close columns by rows of cells, and add up the prices of cells."""
        body = np.zeros((self.height, self.width), dtype=np.uint8)
        price = np.zeros((self.height, self.width))
        for columns, rows in closed:
            body[max(0, rows.start) : max(0, rows.stop), max(0, columns.start) : max(0, columns.stop)] = 1
        for (left, top, right, bottom), more in prices:
            within = slice(max(0, round(top)), max(0, round(bottom) + 1))
            price[within, max(0, round(left)) : max(0, round(right) + 1)] += more
        self.body = bytearray(body.tobytes())
        self.price = array("d", price.tobytes())

    def close_rows(self, rows: range) -> None:
        """Close whole rows."""
        first, last = max(0, rows.start), min(self.height, rows.stop)
        if last > first:
            self.body[first * self.width : last * self.width] = b"\x01" * ((last - first) * self.width)

    def add_price(self, rows: range, more: float) -> None:
        """Make whole rows dearer."""
        for cell in range(max(0, rows.start) * self.width, min(self.height, rows.stop) * self.width):
            self.price[cell] += more

    def close(self, x: int, y: int) -> None:
        """Close a cell to wires."""
        if self.inside(x, y):
            self.body[y * self.width + x] = 1

    def open(self, x: int, y: int) -> None:
        """Open a cell that was closed."""
        if self.inside(x, y):
            self.body[y * self.width + x] = 0

    def close_column(self, x: int) -> None:
        """Close a whole column."""
        self.body[x :: self.width] = b"\x01" * self.height

    def free(self, x: int, y: int) -> bool:
        """Whether nothing lies on a cell."""
        return self.inside(x, y) and not self.body[y * self.width + x] and not self.owner[y * self.width + x]

    def passes(self, x: int, y: int, net: int, upright: bool) -> bool:
        """Whether a wire of a net may go straight over a cell."""
        if not self.inside(x, y):
            return False
        cell = y * self.width + x
        if self.body[cell]:
            return False
        return self.owner[cell] in (0, net) or self.use[cell] == (ACROSS if upright else UPDOWN)

    def _mark(self, cell: int, net: int, use: int) -> None:
        if self.owner[cell] and self.owner[cell] != net:
            self.owner[cell], self.use[cell] = -1, CLOSED
        else:
            self.owner[cell] = net
            self.use[cell] = CLOSED if self.use[cell] and self.use[cell] != use else use

    def lay(self, net: int, points: Sequence[Spot]) -> None:
        """Mark a polyline, given by its corners or cell by cell, as used by `net`.

        Ends and corners are closed to others.
        """
        width, owner = self.width, self.owner
        for k, (x, y) in enumerate(points):
            turns = k in (0, len(points) - 1) or (
                points[k - 1][0] != points[k + 1][0] and points[k - 1][1] != points[k + 1][1]
            )
            across = k > 0 and points[k - 1][1] == y
            self._mark(y * width + x, net, CLOSED if turns else ACROSS if across else UPDOWN)
            if k == 0:
                continue
            x0, y0 = points[k - 1]
            if across:
                between, use = slice(y * width + min(x, x0) + 1, y * width + max(x, x0)), ACROSS
            else:
                between, use = slice((min(y, y0) + 1) * width + x, max(y, y0) * width + x, width), UPDOWN
            cells = owner[between]
            if not cells:
                continue
            if any(cells):
                for cell in range(*between.indices(len(owner))):
                    self._mark(cell, net, use)
            else:
                owner[between], self.use[between] = [net] * len(cells), [use] * len(cells)

    def free_strip(self, cells: Iterable[Spot]) -> bool:
        """Whether nothing lies on these cells."""
        return all(self.free(x, y) for x, y in cells)


def find_path(  # noqa: PLR0912 - one loop, the rules of a step in their order
    grid: Grid, net: int, start: Spot, leave: tuple[int, int] | None, goals: set[Spot], most: float = 1e18
) -> list[Spot] | None:
    """Return the cheapest cell path from `start` to any of `goals`.

    None if there is none within the grid's patience, or none that costs up to `most`.
    """
    if not goals:
        return None
    if start in goals:
        return [start]
    w = grid.width
    gx0, gx1 = min(g[0] for g in goals), max(g[0] for g in goals)
    gy0, gy1 = min(g[1] for g in goals), max(g[1] for g in goals)

    def ahead(x: int, y: int) -> float:
        return max(gx0 - x, 0, x - gx1) + max(gy0 - y, 0, y - gy1)

    first = STEPS.index(leave) if leave else -1
    best: dict[tuple[int, int, int], float] = {(*start, first): 0.0}
    came: dict[tuple[int, int, int], tuple[int, int, int]] = {}
    heap = [(ahead(*start), 0.0, start[0], start[1], first)]
    for _ in range(grid.patience):
        if not heap:
            return None
        least, cost, x, y, d = heapq.heappop(heap)
        if least > most:
            return None
        key = (x, y, d)
        if cost > best[key]:
            continue
        if (x, y) in goals:
            return _unwind(came, key)
        here = y * w + x
        foreign = grid.owner[here] not in (0, net)
        for nd, (dx, dy) in enumerate(STEPS):
            if d >= 0 and (nd == (d + 2) % 4 or (foreign and nd != d)):
                continue
            nx, ny = x + dx, y + dy
            if not grid.inside(nx, ny):
                continue
            cell = ny * w + nx
            goal = (nx, ny) in goals
            if grid.body[cell] and not goal:
                continue
            step = 1.0 + grid.price[cell]
            if grid.owner[cell] not in (0, net):
                if goal or grid.use[cell] != (UPDOWN if dy == 0 else ACROSS):
                    continue
                step += CROSS
            if d >= 0 and nd != d:
                step += BEND
            fresh = cost + step
            state = (nx, ny, nd)
            if fresh < best.get(state, 1e18):
                best[state] = fresh
                came[state] = key
                heapq.heappush(heap, (fresh + ahead(nx, ny), fresh, nx, ny, nd))
    return None


def _unwind(came: dict[tuple[int, int, int], tuple[int, int, int]], key: tuple[int, int, int]) -> list[Spot]:
    path = [(key[0], key[1])]
    while key in came:
        key = came[key]
        if (key[0], key[1]) != path[-1]:
            path.append((key[0], key[1]))
    return path[::-1]


def corners(path: Sequence[Spot]) -> tuple[Spot, ...]:
    """Return the ends and bends of a cell path."""
    kept = [path[0]]
    for before, here, after in zip(path, path[1:], path[2:], strict=False):
        if not (before[0] == after[0] or before[1] == after[1]):
            kept.append(here)
    if len(path) > 1:
        kept.append(path[-1])
    return tuple(kept)


def cells_of(points: Sequence[Spot]) -> list[Spot]:
    """Return the cells of a polyline."""
    path = [points[0]]
    for x1, y1 in points[1:]:
        x, y = path[-1]
        while (x, y) != (x1, y1):
            x += (x1 > x) - (x1 < x)
            y += (y1 > y) - (y1 < y)
            path.append((x, y))
    return path
