"""Growing the tree of one net: the widest, then the nearest group first, each by its cheapest path to the tree.

A wide path joins only what is as wide: else the current of its pad would go on through a thin track.
"""

from __future__ import annotations

import numpy as np

from zesty_trace.core.board.routing.grid import CELL_BITS, CELL_MASK, I32, STRAIGHT, Grid
from zesty_trace.core.board.routing.kernel import entry, inner
from zesty_trace.core.board.routing.search import search
from zesty_trace.core.board.routing.wires import away, write_path

NECK_REACH = 20  # cells around its pads in which a wide track may neck down
HEAVY_VIA = 5  # times dearer is a via for a net that needs wide tracks: one small barrel is no path for amperes
SAME_NET_VIAS = 30  # cells squared: nearer than that, two holes of one net break into each other


@inner
def _near_vias(grid: Grid, path: int, number: int) -> None:
    """Mark where a further via of the net would be too near to one of this path."""
    pool, paths, own_via = grid.main[grid.pool_at :], grid.main[grid.paths_at :], grid.main[grid.own_via_at :]
    before = -1
    for k in range(paths[2 * path], paths[2 * path + 1]):
        cell = pool[k] & CELL_MASK
        if before >= 0 and cell // grid.plane != before // grid.plane:
            for dr in range(-5, 6):
                for dc in range(-5, 6):
                    if dr * dr + dc * dc <= SAME_NET_VIAS:
                        own_via[cell % grid.plane + dr * grid.columns + dc] = number
        before = cell


@inner
def _near_pads(grid: Grid, first: int, last: int, net: int) -> None:
    box, near_pad = grid.main[grid.box_at :], grid.main[grid.near_pad_at :]
    for g in range(first, last):
        for r in range(max(0, box[4 * g] - NECK_REACH), min(grid.rows, box[4 * g + 1] + NECK_REACH + 1)):
            for c in range(max(0, box[4 * g + 2] - NECK_REACH), min(grid.columns, box[4 * g + 3] + NECK_REACH + 1)):
                near_pad[r * grid.columns + c] = net + 1


@inner
def _measure(grid: Grid, cell: int, first: int, last: int, near: I32) -> None:
    """Note a cell of the tree where it is nearest to a group: `near[2 k]` the distance, `near[2 k + 1]` the cell."""
    joined, box = grid.main[grid.joined_at :], grid.main[grid.box_at :]
    for g in range(first, last):
        if joined[g] == 0:
            far = away(grid, cell, box[4 * g : 4 * g + 4])
            if far < near[2 * (g - first)]:
                near[2 * (g - first)], near[2 * (g - first) + 1] = far, cell


@inner
def _measure_group(grid: Grid, g: int, first: int, last: int, near: I32) -> None:
    groups, cells = grid.main[grid.groups_at :], grid.main[grid.ends_at :]
    pool, paths, joined = grid.main[grid.pool_at :], grid.main[grid.paths_at :], grid.main[grid.joined_at :]
    if joined[g] == 1:
        for k in range(groups[g], groups[g + 1]):
            _measure(grid, int(cells[k]), first, last, near)
        for k in range(paths[2 * g], paths[2 * g + 1]):
            _measure(grid, pool[k] & CELL_MASK, first, last, near)


@inner
def _tree(grid: Grid, first: int, last: int, kind: int, into: I32) -> int:
    """Collect the cells of the net's tree that are as wide as a class, or pads that ask for it; return how many."""
    groups, cells = grid.main[grid.groups_at :], grid.main[grid.ends_at :]
    pool, paths, joined = grid.main[grid.pool_at :], grid.main[grid.paths_at :], grid.main[grid.joined_at :]
    wanted = grid.main[grid.wanted_at :]
    count = 0
    for g in range(first, last):
        if joined[g] == 1:
            for k in range(groups[g], groups[g + 1]):
                if count < into.shape[0] and wanted[g] >= kind:
                    into[count] = cells[k]
                    count += 1
            for k in range(paths[2 * g], paths[2 * g + 1]):
                if count < into.shape[0] and pool[k] >> CELL_BITS >= kind:
                    into[count] = pool[k] & CELL_MASK
                    count += 1
    return count


