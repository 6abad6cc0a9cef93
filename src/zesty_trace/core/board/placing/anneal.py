"""Simulated annealing of a placing (Kirkpatrick 1983), as compiled loops over the arrays of a PlacingProblem.

The cost of a placing is the half perimeter of the boxes round its nets, weighted, and penalties: for courtyards that
meet, for parts off the board, for what is farther or nearer than wished, and for mouths that do not look over an edge.
The loops take single arrays: a tuple of many is copied at each call.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from zesty_trace.core.board.placing.problem import GAP_MM, PlacingProblem
from zesty_trace.core.board.routing.kernel import entry, inner

OUTSIDE_WEIGHT, MOUTH_WEIGHT, FREE_WEIGHT, EDGE_WEIGHT = 6.0, 12.0, 4.0, 1.5
ESCAPE_WEIGHT = 2.5
SNAP_MM = 0.1
NEAR_PULL, OVER_PULL = 0.3, 4.0  # of a wish's weight, for each mm, and for each beyond its limit
SHIFT, TURN, HOME = 0.62, 0.74, 0.86  # shares of the moves: shifts, turns, to the middle of its links, else swaps


class State(NamedTuple):
    """Where the parts are, and what follows from it: pads, courtyards, the room in front of mouths."""

    x: np.ndarray
    y: np.ndarray
    turn: np.ndarray
    pads: np.ndarray  # (P, 2)
    box: np.ndarray  # (N, 4) courtyards
    front: np.ndarray  # (N, 4) in front of mouths; x1 < x0 where there is none


def state_of(p: PlacingProblem) -> State:
    """Return the placing as it is."""
    count = len(p.x)
    front = np.tile(np.array([1e6, 1e6, -1e6, -1e6]), (count, 1))
    state = State(p.x.copy(), p.y.copy(), p.turn.copy(), np.zeros((len(p.pad_item), 2)), np.zeros((count, 4)), front)
    for i in range(count):
        put_from_python(*state, p.pad_start, p.pad_at, p.room, p.free, i)
    return state


@inner
def put(
    x: Any, y: Any, turn: Any, pads: Any, box: Any, front: Any, start: Any, at: Any, room: Any, ahead: Any, i: int
) -> None:
    """Work out a part's pads, courtyard and front from its place and turn."""
    t = turn[i]
    for k in range(start[i], start[i + 1]):
        pads[k, 0] = x[i] + at[k, t, 0]
        pads[k, 1] = y[i] + at[k, t, 1]
    box[i, 0], box[i, 1] = x[i] + room[i, t, 0], y[i] + room[i, t, 1]
    box[i, 2], box[i, 3] = x[i] + room[i, t, 2], y[i] + room[i, t, 3]
    if ahead[i, t, 0] < ahead[i, t, 2]:
        front[i, 0], front[i, 1] = x[i] + ahead[i, t, 0], y[i] + ahead[i, t, 1]
        front[i, 2], front[i, 3] = x[i] + ahead[i, t, 2], y[i] + ahead[i, t, 3]


put_from_python = entry(getattr(put, "py_func", put))


@inner
def spans(pads: Any, net_start: Any, net_pads: Any, net_weight: Any, item_start: Any, item_nets: Any, i: int) -> Any:
    """Return the weighted half perimeters of a part's nets."""
    cost = 0.0
    for k in range(item_start[i], item_start[i + 1]):
        net = item_nets[k]
        x0, y0, x1, y1 = 1e9, 1e9, -1e9, -1e9
        for m in range(net_start[net], net_start[net + 1]):
            pad = net_pads[m]
            px, py = pads[pad, 0], pads[pad, 1]
            x0, y0, x1, y1 = min(x0, px), min(y0, py), max(x1, px), max(y1, py)
        cost += net_weight[net] * (x1 - x0 + y1 - y0)
    return cost


@inner
def meetings(box: Any, front: Any, side: Any, escape: Any, i: int, weight: float) -> Any:
    """Return the penalties of a part for room shared with others, room to escape, and what stands before mouths."""
    cost = 0.0
    x0, y0, x1, y1 = box[i, 0], box[i, 1], box[i, 2], box[i, 3]
    for j in range(len(side)):
        if j == i:
            continue
        wide = min(x1, box[j, 2]) - max(x0, box[j, 0])
        high = min(y1, box[j, 3]) - max(y0, box[j, 1])
        extra = max(escape[i], escape[j])
        if side[i] + side[j] != 1 and wide + GAP_MM + extra > 0.0 and high + GAP_MM + extra > 0.0:
            near = min(wide, high) + GAP_MM
            if near > 0.0:
                cost += weight * ((wide + GAP_MM) * (high + GAP_MM) + near)
            cost += ESCAPE_WEIGHT * min(near + extra, extra)
        wide = min(x1, front[j, 2]) - max(x0, front[j, 0])
        high = min(y1, front[j, 3]) - max(y0, front[j, 1])
        if wide > 0.0 and high > 0.0:
            cost += FREE_WEIGHT * min(wide, high)
        wide = min(front[i, 2], box[j, 2]) - max(front[i, 0], box[j, 0])
        high = min(front[i, 3], box[j, 3]) - max(front[i, 1], box[j, 1])
        if wide > 0.0 and high > 0.0:
            cost += FREE_WEIGHT * min(wide, high)
    return cost


