"""Compiled loops of the router: painting keep-out areas on the grid, and the cheapest-path search.

Arrays are indexed [layer, row, column]; lengths are in grid steps.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

F32 = npt.NDArray[np.float32]
I32 = npt.NDArray[np.int32]
U8 = npt.NDArray[np.uint8]
DIAGONAL = 1.41421356


@njit(cache=True)
def paint_rect(
    mask: U8, cx: float, cy: float, half_w: float, half_h: float, cos: float, sin: float, corner: float, reach: float
) -> None:
    """Set cells of `mask` (rows, columns) nearer than `reach` to a turned rectangle with round corners."""
    rows, columns = mask.shape
    span = np.hypot(half_w, half_h) + reach
    for r in range(max(0, int(cy - span)), min(rows, int(cy + span) + 2)):
        for c in range(max(0, int(cx - span)), min(columns, int(cx + span) + 2)):
            dx, dy = c - cx, r - cy
            u = abs(dx * cos + dy * sin) - (half_w - corner)
            v = abs(-dx * sin + dy * cos) - (half_h - corner)
            u = max(u, 0.0)
            v = max(v, 0.0)
            if np.sqrt(u * u + v * v) - corner < reach - 1e-6:
                mask[r, c] = 1


@njit(cache=True)
def paint_discs(count: F32, cells: I32, reach: float) -> None:
    """Add 1 to cells of `count` [layer, row, column] nearer than `reach` to any of `cells` (N, 3), each cell once."""
    layers, rows, columns = count.shape
    seen = np.zeros((layers, rows, columns), dtype=np.uint8)
    n = int(reach) + 1
    limit = reach * reach - 1e-6
    for k in range(cells.shape[0]):
        layer, row, column = cells[k, 0], cells[k, 1], cells[k, 2]
        for dr in range(-n, n + 1):
            r = row + dr
            if r < 0 or r >= rows:
                continue
            for dc in range(-n, n + 1):
                c = column + dc
                if c < 0 or c >= columns or dr * dr + dc * dc >= limit:
                    continue
                if seen[layer, r, c] == 0:
                    seen[layer, r, c] = 1
                    count[layer, r, c] += 1.0


@njit(cache=True)
def _push(heap_cost: F32, heap_node: I32, size: int, cost: float, node: int) -> int:
    k = size
    heap_cost[k] = cost
    heap_node[k] = node
    while k > 0:
        up = (k - 1) // 2
        if heap_cost[up] <= heap_cost[k]:
            break
        heap_cost[up], heap_cost[k] = heap_cost[k], heap_cost[up]
        heap_node[up], heap_node[k] = heap_node[k], heap_node[up]
        k = up
    return size + 1


@njit(cache=True)
def _pop(heap_cost: F32, heap_node: I32, size: int) -> int:
    size -= 1
    heap_cost[0] = heap_cost[size]
    heap_node[0] = heap_node[size]
    k = 0
    while True:
        small = 2 * k + 1
        if small >= size:
            break
        if small + 1 < size and heap_cost[small + 1] < heap_cost[small]:
            small += 1
        if heap_cost[k] <= heap_cost[small]:
            break
        heap_cost[small], heap_cost[k] = heap_cost[k], heap_cost[small]
        heap_node[small], heap_node[k] = heap_node[k], heap_node[small]
        k = small
    return size


@njit(cache=True)
def search(
    blocked: U8,
    price: F32,
    via_blocked: U8,
    via_price: F32,
    sources: I32,
    targets: I32,
    via_cost: float,
    layer_price: F32,
    bend: float,
) -> I32:
    """Return the cheapest path as cells (N, 3) from any source to any target, or an empty array.

    Moves go to the 8 neighbours or through a via. A step costs its length times `price` and the layer's price. The
    bend price looks at the step before on the best path so far, so it is a preference, not an exact cost.
    """
    layers, rows, columns = blocked.shape
    plane = rows * columns
    total = layers * plane
    best = np.full(total, np.float32(1e30))
    came = np.full(total, -1, dtype=np.int32)
    goal = np.zeros(total, dtype=np.uint8)
    done = np.zeros(total, dtype=np.uint8)
    r0, r1, c0, c1 = rows, -1, columns, -1
    for k in range(targets.shape[0]):
        r, c = targets[k, 1], targets[k, 2]
        goal[targets[k, 0] * plane + r * columns + c] = 1
        r0, r1, c0, c1 = min(r0, r), max(r1, r), min(c0, c), max(c1, c)
    heap_cost = np.empty(total * 4 + 16, dtype=np.float32)
    heap_node = np.empty(total * 4 + 16, dtype=np.int32)
    size = 0
    for k in range(sources.shape[0]):
        node = sources[k, 0] * plane + sources[k, 1] * columns + sources[k, 2]
        if best[node] > 0.0:
            best[node] = 0.0
            size = _push(heap_cost, heap_node, size, 0.0, node)
    end = -1
    while size > 0:
        node = heap_node[0]
        size = _pop(heap_cost, heap_node, size)
        if done[node]:
            continue
        done[node] = 1
        if goal[node]:
            end = node
            break
        layer = node // plane
        row = (node % plane) // columns
        column = node % columns
        before_r = before_c = 0
        if came[node] >= 0 and came[node] // plane == layer:
            before_r = row - (came[node] % plane) // columns
            before_c = column - came[node] % columns
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                if dr == 0 and dc == 0:
                    continue
                r, c = row + dr, column + dc
                if r < 0 or r >= rows or c < 0 or c >= columns or blocked[layer, r, c]:
                    continue
                near = layer * plane + r * columns + c
                if done[near]:
                    continue
                length = DIAGONAL if dr != 0 and dc != 0 else 1.0
                cost = best[node] + length * price[layer, r, c] * layer_price[layer]
                if (before_r != 0 or before_c != 0) and (before_r != dr or before_c != dc):
                    cost += bend
                if cost < best[near] - 1e-5 and size < heap_cost.shape[0] - 2:
                    best[near] = cost
                    came[near] = node
                    gr = max(r0 - r, 0, r - r1)
                    gc = max(c0 - c, 0, c - c1)
                    ahead = max(gr, gc) + 0.41421356 * min(gr, gc)
                    size = _push(heap_cost, heap_node, size, cost + ahead, near)
        if via_blocked[row, column] == 0:
            for other in range(layers):
                if other == layer or blocked[other, row, column]:
                    continue
                near = other * plane + row * columns + column
                cost = best[node] + via_cost + via_price[row, column]
                if not done[near] and cost < best[near] - 1e-5 and size < heap_cost.shape[0] - 2:
                    best[near] = cost
                    came[near] = node
                    gr = max(r0 - row, 0, row - r1)
                    gc = max(c0 - column, 0, column - c1)
                    ahead = max(gr, gc) + 0.41421356 * min(gr, gc)
                    size = _push(heap_cost, heap_node, size, cost + ahead, near)
    if end < 0:
        return np.empty((0, 3), dtype=np.int32)
    count = 0
    node = end
    while node >= 0:
        count += 1
        node = came[node]
    path = np.empty((count, 3), dtype=np.int32)
    node = end
    for k in range(count - 1, -1, -1):
        path[k, 0] = node // plane
        path[k, 1] = (node % plane) // columns
        path[k, 2] = node % columns
        node = came[node]
    return path