@inner
def _ends(grid: Grid, net: int, group: int, number: int, sources: I32) -> int:
    """Mark the goals and collect the sources of the path that brings a group in; return how many sources.

    From the tree to the group; to a pour, from the group to the pour or to what reaches it already.
    """
    groups, cells, nets = grid.main[grid.groups_at :], grid.main[grid.ends_at :], grid.main[grid.nets_at :]
    pool, paths, target = grid.main[grid.pool_at :], grid.main[grid.paths_at :], grid.main
    wanted = grid.main[grid.wanted_at :]
    if grid.main[grid.plane_layer_at + net] < 0:
        for k in range(groups[group], groups[group + 1]):
            target[cells[k]] = number
        return _tree(grid, int(nets[net]), int(nets[net + 1]), int(wanted[group]), sources)
    for g in range(int(nets[net]), int(nets[net + 1])):
        for k in range(paths[2 * g], paths[2 * g + 1]):
            target[pool[k] & CELL_MASK] = number
    count = 0
    for k in range(groups[group], groups[group + 1]):
        sources[count] = cells[k]
        count += 1
    return count


@inner
def _window(grid: Grid, box: I32, cell: int, margin: int, window: I32) -> bool:
    """Set the rows and columns around a box and a cell; return whether that is all there is to look at."""
    flat = cell % grid.plane
    row, column = flat // grid.columns, flat % grid.columns
    limits = grid.state
    window[0] = max(limits[4], min(box[0], row) - margin)
    window[1] = min(limits[5], max(box[1], row) + margin)
    window[2] = max(limits[6], min(box[2], column) - margin)
    window[3] = min(limits[7], max(box[3], column) + margin)
    return bool(window[0] == limits[4] and window[1] == limits[5] and window[2] == limits[6] and window[3] == limits[7])


@inner
def join(
    grid: Grid,
    net: int,
    group: int,
    nearest: int,
    present: int,
    via_price: int,
    weight: int,
    margin: int,
    sources: I32,
    window: I32,
) -> bool:
    """Find and write the path that brings a group in. The window grows twice before it gives up."""
    nets, wanted = grid.main[grid.nets_at :], grid.main[grid.wanted_at :]
    box = grid.main[grid.box_at + 4 * group : grid.box_at + 4 * group + 4]
    heavy_via = via_price * (1 + HEAVY_VIA * (int(wanted[group]) > grid.plain_class))
    around = margin
    for trial in range(3):
        grid.state[1] += 1
        number = int(grid.state[1])
        if trial == 2:
            around = max(grid.rows, grid.columns)
        whole = _window(grid, box, nearest, around, window)
        for g in range(int(nets[net]), int(nets[net + 1])):
            _near_vias(grid, g, number)
        count = _ends(grid, net, group, number, sources)
        plane_layer = int(grid.main[grid.plane_layer_at + net])
        kind = int(wanted[group])
        end = search(grid, net, kind, sources, count, box, window, present, heavy_via, weight, plane_layer, number)
        if end >= 0:
            return bool(write_path(grid, end, net, kind, group))
        if whole:
            return False
        around *= 3
    return False


