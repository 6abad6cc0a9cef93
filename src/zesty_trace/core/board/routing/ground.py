"""Pours: what their fill leaves stranded is found by flooding the grid, and joined to the main body.

A via beside a pad is not a connection: its piece of fill may be an island.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.pour import LEAST_WIDTH_MM, MORE_CLEARANCE_MM
from zesty_trace.core.board.routing.grid import CELL_MASK, I32, I64
from zesty_trace.core.board.routing.growing import reach
from zesty_trace.core.board.routing.paint import blot, paint_edge, paint_shapes
from zesty_trace.core.board.routing.passes import stamp_nets
from zesty_trace.core.board.routing.problem import CELL_MM, Board, closed_area, laid_cells, paint_closed, shape_rows
from zesty_trace.core.quantities import mm

if TYPE_CHECKING:
    from zesty_trace.core.board.copper import BoardPad
    from zesty_trace.core.board.routing.negotiate import Negotiation
    from zesty_trace.core.circuit.wired import Wired

ROUNDS = 10
PRICES = (1500, 200)  # of a cell where another is in the way: past few of them, then the short way
EXACT_MM = 0.06  # the fill is cut by round corners a little differently from how the grid floods it


def free_for_pour(board: Board, net: int, layer: int) -> npt.NDArray[np.bool_]:
    """Return the cells (rows, columns) of a layer where the middle of a least width of fill may be."""
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
    cells, kinds, groups = laid_cells(board)
    at = board.net_groups()
    other = (groups < at[net]) | (groups >= at[net + 1])
    on = cells // grid.plane
    via = np.zeros(len(cells), dtype=bool)
    via[1:] = (on[1:] != on[:-1]) & (groups[1:] == groups[:-1])
    for kind, width in enumerate((*problem.widths_mm, problem.via_mm)):
        here = other & (via if kind == grid.classes else (kinds == kind) & (on == layer))
        spots = np.unique(cells[here] % grid.plane).astype(np.int32)
        blot(fixed, grid.columns, spots, (gap + half + width / 2 - 1e-9) / CELL_MM)
    free: npt.NDArray[np.bool_] = ((fixed == 0) | (fixed == net + 1)).reshape(grid.rows, grid.columns)
    return free


class Fill:
    """The pieces of a net's fill, and which of them each group of the net reaches."""

    def __init__(self, board: Board, net: int, layer: int) -> None:
        from scipy.ndimage import label

        self.board, self.net, self.layer = board, net, layer
        self.labels, self.count = label(free_for_pour(board, net, layer))
        self.flat = self.labels.ravel()
        at = board.net_groups()
        self.groups = [g for g in range(at[net], at[net + 1]) if len(board.group_cells(g)) or len(board.path(g))]
        self.pieces = self._joined()
        grid_sizes = np.bincount(self.flat, minlength=self.count + 1)
        weight = {
            root: (len(gs), sum(int(grid_sizes[x]) for x in labels)) for root, (gs, labels) in self.pieces.items()
        }
        self.main = max(weight, key=lambda root: weight[root]) if weight else -1

    def _touching(self, cells: I64, owners: I64) -> npt.NDArray[np.int64]:
        """Return pairs (owner, piece of fill) of cells on the layer that have fill beside them, each once."""
        grid = self.board.grid
        on = cells // grid.plane == self.layer
        flat, owners = cells[on] % grid.plane, owners[on]
        rows, columns = flat // grid.columns, flat % grid.columns
        found = [np.zeros(0, dtype=np.int64)]
        for dr in (-4, -2, 0, 2, 4):
            for dc in (-4, -2, 0, 2, 4):
                piece = self.labels[rows + dr, columns + dc].astype(np.int64)
                found.append(np.unique(owners[piece > 0] * (self.count + 1) + piece[piece > 0]))
        pairs = np.unique(np.concatenate(found))
        return np.column_stack((pairs // (self.count + 1), pairs % (self.count + 1)))

    def _joined(self) -> dict[int, tuple[list[int], set[int]]]:
        """Return root -> (groups, pieces of fill) that are one piece of copper: through fill, or a cell of both."""
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components

        board = self.board
        own = [np.concatenate([board.group_cells(g), board.path(g) & CELL_MASK]).astype(np.int64) for g in self.groups]
        if not own:
            return {}
        owners = np.repeat(np.arange(len(own)), [len(cells) for cells in own])
        cells = np.concatenate(own)
        beside = self._touching(cells, owners)
        order = np.argsort(cells, kind="stable")
        shared = np.flatnonzero(cells[order][1:] == cells[order][:-1])
        left = np.concatenate([beside[:, 0], owners[order][shared]])
        right = np.concatenate([beside[:, 1] + len(own), owners[order][shared + 1]])
        count = len(own) + self.count + 1
        _, piece = connected_components(coo_matrix((np.ones(len(left)), (left, right)), (count, count)), directed=False)
        found: dict[int, tuple[list[int], set[int]]] = {}
        roots: dict[int, int] = {}
        for group, number in zip(self.groups, piece.tolist(), strict=False):
            found.setdefault(roots.setdefault(number, group), ([], set()))[0].append(group)
        for label, number in enumerate(piece[len(own) :].tolist()):
            if label and number in roots:
                found[roots[number]][1].add(label)
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
    left, bold = 0, False
    for _ in range(ROUNDS):
        fill = Fill(work.board, net, layer)
        roots = fill.stranded()
        if not roots:
            return 0
        goals = fill.cells_of(fill.main)
        hard = _where_nothing_is_in_the_way(work, net, [fill.cells_of(root) for root in roots], goals)
        left = sum(not _through_others(work, net, starts, goals, bold) for starts in hard)
        if left == len(roots) and bold:
            return left
        bold = left == len(roots)
    return left


def join_one(work: Negotiation, net: int, starts: I32, goals: I32) -> bool:
    """Join two sets of cells of a net by a path of their own, through others if need be; whether it could be had."""
    hard = _where_nothing_is_in_the_way(work, net, [starts], goals)
    return not hard or _through_others(work, net, starts, goals, True)


def _where_nothing_is_in_the_way(work: Negotiation, net: int, pieces: list[I32], goals: I32) -> list[I32]:
    """Join pieces of a net to its main one where nothing has to give way; return those for which there is no way."""
    only, room = np.array([net], dtype=np.int32), work.room
    hard = []
    stamp_nets(work.grid, only, -1)
    for starts in pieces:
        slot = work.spare_group(net)
        if slot < 0 or not reach(work.grid, net, slot, starts, goals, 0, 0, work.via_price, room.sources, room.window):
            hard.append(starts)
    stamp_nets(work.grid, only, 1)
    return hard


def _through_others(work: Negotiation, net: int, starts: I32, goals: I32, bold: bool) -> bool:
    """Join two sets of cells of a net through others, which then find another way; or leave all as it was.

    If `bold`, what is in the way there may be in the way of others in turn.
    """
    slot = work.spare_group(net)
    if slot < 0:
        return False
    only, room = np.array([net], dtype=np.int32), work.room
    before = work.snapshot()
    for price in PRICES if bold else PRICES[:1]:
        stamp_nets(work.grid, only, -1)
        found = reach(work.grid, net, slot, starts, goals, 0, price, work.via_price, room.sources, room.window)
        stamp_nets(work.grid, only, 1)
        if found and work.make_way(net, np.array([slot]), bold):
            return True
        work.restore(before)
    return False


def join_pads(work: Negotiation, wired: Wired, names: set[str]) -> int:
    """Join by copper what exact shapes find cut off of these nets though the flood did not; return how much."""
    from zesty_trace.core.board.links import copper_pieces

    board, done = work.board, 0
    for name in sorted(names):
        net = board.problem.nets.index(name)
        pieces = sorted(copper_pieces(wired)[name], key=len)
        goals = _cells_of_pads(board, net, pieces[-1])
        for piece in pieces[:-1]:
            starts = _cells_of_pads(board, net, piece)
            if len(starts) and len(goals):
                done += join_one(work, net, starts, goals)
    return done


def _cells_of_pads(board: Board, net: int, pads: list[BoardPad]) -> I32:
    """Return the cells of pads, and of the paths that bring them in."""
    groups = {group_at(board, net, p.x_nm, p.y_nm) for p in pads} - {-1}
    parts = [part for g in sorted(groups) for part in (board.group_cells(g), board.path(g) & CELL_MASK)]
    return np.concatenate([np.zeros(0, dtype=np.int32), *parts]).astype(np.int32)


def group_at(board: Board, net: int, x_nm: int, y_nm: int) -> int:
    """Return the group of a net that has a shape centred here, or -1."""
    at = board.net_groups()
    for g in range(at[net], at[net + 1]):
        for index in board.problem.groups[g].shapes:
            shape = board.problem.shapes[index]
            if abs(shape.x - mm(x_nm)) < 1e-4 and abs(shape.y - mm(y_nm)) < 1e-4:
                return int(g)
    return -1
