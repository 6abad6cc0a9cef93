"""Connectors: a mouth looks over the edge of the board, and nothing stands in front of it."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import antenna_zone, body_shape, outline_shape, pattern_of, to_board
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, of_part, rule
from zesty_trace.core.geometry import Point

MOUTH_MM = 1.0
ANTENNA_FREE_MM = 3.0
TURNS = {"right": 0, "up": 90, "left": 180, "down": 270}

FACING = rule(
    "connector facing",
    Severity.FIX,
    "A plug cannot get into a connector that looks into the board, or stands back from its edge.",
    "common practice",
    limits=f"the mouth within {MOUTH_MM:g} mm of the edge, looking out",
    station="layout",
)
BLOCKED = rule(
    "connector blocked",
    Severity.FIX,
    "What stands in front of a mouth keeps the plug out.",
    "room of the package in front of its mouth",
    limits="nothing in front of a mouth",
    station="layout",
)
ANTENNA = rule(
    "antenna place",
    Severity.FIX,
    "Board, copper and parts round an antenna swallow what it sends.",
    "common practice: the antenna end of a module at the edge, nothing metal near it",
    limits=f"at most {MOUTH_MM:g} mm of board beyond it, {ANTENNA_FREE_MM:g} mm free round it",
    station="layout",
)


@dataclass(frozen=True)
class Mouth:
    """Where a connector's mouth is, mm, the direction that it looks in, radians, and how wide it is, mm."""

    x: float
    y: float
    angle: float
    wide: float
    reach: float


def mouth_of(wired: Wired, ref: str) -> Mouth | None:
    """Return the mouth of a placed part; None if its package has none that looks sideways."""
    return outer_side(wired, ref) if wired.package(ref).facing in TURNS else None


def outer_side(wired: Wired, ref: str) -> Mouth | None:
    """Return the side of a placed part that belongs at the edge, a mouth or an antenna; None if it has none."""
    package = wired.package(ref)
    if package.looks not in TURNS:
        return None
    spot = wired.design.board.placements[ref]
    x0, y0, x1, y1 = pattern_of(wired, ref).body
    turn = math.radians(TURNS[package.looks])
    cx, cy = (x0 + x1) / 2, (y0 + y1) / 2
    along_x = package.looks in ("left", "right")
    half = (x1 - x0) / 2 if along_x else (y1 - y0) / 2
    wide = (y1 - y0) if along_x else (x1 - x0)
    mx, my = to_board(spot, cx + half * math.cos(turn), cy + half * math.sin(turn))
    ox, oy = to_board(spot, cx, cy)
    return Mouth(mx / 1e6, my / 1e6, math.atan2(my - oy, mx - ox), wide / 1e6, package.reach)


def in_front(mouth: Mouth, far: float) -> Any:
    """Return the rectangle in front of a mouth, `far` mm deep."""
    from shapely import Polygon

    c, s = math.cos(mouth.angle), math.sin(mouth.angle)
    w = mouth.wide / 2
    corners = ((0.05, -w), (far, -w), (far, w), (0.05, w))
    return Polygon([(mouth.x + u * c - v * s, mouth.y + u * s + v * c) for u, v in corners])


def check_mouths(wired: Wired, only: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield connectors (or those of `only`) that look inwards, stand back from the edge, or are blocked."""
    board = outline_shape(wired.design)
    bodies = {r: body_shape(wired, r) for r in wired.design.board.placements if r in wired.design.parts}
    for ref in bodies:
        mouth = mouth_of(wired, ref)
        if mouth is None:
            continue
        moved = only is None or ref in only
        at = (Point(round(mouth.x * 1e6), round(mouth.y * 1e6)),)
        inside = _board_ahead(board, mouth)
        if inside > MOUTH_MM and moved:
            yield FACING.found(
                of_part(ref),
                f"The mouth of {ref} has {inside:.1f} mm of board in front of it",
                f"It should look over the edge, at most {MOUTH_MM:g} mm back. Turn it, or move it to the edge.",
                at=at,
                value=inside,
                limit=MOUTH_MM,
                unit="mm",
            )
        side = wired.design.board.placements[ref].side
        room = in_front(mouth, max(mouth.reach, 0.5))
        for other, body in bodies.items():
            same = wired.design.board.placements[other].side == side
            if (
                not (moved or other in (only or ()))
                or other == ref
                or not same
                or not wired.kind(other).assembled
                or not body.intersects(room)
            ):
                continue
            yield BLOCKED.found(
                Subject(refs=(ref, other)),
                f"{other} stands in front of {ref}",
                f"Keep {max(mouth.reach, 0.5):g} mm free in front of its mouth. Move one of them.",
                at=at,
            )


def check_antennas(wired: Wired) -> Iterator[Finding]:
    """Yield modules whose antenna is not at the edge of the board, or has another part near it."""
    from shapely import Polygon

    board = outline_shape(wired.design)
    placed = [r for r in wired.design.board.placements if r in wired.design.parts]
    for ref in placed:
        zone, side = antenna_zone(wired, ref), outer_side(wired, ref)
        if zone is None or side is None:
            continue
        at = (Point(round(side.x * 1e6), round(side.y * 1e6)),)
        inside = _board_ahead(board, side)
        if inside > MOUTH_MM:
            yield ANTENNA.found(
                of_part(ref),
                f"The antenna of {ref} has {inside:.1f} mm of board in front of it",
                f"It should stand at the edge, at most {MOUTH_MM:g} mm back, or over it. Move it there.",
                at=at,
                value=inside,
                limit=MOUTH_MM,
                unit="mm",
            )
        near = Polygon([(x / 1e6, y / 1e6) for x, y in zone.outline]).buffer(ANTENNA_FREE_MM)
        for other in placed:
            if other != ref and wired.kind(other).assembled and body_shape(wired, other).intersects(near):
                gap = body_shape(wired, other).distance(near.buffer(-ANTENNA_FREE_MM))
                yield ANTENNA.found(
                    Subject(refs=(ref, other)),
                    f"{other} stands {gap:.1f} mm from the antenna of {ref}",
                    f"Keep {ANTENNA_FREE_MM:g} mm free of metal round it. Move one of them.",
                    at=at,
                    value=gap,
                    limit=ANTENNA_FREE_MM,
                    unit="mm",
                )


def _board_ahead(board: Any, mouth: Mouth) -> float:
    """Return how much board lies in front of a mouth along the way it looks, mm."""
    from shapely.geometry import LineString

    far = 1000.0
    ray = LineString(
        [(mouth.x, mouth.y), (mouth.x + far * math.cos(mouth.angle), mouth.y + far * math.sin(mouth.angle))]
    )
    return float(ray.intersection(board).length)
