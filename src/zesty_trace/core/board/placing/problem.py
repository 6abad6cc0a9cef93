"""A design as a placing problem: boxes with pads, nets, what should be near, what should be apart, mouths.

All lengths are millimetres, turns quarters counter-clockwise. Parts with an angle between quarters do not move.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from zesty_trace.core.board.copper import outline_shape, pattern_of, to_board
from zesty_trace.core.board.placing.wishes import wishes_of
from zesty_trace.core.board.rules.mouths import ANTENNA_FREE_MM, TURNS
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Pin, Placement
from zesty_trace.core.geometry import box_of

CELL_MM = 0.5
MOST_CELLS = 250_000
EDGE_MM = 0.6
GAP_MM = 0.35
ESCAPE_MM = 0.16  # a chip wants this much room for its tracks for each pin of a side, beyond the gap
MOST_ESCAPE_MM = 1.4
ESCAPE_PINS = 12  # chips with fewer find their way
GROUND_WEIGHT, SUPPLY_WEIGHT, SIGNAL_WEIGHT, BLOCK_WEIGHT = 0.05, 0.3, 1.0, 0.12
WIDEST_NET = 40  # pads: the box of a larger net says nothing


class PlacingProblem(NamedTuple):
    """Arrays for the loops; see `problem_of`."""

    x: np.ndarray  # (N,) mm
    y: np.ndarray
    turn: np.ndarray  # (N,) quarters
    movable: np.ndarray  # (N,) bool
    side: np.ndarray  # (N,) 0 top, 1 bottom, 2 both: leads go through
    room: np.ndarray  # (N, 4, 4) x0 y0 x1 y1 of the courtyard about the part, by turn
    escape: np.ndarray  # (N,) room that it would like beyond
    pad_start: np.ndarray  # (N + 1,)
    pad_at: np.ndarray  # (P, 4, 2) pads about the part, by turn
    pad_item: np.ndarray  # (P,)
    net_start: np.ndarray  # (M + 1,)
    net_pads: np.ndarray  # pads of each net
    net_weight: np.ndarray  # (M,)
    item_net_start: np.ndarray  # (N + 1,)
    item_nets: np.ndarray  # nets of each part
    near: np.ndarray  # (K, 4) part, part, first and last + 1 pair of pads
    near_limit: np.ndarray  # (K,) mm
    near_weight: np.ndarray
    near_pads: np.ndarray  # (L, 2)
    item_near_start: np.ndarray
    item_near: np.ndarray
    apart: np.ndarray  # (A, 2)
    apart_mm: np.ndarray
    apart_weight: np.ndarray
    item_apart_start: np.ndarray
    item_apart: np.ndarray
    looks: np.ndarray  # (N,) 0..3 where the mouth looks at turn 0, -1 without one
    free: np.ndarray  # (N, 4, 4) room to keep free before a mouth or round an antenna, by turn; x1 < x0 where none
    to_edge: np.ndarray  # (N,) weight of the distance to the nearest edge
    outside: np.ndarray  # (rows + 1, columns + 1) summed count of cells off the board
    ahead: np.ndarray  # (4, rows, columns) mm of board in each direction
    origin: np.ndarray  # x0, y0, cell


def problem_of(wired: Wired, movable: set[str]) -> tuple[list[str], PlacingProblem]:
    """Return the parts in order, and the problem; all parts have to be placed."""
    design = wired.design
    refs = [r for r in design.parts if r in design.board.placements and pattern_of(wired, r).pads]
    index = {r: k for k, r in enumerate(refs)}
    spots = [design.board.placements[r] for r in refs]
    pads = [pattern_of(wired, r).pads for r in refs]
    pad_start = np.cumsum([0, *map(len, pads)]).astype(np.int32)
    nets = _nets(wired, refs)
    wishes = wishes_of(wired, index, pad_start)
    blocks = _blocks(wired, index, pad_start)
    weights = [_weight(wired, name) for name in nets] + [BLOCK_WEIGHT] * len(blocks)
    groups = [*nets.values(), *blocks]
    pad_item = np.repeat(np.arange(len(refs)), np.diff(pad_start)).astype(np.int32)
    outside, ahead, origin = _board(wired)
    fine = [s.angle_mdeg % 90_000 == 0 for s in spots]
    return refs, PlacingProblem(
        x=np.array([s.x_nm / 1e6 for s in spots]),
        y=np.array([s.y_nm / 1e6 for s in spots]),
        turn=np.array([s.angle_mdeg // 90_000 % 4 if ok else 0 for s, ok in zip(spots, fine, strict=True)], np.int32),
        movable=np.array([r in movable and ok and not s.fixed for r, s, ok in zip(refs, spots, fine, strict=True)]),
        side=np.array([_side(wired, r) for r in refs], np.int32),
        room=np.array([_rooms(wired, r, s) for r, s in zip(refs, spots, strict=True)]).reshape(-1, 4, 4),
        escape=np.array([_escape(wired, r) for r in refs]),
        pad_start=pad_start,
        pad_at=np.concatenate([_pads(wired, r, s) for r, s in zip(refs, spots, strict=True)] or [np.zeros((0, 4, 2))]),
        pad_item=pad_item,
        net_start=np.cumsum([0, *map(len, groups)]).astype(np.int32),
        net_pads=np.array([p for g in groups for p in g], np.int32),
        net_weight=np.array(weights, float),
        **_members("item_net_start", "item_nets", [sorted({int(pad_item[p]) for p in g}) for g in groups], len(refs)),
        near=np.array(wishes.near, np.int32).reshape(-1, 4),
        near_limit=np.array(wishes.near_limit, float),
        near_weight=np.array(wishes.near_weight, float),
        near_pads=np.array(wishes.near_pads, np.int32).reshape(-1, 2),
        **_members("item_near_start", "item_near", [[a, b] for a, b, _, _ in wishes.near], len(refs)),
        apart=np.array(wishes.apart, np.int32).reshape(-1, 2),
        apart_mm=np.array(wishes.apart_mm, float),
        apart_weight=np.array(wishes.apart_weight, float),
        **_members("item_apart_start", "item_apart", [list(pair) for pair in wishes.apart], len(refs)),
        looks=np.array([_looks(wired, r) for r in refs], np.int32),
        free=np.array([_kept_free(wired, r, s) for r, s in zip(refs, spots, strict=True)]).reshape(-1, 4, 4),
        to_edge=np.array([_to_edge(wired, r) for r in refs]),
        outside=outside,
        ahead=ahead,
        origin=origin,
    )


def _members(start: str, name: str, groups: list[list[int]], count: int) -> dict[str, np.ndarray]:
    """Return for each part the groups that it is in, as starts and a flat list."""
    mine: list[list[int]] = [[] for _ in range(count)]
    for k, group in enumerate(groups):
        for item in group:
            mine[item].append(k)
    return {
        start: np.cumsum([0, *map(len, mine)]).astype(np.int32),
        name: np.array([k for m in mine for k in m], np.int32),
    }


def _nets(wired: Wired, refs: list[str]) -> dict[str, list[int]]:
    found: dict[str, list[int]] = {}
    k = 0
    for ref in refs:
        for p in pattern_of(wired, ref).pads:
            net = wired.net_of.get(Pin(ref, p.number), "")
            if net:
                found.setdefault(net, []).append(k)
            k += 1
    return {n: pads for n, pads in found.items() if 1 < len(pads) <= WIDEST_NET}


def _blocks(wired: Wired, index: dict[str, int], pad_start: np.ndarray) -> list[list[int]]:
    """Return the first pads of the parts of each block: what belongs together is held together, weakly."""
    from zesty_trace.core.schematic.blocks import propose_blocks

    found: dict[str, list[int]] = {}
    for ref, name in propose_blocks(wired).items():
        if ref in index and not wired.kind(ref).connector:
            found.setdefault(wired.design.parts[ref].block or name, []).append(int(pad_start[index[ref]]))
    return [pads for pads in found.values() if 1 < len(pads) <= WIDEST_NET]


def _weight(wired: Wired, net: str) -> float:
    if net == wired.ground:
        return GROUND_WEIGHT
    return SUPPLY_WEIGHT if net in wired.rails else SIGNAL_WEIGHT


def _side(wired: Wired, ref: str) -> int:
    if any(p.drill_nm for p in pattern_of(wired, ref).pads):
        return 2
    return FACES.index(wired.design.board.placements[ref].side)


def _turned(spot: Placement, turn: int) -> Placement:
    angle = turn * 90_000 if spot.angle_mdeg % 90_000 == 0 else spot.angle_mdeg
    return Placement(x_nm=0, y_nm=0, angle_mdeg=angle, side=spot.side)


def _rooms(wired: Wired, ref: str, spot: Placement) -> list[list[float]]:
    x0, y0, x1, y1 = pattern_of(wired, ref).courtyard
    found = []
    for turn in range(4):
        at = _turned(spot, turn)
        found.append([v / 1e6 for v in box_of(to_board(at, x, y) for x in (x0, x1) for y in (y0, y1))])
    return found


def _kept_free(wired: Wired, ref: str, spot: Placement) -> list[list[float]]:
    """Return the room before a mouth, or round the end with an antenna, in each turn."""
    package = wired.package(ref)
    x0, y0, x1, y1 = pattern_of(wired, ref).courtyard
    deep = package.reach * 1e6
    if package.antenna:
        bx0, _, bx1, by1 = pattern_of(wired, ref).body
        more = ANTENNA_FREE_MM * 1e6
        box = (bx0 - more, by1 - package.antenna * 1e6 - more, bx1 + more, by1 + more)
    elif package.facing in TURNS and deep > 0:
        box = {
            "right": (x1, y0, x1 + deep, y1),
            "up": (x0, y1, x1, y1 + deep),
            "left": (x0 - deep, y0, x0, y1),
            "down": (x0, y0 - deep, x1, y0),
        }[package.facing]
    else:
        return [[1.0, 1.0, -1.0, -1.0]] * 4
    found = []
    for turn in range(4):
        at = _turned(spot, turn)
        corners = (to_board(at, x, y) for x in (box[0], box[2]) for y in (box[1], box[3]))
        found.append([v / 1e6 for v in box_of(corners)])
    return found


def _pads(wired: Wired, ref: str, spot: Placement) -> np.ndarray:
    pads = pattern_of(wired, ref).pads
    turns = [_turned(spot, turn) for turn in range(4)]
    return np.array([[to_board(at, p.x_nm, p.y_nm) for at in turns] for p in pads]).reshape(-1, 4, 2) / 1e6


def _escape(wired: Wired, ref: str) -> float:
    pads = [p for p in pattern_of(wired, ref).pads if p.plated]
    if len(pads) < ESCAPE_PINS or wired.kind(ref).connector:
        return 0.0
    sides = 4 if wired.package(ref).family in ("quad", "balls") else 2
    return min(MOST_ESCAPE_MM, ESCAPE_MM * len(pads) / sides)


def _looks(wired: Wired, ref: str) -> int:
    looks = wired.package(ref).looks
    return TURNS[looks] // 90 if looks in TURNS else -1


def _to_edge(wired: Wired, ref: str) -> float:
    return 1.0 if wired.kind(ref).connector and _looks(wired, ref) < 0 else 0.0


def _board(wired: Wired) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the summed count of cells off the board, how much board lies ahead of each cell, and the grid."""
    import shapely

    shape = outline_shape(wired.design)
    x0, y0, x1, y1 = shape.bounds
    cell = max(CELL_MM, math.sqrt((x1 - x0) * (y1 - y0) / MOST_CELLS))
    columns, rows = math.ceil((x1 - x0) / cell), math.ceil((y1 - y0) / cell)
    xs, ys = x0 + (np.arange(columns) + 0.5) * cell, y0 + (np.arange(rows) + 0.5) * cell
    gx, gy = np.meshgrid(xs, ys)
    shapely.prepare(shape)
    on = shapely.contains_xy(shape, gx, gy)
    inner = shape.buffer(-EDGE_MM)
    shapely.prepare(inner)
    outside = np.zeros((rows + 1, columns + 1), np.int32)
    outside[1:, 1:] = (~shapely.contains_xy(inner, gx, gy)).cumsum(axis=0).cumsum(axis=1)
    ahead = np.zeros((4, rows, columns))
    for k, (grid, back) in enumerate(
        ((on, False), (on.T, False), (on, True), (on.T, True))
    ):  # right, up, left, down: cells of board on the way out
        along = np.flip(grid, axis=1) if not back else grid
        run = np.cumsum(along, axis=1) * cell
        run = np.flip(run, axis=1) if not back else run
        ahead[k] = run.T if k % 2 else run
    return outside, ahead, np.array([x0, y0, cell])
