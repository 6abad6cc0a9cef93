"""How parts fit: each other's room, the edge, the object, the case, one face."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import partial
from typing import Any

from zesty_trace.core.board.copper import courtyard_shape, height_nm, outline_shape, pattern_of, seat_nm
from zesty_trace.core.board.faces import faces_of, second_heating
from zesty_trace.core.board.object import misfits
from zesty_trace.core.board.outline import rounded_rectangle
from zesty_trace.core.board.rules.holes import RULES_SOURCE
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

OVERLAP = rule(
    "overlap",
    Severity.FIX,
    "Parts that touch cannot be placed, soldered or reworked.",
    "courtyard excess of IPC-7351, nominal level",
    limits="no shared courtyard",
    station="layout",
)
OUTSIDE = rule(
    "outside",
    Severity.FIX,
    "It will not fit the case, or break off.",
    RULES_SOURCE,
    limits="the outline",
    station="layout",
)
TEMPLATE = rule(
    "template",
    Severity.FIX,
    "The holes in the case are already there.",
    "template of the brief",
    limits="0.05 mm and 0.1°, or the tolerance of the hole",
    station="layout",
)
SIZE = rule(
    "size",
    Severity.FIX,
    "The case was made, or bought, for one size.",
    "size in the brief",
    limits="the size in the brief",
    station="layout",
)
HEIGHT = rule(
    "height",
    Severity.FIX,
    "The lid will not close.",
    "case depth of the brief less the board",
    limits="the room in the case",
    station="layout",
)
SIDES = rule(
    "sides",
    Severity.FIX,
    "Two sides mean two stencils and two heatings.",
    "common practice",
    limits="surface-mount parts on one side",
    station="layout",
)


def check_room(wired: Wired, only: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield parts (or of those of `only`) that stand on each other's room, or over the edge."""
    design = wired.design
    refs = [r for r in design.board.placements if r in design.parts]
    shapes = {r: courtyard_shape(wired, r) for r in refs}
    outline = outline_shape(design)
    for a, b in _overlapping(shapes, only):
        overlap = shapes[a].intersection(shapes[b]).area
        same = design.board.placements[a].side == design.board.placements[b].side
        through = any(p.drill_nm for r in (a, b) for p in pattern_of(wired, r).pads)
        if overlap > 0.02 and (same or through) and not _below(wired, a, b) and not _below(wired, b, a):
            at = shapes[a].intersection(shapes[b]).representative_point()
            yield OVERLAP.found(
                Subject(refs=(a, b)),
                f"{a} and {b} stand on each other's room",
                f"Their courtyards share {overlap:.1f} mm². Move one.",
                at=(Point(round(at.x * 1e6), round(at.y * 1e6)),),
                value=overlap,
                limit=0.0,
                unit="mm²",
            )
    for ref in refs if only is None else [r for r in refs if r in only]:
        kind = wired.kind(ref)
        over = kind.connector or wired.package(ref).looks
        if kind.assembled and not over and not outline.covers(shapes[ref].buffer(-0.3)):
            yield OUTSIDE.found(
                of_part(ref),
                f"{ref} reaches over the board's edge",
                "Move it inwards.",
                at=(Point(design.board.placements[ref].x_nm, design.board.placements[ref].y_nm),),
            )


def _below(wired: Wired, ref: str, other: str) -> bool:
    """Whether a part stands on headers, and another is one of them or low enough to lie below it."""
    if ref not in wired.standing:
        return False
    same = wired.design.board.placements[ref].side == wired.design.board.placements[other].side
    return not same or other in wired.standing[ref] or height_nm(wired, other) <= seat_nm(wired, ref)


def _overlapping(shapes: dict[str, Any], only: Collection[str] | None) -> Iterator[tuple[str, str]]:
    from shapely import STRtree

    refs = list(shapes)
    asked = [k for k, r in enumerate(refs) if only is None or r in only]
    if not asked:
        return
    boxes = list(shapes.values())
    found = STRtree(boxes).query([boxes[k] for k in asked], predicate="intersects")
    pairs = {(min(asked[a], b), max(asked[a], b)) for a, b in found.T.tolist() if asked[a] != b}
    yield from ((refs[a], refs[b]) for a, b in sorted(pairs))


