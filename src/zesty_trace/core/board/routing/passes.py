"""One pass of negotiation over a list of nets, compiled: lift, route again, lay.

L. McMurchie, C. Ebeling, "PathFinder: a negotiation-based performance-driven router for FPGAs" (1995).
"""

from __future__ import annotations

from zesty_trace.core.board.routing.grid import CELL_MASK, I32, Grid
from zesty_trace.core.board.routing.growing import grow
from zesty_trace.core.board.routing.kernel import entry, inner
from zesty_trace.core.board.routing.wires import conflicts, path_price, stamp_net

WHOLE_NET = 6  # groups: of larger nets only the paths in conflict, and what hangs on them, are lifted


@inner
def drop_paths(grid: Grid, net: int, bad: I32) -> None:
    """Take out the paths of a lifted net that `bad` (per group, 1) names, and those that hang on them."""
    nets, groups, cells = grid.main[grid.nets_at :], grid.main[grid.groups_at :], grid.main[grid.ends_at :]
    pool, paths, joined = grid.main[grid.pool_at :], grid.main[grid.paths_at :], grid.main[grid.joined_at :]
    target = grid.main
    first, last = int(nets[net]), int(nets[net + 1])
    planar = grid.main[grid.plane_layer_at + net] >= 0
    grid.state[1] += 1
    number = grid.state[1]
    again = True
    while again:
        again = False
        for g in range(first, last):
            if bad[g - first] != 1:
                continue
            bad[g - first] = 2
            for k in range(paths[2 * g], paths[2 * g + 1]):
                target[pool[k] & CELL_MASK] = number
            if not planar:
                for k in range(groups[g], groups[g + 1]):
                    target[cells[k]] = number
            paths[2 * g + 1] = paths[2 * g]
            joined[g] = 1 if groups[g + 1] == groups[g] else 0
        for g in range(first, last):
            a, b = paths[2 * g], paths[2 * g + 1]
            if bad[g - first] == 0 and b > a:
                hang = pool[b - 1] if planar else pool[a]
                if target[hang & CELL_MASK] == number:
                    bad[g - first] = 1
                    again = True


@entry
def clear_net(grid: Grid, net: int) -> None:
    """Take out all paths of a lifted net; its first group is its tree again, or all that is on its pour's layer."""
    nets, groups, cells = grid.main[grid.nets_at :], grid.main[grid.groups_at :], grid.main[grid.ends_at :]
    paths, joined = grid.main[grid.paths_at :], grid.main[grid.joined_at :]
    layer = grid.main[grid.plane_layer_at + net]
    first, last = int(nets[net]), int(nets[net + 1])
    for g in range(first, last):
        paths[2 * g + 1] = paths[2 * g]
        joined[g] = 1 if (g == first and layer < 0) or groups[g + 1] == groups[g] else 0
        for k in range(groups[g], groups[g + 1]):
            if layer >= 0 and cells[k] // grid.plane == layer:
                joined[g] = 1


@entry
def route_nets(
    grid: Grid,
    order: I32,
    present: int,
    via_price: int,
    weight: int,
    margin: int,
    scratch: I32,
    sources: I32,
    window: I32,
    failed: I32,
) -> None:
    """Route nets anew, one after the other; `failed[net]` is how many of its groups could not be joined."""
    nets, paths = grid.main[grid.nets_at :], grid.main[grid.paths_at :]
    for k in range(order.shape[0]):
        net = int(order[k])
        stamp_net(grid, net, -1)
        first, last = int(nets[net]), int(nets[net + 1])
        if last - first > WHOLE_NET:
            for g in range(first, last):
                bad = paths[2 * g + 1] > paths[2 * g] and conflicts(grid, g, 0) > 0
                scratch[g - first] = 1 if bad else 0
            drop_paths(grid, net, scratch)
        else:
            clear_net(grid, net)
        failed[net] = grow(grid, net, present, via_price, weight, margin, scratch, sources, window)
        stamp_net(grid, net, 1)


@entry
def judge(grid: Grid, order: I32, price: int, found: I32) -> int:
    """Find the nets in conflict, of some, `found[net]` cells each, and make those cells dearer; return how many."""
    nets = grid.main[grid.nets_at :]
    count = 0
    for k in range(order.shape[0]):
        net = int(order[k])
        stamp_net(grid, net, -1)
        found[net] = 0
        for g in range(int(nets[net]), int(nets[net + 1])):
            found[net] += conflicts(grid, g, price)
        stamp_net(grid, net, 1)
        count += found[net] > 0
    return count


