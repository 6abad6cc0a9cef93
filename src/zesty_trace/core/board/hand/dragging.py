"""A piece of a track, or a via, moved by hand: what joins it follows, and what it touched stays joined."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from msgspec.structs import replace

from zesty_trace.core.board.copper import (
    Copper,
    board_pads,
    hole_items,
    hole_shape,
    hole_shapes,
    laid_copper,
    pad_shape,
)
from zesty_trace.core.board.hand.pieces import Picked
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, LayerName, Track, Via
from zesty_trace.core.geometry import Point, buffered
from zesty_trace.core.quantities import mm

ROUNDING_MM = 1e-3
Spot = tuple[float, float]


def dragged(wired: Wired, picked: Picked, dx_nm: int, dy_nm: int) -> Design:
    """Return the design with a straight piece slid sideways, or a via moved; the same design if it goes nowhere."""
    if picked.what == "via":
        return _via_moved(wired, picked.index, dx_nm, dy_nm)
    return _slid(wired, picked, dx_nm, dy_nm)


def _slid(wired: Wired, picked: Picked, dx_nm: int, dy_nm: int) -> Design:
    design, board = wired.design, wired.design.board
    track = board.tracks[picked.index]
    points = [(float(x), float(y)) for x, y in track.points]
    a, b = points[picked.segment], points[picked.segment + 1]
    long = math.dist(a, b)
    if not long:
        return design
    ux, uy = (b[0] - a[0]) / long, (b[1] - a[1]) / long
    off = dx_nm * -uy + dy_nm * ux
    if abs(off) < 1:
        return design
    move = (off * -uy, off * ux)
    head = _joint(points[: picked.segment + 1][::-1], move, (ux, uy), long / 2)
    tail = _joint(points[picked.segment + 1 :], move, (-ux, -uy), long / 2)
    line = _cleaned([*head[::-1], *tail])
    made = replace(track, points=line, made="hand")
    stubs = list(_stubs(wired, picked, made))
    tracks = [made if k == picked.index else t for k, t in enumerate(board.tracks)]
    return edits.set_copper(design, [*tracks, *stubs], board.vias, board.pours)


def _joint(run: list[Spot], move: Spot, inwards: Spot, most: float) -> list[Spot]:
    """Return the new run of points from a moved end outwards: `run` begins at the end as it was.

    A neighbour that is not parallel is made longer or shorter along its own line; where there is none, or it would
    turn about, a jog of 45 degrees keeps the old place.
    """
    end = run[0]
    new = (end[0] + move[0], end[1] + move[1])
    if len(run) > 1:
        far = run[1]
        vx, vy = end[0] - far[0], end[1] - far[1]
        cross = vx * inwards[1] - vy * inwards[0]
        if abs(cross) > 1e-3 * math.hypot(vx, vy):
            # far + t v = new + s inwards
            t = ((new[0] - far[0]) * inwards[1] - (new[1] - far[1]) * inwards[0]) / cross
            if t > 0:
                return [(far[0] + t * vx, far[1] + t * vy), *run[1:]]
    jog = min(math.hypot(*move), most)
    return [(new[0] + inwards[0] * jog, new[1] + inwards[1] * jog), *run]


def _cleaned(points: Iterable[Spot]) -> tuple[Point, ...]:
    """Return points in whole nm, those in one place or in line left out."""
    kept: list[Point] = []
    for x, y in points:
        spot = Point(round(x), round(y))
        if kept and kept[-1] == spot:
            continue
        if len(kept) > 1:
            (ax, ay), (bx, by) = kept[-2], kept[-1]
            cross = (bx - ax) * (spot[1] - by) - (by - ay) * (spot[0] - bx)
            ahead = (bx - ax) * (spot[0] - bx) + (by - ay) * (spot[1] - by)
            if ahead > 0 and abs(cross) <= 2 * math.hypot(bx - ax, by - ay):
                kept[-1] = spot
                continue
        kept.append(spot)
    return tuple(kept)


def _stubs(wired: Wired, picked: Picked, made: Track) -> Iterator[Track]:
    """Yield short pieces to what lay on the straight piece and does not on the moved one: ends, vias, pads."""
    from shapely import LineString
    from shapely import Point as Shape

    board = wired.design.board
    old = board.tracks[picked.index]
    a, b = old.points[picked.segment], old.points[picked.segment + 1]
    before, half = LineString([a, b]), old.width_nm / 2
    after = LineString(made.points)
    held: list[Point] = [
        Point(*end)
        for k, t in enumerate(board.tracks)
        if k != picked.index and t.net == old.net and t.layer == old.layer
        for end in (t.points[0], t.points[-1])
    ]
    held += [Point(v.x_nm, v.y_nm) for v in board.vias if v.net == old.net]
    held += [Point(p.x_nm, p.y_nm) for p in board_pads(wired) if p.net == old.net and old.layer in p.layers]
    for spot in dict.fromkeys(held):
        at = Shape(spot)
        if before.distance(at) <= half and after.distance(at) > half / 2:
            to = after.interpolate(after.project(at))
            yield replace(made, points=(spot, Point(round(to.x), round(to.y))))


def _via_moved(wired: Wired, index: int, dx_nm: int, dy_nm: int) -> Design:
    board = wired.design.board
    via = board.vias[index]
    if not dx_nm and not dy_nm:
        return wired.design
    new = Point(via.x_nm + dx_nm, via.y_nm + dy_nm)
    reach = via.diameter_nm / 2
    tracks = []
    for track in board.tracks:
        points = [Point(*p) for p in track.points]
        if track.net == via.net:
            for turn in (False, True):
                line = points[::-1] if turn else points
                if math.dist(line[-1], (via.x_nm, via.y_nm)) <= reach:
                    line = [*line[:-2], *dogleg(line[-2], new)]
                    points = line[::-1] if turn else line
        moved = _cleaned(points)
        tracks.append(track if moved == track.points or len(moved) < 2 else replace(track, points=moved, made="hand"))
    vias = [
        replace(v, x_nm=new.x_nm, y_nm=new.y_nm, made="hand") if k == index else v for k, v in enumerate(board.vias)
    ]
    return edits.set_copper(wired.design, tracks, vias, board.pours)


def dogleg(a: Point, b: Point) -> list[Point]:
    """Return the way from one point to another in a straight piece and one at 45 degrees."""
    dx, dy = b[0] - a[0], b[1] - a[1]
    slant = min(abs(dx), abs(dy))
    corner = Point(a[0] + dx - int(math.copysign(slant, dx)), a[1] + dy - int(math.copysign(slant, dy)))
    return [a, b] if corner in (a, b) else [a, corner, b]


class Room:
    """What copper of one net must keep clear of: other nets' copper, holes and the edge, as shapes in trees.

    `moving` is a via that is being moved: its hole as it was does not count.
    """

    def __init__(self, wired: Wired, net: str, moving: Picked | None = None) -> None:
        from shapely import STRtree

        from zesty_trace.core.board.copper import outline_shape

        self.wired, self.net = wired, net
        rules = wired.design.board.rules
        self.gap = mm(rules.clearance_nm) - ROUNDING_MM
        self.inside = buffered(outline_shape(wired.design), -mm(rules.edge_nm) + ROUNDING_MM)
        self.items: dict[LayerName, list[Copper]] = {}
        self.trees: dict[LayerName, Any] = {}
        for layer in wired.design.board.stack:
            self.items[layer] = [i for i in laid_copper(wired, layer).items if i.net != net]
            self.trees[layer] = STRtree([i.shape for i in self.items[layer]])
        via = wired.design.board.vias[moving.index] if moving and moving.what == "via" else None
        at = (via.x_nm, via.y_nm) if via else None
        self.holes = [h for h in hole_items(wired) if (h.x_nm, h.y_nm) != at]
        self.bare = STRtree(list(hole_shapes([h for h in hole_items(wired) if not h.plated])))

    def in_the_way(self, tracks: Iterable[Track], vias: Iterable[Via]) -> str:
        """Return what some copper is too near to, in words; "" if it is clear."""
        from shapely import LineString
        from shapely import Point as Shape

        pieces: list[tuple[LayerName, Any]] = [
            (t.layer, LineString(np.array(t.points) / 1e6).buffer(mm(t.width_nm) / 2)) for t in tracks
        ]
        for via in vias:
            ring = Shape(mm(via.x_nm), mm(via.y_nm)).buffer(mm(via.diameter_nm) / 2)
            pieces += [(layer, ring) for layer in self.trees]
        for layer, shape in pieces:
            near = self.trees[layer].query(shape, predicate="dwithin", distance=self.gap)
            if len(near):
                item = self.items[layer][int(near[0])]
                return f"{item.what} of {item.net}" if item.net else item.what
            if len(self.bare.query(shape, predicate="dwithin", distance=self.gap)):
                return "a hole"
            if not self.inside.covers(shape):
                return "the edge"
        return self._holes(vias)

    def _holes(self, vias: Iterable[Via]) -> str:
        """Return what the hole of a via is too near to; one that is in the design already does not count."""
        from shapely import Point as Shape

        rules = self.wired.design.board.rules
        old = {(v.x_nm, v.y_nm) for v in self.wired.design.board.vias}
        for via in vias:
            if (via.x_nm, via.y_nm) in old:
                continue
            hole = Shape(mm(via.x_nm), mm(via.y_nm)).buffer(mm(via.drill_nm) / 2)
            for pad in board_pads(self.wired):
                if pad.layers and not pad.drill_nm and pad_shape(pad).intersects(hole):
                    return f"pad {pad.pin}"
            if any(hole_shape(h).distance(hole) < mm(rules.hole_gap_nm) - ROUNDING_MM for h in self.holes):
                return "a hole"
        return ""


def changed(before: Design, after: Design) -> tuple[list[Track], list[Via]]:
    """Return the tracks and vias that a design has and another has not."""
    old = set(map(id, before.board.tracks)) | set(map(id, before.board.vias))
    return [t for t in after.board.tracks if id(t) not in old], [v for v in after.board.vias if id(v) not in old]