def check_template(design: Design, only: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield parts (or of those of `only`) that miss their place in the object; the board if it has not its size."""
    holes = {h.ref: h for h in design.brief.template}
    for off in misfits(design):
        if off.fits or (only is not None and off.ref not in only):
            continue
        hole, spot = holes[off.ref], design.board.placements[off.ref]
        wanted = Placement(x_nm=hole.x_nm, y_nm=hole.y_nm, angle_mdeg=hole.angle_mdeg, side=spot.side, fixed=True)
        turned = f", turned by {off.turn_deg:g}°" if abs(off.turn_deg) > off.turn_tolerance_deg else ""
        yield TEMPLATE.found(
            of_part(off.ref),
            f"{off.ref} sits {off.off_mm:.2f} mm off its hole in the case{turned}",
            f"dx {off.dx_mm:+.2f} mm, dy {off.dy_mm:+.2f} mm, turn {off.turn_deg:+g}°; {off.tolerance_mm:g} mm and "
            f"{off.turn_tolerance_deg:g}° are tolerated. The hole is at {mm(hole.x_nm):.2f}, {mm(hole.y_nm):.2f} mm, "
            f"turned {hole.angle_mdeg / 1000:g}°.",
            at=(Point(spot.x_nm, spot.y_nm),),
            value=off.off_mm,
            limit=off.tolerance_mm,
            unit="mm",
            mend=Mend(f"Move {off.ref} back", partial(edits.place, ref=off.ref, placement=wanted)),
        )
    if only is None:
        yield from _size(design)


def _size(design: Design) -> Iterator[Finding]:
    xs, ys = zip(*design.board.outline, strict=True)
    width, height = max(xs) - min(xs), max(ys) - min(ys)
    wanted = (design.brief.case_width_nm, design.brief.case_height_nm)
    if (width, height) != wanted:
        yield SIZE.found(
            Subject(),
            f"The board is {mm(width):.1f} × {mm(height):.1f} mm, the brief says {mm(wanted[0]):.1f} × "
            f"{mm(wanted[1]):.1f} mm",
            "Use the size of the brief, or change the brief.",
            value=mm(width),
            limit=mm(wanted[0]),
            unit="mm",
            mend=Mend("Use the brief's size", partial(edits.set_outline, points=rounded_rectangle(*wanted))),
        )


def check_heights(wired: Wired, only: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield parts (or of those of `only`) that are too tall for the case."""
    design = wired.design
    room = design.brief.case_depth_nm - design.board.rules.thickness_nm
    for ref in design.board.placements if only is None else only:
        height = height_nm(wired, ref) if ref in design.parts else 0
        if height > room:
            raised = seat_nm(wired, ref)
            how = f", {mm(raised):.1f} mm of it its socket," if raised else ""
            yield HEIGHT.found(
                of_part(ref),
                f"{ref} is {mm(height):.1f} mm tall{how} the case has {mm(room):.1f} mm".replace(
                    "tall the", "tall, the"
                ),
                "Lay it down, choose a lower part, leave its socket out, or take a deeper case.",
                value=mm(height),
                limit=mm(room),
                unit="mm",
            )


def check_sides(wired: Wired) -> Iterator[Finding]:
    """Yield how many faces have surface-mount parts."""
    faces = faces_of(wired)
    if faces.on_first and not faces.both:
        yield SIDES.found(
            Subject(),
            f"All surface-mount parts are on the {faces.first}",
            "One stencil and one heating will do.",
            severity=Severity.NOTE,
        )
    elif faces.both:
        yield SIDES.found(
            Subject(),
            f"Surface-mount parts are on both sides, {len(faces.on_second)} on the {faces.second}",
            " ".join((*second_heating(faces), "See what one face would take (“One face”, or zt faces).")),
            refs=faces.on_second,
            value=float(len(faces.on_second)),
            limit=0.0,
            unit="parts",
        )
