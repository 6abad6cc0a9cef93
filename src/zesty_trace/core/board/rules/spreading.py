"""Heat into copper: the area that a part has, joined to the pad that leads its heat away, against what it needs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zesty_trace.core.board.copper import BoardPad, board_pads, copper_items, pad_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.analysis import copper_mm2
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, of_part, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

REACH_MM = 20.0  # copper farther from the pad does not spread its heat: common practice

SPREADING = rule(
    "copper for heat",
    Severity.FIX,
    "The electrical review counted on this copper: without it the part gets warmer than it says.",
    "area stated in the part's notes, and counted on by the heat rule",
    limits=f"the area that the part's notes ask for, joined, within {REACH_MM:g} mm of the pad",
    station="layout",
)


def check_spreading(wired: Wired) -> Iterator[Finding]:
    """Yield parts whose notes ask for more copper than is joined to their largest pad."""
    asking = {r: a for r, p in wired.design.parts.items() if (a := copper_mm2(p)) > 0}
    for ref, wanted in asking.items():
        if ref not in wired.design.board.placements:
            continue
        pads = [p for p in board_pads(wired, [ref]) if p.layers]
        if not pads:
            continue
        tab = max(pads, key=lambda p: p.width_nm * p.height_nm)
        area = copper_at(wired, tab)
        if area < wanted:
            yield SPREADING.found(
                of_part(ref),
                f"{ref} has {area:.0f} mm² of copper for its heat, {wanted:g} mm² are counted on",
                f"Pour {tab.net or 'copper'} round pad {tab.pin.number} on its face, joined to it without spokes.",
                at=(Point(tab.x_nm, tab.y_nm),),
                value=area,
                limit=wanted,
                unit="mm²",
            )


def copper_at(wired: Wired, pad: BoardPad) -> float:
    """Return the area of copper on a pad's face that is joined to it, beyond the pad, within REACH_MM, mm²."""
    from shapely import Point as Spot
    from shapely import unary_union

    shape = pad_shape(pad)
    near = Spot(mm(pad.x_nm), mm(pad.y_nm)).buffer(REACH_MM)
    most = 0.0
    for layer in pad.layers:
        pieces: list[Any] = [i.shape for i in copper_items(wired, layer) if i.net == pad.net and i.node[0] != "pad"]
        pieces += [area for net, area in pour_shapes(wired, layer) if net == pad.net]
        whole = unary_union([p.intersection(near) for p in pieces if p.intersects(near)] or [Spot(0, 0)])
        joined = [p for p in getattr(whole, "geoms", [whole]) if p.area > 0 and p.intersects(shape)]
        most = max(most, float(sum(p.difference(shape).area for p in joined)))
    return most
