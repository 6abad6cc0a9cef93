"""Pours: what their fill leaves stranded is found by flooding the grid, and joined to the main body.

A via beside a pad is not a connection: its piece of fill may be an island.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.pour import LEAST_WIDTH_MM, MORE_CLEARANCE_MM
from zesty_trace.core.board.routing.grid import CELL_BITS, CELL_MASK, I32
from zesty_trace.core.board.routing.growing import reach
from zesty_trace.core.board.routing.paint import paint_edge, paint_shapes
from zesty_trace.core.board.routing.passes import stamp_nets
from zesty_trace.core.board.routing.problem import CELL_MM, Board, closed_area, paint_closed, shape_rows
from zesty_trace.core.quantities import mm

if TYPE_CHECKING:
    from zesty_trace.core.board.links import Link
    from zesty_trace.core.board.routing.negotiate import Negotiation
    from zesty_trace.core.circuit.wired import Wired

ROUNDS = 10
EXACT_MM = 0.06  # the fill is cut by round corners a little differently from how the grid floods it


def free_for_pour(board: Board, net: int, layer: int) -> npt.NDArray[np.bool_]:
    """Return the cells (rows, columns) of a layer where the middle of a least width of fill may be."""
    from scipy.ndimage import distance_transform_edt

    grid, problem = board.grid, board.problem
    half = LEAST_WIDTH_MM / 2 + EXACT_MM
    gap = problem.clearance_mm + MORE_CLEARANCE_MM
    fixed = board.outside.copy()
    for ring in board.rings_in_cells():
        paint_edge(fixed, grid.columns, ring, (problem.edge_mm + half) / CELL_MM)
    copper = shape_rows([s for s in problem.shapes if s.copper and layer in s.layers], board.x0, board.y0)
    paint_shapes(fixed, grid.columns, copper, (gap + half) / CELL_MM)
    bare = shape_rows([s for s in problem.shapes if not s.copper], board.x0, board.y0)
    paint_shapes(fixed, grid.columns, bare, (gap + 0.1 + half) / CELL_MM)
    closed = closed_area([z.ring for z in problem.closed if z.pours and z.layer == layer])
    paint_closed(fixed, closed, half, grid.columns, board.x0, board.y0)
    free = (fixed == 0) | (fixed == net + 1)
    tracks = [np.zeros(grid.plane, dtype=bool) for _ in range(grid.classes + 1)]
    at = board.net_groups()
    for other in range(grid.nets):
        if other == net:
            continue
        for group in range(at[other], at[other + 1]):
            codes = board.path(group)
            cells, kinds = codes & CELL_MASK, codes >> CELL_BITS
            for kind in range(grid.classes):
                here = (kinds == kind) & (cells // grid.plane == layer)
                tracks[kind][cells[here] % grid.plane] = True
            vias = cells[1:][cells[1:] // grid.plane != cells[:-1] // grid.plane]
            tracks[grid.classes][vias % grid.plane] = True
    across = [*problem.widths_mm, problem.via_mm]
    free = free.reshape(grid.rows, grid.columns)
    for mask, width in zip(tracks, across, strict=True):
        if mask.any():
            away = distance_transform_edt(~mask.reshape(grid.rows, grid.columns))
            free &= away * CELL_MM >= gap + half + width / 2 - 1e-9
    found: npt.NDArray[np.bool_] = free
    return found


class Fill:
    """The pieces of a net's fill, and which of them each group of the net reaches."""

    def __init__(self, board: Board, net: int, layer: int) -> None:
        from scipy.ndimage import label

        self.board, self.net, self.layer = board, net, layer
        self.labels, self.count = label(free_for_pour(board, net, layer))
        self.flat = self.labels.ravel()
        at = board.net_groups()
        self.groups = [g for g in range(at[net], at[net + 1]) if len(board.group_cells(g)) or len(board.path(g))]
        links = {g: self._touched(g) for g in self.groups}
        self.pieces = self._joined(links)
        grid_sizes = np.bincount(self.flat, minlength=self.count + 1)
        weight = {
            root: (len(gs), sum(int(grid_sizes[x]) for x in labels)) for root, (gs, labels) in self.pieces.items()
        }
        self.main = max(weight, key=lambda root: weight[root]) if weight else -1

    def _touched(self, group: int) -> tuple[set[int], set[int]]:
        """Return the pieces of fill that a group's copper touches, and all its cells."""
        board, grid = self.board, self.board.grid
        codes = board.path(group) & CELL_MASK
        cells = np.concatenate([board.group_cells(group), codes])
        on = np.unique(cells[cells // grid.plane == self.layer] % grid.plane)
        rows, columns = on // grid.columns, on % grid.columns
        found: set[int] = set()
        for dr in (-4, -2, 0, 2, 4):
            for dc in (-4, -2, 0, 2, 4):
                found.update(self.labels[rows + dr, columns + dc].tolist())
        return found - {0}, set(cells.tolist())

    def _joined(self, links: dict[int, tuple[set[int], set[int]]]) -> dict[int, tuple[list[int], set[int]]]:
        """Return root -> (groups, pieces of fill) that are one piece of copper."""
        import networkx as nx

        graph = nx.Graph()
        by_cell: dict[int, int] = {}
        for group, (labels, cells) in links.items():
            graph.add_node(("group", group))
            graph.add_edges_from((("group", group), ("fill", x)) for x in labels)
            for cell in cells:
                other = by_cell.setdefault(cell, group)
                if other != group:
                    graph.add_edge(("group", group), ("group", other))
        found = {}
        for piece in nx.connected_components(graph):
            groups = sorted(k for what, k in piece if what == "group")
            if groups:
                found[groups[0]] = (groups, {k for what, k in piece if what == "fill"})
        return found

    def stranded(self) -> list[int]:
        """Return the roots of the pieces that are not the main one, small ones first."""
        others = [root for root in self.pieces if root != self.main]
        return sorted(others, key=lambda root: (len(self.pieces[root][0]), root))

    def cells_of(self, root: int) -> I32:
        """Return the cells of all copper of a piece, its fill too."""
        board, grid = self.board, self.board.grid
        groups, labels = self.pieces[root]
        parts: list[npt.NDArray[Any]] = [np.zeros(0, dtype=np.int64)]
        if labels:
            parts.append(np.flatnonzero(np.isin(self.flat, list(labels))) + self.layer * grid.plane)
        for g in groups:
            parts += [board.group_cells(g), board.path(g) & CELL_MASK]
        return np.concatenate(parts).astype(np.int32)  # one that is there twice is looked at twice, no more


def join_stranded(work: Negotiation, net: int, layer: int) -> int:
    """Join every stranded piece of a poured net to the main one; return how many are left."""
    board = work.board
    left = 0
    for _ in range(ROUNDS):
        fill = Fill(board, net, layer)
        roots = fill.stranded()
        if not roots:
            return 0
        left = 0
        goals = fill.cells_of(fill.main)
        for root in roots:
            done = join_one(work, net, fill.cells_of(root), goals)
            left += not done
        if left == len(roots):
            return left
    return left


def join_one(work: Negotiation, net: int, starts: I32, goals: I32) -> bool:
    """Join two sets of cells of a net by a path of their own, through others if need be; whether it could be had."""
    slot = work.spare_group(net)
    if slot < 0:
        return False
    only = np.array([net], dtype=np.int32)
    room = work.room
    stamp_nets(work.grid, only, -1)
    found = reach(work.grid, net, slot, starts, goals, 0, 0, work.via_price, room.sources, room.window)
    stamp_nets(work.grid, only, 1)
    if found:
        return True
    before = work.snapshot()
    stamp_nets(work.grid, only, -1)
    found = reach(work.grid, net, slot, starts, goals, 0, 1500, work.via_price, room.sources, room.window)
    stamp_nets(work.grid, only, 1)
    if found and work.make_way(net):
        return True
    work.restore(before)
    return False


def join_pads(work: Negotiation, wired: Wired, links: list[Link]) -> int:
    """Join by copper, pad to pad, what exact shapes find cut off though the flood did not; return how many."""
    board, done = work.board, 0
    numbers = {name: k for k, name in enumerate(board.problem.nets)}
    for link in links:
        net = numbers[link.net]
        a, b = group_at(board, net, link.ax_nm, link.ay_nm), group_at(board, net, link.bx_nm, link.by_nm)
        if a < 0 or b < 0 or a == b:
            continue
        starts = np.concatenate([board.group_cells(a), board.path(a) & CELL_MASK])
        others = [g for g in range(*board.net_groups()[net : net + 2]) if g != a]
        goals = np.concatenate([np.concatenate([board.group_cells(g), board.path(g) & CELL_MASK]) for g in others])
        goals = np.setdiff1d(goals, starts)
        done += join_one(work, net, starts.astype(np.int32), goals.astype(np.int32))
    return done


def group_at(board: Board, net: int, x_nm: int, y_nm: int) -> int:
    """Return the group of a net that has a shape centred here, or -1."""
    at = board.net_groups()
    for g in range(at[net], at[net + 1]):
        for index in board.problem.groups[g].shapes:
            shape = board.problem.shapes[index]
            if abs(shape.x - mm(x_nm)) < 1e-4 and abs(shape.y - mm(y_nm)) < 1e-4:
                return int(g)
    return -1
