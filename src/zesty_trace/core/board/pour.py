"""Pours: what is left of a layer after keeping its distance from everything else, with spokes at pads to be soldered.

Through-hole pads and small surface pads get a moat with four spokes, turned with the pad, so that an iron can heat
them; large pads, which are there to lead heat away, are joined all round. Where pours of different nets meet,
the higher priority is filled first.
"""

from __future__ import annotations

import math
from typing import Any

from zesty_trace.core.board.copper import (
    BoardPad,
    Copper,
    board_pads,
    copper_items,
    hole_items,
    hole_shape,
    keepouts_of,
    on_board,
    outline_shape,
    pad_shape,
)
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName, Pour
from zesty_trace.core.quantities import mm

LEAST_WIDTH_MM = 0.25
MORE_CLEARANCE_MM = 0.05
LEAST_AREA_MM2 = 0.3
SOLID_MM2 = 6.0  # a surface pad as large as this leads heat away on purpose


def pour_shape(wired: Wired, pour: Pour, taken: Any = None) -> Any:
    """Return the filled area of one pour, mm: pieces that touch copper of its own net only; may be empty.

    `taken` is what pours of a higher priority have filled.
    """
    import numpy as np
    from shapely import MultiPolygon, Polygon, STRtree, buffer, unary_union, union_all

    design = wired.design
    rules = design.board.rules
    gap = mm(max(rules.clearance_nm, pour.clearance_nm)) + MORE_CLEARANCE_MM
    area = outline_shape(design).buffer(-mm(rules.edge_nm))
    if len(pour.outline) > 2:
        area = area.intersection(Polygon([(mm(x), mm(y)) for x, y in pour.outline]))
    items = copper_items(wired, pour.layer)
    foreign = [i.shape for i in items if i.net != pour.net]
    if taken is not None:
        foreign.append(taken)
    if foreign:
        area = area.difference(union_all(buffer(np.array(foreign, dtype=object), gap, quad_segs=4)))
    for wide, shapes in _high(wired, pour.net, items, gap).items():
        area = area.difference(unary_union(shapes).buffer(wide + MORE_CLEARANCE_MM, quad_segs=12))
    area = area.difference(_bare_holes(wired, gap)).difference(_kept_out(wired, pour.layer))
    area = _relieve(area, wired, pour)
    half = LEAST_WIDTH_MM / 2
    area = area.buffer(-half, quad_segs=3).buffer(half, quad_segs=3)
    own = [i.shape for i in items if i.net == pour.net]
    if not own:
        return MultiPolygon()
    large = [p for p in getattr(area, "geoms", [area]) if p.area > LEAST_AREA_MM2]
    anchored = set(STRtree(own).query(large, predicate="intersects")[0].tolist()) if large else set()
    pieces = [p for k, p in enumerate(large) if k in anchored]
    smooth = MultiPolygon(pieces).simplify(0.005)
    return MultiPolygon(list(getattr(smooth, "geoms", [smooth]))) if not smooth.is_empty else MultiPolygon()


def _high(wired: Wired, net: str, items: tuple[Copper, ...], gap: float) -> dict[float, list[Any]]:
    """Return the copper that a net keeps farther from than the rule asks, for its voltage, by distance, mm."""
    spaced = spacings(wired)
    found: dict[float, list[Any]] = {}
    for item in items:
        if item.net and item.net != net and (item.net in spaced.high or net in spaced.high):
            need = spaced.need_mm(item.net, net)
            if need + MORE_CLEARANCE_MM > gap:
                found.setdefault(need, []).append(item.shape)
    return found


def _bare_holes(wired: Wired, gap: float) -> Any:
    from shapely import unary_union

    holes = [hole_shape(h, gap + 0.1) for h in hole_items(wired) if not h.plated]
    return unary_union(holes)


def _kept_out(wired: Wired, layer: LayerName) -> Any:
    from shapely import Polygon, unary_union

    zones = [k.outline for k in keepouts_of(wired) if k.pours and layer in k.layers and len(k.outline) > 2]
    return unary_union([Polygon([(mm(x), mm(y)) for x, y in zone]) for zone in zones])


def relieved(pad: BoardPad, pour: Pour) -> bool:
    """Whether a pad of the poured net gets a moat with spokes."""
    if pad.net != pour.net or pour.layer not in pad.layers:
        return False
    return bool(pad.drill_nm) or mm(pad.width_nm) * mm(pad.height_nm) < SOLID_MM2


def spokes_of(pad: BoardPad, pour: Pour) -> list[Any]:
    """Return the four spokes of a pad, turned with it: each no wider than the side that it leaves from."""
    from shapely import affinity, box

    w, h, gap = mm(pad.width_nm) / 2, mm(pad.height_nm) / 2, mm(pour.gap_nm) + 0.2
    across = min(mm(pour.spoke_nm), 2 * h) / 2
    along = min(mm(pour.spoke_nm), 2 * w) / 2
    shapes = [
        box(0, -across, w + gap, across),
        box(-w - gap, -across, 0, across),
        box(-along, 0, along, h + gap),
        box(-along, -h - gap, along, 0),
    ]
    turn = math.radians(pad.angle_mdeg / 1000)
    x, y = mm(pad.x_nm), mm(pad.y_nm)
    return [affinity.translate(affinity.rotate(s, turn, origin=(0, 0), use_radians=True), x, y) for s in shapes]


def _relieve(area: Any, wired: Wired, pour: Pour) -> Any:
    from shapely import unary_union

    moats = [
        pad_shape(pad, mm(pour.gap_nm)).difference(unary_union(spokes_of(pad, pour)))
        for pad in board_pads(wired)
        if relieved(pad, pour)
    ]
    return area.difference(unary_union(moats)) if moats else area


@worked_out_from(on_board)
def pour_shapes(wired: Wired, layer: LayerName) -> tuple[tuple[str, Any], ...]:
    """Return (net, shape) of every pour on a layer, the highest priority first."""
    from shapely import unary_union

    pours = sorted((p for p in wired.design.board.pours if p.layer == layer), key=lambda p: -p.priority)
    found: list[tuple[str, Any]] = []
    for pour in pours:
        others = [shape for net, shape in found if net != pour.net]
        found.append((pour.net, pour_shape(wired, pour, unary_union(others) if others else None)))
    return tuple(found)
