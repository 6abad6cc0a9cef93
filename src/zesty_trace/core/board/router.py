"""The automatic router: two layers, all nets, by negotiated congestion.

Every connection takes its cheapest path; where paths of different nets come too close, the shared cells grow dearer
and the nets involved are routed again, until none is in the way of another. Method: L. McMurchie, C. Ebeling,
"PathFinder: a negotiation-based performance-driven router for FPGAs" (1995), on a grid with real track widths.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from zesty_trace.core.board.copper import BoardPad, board_pads
from zesty_trace.core.board.widths import width_for
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import LAYERS, Design, Pin, Pour, Track, Via
from zesty_trace.core.geometry import Point
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm
from zesty_trace.errors import Cancelled, EditError, SolveError

STEP_MM = 0.2
MOST_CELLS = 2_500_000  # of one layer: about 30 s and 700 MB
SAFETY_MM = 0.03  # a diagonal step passes this much nearer than its ends
VIA_MM, VIA_DRILL_MM = 0.6, 0.3
PASSES = 40
VIA_COST, BEND_COST = 9.0, 0.4
HEAVY_VIA = 14.0  # per mm of width: one small via is no path for amperes
LAYER_PRICE = np.array([1.0, 1.25], dtype=np.float32)


@dataclass
class _Leg:
    """One routed connection: cells (N, 3) and its width; `start` and `end` are the exact pad centres, or None."""

    cells: np.ndarray
    width_mm: float
    start: BoardPad | None
    end: BoardPad | None


@dataclass
class _Net:
    name: str
    pads: list[BoardPad]
    widths: list[float]  # mm, per pad
    legs: list[_Leg] = field(default_factory=list)
    missing: int = 0


@dataclass(frozen=True)
class RouteResult:
    """The routed design, how many connections there are and how many have no copper, and the passes taken."""

    design: Design
    connections: int
    missing: int
    passes: int
    conflicts: int


class _Router:
    def __init__(self, wired: Wired, report: Report) -> None:
        design = wired.design
        if not design.board.outline:
            raise EditError("The board has no outline yet", "outline", "Set its size in the brief first")
        self.wired, self.design, self.report = wired, design, report
        self.rules = design.board.rules
        xs, ys = zip(*design.board.outline, strict=True)
        self.x0, self.y0 = mm(min(xs)), mm(min(ys))
        self.columns = int((mm(max(xs)) - self.x0) / STEP_MM) + 1
        self.rows = int((mm(max(ys)) - self.y0) / STEP_MM) + 1
        if self.columns * self.rows > MOST_CELLS:
            wide, high = self.columns * STEP_MM, self.rows * STEP_MM
            side = math.sqrt(MOST_CELLS) * STEP_MM
            raise EditError(
                f"A board of {wide:.0f} x {high:.0f} mm is too large to be routed here",
                "outline",
                f"Up to {MOST_CELLS * STEP_MM**2 / 100:.0f} cm² are, such as {side:.0f} x {side:.0f} mm",
            )
        self.shape = (2, self.rows, self.columns)
        self.edge = self._edge_distance()
        self.pads = board_pads(wired)
        self.nets = self._nets()
        self.history = np.zeros(self.shape, dtype=np.float32)

    def _edge_distance(self) -> np.ndarray:
        """Return the distance of each cell to the board's edge, mm, negative outside."""
        import shapely

        from zesty_trace.core.board.copper import outline_shape

        shape = outline_shape(self.design)
        gx, gy = np.meshgrid(self.x0 + np.arange(self.columns) * STEP_MM, self.y0 + np.arange(self.rows) * STEP_MM)
        points = shapely.points(gx, gy)
        away = shapely.distance(shape.exterior, points)
        return np.asarray(np.where(shapely.contains_xy(shape, gx, gy), away, -away))

    def _nets(self) -> list[_Net]:
        try:
            peaks: Mapping[Pin, float] = analyse(self.wired).pin_peaks()
        except SolveError:
            peaks = {}
        by_net: dict[str, list[BoardPad]] = {}
        for pad in self.pads:
            if pad.net and pad.layers:
                by_net.setdefault(pad.net, []).append(pad)
        ground = self.wired.ground
        nets = []
        for name, pads in by_net.items():
            widths = [mm(width_for(peaks.get(p.pin, 0.0), self.rules)) for p in pads]
            trunk = max(widths)  # heavy legs share copper, so each takes the width of the whole
            widths = [trunk if w >= 0.6 * trunk and trunk > mm(self.rules.track_nm) else w for w in widths]
            order = sorted(range(len(pads)), key=lambda k: -widths[k])
            if len(pads) > 1:
                nets.append(_Net(name, [pads[k] for k in order], [widths[k] for k in order]))
        return sorted(nets, key=lambda n: (n.name == ground, -max(n.widths), self._spread(n)))

    def _spread(self, net: _Net) -> float:
        xs, ys = [p.x_nm for p in net.pads], [p.y_nm for p in net.pads]
        return float(max(xs) - min(xs) + max(ys) - min(ys))

    # Obstacles ----------------------------------------------------------------------------------------------------

    def _blocked(self, net: str, half_mm: float) -> np.ndarray:
        """Return cells where a track of `net` with this half width would be too near to pads, holes or the edge."""
        from zesty_trace.core.board.maze import paint_rect

        mask = np.zeros(self.shape, dtype=np.uint8)
        mask[:, self.edge < mm(self.rules.edge_nm) + half_mm] = 1
        reach = (mm(self.rules.clearance_nm) + half_mm + SAFETY_MM) / STEP_MM
        for pad in self.pads:
            if pad.net == net and pad.layers:
                continue
            for k, name in enumerate(LAYERS):
                if name in pad.layers or not pad.layers:
                    paint_rect(mask[k], *self._pad_box(pad), reach)
        return mask

    def _via_blocked(self, net: str, track_blocked: np.ndarray) -> np.ndarray:
        """Return cells where no via may be: too near to foreign copper on either layer, or in any pad."""
        from zesty_trace.core.board.maze import paint_rect

        mask = self._blocked(net, VIA_MM / 2).max(axis=0)
        for pad in self.pads:
            reach = (VIA_MM / 2 + (0.05 if pad.net == net else 0.0)) / STEP_MM
            if pad.net == net or pad.drill_nm:
                paint_rect(mask, *self._pad_box(pad), reach)
        return np.asarray(np.maximum(mask, track_blocked.min(axis=0)))

    def _pad_box(self, pad: BoardPad) -> tuple[float, float, float, float, float, float, float]:
        a = np.radians(pad.angle_mdeg / 1000)
        w, h = mm(pad.width_nm) / STEP_MM / 2, mm(pad.height_nm) / STEP_MM / 2
        corner = min(w, h) if pad.shape in ("round", "oblong") else 0.0
        x, y = (mm(pad.x_nm) - self.x0) / STEP_MM, (mm(pad.y_nm) - self.y0) / STEP_MM
        return x, y, w, h, float(np.cos(a)), float(np.sin(a)), corner

    def _crowd(self, net: _Net, half_mm: float) -> np.ndarray:
        """Return, per cell, how many other nets' tracks and vias are nearer than allowed."""
        from zesty_trace.core.board.maze import paint_discs

        count = np.zeros(self.shape, dtype=np.float32)
        gap = mm(self.rules.clearance_nm) + half_mm + SAFETY_MM
        for other in self.nets:
            if other is net:
                continue
            for leg in other.legs:
                paint_discs(count, leg.cells, (gap + leg.width_mm / 2) / STEP_MM)
                vias = _via_cells(leg.cells)
                if len(vias):
                    paint_discs(count, _both_layers(vias), (gap + VIA_MM / 2) / STEP_MM)
        return count

    # Routing ------------------------------------------------------------------------------------------------------

    def run(self) -> RouteResult:
        """Route until nothing is in conflict, or the passes are used up."""
        total = sum(len(n.pads) - 1 for n in self.nets)
        todo = list(self.nets)
        present = 0.6
        taken = 0
        for taken in range(1, PASSES + 1):
            for k, net in enumerate(todo):
                share = (k + 1) / len(todo) if taken == 1 else 1.0
                text = f"pass {taken}: {net.name}, {len(todo)} nets to place"
                if not self.report(min(0.99, 0.6 * share + 0.4 * (taken - 1) / 12), text):
                    raise Cancelled
                self._route(net, present)
            todo = self._conflicting()
            if not todo:
                break
            present *= 1.5
        missing = sum(n.missing for n in self.nets)
        conflicts = len(todo)
        return RouteResult(self._design(), total, missing, taken, conflicts)

    def _route(self, net: _Net, present: float) -> None:
        from zesty_trace.core.board.maze import search

        net.legs, net.missing = [], 0
        tree = [self._cells(net.pads[0])]
        left = list(range(1, len(net.pads)))
        heavy = max(net.widths) * 0.6
        maps: dict[float, tuple[np.ndarray, ...]] = {}
        while left:
            k = self._next(net, left, heavy, np.concatenate(tree))
            left.remove(k)
            pad, width = net.pads[k], net.widths[k]
            path = np.empty((0, 3), dtype=np.int32)
            for trial in (width, max(width * 0.6, mm(self.rules.track_nm)), mm(self.rules.track_nm)):
                if trial not in maps:
                    maps[trial] = self._maps(net, trial / 2, present)
                blocked, price, via_blocked, via_price = maps[trial]
                via_cost = VIA_COST * (1.0 + HEAVY_VIA * (trial - mm(self.rules.track_nm)))
                path = search(
                    blocked,
                    price,
                    via_blocked,
                    via_price,
                    np.concatenate(tree),
                    self._cells(pad),
                    via_cost,
                    LAYER_PRICE,
                    BEND_COST,
                )
                width = trial
                if len(path):
                    break
            if not len(path):
                net.missing += 1
                continue
            start = next((p for p in net.pads if self._at(p, path[0])), None)
            net.legs.append(_Leg(path, width, start, pad))
            tree.append(path)
            tree.append(self._cells(pad))

    def _next(self, net: _Net, left: list[int], heavy: float, tree: np.ndarray) -> int:
        """Return the pad to connect next: heavy ones first, then the nearest to what is connected."""
        first = [k for k in left if net.widths[k] >= heavy > mm(self.rules.track_nm)] or left

        def away(k: int) -> float:
            _, row, column = self._cells(net.pads[k])[0]
            return float((np.abs(tree[:, 1] - row) + np.abs(tree[:, 2] - column)).min())

        return min(first, key=away)

    def _maps(self, net: _Net, half_mm: float, present: float) -> tuple[np.ndarray, ...]:
        blocked = self._blocked(net.name, half_mm)
        crowd = self._crowd(net, half_mm)
        price = (1.0 + present * crowd + self.history).astype(np.float32)
        via_crowd = self._crowd(net, VIA_MM / 2).max(axis=0) if half_mm != VIA_MM / 2 else crowd.max(axis=0)
        via_price = (8.0 * present * via_crowd + self.history.max(axis=0)).astype(np.float32)
        return blocked, price, self._via_blocked(net.name, blocked), via_price

    def _cells(self, pad: BoardPad) -> np.ndarray:
        row = round((mm(pad.y_nm) - self.y0) / STEP_MM)
        column = round((mm(pad.x_nm) - self.x0) / STEP_MM)
        row, column = min(max(row, 0), self.rows - 1), min(max(column, 0), self.columns - 1)
        return np.array([[LAYERS.index(layer), row, column] for layer in pad.layers], dtype=np.int32)

    def _at(self, pad: BoardPad, cell: np.ndarray) -> bool:
        return bool((self._cells(pad) == cell).all(axis=1).any())

    def _conflicting(self) -> list[_Net]:
        """Return nets with a track or via too near to another's, and make those cells dearer for good."""
        found = []
        for net in self.nets:
            hit = False
            for width in {leg.width_mm for leg in net.legs}:
                crowd = self._crowd(net, width / 2)
                for leg in net.legs:
                    if leg.width_mm == width:
                        hit |= self._mark(crowd, leg.cells)
            vias = [v for leg in net.legs for v in _via_cells(leg.cells)]
            if vias:
                hit |= self._mark(self._crowd(net, VIA_MM / 2), _both_layers(np.array(vias, dtype=np.int32)))
            if hit:
                found.append(net)
        return found

    def _mark(self, crowd: np.ndarray, cells: np.ndarray) -> bool:
        at = (cells[:, 0], cells[:, 1], cells[:, 2])
        bad = crowd[at] > 0
        if not bad.any():
            return False
        self.history[at[0][bad], at[1][bad], at[2][bad]] += 0.8
        return True

    # Back to the design -------------------------------------------------------------------------------------------

    def _design(self) -> Design:
        tracks: list[Track] = []
        vias: dict[tuple[int, int], Via] = {}
        for net in self.nets:
            for leg in net.legs:
                for track in self._tracks(net.name, leg):
                    tracks.append(track)
                for _, row, column in _via_cells(leg.cells):
                    x, y = self._nm(row, column)
                    vias[x, y] = Via(
                        net=net.name, x_nm=x, y_nm=y, diameter_nm=int(VIA_MM * 1e6), drill_nm=int(VIA_DRILL_MM * 1e6)
                    )
        ground = self.wired.ground
        pours = tuple(Pour(net=ground, layer=layer) for layer in LAYERS) if ground else ()
        return edits.set_copper(self.design, tracks, vias.values(), pours)

    def _nm(self, row: int, column: int) -> tuple[int, int]:
        return round((self.x0 + column * STEP_MM) * 1e6), round((self.y0 + row * STEP_MM) * 1e6)

    def _tracks(self, net: str, leg: _Leg) -> list[Track]:
        pieces: list[tuple[int, list[tuple[int, int]]]] = []
        for layer, row, column in leg.cells:
            point = self._nm(int(row), int(column))
            if not pieces or pieces[-1][0] != layer:
                pieces.append((int(layer), []))
            pieces[-1][1].append(point)
        if leg.start:
            pieces[0][1].insert(0, (leg.start.x_nm, leg.start.y_nm))
        if leg.end:
            pieces[-1][1].append((leg.end.x_nm, leg.end.y_nm))
        width = round(leg.width_mm * 1e6)
        found = []
        for layer, points in pieces:
            line = _straighten(points)
            if len(line) > 1:
                found.append(
                    Track(net=net, layer=LAYERS[layer], width_nm=width, points=tuple(Point(*at) for at in line))
                )
        return found


