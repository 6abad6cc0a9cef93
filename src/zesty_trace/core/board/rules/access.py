"""What tools and hands reach: the cutter at the edge, the plug that is pushed on from above."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.copper import body_shape, height_nm, outline_shape, pattern_of
from zesty_trace.core.board.rules.mouths import mouth_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

EDGE_PART_MM = 1.0
PLUG_MM = 1.0
TALLER_MM = 2.0

EDGE_PART = rule(
    "part at the edge",
    Severity.NOTE,
    "Breaking or cutting boards apart bends their edges: chips there crack, and a crack is seen only later.",
    "common practice",
    limits=f"surface parts {EDGE_PART_MM:g} mm from the edge, but for what belongs there",
    station="layout",
)
PLUG = rule(
    "no room for a plug",
    Severity.NOTE,
    "A plug is wider than its header: what stands taller beside it keeps it from going on.",
    "common practice",
    limits=f"nothing {TALLER_MM:g} mm taller within {PLUG_MM:g} mm of a header that is plugged from above",
    station="layout",
)


def check_access(wired: Wired) -> Iterator[Finding]:
    """Yield surface parts at the edge, and headers that a plug does not go on."""
    yield from _at_the_edge(wired)
    yield from _plugs(wired)


def _at_the_edge(wired: Wired) -> Iterator[Finding]:
    from shapely import distance

    edge = outline_shape(wired.design).boundary
    placements = wired.design.board.placements
    refs = [
        r
        for r in placements
        if r in wired.design.parts
        and wired.kind(r).assembled
        and not wired.kind(r).connector
        and not wired.package(r).looks
        and pattern_of(wired, r).surface_mount
    ]
    gaps = distance(edge, [body_shape(wired, r) for r in refs]) if refs else ()
    near = {r: float(gap) for r, gap in zip(refs, gaps, strict=True) if gap < EDGE_PART_MM - 1e-6}
    if near:
        first = min(near, key=lambda r: near[r])
        yield EDGE_PART.found(
            Subject(),
            f"{len(near)} surface parts stand at the edge, {first} {near[first]:.1f} mm from it",
            f"{', '.join(sorted(near)[:9])}: keep {EDGE_PART_MM:g} mm, or saw the boards apart instead of breaking them.",
            refs=tuple(sorted(near)),
            at=tuple(Point(placements[r].x_nm, placements[r].y_nm) for r in sorted(near)[:20]),
            value=near[first],
            limit=EDGE_PART_MM,
            unit="mm",
        )


def _plugs(wired: Wired) -> Iterator[Finding]:
    placements = wired.design.board.placements
    bodies = {r: body_shape(wired, r) for r in placements if r in wired.design.parts and wired.kind(r).assembled}
    for ref, body in bodies.items():
        if not wired.kind(ref).connector or mouth_of(wired, ref) is not None:
            continue
        room, own = body.buffer(PLUG_MM), height_nm(wired, ref)
        for other, shape in bodies.items():
            same = placements[other].side == placements[ref].side
            taller = mm(height_nm(wired, other) - own)
            if (
                other == ref
                or not same
                or taller <= TALLER_MM
                or wired.kind(other).connector
                or not shape.intersects(room)
            ):
                continue
            yield PLUG.found(
                Subject(refs=(ref, other)),
                f"{other} stands {shape.distance(body):.1f} mm beside {ref}, and {taller:.1f} mm taller",
                f"A plug on {ref} needs {PLUG_MM:g} mm beside it. Move one of them, or plug in before {other} is on.",
                at=(Point(placements[ref].x_nm, placements[ref].y_nm),),
                value=float(shape.distance(body)),
                limit=PLUG_MM,
                unit="mm",
            )
