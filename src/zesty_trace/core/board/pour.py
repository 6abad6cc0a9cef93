"""Ground fill: what is left of a layer after keeping its distance from everything else, with thermal reliefs."""

from __future__ import annotations

from typing import Any

from zesty_trace.core.board.copper import board_pads, copper_items, hole_items, on_board, outline_shape, pad_shape
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName, Pour
from zesty_trace.core.quantities import mm

LEAST_WIDTH_MM = 0.25
RELIEF_GAP_MM, SPOKE_MM = 0.3, 0.5


def pour_shape(wired: Wired, pour: Pour) -> Any:
    """Return the filled area of one pour, mm: pieces that touch copper of its own net only; may be empty."""
    design = wired.design
    from shapely import MultiPolygon, unary_union

    rules = design.board.rules
    gap = mm(rules.clearance_nm) + 0.05
    area = outline_shape(design).buffer(-mm(rules.edge_nm))
    items = copper_items(wired, pour.layer)
    foreign = [i.shape for i in items if i.net != pour.net]
    if foreign:
        area = area.difference(unary_union(foreign).buffer(gap, quad_segs=6))
    area = area.difference(_bare_holes(wired, gap))
    area = _relieve(area, wired, pour)
    half = LEAST_WIDTH_MM / 2
    area = area.buffer(-half, quad_segs=6).buffer(half, quad_segs=6)
    own = [i.shape for i in items if i.net == pour.net]
    if not own:
        return MultiPolygon()
    anchor = unary_union(own)
    pieces = [p for p in getattr(area, "geoms", [area]) if p.area > 0.3 and p.intersects(anchor)]
    smooth = MultiPolygon(pieces).simplify(0.005)
    return MultiPolygon(list(getattr(smooth, "geoms", [smooth]))) if not smooth.is_empty else MultiPolygon()


def _bare_holes(wired: Wired, gap: float) -> Any:
    from shapely import Point, unary_union

    holes = [
        Point(mm(h.x_nm), mm(h.y_nm)).buffer(mm(h.drill_nm) / 2 + gap + 0.1) for h in hole_items(wired) if not h.plated
    ]
    return unary_union(holes)


def _relieve(area: Any, wired: Wired, pour: Pour) -> Any:
    """Cut a moat with four spokes round through-hole pads of the net, so that an iron can heat them."""
    from shapely import box, unary_union

    moats = []
    for pad in board_pads(wired):
        if pad.net != pour.net or not pad.drill_nm or pour.layer not in pad.layers:
            continue
        x, y = mm(pad.x_nm), mm(pad.y_nm)
        long = max(mm(pad.width_nm), mm(pad.height_nm)) / 2 + RELIEF_GAP_MM + 0.2
        half = SPOKE_MM / 2
        spokes = unary_union([box(x - long, y - half, x + long, y + half), box(x - half, y - long, x + half, y + long)])
        moats.append(pad_shape(pad, RELIEF_GAP_MM).difference(spokes))
    return area.difference(unary_union(moats)) if moats else area


@worked_out_from(on_board)
def pour_shapes(wired: Wired, layer: LayerName) -> tuple[tuple[str, Any], ...]:
    """Return (net, shape) of every pour on a layer."""
    return tuple((p.net, pour_shape(wired, p)) for p in wired.design.board.pours if p.layer == layer)