@entry
def settle(grid: Grid, order: I32, scratch: I32) -> int:
    """Take out, net by net, every path that is in conflict and what hangs on it; return how many groups fell off.

    Afterwards nothing is in conflict.
    """
    nets, joined = grid.main[grid.nets_at :], grid.main[grid.joined_at :]
    fallen = 0
    for k in range(order.shape[0]):
        net = int(order[k])
        first, last = int(nets[net]), int(nets[net + 1])
        stamp_net(grid, net, -1)
        some = False
        for g in range(first, last):
            scratch[g - first] = 1 if conflicts(grid, g, 0) > 0 else 0
            some = some or scratch[g - first] == 1
            fallen += joined[g]
        if some:
            drop_paths(grid, net, scratch)
        for g in range(first, last):
            fallen -= joined[g]
        stamp_net(grid, net, 1)
    return fallen


@entry
def complete(
    grid: Grid,
    order: I32,
    present: int,
    via_price: int,
    weight: int,
    margin: int,
    scratch: I32,
    sources: I32,
    window: I32,
    failed: I32,
) -> int:
    """Join what is not joined of these nets, leaving their paths; return how many groups are still left."""
    left = 0
    for k in range(order.shape[0]):
        net = int(order[k])
        stamp_net(grid, net, -1)
        failed[net] = grow(grid, net, present, via_price, weight, margin, scratch, sources, window)
        left += failed[net]
        stamp_net(grid, net, 1)
    return left


@inner
def _net_price(grid: Grid, first: int, last: int, via_price: int) -> int:
    total = 0
    for g in range(first, last):
        total += path_price(grid, g, via_price)
    return total


@entry
def shorten(
    grid: Grid,
    order: I32,
    via_price: int,
    weight: int,
    margin: int,
    scratch: I32,
    sources: I32,
    window: I32,
    least: I32,
) -> int:
    """Route nets once more with conflicts forbidden, each kept if it is cheaper; return what was saved.

    Poured nets, nets with a group that is not joined and nets that cost no more than `least` are left alone.
    """
    nets, paths, joined = grid.main[grid.nets_at :], grid.main[grid.paths_at :], grid.main[grid.joined_at :]
    saved = 0
    for k in range(order.shape[0]):
        net = int(order[k])
        first, last = int(nets[net]), int(nets[net + 1])
        whole = grid.main[grid.plane_layer_at + net] < 0
        for g in range(first, last):
            whole = whole and joined[g] == 1
        before = _net_price(grid, first, last, via_price)
        if not whole or before <= least[net]:
            continue
        stamp_net(grid, net, -1)
        kept = paths[2 * first : 2 * last].copy()
        used = grid.state[0]
        clear_net(grid, net)
        failed = grow(grid, net, 0 * via_price, via_price, weight, margin, scratch, sources, window)
        after = _net_price(grid, first, last, via_price)
        if failed > 0 or after >= before:
            for g in range(first, last):
                paths[2 * g], paths[2 * g + 1] = kept[2 * (g - first)], kept[2 * (g - first) + 1]
                joined[g] = 1
            grid.state[0] = used
        else:
            saved += before - after
        stamp_net(grid, net, 1)
    return saved


@entry
def stamp_nets(grid: Grid, order: I32, by: int) -> None:
    """Lay (1) or lift (-1) all paths of these nets."""
    for k in range(order.shape[0]):
        stamp_net(grid, int(order[k]), by)


@entry
def compact(grid: Grid, spare: I32) -> None:
    """Move the paths that are laid together at the pool's start. `spare` is as long as the pool."""
    paths, pool = grid.main[grid.paths_at :], grid.main[grid.pool_at :]
    used = 0
    for g in range(grid.groups):
        a, b = paths[2 * g], paths[2 * g + 1]
        for k in range(a, b):
            spare[used + k - a] = pool[k]
        paths[2 * g], paths[2 * g + 1] = used, used + b - a
        used += b - a
    for k in range(used):
        pool[k] = spare[k]
    grid.state[0] = used