@inner
def off_board(box: Any, outside: Any, origin: Any, look: int, i: int) -> Any:
    """Return the area of a part that is off the board or too near its edge, mm2; a mouth may reach over it."""
    cell = origin[2]
    rows, columns = outside.shape[0] - 1, outside.shape[1] - 1
    c0, r0 = math.floor((box[i, 0] - origin[0]) / cell), math.floor((box[i, 1] - origin[1]) / cell)
    c1, r1 = math.ceil((box[i, 2] - origin[0]) / cell), math.ceil((box[i, 3] - origin[1]) / cell)
    if look == 0:
        c1 = min(c1, columns - 2)
    elif look == 1:
        r1 = min(r1, rows - 2)
    elif look == 2:
        c0 = max(c0, 2)
    elif look == 3:
        r0 = max(r0, 2)
    if c1 <= c0 or r1 <= r0:
        return 0.0
    i0, i1, j0, j1 = max(c0, 0), min(c1, columns), max(r0, 0), min(r1, rows)
    whole = float((c1 - c0) * (r1 - r0))
    if i1 <= i0 or j1 <= j0:
        return whole * cell * cell
    covered = outside[j1, i1] - outside[j0, i1] - outside[j1, i0] + outside[j0, i0]
    return (whole - float((i1 - i0) * (j1 - j0)) + covered) * cell * cell


@inner
def board_ahead(box: Any, ahead: Any, origin: Any, look: int, i: int) -> Any:
    """Return how much board lies before one side of a part, mm; less than 0 where it stands over the edge."""
    rows, columns = ahead.shape[1], ahead.shape[2]
    c = int(((box[i, 0] + box[i, 2]) / 2 - origin[0]) / origin[2])
    r = int(((box[i, 1] + box[i, 3]) / 2 - origin[1]) / origin[2])
    c, r = min(max(c, 0), columns - 1), min(max(r, 0), rows - 1)
    half = (box[i, 2] - box[i, 0]) / 2 if look % 2 == 0 else (box[i, 3] - box[i, 1]) / 2
    return ahead[look, r, c] - half


@inner
def place_cost(
    box: Any, outside: Any, ahead: Any, origin: Any, looks: Any, to_edge: Any, turn: Any, i: int, weight: float
) -> Any:
    """Return the penalties of a part for where it is on the board."""
    look = (looks[i] + turn[i]) % 4 if looks[i] >= 0 else -1
    cost = OUTSIDE_WEIGHT * off_board(box, outside, origin, look, i) * (1.0 + weight)
    if look >= 0:
        cost += MOUTH_WEIGHT * abs(board_ahead(box, ahead, origin, look, i) + GAP_MM)
    if to_edge[i] > 0.0:
        least = 1e9
        for side in range(4):
            least = min(least, max(board_ahead(box, ahead, origin, side, i) - 0.6, 0.0))
        cost += EDGE_WEIGHT * to_edge[i] * least
    return cost


@inner
def near_cost(pads: Any, near: Any, limit: Any, weight: Any, pairs: Any, k: int) -> Any:
    """Return the penalty of one wish for nearness."""
    least = 1e9
    for pair in range(near[k, 2], near[k, 3]):
        dx = pads[pairs[pair, 0], 0] - pads[pairs[pair, 1], 0]
        dy = pads[pairs[pair, 0], 1] - pads[pairs[pair, 1], 1]
        least = min(least, math.sqrt(dx * dx + dy * dy))
    return weight[k] * (NEAR_PULL * least + OVER_PULL * max(0.0, least - limit[k]))


@inner
def apart_cost(box: Any, apart: Any, least: Any, weight: Any, k: int) -> Any:
    """Return the penalty of one pair that should be apart."""
    i, j = apart[k, 0], apart[k, 1]
    dx = max(box[i, 0] - box[j, 2], box[j, 0] - box[i, 2], 0.0)
    dy = max(box[i, 1] - box[j, 3], box[j, 1] - box[i, 3], 0.0)
    return weight[k] * max(0.0, least[k] - math.sqrt(dx * dx + dy * dy))


