"""Laying and lifting paths: a path stamps the cells that it forbids to others, and takes its stamps back when it goes.

A stamp is a disc; along a straight run only the leading edge of each new disc is stamped, so that every path counts
about once wherever it is too near.
"""

from __future__ import annotations

from zesty_trace.core.board.routing.grid import (
    CELL_BITS,
    CELL_MASK,
    CROWD_MASK,
    DIAGONAL,
    FROM_SHIFT,
    HISTORY_MASK,
    HISTORY_SHIFT,
    I32,
    OWNER_MASK,
    OWNER_SHIFT,
    SLANT_SHIFT,
    SOURCE,
    STEP_MASK,
    STRAIGHT,
    VIA_STEP,
    Grid,
)
from zesty_trace.core.board.routing.kernel import inner

WHOLE = 8


@inner
def _stamp(grid: Grid, painter: int, cell: int, direction: int, by: int) -> None:
    """Stamp one disc, or its leading edge, on the maps of all classes of one layer and on that of the vias."""
    words, disc, disc_at = grid.words, grid.main[grid.disc_from :], grid.main[grid.disc_at_at :]
    via_crowd = grid.small[grid.via_crowd_at :]
    columns, cells = grid.columns, grid.plane * grid.layers
    for query in range(grid.classes):
        base = query * cells + cell
        k = ((query * (grid.classes + 1) + painter) * 9 + direction) * 2
        for j in range(disc_at[k], disc_at[k + 1]):
            words[base + disc[2 * j] * columns + disc[2 * j + 1]] += by
    base = cell % grid.plane
    k = ((grid.classes * (grid.classes + 1) + painter) * 9 + direction) * 2
    for j in range(disc_at[k], disc_at[k + 1]):
        via_crowd[base + disc[2 * j] * columns + disc[2 * j + 1]] += by


@inner
def _direction(columns: int, step: int) -> int:
    if step == -columns:
        return 0
    if step == columns:
        return 1
    if step == -1:
        return 2
    if step == 1:
        return 3
    if step == -columns + 1:
        return 4
    if step == -columns - 1:
        return 5
    if step == columns + 1:
        return 6
    return 7


@inner
def stamp_path(grid: Grid, path: int, by: int) -> None:
    """Add (`by` 1) or take away (-1) what a path forbids to others."""
    plane, pool = grid.plane, grid.main[grid.pool_at :]
    paths = grid.main[grid.paths_at :]
    before, kind_before = -1, -1
    for k in range(paths[2 * path], paths[2 * path + 1]):
        cell, kind = pool[k] & CELL_MASK, pool[k] >> CELL_BITS
        direction = WHOLE
        if before >= 0 and cell // plane != before // plane:
            for layer in range(grid.layers):
                _stamp(grid, grid.classes, layer * plane + cell % plane, WHOLE, by)
        elif before >= 0 and kind == kind_before:
            direction = _direction(grid.columns, cell - before)
        _stamp(grid, kind, cell, direction, by)
        before, kind_before = cell, kind


@inner
def _dearer(grid: Grid, cell: int, price: int) -> None:
    for kind in range(grid.classes):
        at = kind * grid.plane * grid.layers + cell
        if ((grid.words[at] >> HISTORY_SHIFT) & HISTORY_MASK) + price <= HISTORY_MASK:
            grid.words[at] += price << HISTORY_SHIFT


@inner
def conflicts(grid: Grid, path: int, price: int) -> int:
    """Return at how many cells other paths are too near to a lifted path, and make those dearer by `price` for good."""
    plane, pool, paths = grid.plane, grid.main[grid.pool_at :], grid.main[grid.paths_at :]
    words, via_crowd = grid.words, grid.small[grid.via_crowd_at :]
    found, before = 0, -1
    for k in range(paths[2 * path], paths[2 * path + 1]):
        cell, kind = pool[k] & CELL_MASK, pool[k] >> CELL_BITS
        if words[kind * plane * grid.layers + cell] & CROWD_MASK > 0:
            found += 1
            _dearer(grid, cell, price)
        if before >= 0 and cell // plane != before // plane and via_crowd[cell % plane] > 0:
            found += 3
            _dearer(grid, cell, price)
            _dearer(grid, before, price)
        before = cell
    return found


@inner
def path_price(grid: Grid, path: int, via_price: int) -> int:
    """Return the length of a path in hundredths of a step, vias at their price."""
    plane, columns, pool = grid.plane, grid.columns, grid.main[grid.pool_at :]
    paths = grid.main[grid.paths_at :]
    total, before = 0, -1
    for k in range(paths[2 * path], paths[2 * path + 1]):
        cell = pool[k] & CELL_MASK
        if before >= 0:
            step = abs(cell - before)
            if cell // plane != before // plane:
                total += via_price
            else:
                total += STRAIGHT if step == 1 or step == columns else DIAGONAL
        before = cell
    return total


@inner
def stamp_net(grid: Grid, net: int, by: int) -> None:
    """Lay (1) or lift (-1) all paths of a net; they stay in the pool."""
    nets = grid.main[grid.nets_at :]
    for g in range(int(nets[net]), int(nets[net + 1])):
        stamp_path(grid, g, by)


@inner
def before_of(grid: Grid, cell: int) -> int:
    """Return the cell from which the last search came to this one."""
    mark = grid.words[grid.marks_at + cell]
    d = mark & STEP_MASK
    if d == VIA_STEP:
        return int(((mark >> FROM_SHIFT) & STEP_MASK) * grid.plane + cell % grid.plane)
    dr = -1 if d == 0 or d == 4 or d == 5 else (1 if d == 1 or d == 6 or d == 7 else 0)
    dc = -1 if d == 2 or d == 5 or d == 7 else (1 if d == 3 or d == 4 or d == 6 else 0)
    return int(cell - dr * grid.columns - dc)


@inner
def write_path(grid: Grid, end: int, net: int, wide: int, path: int) -> bool:
    """Write the path that the last search found into the pool, from its source to `end`. False if the pool is full."""
    marks, pool = grid.words[grid.marks_at :], grid.main[grid.pool_at :]
    paths = grid.main[grid.paths_at :]
    length, cell = 1, end
    while marks[cell] & STEP_MASK != SOURCE:
        cell = before_of(grid, cell)
        length += 1
    first = grid.state[0]
    if first + length > grid.state[3]:
        return False
    cell, slant_after = end, False
    for k in range(length - 1, -1, -1):
        step = marks[cell] & STEP_MASK
        slant = step >= 4 and step < 8
        kind = 0
        if wide > 0:
            word = grid.words[wide * grid.plane * grid.layers + cell]
            owner = (word >> (SLANT_SHIFT if slant or slant_after else OWNER_SHIFT)) & OWNER_MASK
            kind = wide if owner == 0 or owner == net + 1 else 0
        pool[first + k] = cell | (kind << CELL_BITS)
        slant_after = slant
        if k > 0:
            cell = before_of(grid, cell)
    grid.state[0] = first + length
    paths[2 * path], paths[2 * path + 1] = first, first + length
    return True


@inner
def away(grid: Grid, cell: int, box: I32) -> int:
    """Return how far a cell is from a box, hundredths of a step."""
    flat = cell % grid.plane
    row, column = flat // grid.columns, flat % grid.columns
    dr = max(box[0] - row, row - box[1], 0)
    dc = max(box[2] - column, column - box[3], 0)
    return int(STRAIGHT * max(dr, dc) + (DIAGONAL - STRAIGHT) * min(dr, dc))
