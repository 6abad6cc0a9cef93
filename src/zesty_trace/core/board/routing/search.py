"""One cheapest path on the grid: A* with a bound that counts straight and diagonal steps to the goal's box.

P. E. Hart, N. J. Nilsson, B. Raphael, "A formal basis for the heuristic determination of minimum cost paths" (1968).
The queue is one of buckets a sixth of a step wide (R. B. Dial, Algorithm 360, CACM 12, 1969), the newest first.
"""

from __future__ import annotations

from zesty_trace.core.board.routing.grid import (
    BUCKET_SHIFT,
    BUCKETS,
    CLOSED,
    COST_MASK,
    COST_SHIFT,
    CROWD_MASK,
    DIAGONAL,
    FROM_SHIFT,
    HISTORY_MASK,
    HISTORY_SHIFT,
    I32,
    LAYER_SHIFT,
    NUMBER_SHIFT,
    OWNER_MASK,
    OWNER_SHIFT,
    ROW_SHIFT,
    SLANT_SHIFT,
    SOURCE,
    SPOT_MASK,
    STEP_MASK,
    STRAIGHT,
    VIA_STEP,
    Grid,
)
from zesty_trace.core.board.routing.kernel import inner

NECK_PRICE = 60  # a step on less than the width that the net asks for
BEND_PRICE = 8
# Directions are up, down, left, right, then the diagonals; behind a step lie cells that its own start reaches as well.
ROWS = (-1, 1, 0, 0, -1, -1, 1, 1)
COLUMNS = (0, 0, -1, 1, 1, -1, 1, -1)
BACKWARDS = (0b11000010, 0b00110001, 0b01011000, 0b10100100, 0b10000110, 0b01001010, 0b00100101, 0b00011001) + (0,) * 8


@inner
def _ahead(row: int, column: int, box: I32, weight: int) -> int:
    dr = max(box[0] - row, row - box[1], 0)
    dc = max(box[2] - column, column - box[3], 0)
    least, most = min(dr, dc), max(dr, dc)
    return int(((STRAIGHT * most + (DIAGONAL - STRAIGHT) * least) * weight) >> 2)


@inner
def _put(heads: I32, queue: I32, used: int, bucket: int, spot: int) -> int:
    """Add a spot to a bucket; return how many places of the queue are used. A full queue drops it."""
    if used < queue.shape[0] >> 1:
        slot = bucket & (BUCKETS - 1)
        queue[2 * used], queue[2 * used + 1] = heads[slot], spot
        heads[slot] = used
        return used + 1
    return used


