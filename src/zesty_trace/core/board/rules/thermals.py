"""Pads in a pour: spokes that are left, and pads that are joined by too few of them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zesty_trace.core.board.copper import BoardPad, board_pads
from zesty_trace.core.board.pour import pour_shapes, relieved, spokes_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, of_pin, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

LEAST_SPOKES = 2

STARVED = rule(
    "starved thermal",
    Severity.NOTE,
    "One spoke carries the whole current of the pin, and breaks it when it lifts.",
    "common practice: two spokes or more",
    limits=f"{LEAST_SPOKES} spokes from a through-hole pad to its pour, or a track as well",
    station="layout",
)


def check_thermals(wired: Wired) -> Iterator[Finding]:
    """Yield through-hole pads whose pour reaches them by one spoke, and that no track joins."""
    from shapely import Point as Spot

    board = wired.design.board
    ends = [(t.net, Spot(mm(x), mm(y))) for t in board.tracks for x, y in (t.points[0], t.points[-1])]
    counted: dict[tuple[Pin, int, int], tuple[int, BoardPad]] = {}
    for pour in board.pours:
        area = next((a for net, a in pour_shapes(wired, pour.layer) if net == pour.net), None)
        if area is None or area.is_empty:
            continue
        for pad in board_pads(wired):
            if not pad.drill_nm or not relieved(pad, pour):
                continue
            reached = sum(area.intersects(_tip(spoke, pad.x_nm, pad.y_nm)) for spoke in spokes_of(pad, pour))
            key = (pad.pin, pad.x_nm, pad.y_nm)
            counted[key] = (counted.get(key, (0, pad))[0] + reached, pad)
    for (pin, x, y), (count, pad) in counted.items():
        here = Spot(mm(x), mm(y)).buffer(mm(max(pad.width_nm, pad.height_nm)) / 2)
        tracked = any(net == pad.net and here.intersects(end) for net, end in ends)
        if count == 0 or count >= LEAST_SPOKES or tracked:
            continue
        yield STARVED.found(
            of_pin(pin),
            f"{pin} is joined to its pour by {count} spoke",
            f"It should be {LEAST_SPOKES} or more. Move what cuts the others off, or lay a track as well.",
            at=(Point(x, y),),
            value=float(count),
            limit=float(LEAST_SPOKES),
            unit="spokes",
        )


def _tip(spoke: Any, x_nm: int, y_nm: int) -> Any:
    """Return the corners of a spoke that are furthest from the pad."""
    from shapely import MultiPoint, Point

    middle = Point(mm(x_nm), mm(y_nm))
    corners = sorted((Point(c) for c in spoke.exterior.coords[:4]), key=lambda c: -c.distance(middle))
    return MultiPoint(corners[:2]).centroid.buffer(0.06)
