"""Stitching vias: where a net is poured on several layers, vias on a grid tie them together.

A return current then changes layer beside its signal, and heat spreads through all (common practice).
"""

from __future__ import annotations

import numpy as np

from zesty_trace.core.board.copper import (
    copper_items,
    hole_items,
    hole_shapes,
    keepouts_of,
    outline_shape,
    pad_polygons,
)
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Via
from zesty_trace.core.geometry import buffered
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

PITCH_NM = 8_000_000
ROUND_MM = 0.1  # of the net's own copper round a via, so that it lies in the fill and not at its edge


def stitch(wired: Wired, net: str = "", pitch_nm: int = PITCH_NM) -> Design:
    """Return the design with vias of a net, of ground if none is named, about every `pitch_nm`.

    They stand where all layers of its pours fill, and not near another via of the net. EditError if the net is not
    poured on two layers, or for a pitch that no two vias can have.
    """
    from shapely import Polygon, STRtree, contains_properly, distance, intersection_all, points, prepare, union_all

    net = net or wired.ground
    rules = wired.design.board.rules
    if pitch_nm < rules.via_nm + rules.clearance_nm:
        what = f"{mm(pitch_nm):g} mm is no pitch for vias of {mm(rules.via_nm):g} mm"
        raise EditError(what, "pitch", "Take 5 to 15 mm")
    fills = {
        layer: union_all([shape for name, shape in pour_shapes(wired, layer) if name == net])
        for layer in wired.design.board.stack
    }
    fills = {layer: fill for layer, fill in fills.items() if not fill.is_empty}
    if len(fills) < 2:
        what = f"{net} is not poured on two layers" if net else "There is no ground to stitch"
        raise EditError(what, net or "net", "Pour it on top and bottom first: route does it")
    radius = mm(rules.via_nm) / 2
    both = intersection_all(list(fills.values())).buffer(-radius - ROUND_MM)
    both = both.intersection(
        buffered(outline_shape(wired.design), -mm(rules.hole_edge_nm) - mm(rules.via_drill_nm) / 2)
    )
    prepare(both)
    x0, y0, x1, y1 = both.bounds if not both.is_empty else (0.0, 0.0, 0.0, 0.0)
    step = mm(pitch_nm) / 2  # looked at twice as dense as laid, so that a spot that is taken costs half a step only
    xs, ys = np.meshgrid(np.arange(x0, x1 + step, step), np.arange(y0, y1 + step, step))
    spots = points(np.round(np.column_stack((xs.ravel(), ys.ravel())), 3))
    spots = spots[contains_properly(both, spots)]
    others = [i.shape for k in wired.design.board.stack if k not in fills for i in copper_items(wired, k)]
    beside = np.empty(len(others), dtype=object)
    beside[:] = others
    closed = [pad_polygons(wired), hole_shapes(hole_items(wired)), beside]
    tree = STRtree(np.concatenate(closed))
    room = max(mm(rules.hole_gap_nm) + mm(rules.via_drill_nm) / 2, radius + bool(others) * mm(rules.clearance_nm))
    near = np.unique(tree.query(spots, predicate="dwithin", distance=room)[0])
    spots = np.delete(spots, near)
    zones = [z for z in keepouts_of(wired) if z.vias and len(z.outline) > 2]
    for zone in zones:
        area = Polygon([(mm(x), mm(y)) for x, y in zone.outline])
        spots = spots[distance(spots, area) > radius]
    laid = [np.array((mm(v.x_nm), mm(v.y_nm))) for v in wired.design.board.vias if v.net == net]
    new = []
    for spot in spots:
        here = np.array((spot.x, spot.y))
        if all(np.hypot(*(here - other)) >= mm(pitch_nm) * 0.99 for other in laid):
            laid.append(here)
            new.append(_via(wired, net, spot.x, spot.y))
    board = wired.design.board
    return edits.set_copper(wired.design, board.tracks, (*board.vias, *new), board.pours)


def _via(wired: Wired, net: str, x: float, y: float) -> Via:
    rules = wired.design.board.rules
    return Via(
        net=net,
        x_nm=round(x * 1e6),
        y_nm=round(y * 1e6),
        diameter_nm=rules.via_nm,
        drill_nm=rules.via_drill_nm,
    )