@inner
def grow(
    grid: Grid, net: int, present: int, via_price: int, weight: int, margin: int, near: I32, sources: I32, window: I32
) -> int:
    """Join the groups of a lifted net that are not joined yet, each by its cheapest path; return how many could not.

    Paths that are there stay. `margin` is how far around a connection the search looks at first, cells.
    """
    nets, joined, cells = grid.main[grid.nets_at :], grid.main[grid.joined_at :], grid.main[grid.ends_at :]
    groups, paths = grid.main[grid.groups_at :], grid.main[grid.paths_at :]
    wanted = grid.main[grid.wanted_at :]
    first, last = int(nets[net]), int(nets[net + 1])
    planar = grid.main[grid.plane_layer_at + net] >= 0
    if grid.classes > 1:
        _near_pads(grid, first, last, net)
    for g in range(first, last):
        near[2 * (g - first)] = 1 << 29
        near[2 * (g - first) + 1] = cells[groups[g]] if groups[g + 1] > groups[g] else 0
    if not planar:
        for g in range(first, last):
            _measure_group(grid, g, first, last, near)
    failed = 0
    while True:
        best = -1
        for g in range(first, last):
            k = 2 * (g - first)
            if joined[g] == 1 or near[k] < 0:
                continue
            if (
                best < 0
                or wanted[g] > wanted[best]
                or (wanted[g] == wanted[best] and near[k] < near[2 * (best - first)])
            ):
                best = g
        if best < 0:
            return failed
        k = 2 * (best - first)
        if join(grid, net, best, int(near[k + 1]), present, via_price, weight, margin, sources, window):
            joined[best] = 1
            if not planar:
                _measure_group(grid, best, first, last, near)
        else:
            paths[2 * best + 1] = paths[2 * best]
            near[k] = -STRAIGHT
            failed += 1


@entry
def reach(
    grid: Grid,
    net: int,
    group: int,
    starts: I32,
    goals: I32,
    kind: int,
    present: int,
    via_price: int,
    sources: I32,
    window: I32,
) -> bool:
    """Find and write, as the path of a spare group, the cheapest way from any of `starts` to any of `goals`."""
    nets, target = grid.main[grid.nets_at :], grid.main
    grid.state[1] += 1
    number = int(grid.state[1])
    for k in range(goals.shape[0]):
        target[goals[k]] = number
    for g in range(int(nets[net]), int(nets[net + 1])):
        _near_vias(grid, g, number)
    count = min(starts.shape[0], sources.shape[0])
    for k in range(count):
        sources[k] = starts[k]
    window[0], window[1], window[2], window[3] = 0, grid.rows - 1, 0, grid.columns - 1
    end = search(grid, net, kind, sources, count, window, window, present, via_price, 4, -1, number)
    return end >= 0 and bool(write_path(grid, end, net, kind, group))


@entry
def mark_pads(grid: Grid, net: int) -> None:
    """Mark where a wide track of a net may neck down: near its pads."""
    nets = grid.main[grid.nets_at :]
    if grid.classes > 1:
        _near_pads(grid, int(nets[net]), int(nets[net + 1]), net)


@entry
def propose(
    grid: Grid,
    net: int,
    starts: I32,
    goals: I32,
    kind: int,
    via_price: int,
    weight: int,
    margin: int,
    tries: int,
    sources: I32,
    window: I32,
) -> bool:
    """Find and write, as the only path, the cheapest way from any of `starts` to any of `goals` through nothing.

    The window round both grows, to all of the board at the third of its `tries`. A `via_price` below zero keeps to the
    layer.
    """
    target, paths = grid.main, grid.main[grid.paths_at :]
    box = np.zeros(4, dtype=np.int32)
    box[0], box[2] = grid.rows, grid.columns
    for k in range(goals.shape[0]):
        flat = goals[k] % grid.plane
        row, column = flat // grid.columns, flat % grid.columns
        box[0], box[1] = min(box[0], row), max(box[1], row)
        box[2], box[3] = min(box[2], column), max(box[3], column)
    count = min(starts.shape[0], sources.shape[0])
    for k in range(count):
        sources[k] = starts[k]
    around = margin
    for trial in range(tries):
        grid.state[0] = 0
        grid.state[1] += 1
        number = int(grid.state[1])
        if trial == 2:
            around = max(grid.rows, grid.columns)
        whole = _window(grid, box, int(starts[0]), around, window)
        for k in range(goals.shape[0]):
            target[goals[k]] = number
        end = search(grid, net, kind, sources, count, box, window, 0, via_price, weight, -1, number)
        if end >= 0:
            return bool(write_path(grid, end, net, kind, 0))
        paths[1] = paths[0]
        if whole:
            return False
        around *= 3
    return False