@inner
def cost_of(p: Any, x: Any, y: Any, turn: Any, pads: Any, box: Any, front: Any, i: int, weight: float) -> Any:
    """Return all that one part's place costs."""
    cost = spans(pads, p.net_start, p.net_pads, p.net_weight, p.item_net_start, p.item_nets, i)
    cost += meetings(box, front, p.side, p.escape, i, weight)
    cost += place_cost(box, p.outside, p.ahead, p.origin, p.looks, p.to_edge, turn, i, weight)
    for k in range(p.item_near_start[i], p.item_near_start[i + 1]):
        cost += near_cost(pads, p.near, p.near_limit, p.near_weight, p.near_pads, p.item_near[k])
    for k in range(p.item_apart_start[i], p.item_apart_start[i + 1]):
        cost += apart_cost(box, p.apart, p.apart_mm, p.apart_weight, p.item_apart[k])
    return cost


@entry
def total_cost(p: Any, x: Any, y: Any, turn: Any, pads: Any, box: Any, front: Any, weight: float) -> Any:
    """Return what a placing costs: each part's own, what two share counted twice."""
    cost = 0.0
    for i in range(len(x)):
        cost += cost_of(p, x, y, turn, pads, box, front, i, weight)
    return cost


@inner
def middle_of_links(
    pads: Any, pad_item: Any, net_start: Any, net_pads: Any, net_weight: Any, start: Any, nets: Any, i: int
) -> Any:
    """Return the weighted middle of the pads that a part is joined to, and the weight."""
    sx, sy, sw = 0.0, 0.0, 0.0
    for k in range(start[i], start[i + 1]):
        net = nets[k]
        weight = net_weight[net] / (net_start[net + 1] - net_start[net])
        for m in range(net_start[net], net_start[net + 1]):
            pad = net_pads[m]
            if pad_item[pad] != i:
                sx += weight * pads[pad, 0]
                sy += weight * pads[pad, 1]
                sw += weight
    return sx, sy, sw


@entry
def anneal(
    p: Any, x: Any, y: Any, turn: Any, pads: Any, box: Any, front: Any, free: Any,
    moves: int, hot: float, cold: float, reach: float, weight: float, seed: int,
) -> int:  # fmt: skip
    """Move the `free` parts about `moves` times while it cools from `hot` to `cold`; the state changes in place.

    `reach` is how far a part jumps, mm; `weight` that of overlaps. Returns how many moves were kept.
    """
    np.random.seed(seed)
    kept = 0
    for step in range(moves):
        heat = hot * (cold / hot) ** (step / moves)
        i = free[np.random.randint(len(free))]
        j = -1
        ox, oy, ot, jx, jy = x[i], y[i], turn[i], 0.0, 0.0
        pick = np.random.random()
        if pick >= HOME:
            j = free[np.random.randint(len(free))]
            if j == i:
                continue
            jx, jy = x[j], y[j]
        before = cost_of(p, x, y, turn, pads, box, front, i, weight)
        if j >= 0:
            before += cost_of(p, x, y, turn, pads, box, front, j, weight)
            x[j], y[j], x[i], y[i] = ox, oy, jx, jy
            put(x, y, turn, pads, box, front, p.pad_start, p.pad_at, p.room, p.free, j)
        elif pick < SHIFT:
            x[i] += np.random.normal() * reach * 0.5
            y[i] += np.random.normal() * reach * 0.5
        elif pick < TURN:
            turn[i] = (turn[i] + np.random.randint(1, 4)) % 4
        else:
            sx, sy, sw = middle_of_links(
                pads, p.pad_item, p.net_start, p.net_pads, p.net_weight, p.item_net_start, p.item_nets, i
            )
            if sw > 0.0:
                x[i], y[i] = sx / sw + np.random.normal() * reach * 0.4, sy / sw + np.random.normal() * reach * 0.4
            turn[i] = np.random.randint(4)
        x[i], y[i] = round(x[i] / SNAP_MM) * SNAP_MM, round(y[i] / SNAP_MM) * SNAP_MM
        put(x, y, turn, pads, box, front, p.pad_start, p.pad_at, p.room, p.free, i)
        after = cost_of(p, x, y, turn, pads, box, front, i, weight)
        if j >= 0:
            after += cost_of(p, x, y, turn, pads, box, front, j, weight)
        if after <= before or np.random.random() < math.exp((before - after) / heat):
            kept += 1
            continue
        x[i], y[i], turn[i] = ox, oy, ot
        put(x, y, turn, pads, box, front, p.pad_start, p.pad_at, p.room, p.free, i)
        if j >= 0:
            x[j], y[j] = jx, jy
            put(x, y, turn, pads, box, front, p.pad_start, p.pad_at, p.room, p.free, j)
    return kept
