"""Vias side by side where one carries too little: put beside it, where there is room on both faces.

The review has the last word: if it finds anything on the board that it did not find before, all stays as it was.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads, hole_items, hole_shapes, keepouts_of, outline_shape, pad_shape
from zesty_trace.core.board.graph import CopperGraph
from zesty_trace.core.board.rules.currents import BESIDE_MM, Piece, overloaded_vias
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import FACES, Design, Track, Via
from zesty_trace.core.findings import Severity
from zesty_trace.core.geometry import Point, buffered
from zesty_trace.core.quantities import mm

RINGS = (1.0, 1.5, 2.0)  # of the least distance between two vias
SPARE_MM = 0.01
MOST_BESIDE = 8


def with_parallel_vias(wired: Wired, nets: set[str]) -> Design:
    """Return the design with vias beside those of these nets that carry too much, as far as there is room."""
    heavy = [(piece, count) for piece, count in overloaded_vias(wired) if piece.net in nets]
    if not heavy:
        return wired.design
    first = wired
    graph = CopperGraph(wired)
    done: list[Piece] = []
    for piece, wanted in heavy:
        if any(p.net == piece.net and math.dist(p.at, piece.at) < BESIDE_MM * 1e6 for p in done):
            continue
        done.append(piece)
        have = piece.beside
        for via, joints in _beside(wired, wired.design.board.vias[piece.index], piece):
            if have >= min(wanted, MOST_BESIDE):
                break
            board = wired.design.board
            trial = wired.edited(edits.set_copper, [*board.tracks, *joints], [*board.vias, via], board.pours)
            before = set(graph.too_near)
            graph.update(trial)
            if set(graph.too_near) - before or not _allowed(wired, via):
                graph.update(wired)
                continue
            wired, have = trial, have + 1
    return wired.design if wired is first or _bad(wired) <= _bad(first) else first.design


def _bad(wired: Wired) -> set[str]:
    """Return what the review says that stops or wants mending."""
    return {f.identity for f in check_board(wired) if f.severity is not Severity.NOTE}


def _beside(wired: Wired, via: Via, piece: Piece) -> Iterator[tuple[Via, list[Track]]]:
    """Yield places for a via beside another, the near ones first, with the copper that joins them."""
    rules = wired.design.board.rules
    here = Point(via.x_nm, via.y_nm)
    tracked = {t.layer for t in wired.design.board.tracks if t.net == via.net and here in (t.points[0], t.points[-1])}
    layers = [k for k in wired.design.board.stack if k in tracked or k in FACES]
    least = max(via.diameter_nm, via.drill_nm + rules.hole_gap_nm) + SPARE_MM * 1e6
    for ring in RINGS:
        for eighth in range(8):
            a = math.pi / 4 * eighth
            dx, dy = ring * least * math.cos(a), ring * least * math.sin(a)
            spot = Point(int(round(via.x_nm + dx, -3)), int(round(via.y_nm + dy, -3)))
            made = Via(
                net=piece.net, x_nm=spot.x_nm, y_nm=spot.y_nm, diameter_nm=via.diameter_nm, drill_nm=via.drill_nm
            )
            ends = (Point(via.x_nm, via.y_nm), spot)
            yield made, [Track(net=piece.net, layer=k, width_nm=via.diameter_nm, points=ends) for k in layers]


def _allowed(wired: Wired, via: Via) -> bool:
    """Whether a hole may be there: off other holes, pads, the edge and what keeps vias out."""
    from shapely import Point as Spot
    from shapely import Polygon, distance

    rules = wired.design.board.rules
    here = Spot(mm(via.x_nm), mm(via.y_nm))
    hole, ring = here.buffer(mm(via.drill_nm) / 2), here.buffer(mm(via.diameter_nm) / 2)
    holes = hole_shapes(hole_items(wired))
    if len(holes) and float(distance(hole, holes).min()) < mm(rules.hole_gap_nm):
        return False
    width_of_ring = mm(via.diameter_nm - via.drill_nm) / 2
    inside = buffered(outline_shape(wired.design), -max(mm(rules.edge_nm), mm(rules.hole_edge_nm) - width_of_ring))
    if not inside.covers(ring):
        return False
    near = (p for p in board_pads(wired) if abs(p.x_nm - via.x_nm) < 2e7 and abs(p.y_nm - via.y_nm) < 2e7)
    if any(p.layers and not p.drill_nm and pad_shape(p, mm(rules.mask_margin_nm)).intersects(hole) for p in near):
        return False
    zones = [z.outline for z in keepouts_of(wired) if (z.vias or z.tracks) and len(z.outline) > 2]
    return not any(Polygon([(mm(x), mm(y)) for x, y in zone]).intersects(ring) for zone in zones)
