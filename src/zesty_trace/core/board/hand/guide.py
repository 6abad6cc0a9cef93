"""A way that follows the pointer: from a pad to where it is, clear of all copper, in 45-degree steps, on one layer.

The board is laid out once on the router's grid; each move of the pointer is one search on it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zesty_trace.core.board.copper import BoardPad, board_pads, pad_shape
from zesty_trace.core.board.routing.grid import CELL_MASK, I32, OWNER_MASK, OWNER_SHIFT
from zesty_trace.core.board.routing.growing import mark_pads, propose
from zesty_trace.core.board.routing.problem import CELL_MM, lay_out
from zesty_trace.core.board.routing.reading import problem_of
from zesty_trace.core.board.routing.tracks import path_copper
from zesty_trace.core.board.values import refuse_unroutable
from zesty_trace.core.board.widths import widths_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LayerName, Pin, Track, Via
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, nm
from zesty_trace.errors import EditError

NEAR_CELLS = 15  # from the pointer: so far away a way may end where the pointer's own place is taken
WEIGHT, MARGIN = 5, 60  # of the search, quarters; how far round start and pointer it looks at first, cells
VIA_PRICE = 2_000


@dataclass(frozen=True)
class Way:
    """A proposed piece: its tracks and vias, and the pin whose copper it reaches, if it does."""

    tracks: tuple[Track, ...] = ()
    vias: tuple[Via, ...] = ()
    reaches: Pin | None = None
    end: Point | None = None
    layer: LayerName = "top"

    @property
    def length_mm(self) -> float:
        """How long its tracks are."""
        lines = (pair for t in self.tracks for pair in zip(t.points, t.points[1:], strict=False))
        return sum(math.hypot(b[0] - a[0], b[1] - a[1]) for a, b in lines) / 1e6


class Guide:
    """A board laid out for ways by hand; it holds for the copper of `wired` alone."""

    def __init__(self, wired: Wired) -> None:
        """Lay the board out: about a second for 250 parts. EditError without an outline, or for one too large."""
        refuse_unroutable(wired.design)
        self.wired = wired
        self.stack = wired.design.board.stack
        width_of = widths_of(wired)
        problem = problem_of(wired, width_of)
        try:
            self.board = lay_out(problem)
        except ValueError as error:
            raise EditError(str(error), "outline", "Boards of up to 300 x 400 mm are") from error
        self.grid = self.board.grid
        self._sources = np.zeros(400_000, dtype=np.int32)
        self._window = np.zeros(4, dtype=np.int32)
        self._pads = [p for p in board_pads(wired) if p.layers]
        self._width = {(p.pin, p.x_nm, p.y_nm): width_of(p) for p in self._pads}
        self._marked = -1
        self._warm()

    def _warm(self) -> None:
        """Load or compile the search: else the first move of the pointer would wait for that."""
        pad = next((p for p in self._pads if p.net), None)
        if pad is not None:
            for vias in (False, True):
                self.follow(pad.net, pad, pad.layers[0], mm(pad.x_nm), mm(pad.y_nm), self.width_nm(pad), vias)

    def pad_at(self, x_mm: float, y_mm: float, layer: LayerName | None = None) -> BoardPad | None:
        """Return the pad of a net under a point, of a layer if one is given; the smallest if several are."""
        from shapely import Point as Spot

        spot = Spot(x_mm, y_mm)
        near = (p for p in self._pads if p.net and abs(mm(p.x_nm) - x_mm) < 12 and abs(mm(p.y_nm) - y_mm) < 12)
        hits = [p for p in near if (layer is None or layer in p.layers) and pad_shape(p, 0.05).covers(spot)]
        return min(hits, key=lambda p: p.width_nm * p.height_nm, default=None)

    def width_nm(self, pad: BoardPad) -> int:
        """Return the width that a track to a pad should have."""
        return self._width[pad.pin, pad.x_nm, pad.y_nm]

    def kinds(self) -> tuple[int, ...]:
        """Return the track widths that there are on this board, narrowest first, nm."""
        return tuple(nm(w) for w in self.board.problem.widths_mm)

    def follow(
        self,
        net: str,
        start: BoardPad | Point,
        layer: LayerName,
        x_mm: float,
        y_mm: float,
        width_nm: int,
        vias: bool = False,
    ) -> Way | None:
        """Return the way from a pad, or from where the last piece ended, to the pointer; None if there is none.

        It ends on the pad of the net that is under the pointer, else at the free place next to it. `vias` allows it to
        change layers where it must, a little way round the straight line.
        """
        number = self._net(net)
        starts = self._starts(number, start, layer)
        kind = self._kind(width_nm)
        pad = self.pad_at(x_mm, y_mm)
        to = pad if pad is not None and pad.net == net and pad != start else None
        goals = self._goals_of_pad(number, to, layer, vias) if to else np.zeros(0, dtype=np.int32)
        if not len(goals):
            to, goals = None, self._free_near(number, kind, layer, x_mm, y_mm)
        if not len(goals) or not len(starts):
            return None
        if self._marked != number:
            mark_pads(self.grid, number)
            self._marked = number
        price, tries = (VIA_PRICE, 1) if vias else (-1, 3)  # with vias all of a large board would take too long
        if not propose(
            self.grid, number, starts, goals, kind, price, WEIGHT, MARGIN, tries, self._sources, self._window
        ):
            return None
        return self._way(net, self.board.path(0).tolist(), to, start)

    def via_at(self, net: str, at: Point) -> Via | None:
        """Return a via of a net at the place of the grid next to a point, None if there is no room for it."""
        grid, problem = self.grid, self.board.problem
        flat = self._flat(mm(at.x_nm), mm(at.y_nm))
        owner = int(grid.small[flat]) & OWNER_MASK if flat >= 0 else OWNER_MASK
        if owner not in (0, self._net(net) + 1):
            return None
        size, drill = nm(problem.via_mm), nm(problem.drill_mm)
        _, x, y = self.board.spot(flat)
        return Via(net=net, x_nm=nm(x), y_nm=nm(y), diameter_nm=size, drill_nm=drill, made="hand")

    def _net(self, net: str) -> int:
        try:
            return self.board.problem.nets.index(net)
        except ValueError:
            raise EditError(f"{net} has no pad on the board", net, "Place its parts first") from None

    def _kind(self, width_nm: int) -> int:
        widths = self.kinds()
        return max((k for k, w in enumerate(widths) if w <= width_nm), default=0)

    def _flat(self, x_mm: float, y_mm: float) -> int:
        column = round((x_mm - self.board.x0) / CELL_MM)
        row = round((y_mm - self.board.y0) / CELL_MM)
        inside = 0 <= row < self.grid.rows and 0 <= column < self.grid.columns
        return row * self.grid.columns + column if inside else -1

    def _starts(self, number: int, start: BoardPad | Point, layer: LayerName) -> I32:
        base = self.stack.index(layer) * self.grid.plane
        if isinstance(start, BoardPad):
            return self._cells_in(number, start, layer)
        flat = self._flat(mm(start.x_nm), mm(start.y_nm))
        return np.array([base + flat] if flat >= 0 else [], dtype=np.int32)

    def _cells_in(self, number: int, pad: BoardPad, layer: LayerName) -> I32:
        """Return the cells of a layer at which a track of a net may meet a pad."""
        at = self.board.net_groups()
        base = self.stack.index(layer) * self.grid.plane
        reach = max(pad.width_nm, pad.height_nm) / 2e6 + CELL_MM
        parts = [np.zeros(0, dtype=np.int32)]
        for g in range(at[number], at[number + 1]):
            cells = self.board.group_cells(g)
            flat = cells[(cells >= base) & (cells < base + self.grid.plane)] - base
            x = self.board.x0 + (flat % self.grid.columns) * CELL_MM - mm(pad.x_nm)
            y = self.board.y0 + (flat // self.grid.columns) * CELL_MM - mm(pad.y_nm)
            near = (np.abs(x) <= reach) & (np.abs(y) <= reach)
            parts.append((flat[near] + base).astype(np.int32))
        return np.concatenate(parts)

    def _goals_of_pad(self, number: int, pad: BoardPad, layer: LayerName, vias: bool) -> I32:
        layers = [k for k in pad.layers if vias or k == layer]
        return np.concatenate([np.zeros(0, dtype=np.int32), *(self._cells_in(number, pad, k) for k in layers)])

    def _free_near(self, number: int, kind: int, layer: LayerName, x_mm: float, y_mm: float) -> I32:
        """Return the cell next to a point where the middle of a track of a net may be; empty if none is near."""
        grid = self.grid
        column, row = round((x_mm - self.board.x0) / CELL_MM), round((y_mm - self.board.y0) / CELL_MM)
        rows = np.arange(max(0, row - NEAR_CELLS), min(grid.rows, row + NEAR_CELLS + 1))
        columns = np.arange(max(0, column - NEAR_CELLS), min(grid.columns, column + NEAR_CELLS + 1))
        if not len(rows) or not len(columns):
            return np.zeros(0, dtype=np.int32)
        r, c = (a.ravel() for a in np.meshgrid(rows, columns, indexing="ij"))
        cells = self.stack.index(layer) * grid.plane + r * grid.columns + c
        owner = (grid.words[kind * grid.plane * grid.layers + cells] >> OWNER_SHIFT) & OWNER_MASK
        free = (owner == 0) | (owner == number + 1)
        away = np.hypot(r - row, c - column)
        away[~free] = np.inf
        best = int(away.argmin())
        return cells[best : best + 1].astype(np.int32) if away[best] <= NEAR_CELLS else np.zeros(0, dtype=np.int32)

    def _way(self, net: str, codes: list[int], to: BoardPad | None, start: BoardPad | Point) -> Way:
        from msgspec.structs import replace

        tracks: list[Track] = []
        vias: dict[tuple[int, int], Via] = {}
        path_copper(self.board, self.stack, net, codes, tracks, vias)
        made = [replace(t, made="hand") for t in tracks]
        if made and isinstance(start, Point):  # the grid's own rounding must not tear a joint
            made[0] = replace(made[0], points=(start, *made[0].points[1:]))
        layer, x, y = self.board.spot(codes[-1] & CELL_MASK)
        end = made[-1].points[-1] if made else Point(nm(x), nm(y))
        holes = tuple(replace(v, made="hand") for v in vias.values())
        return Way(tuple(made), holes, to.pin if to else None, Point(*end), self.stack[layer])