@inner
def search(
    grid: Grid,
    net: int,
    wide: int,
    sources: I32,
    count: int,
    box: I32,
    window: I32,
    present: int,
    via_price: int,
    weight: int,
    to_plane: int,
    number: int,
) -> int:
    """Return the goal cell that the cheapest path from `sources[:count]` reaches, or -1; marks hold the way back.

    Goals are cells with `target == number`, and any cell of layer `to_plane` that a via reaches, unless that is -1.
    `present` is the price of a cell where another path is too near, 0 if that is forbidden; `weight` is in quarters.
    A `via_price` below zero keeps to the layer.
    """
    cells, marks, target = grid.words, grid.words[grid.marks_at :], grid.main
    via_fixed, via_crowd = grid.small, grid.small[grid.via_crowd_at :]
    own_via, near_pad = grid.main[grid.own_via_at :], grid.main[grid.near_pad_at :]
    heads = grid.main[grid.heads_at : grid.heads_at + BUCKETS]
    queue = grid.main[grid.queue_at : grid.queue_at + 2 * grid.queue_size]
    columns, plane, layers = grid.columns, grid.plane, grid.layers
    of_class = wide * plane * layers
    mine = net + 1
    row0, row1, column0, column1 = window[0], window[1], window[2], window[3]
    planar = to_plane >= 0
    used, low, high, seen, end = 0, 1 << 40, 0, 0, -1
    for k in range(count):
        cell = sources[k]
        layer = cell // plane
        flat = cell - layer * plane
        row = flat // columns
        column = flat - row * columns
        if row < row0 or row > row1 or column < column0 or column > column1 or marks[cell] >> NUMBER_SHIFT == number:
            continue
        cost = (cells[of_class + cell] >> HISTORY_SHIFT) & HISTORY_MASK
        marks[cell] = (number << NUMBER_SHIFT) | (cost << COST_SHIFT) | SOURCE
        bucket = (cost if planar else cost + _ahead(row, column, box, weight)) >> BUCKET_SHIFT
        used = _put(heads, queue, used, bucket, (layer << LAYER_SHIFT) | (row << ROW_SHIFT) | column)
        low, high = min(low, bucket), max(high, bucket)
    while low <= high:
        slot = low & (BUCKETS - 1)
        top = heads[slot]
        if top < 0:
            low += 1
            continue
        heads[slot] = queue[2 * top]
        spot = queue[2 * top + 1]
        layer, row, column = spot >> LAYER_SHIFT, (spot >> ROW_SHIFT) & SPOT_MASK, spot & SPOT_MASK
        flat = row * columns + column
        cell = layer * plane + flat
        mark = marks[cell]
        if mark & CLOSED:
            continue
        marks[cell] = mark | CLOSED
        seen += 1
        step = mark & STEP_MASK
        if target[cell] == number or (layer == to_plane and step == VIA_STEP):
            end = cell
            break
        cost = (mark >> COST_SHIFT) & COST_MASK
        owner = (cells[of_class + cell] >> SLANT_SHIFT) & OWNER_MASK
        slant = owner == 0 or owner == mine
        if not slant and wide > 0 and near_pad[flat] == mine:
            owner = (cells[cell] >> SLANT_SHIFT) & OWNER_MASK
            slant = owner == 0 or owner == mine
        price = grid.main[grid.prices_at + layer]
        behind = BACKWARDS[step]
        for d in range(8 if slant else 4):
            if behind >> d & 1:
                continue
            r, c = row + ROWS[d], column + COLUMNS[d]
            if r < row0 or r > row1 or c < column0 or c > column1:
                continue
            step_flat = ROWS[d] * columns + COLUMNS[d]
            near = cell + step_flat
            shift = OWNER_SHIFT if d < 4 else SLANT_SHIFT
            add = price if d < 4 else (price * DIAGONAL) // STRAIGHT
            word = cells[of_class + near]
            owner = (word >> shift) & OWNER_MASK
            if owner != 0 and owner != mine:
                if wide == 0 or near_pad[flat + step_flat] != mine:
                    continue
                word = cells[near]
                owner = (word >> shift) & OWNER_MASK
                if owner != 0 and owner != mine:
                    continue
                add += NECK_PRICE
            others = word & CROWD_MASK
            if others > 0:
                if present == 0:
                    continue
                add += present * others
            if step < 8 and step != d:
                add += BEND_PRICE
            new = cost + add + ((word >> HISTORY_SHIFT) & HISTORY_MASK)
            old = marks[near]
            if old >> NUMBER_SHIFT == number and (old & CLOSED or (old >> COST_SHIFT) & COST_MASK <= new):
                continue
            marks[near] = (number << NUMBER_SHIFT) | (new << COST_SHIFT) | d
            bucket = (new if planar else new + _ahead(r, c, box, weight)) >> BUCKET_SHIFT
            if bucket - low < BUCKETS - 1:
                used = _put(heads, queue, used, bucket, (layer << LAYER_SHIFT) | (r << ROW_SHIFT) | c)
                low, high = min(low, bucket), max(high, bucket)
        if via_price < 0 or step == VIA_STEP or own_via[flat] == number:
            continue
        owner = via_fixed[flat] & OWNER_MASK
        if owner != 0 and owner != mine:
            continue
        others = via_crowd[flat]
        if others > 0 and present == 0:
            continue
        for other in range(layers):
            if other == layer:
                continue
            near = other * plane + flat
            word = cells[of_class + near]
            new = cost + via_price + 2 * present * others + ((word >> HISTORY_SHIFT) & HISTORY_MASK)
            if wide > 0:
                owner = (word >> OWNER_SHIFT) & OWNER_MASK
                if owner != 0 and owner != mine:
                    word = cells[near]
                    owner = (word >> OWNER_SHIFT) & OWNER_MASK
                    if near_pad[flat] != mine or (owner != 0 and owner != mine):
                        continue
                crowded = word & CROWD_MASK
                if crowded > 0 and present == 0:
                    continue
                new += present * crowded
            old = marks[near]
            if old >> NUMBER_SHIFT == number and (old & CLOSED or (old >> COST_SHIFT) & COST_MASK <= new):
                continue
            marks[near] = (number << NUMBER_SHIFT) | (new << COST_SHIFT) | (layer << FROM_SHIFT) | VIA_STEP
            bucket = (new if planar else new + _ahead(row, column, box, weight)) >> BUCKET_SHIFT
            if bucket - low < BUCKETS - 1:
                used = _put(heads, queue, used, bucket, (other << LAYER_SHIFT) | (row << ROW_SHIFT) | column)
                low, high = min(low, bucket), max(high, bucket)
    for bucket in range(low, high + 1):
        heads[bucket & (BUCKETS - 1)] = -1
    grid.state[2] += seen
    return end