def _via_cells(cells: np.ndarray) -> np.ndarray:
    """Return the cells (M, 3) at which a path changes layer."""
    if len(cells) < 2:
        return cells[:0]
    return np.asarray(cells[1:][cells[1:, 0] != cells[:-1, 0]])


def _both_layers(cells: np.ndarray) -> np.ndarray:
    other = cells.copy()
    other[:, 0] = 1 - other[:, 0]
    return np.asarray(np.ascontiguousarray(np.concatenate([cells, other]).astype(np.int32)))


def _straighten(points: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Return the points with repeats and points inside straight runs taken out."""
    kept: list[tuple[int, int]] = []
    for point in points:
        if kept and kept[-1] == point:
            continue
        if len(kept) >= 2:
            (ax, ay), (bx, by) = kept[-2], kept[-1]
            turn = (bx - ax) * (point[1] - by) - (by - ay) * (point[0] - bx)
            ahead = (bx - ax) * (point[0] - bx) + (by - ay) * (point[1] - by)
            if turn == 0 and ahead > 0:
                kept[-1] = point
                continue
        kept.append(point)
    return kept


def route(wired: Wired, report: Report = quiet) -> RouteResult:
    """Route all nets of a placed design anew, with ground pours on both layers.

    `report(share, text)` tells progress and returns False to stop (Cancelled). EditError without an outline.
    """
    return _Router(wired, report).run()
