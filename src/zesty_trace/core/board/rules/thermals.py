"""Pads in a pour: spokes that are left, and pads that are joined by too few of them."""

from __future__ import annotations

import math
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
    from shapely import intersects, prepare

    board = wired.design.board
    counted: dict[tuple[Pin, int, int], tuple[int, BoardPad]] = {}
    for pour in board.pours:
        area = next((a for net, a in pour_shapes(wired, pour.layer) if net == pour.net), None)
        if area is None or area.is_empty:
            continue
        prepare(area)
        for pad in board_pads(wired):
            if not pad.drill_nm or not relieved(pad, pour):
                continue
            reached = int(intersects(area, _tips(spokes_of(pad, pour), pad)).sum())
            key = (pad.pin, pad.x_nm, pad.y_nm)
            counted[key] = (counted.get(key, (0, pad))[0] + reached, pad)
    for (pin, x, y), (count, pad) in counted.items():
        if count == 0 or count >= LEAST_SPOKES or _tracked(wired, pad):
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


def _tracked(wired: Wired, pad: BoardPad) -> bool:
    """Whether a track of its net ends in a pad."""
    reach = mm(max(pad.width_nm, pad.height_nm)) / 2
    return any(
        math.hypot(mm(x - pad.x_nm), mm(y - pad.y_nm)) <= reach
        for t in wired.design.board.tracks
        if t.net == pad.net
        for x, y in (t.points[0], t.points[-1])
    )


def _tips(spokes: list[Any], pad: BoardPad) -> Any:
    """Return the far ends of spokes: small discs between the two corners that are furthest from the pad."""
    import numpy as np
    from shapely import buffer, get_coordinates, points

    middle = np.array((mm(pad.x_nm), mm(pad.y_nm)))
    corners = get_coordinates(spokes).reshape(len(spokes), 5, 2)[:, :4]
    far = np.argsort(-np.linalg.norm(corners - middle, axis=2), axis=1, kind="stable")[:, :2]
    return buffer(points(np.take_along_axis(corners, far[:, :, None], axis=1).mean(axis=1)), 0.06)
