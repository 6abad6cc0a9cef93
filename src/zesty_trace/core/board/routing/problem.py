"""What is to be routed, as plain shapes in millimetres, and the grid that is made of it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from zesty_trace.core.board.routing.grid import (
    BUCKETS,
    CELL_BITS,
    CELL_MASK,
    F64,
    HISTORY_SHIFT,
    I16,
    I32,
    I64,
    OWNER_SHIFT,
    SLANT_SHIFT,
    STRAIGHT,
    Grid,
    pack,
)

CELL_MM = 0.1
MOST_CELLS = 12_000_000  # of one layer
SLANT_MM = 0.009  # a diagonal step passes this much nearer to a straight edge's corner than its ends
OFF_MIDDLE_PRICE, MOST_OFF_MIDDLE = 15, 90  # a cell, hundredths of a step: tracks meet pads at their middle lines
EDGE_OF_PAD_MM = 0.1  # a track's end lies this far inside its pad, where the pad is wide enough
PAD_TO_VIA_MM = 0.05


@dataclass(frozen=True)
class Shape:
    """A turned rectangle with round corners (a pad, a straight track, a via), mm; `net` -1 is nobody's copper.

    `hole_mm` is its drill; `copper` False is a bare hole or a keep-out; `pad` True may end a path.
    """

    x: float
    y: float
    half_w: float
    half_h: float
    angle: float  # radians
    corner: float
    net: int
    layers: tuple[int, ...]
    hole_mm: float = 0.0
    copper: bool = True
    pad: bool = True


@dataclass(frozen=True)
class Group:
    """Copper of one net that is in one piece already: its shapes, and the width that a path to it should have, mm."""

    net: int
    shapes: tuple[int, ...]
    width_mm: float


@dataclass(frozen=True)
class Closed:
    """A ring (N, 2), mm, on one layer, that tracks, vias or pours keep out of."""

    ring: F64
    layer: int
    tracks: bool
    vias: bool
    pours: bool = False


@dataclass(frozen=True)
class Problem:
    """A board to route. `rings` are the outline and its cut-outs, each (N, 2) mm."""

    rings: tuple[F64, ...]
    shapes: tuple[Shape, ...]
    groups: tuple[Group, ...]  # in the order of their nets
    nets: tuple[str, ...]
    poured_on: tuple[int, ...]  # per net: the layer of its pour, or -1
    clearance_mm: float
    edge_mm: float
    hole_mm: float  # copper to a bare hole
    widths_mm: tuple[float, ...]  # classes, narrowest first
    via_mm: float
    drill_mm: float
    layers: int = 2
    closed: tuple[Closed, ...] = ()
    plain_class: int = 0
    prices: tuple[int, ...] = (100, 105)  # of a step on each layer, per cent
    hole_gap_mm: float = 0.25
    hole_edge_mm: float = 0.0


@dataclass
class Board:
    """A problem on its grid: where cell (0, 0) is, mm."""

    problem: Problem
    grid: Grid
    x0: float
    y0: float
    outside: I16  # (plane,): -1 outside the outline

    def net_groups(self) -> I32:
        """Return where the groups of each net begin, one more than there are nets."""
        grid = self.grid
        return grid.main[grid.nets_at : grid.nets_at + grid.nets + 1]

    def boxes(self) -> I32:
        """Return the box of each group (groups, 4): first and last row, first and last column."""
        grid = self.grid
        return grid.main[grid.box_at : grid.box_at + 4 * grid.groups].reshape(-1, 4)

    def path(self, group: int) -> I32:
        """Return the codes of the path that brings a group in; none if it has none."""
        grid = self.grid
        a, b = grid.main[grid.paths_at + 2 * group : grid.paths_at + 2 * group + 2]
        return grid.main[grid.pool_at + a : grid.pool_at + b]

    def group_cells(self, group: int) -> I32:
        """Return the cells at which a path may end at a group."""
        grid = self.grid
        a, b = grid.main[grid.groups_at + group : grid.groups_at + group + 2]
        return grid.main[grid.ends_at + a : grid.ends_at + b]

    def rings_in_cells(self) -> list[F64]:
        """Return the outline and its cut-outs, in cells."""
        return [np.ascontiguousarray((ring - (self.x0, self.y0)) / CELL_MM) for ring in self.problem.rings]

    def joined(self) -> I32:
        """Return for each group whether it is joined."""
        grid = self.grid
        return grid.main[grid.joined_at : grid.joined_at + grid.groups]

    def spot(self, cell: int) -> tuple[int, float, float]:
        """Return layer and position, mm."""
        layer, flat = divmod(cell, self.grid.plane)
        row, column = divmod(flat, self.grid.columns)
        return layer, self.x0 + column * CELL_MM, self.y0 + row * CELL_MM


def safe_reach(distance_mm: float) -> float:
    """Return the radius in cells of the disc that keeps tracks `distance_mm` apart, diagonal steps included.

    Between two cells that are far enough apart a diagonal step may pass nearer by up to 0.5 / (2 x distance) cells:
    cells for which that happens belong to the disc. A diagonal passes the cell (a, b) at |a - b| / sqrt(2).
    """
    reach = distance_mm / CELL_MM
    worst = reach * reach
    for k in range(1, 200, 2):
        if k * k / 2 < reach * reach - 1e-6 and reach * reach <= (k * k + 1) / 2 + 1e-6:
            worst = (k * k + 1) / 2 + 1e-3
    return math.sqrt(worst)


def _disc(reach: float) -> set[tuple[int, int]]:
    n = int(reach) + 1
    limit = reach * reach - 1e-6
    return {(r, c) for r in range(-n, n + 1) for c in range(-n, n + 1) if r * r + c * c < limit}


STEPS = ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, 1), (-1, -1), (1, 1), (1, -1))


def _stamps(problem: Problem) -> tuple[I32, I32, int]:
    """Return the offsets of all stamps, where each begins and ends, and the largest reach in cells."""
    across = [*problem.widths_mm, problem.via_mm]
    count = len(across)
    offsets: list[tuple[int, int]] = []
    at = np.zeros((count, count, 9, 2), dtype=np.int32)
    largest = 0.0
    for query, a in enumerate(across):
        for painter, b in enumerate(across):
            distance = problem.clearance_mm + (a + b) / 2
            if query == painter == count - 1:
                distance = max(distance, problem.drill_mm + problem.hole_gap_mm)
            reach = safe_reach(distance)
            largest = max(largest, reach)
            disc = _disc(reach)
            for direction in range(9):
                if direction == 8:
                    cells = disc
                else:
                    dr, dc = STEPS[direction]
                    cells = {(r, c) for r, c in disc if (r + dr, c + dc) not in disc}
                at[query, painter, direction, 0] = len(offsets)
                offsets += sorted(cells)
                at[query, painter, direction, 1] = len(offsets)
    return np.array(offsets, dtype=np.int32).reshape(-1, 2), at, int(largest) + 2


def _phase(values: list[float]) -> float:
    """Return the offset within a cell at which most of the values lie."""
    if not values:
        return 0.0
    parts = np.round(np.mod(np.array(values), CELL_MM) / CELL_MM * 20).astype(int) % 20
    return float(np.bincount(parts, minlength=20).argmax() / 20 * CELL_MM)


def shape_rows(shapes: list[Shape], x0: float, y0: float) -> F64:
    """Return shapes as the rows that `paint_shapes` takes, in cells."""
    found = np.empty((len(shapes), 8))
    for k, s in enumerate(shapes):
        owner = s.net + 1 if s.net >= 0 and s.copper else -1
        found[k] = (
            (s.x - x0) / CELL_MM,
            (s.y - y0) / CELL_MM,
            s.half_w / CELL_MM,
            s.half_h / CELL_MM,
            math.cos(s.angle),
            math.sin(s.angle),
            s.corner / CELL_MM,
            owner,
        )
    return found


def cells_inside(s: Shape, x0: float, y0: float, columns: int) -> dict[int, int]:
    """Return the flat cells inside a shape at which a track may end, the nearest one if there is none.

    Each has a price that grows with its distance from the nearer middle line of the shape.
    """
    cos, sin = math.cos(s.angle), math.sin(s.angle)
    inset = min(EDGE_OF_PAD_MM, max(0.0, min(s.half_w, s.half_h) - 0.05))
    u_most, v_most = s.half_w - inset, s.half_h - inset
    corner = max(0.0, s.corner - inset)
    span = math.hypot(s.half_w, s.half_h)
    c = np.arange(math.ceil((s.x - span - x0) / CELL_MM), math.floor((s.x + span - x0) / CELL_MM) + 1)
    r = np.arange(math.ceil((s.y - span - y0) / CELL_MM), math.floor((s.y + span - y0) / CELL_MM) + 1)
    dx = (c * CELL_MM + x0 - s.x)[None, :]
    dy = (r * CELL_MM + y0 - s.y)[:, None]
    u = np.maximum(np.abs(dx * cos + dy * sin) - (u_most - corner), 0.0)
    v = np.maximum(np.abs(-dx * sin + dy * cos) - (v_most - corner), 0.0)
    inside = np.hypot(u, v) <= corner + 1e-6
    if not inside.any():
        nearest = np.argmin(np.hypot(dx, dy))
        inside.flat[int(nearest)] = True
    off = np.minimum(np.abs(dx * cos + dy * sin), np.abs(-dx * sin + dy * cos)) / CELL_MM
    rr, cc = np.nonzero(inside)
    price = np.minimum(OFF_MIDDLE_PRICE * off[rr, cc], MOST_OFF_MIDDLE).astype(int)
    return {int(r[a] * columns + c[b]): int(v) for a, b, v in zip(rr, cc, price, strict=True)}


def laid_cells(board: Board) -> tuple[I64, I64, I64]:
    """Return the cells of all paths one after the other, the track class of each, and the group it belongs to."""
    grid = board.grid
    paths = grid.main[grid.paths_at : grid.paths_at + 2 * grid.groups].reshape(-1, 2).astype(np.int64)
    long = paths[:, 1] - paths[:, 0]
    groups = np.repeat(np.arange(grid.groups), long)
    place = np.arange(len(groups)) - np.repeat(np.cumsum(long) - long, long) + np.repeat(paths[:, 0], long)
    codes = grid.main[grid.pool_at + place].astype(np.int64) & 0xFFFFFFFF
    return codes & CELL_MASK, codes >> CELL_BITS, groups


def lay_out(problem: Problem) -> Board:
    """Return the problem on its grid. ValueError if the board is too large for it."""
    offsets, disc_at, reach = _stamps(problem)
    fine = [s for s in problem.shapes if s.pad and s.copper and s.net >= 0]
    points = np.concatenate(problem.rings)
    border = reach + 2
    x0 = _align(points[:, 0].min() - border * CELL_MM, _phase([s.x for s in fine]))
    y0 = _align(points[:, 1].min() - border * CELL_MM, _phase([s.y for s in fine]))
    columns = int((points[:, 0].max() - x0) / CELL_MM) + border + 1
    rows = int((points[:, 1].max() - y0) / CELL_MM) + border + 1
    plane = rows * columns
    if plane > MOST_CELLS or plane * problem.layers >= 1 << CELL_BITS:
        raise ValueError(f"{columns * CELL_MM:.0f} x {rows * CELL_MM:.0f} mm is too large to be routed")
    fixed, via_fixed, outside = _paint(problem, rows, columns, x0, y0)
    count = problem.layers * plane
    classes = len(problem.widths_mm)
    group_at, group_cells, group_box, prices = _terminals(problem, fixed, x0, y0, columns, plane)
    groups = len(problem.groups)
    net_at = np.searchsorted([g.net for g in problem.groups], np.arange(len(problem.nets) + 1)).astype(np.int32)
    wanted = [int(np.searchsorted(np.array(problem.widths_mm) + 1e-9, g.width_mm)) for g in problem.groups]
    pool_size, queue_size = max(600_000, 4_000 * groups), min(3 * count, 2_000_000)
    main, at = pack(
        [
            ("target", np.zeros(count, dtype=np.int32)),
            ("own_via", np.zeros(plane, dtype=np.int32)),
            ("near_pad", np.zeros(plane if classes > 1 else 1, dtype=np.int32)),
            ("disc", offsets),
            ("disc_at", disc_at),
            ("groups", group_at),
            ("ends", group_cells),
            ("box", group_box),
            ("nets", net_at),
            ("wanted", np.minimum(np.array(wanted, dtype=np.int32), classes - 1)),
            ("plane_layer", np.array(problem.poured_on, dtype=np.int32)),
            ("prices", np.array(problem.prices, dtype=np.int32) * STRAIGHT // 100),
            ("paths", np.zeros(2 * groups, dtype=np.int32)),
            ("joined", np.zeros(groups, dtype=np.int32)),
            ("pool", np.zeros(pool_size, dtype=np.int32)),
            ("heads", np.full(BUCKETS, -1, dtype=np.int32)),
            ("queue", np.zeros(2 * queue_size, dtype=np.int32)),
            ("heads2", np.full(BUCKETS, -1, dtype=np.int32)),
            ("queue2", np.zeros(2 * queue_size, dtype=np.int32)),
        ]
    )
    owners = fixed.view(np.uint16).astype(np.int64)
    words = np.zeros((classes + 1) * count, dtype=np.int64)
    words[: classes * count] = (owners[..., 0] << OWNER_SHIFT | owners[..., 1] << SLANT_SHIFT).ravel()
    spots, price = np.array(list(prices), dtype=np.int64), np.array(list(prices.values()), dtype=np.int64)
    for k in range(classes):
        words[k * count + spots] += price << HISTORY_SHIFT
    grid = Grid(
        rows=rows,
        columns=columns,
        plane=plane,
        layers=problem.layers,
        classes=classes,
        groups=groups,
        nets=len(problem.nets),
        plain_class=problem.plain_class,
        words=words,
        small=np.concatenate([via_fixed, np.zeros(plane, dtype=np.int16)]),
        main=main,
        state=np.array([0, 0, 0, pool_size, 0, rows - 1, 0, columns - 1], dtype=np.int64),
        marks_at=classes * count,
        via_crowd_at=plane,
        own_via_at=at["own_via"],
        near_pad_at=at["near_pad"],
        disc_from=at["disc"],
        disc_at_at=at["disc_at"],
        groups_at=at["groups"],
        ends_at=at["ends"],
        box_at=at["box"],
        nets_at=at["nets"],
        wanted_at=at["wanted"],
        plane_layer_at=at["plane_layer"],
        prices_at=at["prices"],
        paths_at=at["paths"],
        joined_at=at["joined"],
        pool_at=at["pool"],
        heads_at=at["heads"],
        queue_at=at["queue"],
        heads2_at=at["heads2"],
        queue2_at=at["queue2"],
        pool_size=pool_size,
        queue_size=queue_size,
    )
    return Board(problem, grid, x0, y0, outside)


def _align(least: float, phase: float) -> float:
    return math.floor((least - phase) / CELL_MM) * CELL_MM + phase


def _paint(problem: Problem, rows: int, columns: int, x0: float, y0: float) -> tuple[I16, I16, I16]:
    from zesty_trace.core.board.routing.paint import paint_area, paint_edge, paint_shapes

    plane = rows * columns
    fixed = np.zeros((len(problem.widths_mm), problem.layers * plane, 2), dtype=np.int16)
    rings = [(ring - (x0, y0)) / CELL_MM for ring in problem.rings]
    ring_at = np.cumsum([0, *(len(r) for r in rings)]).astype(np.int32)
    outside = np.zeros(plane, dtype=np.int16)
    paint_area(outside, columns, np.concatenate(rings), ring_at, True)
    kept_out = [
        closed_area([z.ring for z in problem.closed if z.tracks and z.layer == k]) for k in range(problem.layers)
    ]

    def one(half: float, slant: float, shapes: F64, holes: F64, edge_mm: float = problem.edge_mm) -> np.ndarray:
        layer = outside.copy()
        for ring in rings:
            paint_edge(layer, columns, np.ascontiguousarray(ring), (edge_mm + half + slant) / CELL_MM)
        paint_shapes(layer, columns, shapes, (problem.clearance_mm + half + slant) / CELL_MM)
        paint_shapes(layer, columns, holes, (problem.hole_mm + half + slant) / CELL_MM)
        return layer

    bare = shape_rows([s for s in problem.shapes if not s.copper], x0, y0)
    on = [shape_rows([s for s in problem.shapes if s.copper and k in s.layers], x0, y0) for k in range(problem.layers)]
    for k, width in enumerate(problem.widths_mm):
        for layer in range(problem.layers):
            for slant in (0, 1):
                fixed[k, layer * plane : (layer + 1) * plane, slant] = one(width / 2, slant * SLANT_MM, on[layer], bare)
            close = np.zeros(plane, dtype=np.int16)
            paint_closed(close, kept_out[layer], width / 2, columns, x0, y0)
            fixed[k, layer * plane : (layer + 1) * plane][close != 0] = -1
    everywhere = np.concatenate(on)
    via_edge = max(problem.edge_mm, problem.hole_edge_mm + problem.drill_mm / 2 - problem.via_mm / 2)
    via_fixed = one(problem.via_mm / 2, 0.0, everywhere, bare, via_edge)
    no_vias = closed_area([z.ring for z in problem.closed if z.vias or z.tracks])
    paint_closed(via_fixed, no_vias, problem.via_mm / 2, columns, x0, y0)
    pads = everywhere.copy()
    pads[:, 7] = -1
    paint_shapes(via_fixed, columns, pads, (problem.via_mm / 2 + PAD_TO_VIA_MM) / CELL_MM)
    drills = [s for s in problem.shapes if s.hole_mm]
    if drills:
        found = shape_rows(drills, x0, y0)
        found[:, 2:4] = np.array([s.hole_mm / 2 for s in drills])[:, None] / CELL_MM
        found[:, 6] = found[:, 2]
        found[:, 7] = -1
        paint_shapes(via_fixed, columns, found, (problem.hole_gap_mm + problem.drill_mm / 2) / CELL_MM)
    return fixed, via_fixed, outside


def closed_area(rings: list[F64]) -> Any:
    """Return the area of several rings as one."""
    import shapely

    return shapely.union_all([shapely.Polygon(ring).buffer(0) for ring in rings])


def paint_closed(fixed: I16, area: Any, grow_mm: float, columns: int, x0: float, y0: float) -> None:
    """Keep every net out of the cells within `grow_mm` of an area."""
    import shapely

    from zesty_trace.core.board.routing.paint import paint_area

    if area.is_empty:
        return
    at, ring = shapely.get_coordinates(shapely.get_rings(shapely.get_parts(area.buffer(grow_mm))), return_index=True)
    starts = np.r_[0, np.flatnonzero(np.diff(ring)) + 1, len(ring)].astype(np.int32)
    paint_area(fixed, columns, np.ascontiguousarray((at - (x0, y0)) / CELL_MM), starts, False)


def _terminals(
    problem: Problem, fixed: np.ndarray, x0: float, y0: float, columns: int, plane: int
) -> tuple[I32, I32, I32, dict[int, int]]:
    at: list[int] = [0]
    cells: list[int] = []
    prices: dict[int, int] = {}
    box = np.zeros((len(problem.groups), 4), dtype=np.int32)
    for k, group in enumerate(problem.groups):
        found: list[int] = []
        for index in group.shapes:
            shape = problem.shapes[index]
            flat = cells_inside(shape, x0, y0, columns)
            for layer in shape.layers:
                for f, price in flat.items():
                    found.append(layer * plane + f)
                    prices[layer * plane + f] = price
        owner = group.net + 1
        legal = [c for c in found if fixed[0, c, 0] in (0, owner)]
        cells += legal or found
        at.append(len(cells))
        if not found:
            continue
        flat_cells = np.array(legal or found) % plane
        r, c = flat_cells // columns, flat_cells % columns
        box[k] = r.min(), r.max(), c.min(), c.max()
    return np.array(at, dtype=np.int32), np.array(cells, dtype=np.int32), box, prices
