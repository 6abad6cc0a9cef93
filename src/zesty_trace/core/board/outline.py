"""Outlines from numbers, and from drawings: rectangle, circle, ring, regular polygon, DXF, SVG paths.

Curves become chords that leave the true curve by at most 5 um.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from io import StringIO
from typing import Any

from msgspec.structs import replace

from zesty_trace.core.board.values import wrong_outline
from zesty_trace.core.design.model import Design, Form, Outline
from zesty_trace.core.dxf import open_dxf
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, nm
from zesty_trace.errors import EditError, InputError, own_words

SAGITTA_NM = 5_000
SVG_STEPS = 64  # of one curve of a path
JOIN_MM = 0.01  # ends of a drawing's lines that are so near are one point


def outline_of(form: Form) -> tuple[Outline, tuple[Outline, ...]]:
    """Return the outline and the cut-outs of a form, its lower left corner at the origin. EditError if it cannot be."""
    if form.width_nm <= 0 or (form.shape == "rectangle" and form.height_nm <= 0):
        raise EditError("The outline has no size", "outline", "Give it a width above zero")
    wide = form.width_nm
    if form.shape == "rectangle":
        return rounded_rectangle(wide, form.height_nm, form.corner_nm), ()
    centre = Point(wide // 2, wide // 2)
    if form.shape == "polygon":
        if form.sides < 3:
            raise EditError(f"A polygon has no {form.sides} sides", "sides", "Give it three or more")
        turn = math.pi / 2 if form.sides % 2 else math.pi / 2 - math.pi / form.sides
        return _shifted(_circle(centre, wide / 2, form.sides, turn)), ()
    ring = _circle(centre, wide / 2, _steps(wide / 2))
    if form.shape == "circle":
        return ring, ()
    if not 0 < form.inside_nm < wide:
        raise EditError(
            f"A ring of {mm(wide):g} mm has no middle of {mm(form.inside_nm):g} mm", "inside", "Make the middle smaller"
        )
    return ring, (_circle(centre, form.inside_nm / 2, _steps(form.inside_nm / 2)),)


def rounded_rectangle(width_nm: int, height_nm: int, corner_nm: int = 3_000_000) -> Outline:
    """Return a rectangle with rounded corners, counter-clockwise, its lower left corner at the origin."""
    corner = max(0, min(corner_nm, width_nm // 2, height_nm // 2))
    centres = (
        (width_nm - corner, corner, -90),
        (width_nm - corner, height_nm - corner, 0),
        (corner, height_nm - corner, 90),
        (corner, corner, 180),
    )
    points = []
    for cx, cy, start in centres:
        for k in range(9):
            a = math.radians(start + 90 * k / 8)
            points.append(Point(round(cx + corner * math.cos(a)), round(cy + corner * math.sin(a))))
    return tuple(dict.fromkeys(points))


def rectangle_ring(x_nm: int, y_nm: int, width_nm: int, height_nm: int, corner_nm: int = 0) -> Outline:
    """Return a rectangle about (x, y), its corners rounded; empty if it has no size."""
    if width_nm <= 0 or height_nm <= 0:
        return ()
    return tuple(
        Point(x + x_nm - width_nm // 2, y + y_nm - height_nm // 2)
        for x, y in rounded_rectangle(width_nm, height_nm, corner_nm)
    )


def circle_ring(x_nm: int, y_nm: int, diameter_nm: int) -> Outline:
    """Return a circle about (x, y); empty if it has no size."""
    if diameter_nm <= 0:
        return ()
    return _circle(Point(x_nm, y_nm), diameter_nm / 2, _steps(diameter_nm / 2))


def slot_ring(x0_nm: int, y0_nm: int, x1_nm: int, y1_nm: int, width_nm: int) -> Outline:
    """Return a slot with round ends from one middle to another; empty if it has no width."""
    if width_nm <= 0:
        return ()
    turn = math.atan2(y1_nm - y0_nm, x1_nm - x0_nm)
    half, count = width_nm / 2, _steps(width_nm / 2) // 2
    ends = ((x1_nm, y1_nm, turn - math.pi / 2), (x0_nm, y0_nm, turn + math.pi / 2))
    return tuple(
        Point(
            round(x + half * math.cos(start + math.pi * k / count)),
            round(y + half * math.sin(start + math.pi * k / count)),
        )
        for x, y, start in ends
        for k in range(count + 1)
    )


def _steps(radius_nm: float) -> int:
    """Return how many chords of a circle keep to the sagitta."""
    share = min(1.0, SAGITTA_NM / max(radius_nm, 1.0))
    return max(24, 4 * math.ceil(math.pi / math.acos(1 - share) / 4))


def _circle(centre: Point, radius_nm: float, count: int, turn: float = 0.0) -> Outline:
    around = (turn + 2 * math.pi * k / count for k in range(count))
    return tuple(
        Point(round(centre.x_nm + radius_nm * math.cos(a)), round(centre.y_nm + radius_nm * math.sin(a)))
        for a in around
    )


def _shifted(outline: Outline) -> Outline:
    x0, y0 = min(p[0] for p in outline), min(p[1] for p in outline)
    return tuple(Point(x - x0, y - y0) for x, y in outline)


def set_form(design: Design, form: Form) -> Design:
    """Give the board an outline from numbers; cut-outs that lie inside it stay. EditError if it cannot be."""
    from shapely import Polygon

    outline, cutouts = outline_of(form)
    room = Polygon(outline)
    taken = [Polygon(c) for c in cutouts]
    old = (Polygon(c) for c in own_cutouts(design))
    kept = [
        ring
        for ring, shape in zip(own_cutouts(design), old, strict=True)
        if room.contains(shape) and not any(shape.intersects(t) for t in taken)
    ]
    board = replace(design.board, outline=outline, cutouts=(*cutouts, *kept), form=form)
    return replace(design, board=board)


def own_cutouts(design: Design) -> tuple[Outline, ...]:
    """Return the cut-outs that are not the middle of a ring."""
    board = design.board
    return board.cutouts[1:] if board.form and board.form.shape == "ring" else board.cutouts


def set_rings(design: Design, rings: Sequence[Outline]) -> Design:
    """Give the board a free outline: the largest ring, and the rings inside it as cut-outs. EditError."""
    from shapely import Polygon

    for one in rings:
        for wrong in wrong_outline(one, "outline"):
            raise EditError(wrong.text, wrong.where, wrong.hint)
    if not rings:
        raise EditError("There is no closed line to make an outline of", "outline", "Close the line round the board")
    shapes = sorted((Polygon(r) for r in rings), key=lambda s: -s.area)
    outer, inner = shapes[0], shapes[1:]
    outside = [s for s in inner if not outer.contains(s)]
    if outside:
        raise EditError(
            f"{len(outside)} closed lines lie outside the largest one", "outline", "Draw one board, and holes inside it"
        )
    x0, y0 = (int(v) for v in outer.bounds[:2])

    def ring(shape: Any) -> Outline:
        points = list(shape.exterior.coords)[:-1]
        if not shape.exterior.is_ccw:
            points.reverse()
        return tuple(Point(round(x) - x0, round(y) - y0) for x, y in points)

    board = replace(design.board, outline=ring(outer), cutouts=tuple(ring(s) for s in inner), form=None)
    return replace(design, board=board)


@own_words("drawing")
def rings_from_dxf(text: str, where: str = "outline.dxf") -> list[Outline]:
    """Return the closed lines of a DXF drawing in its unit (mm if it states none). InputError.

    Of a drawing with a layer OUTLINE only that one is read, else all layers.
    """
    from ezdxf import path
    from shapely import LineString, unary_union
    from shapely.ops import polygonize

    drawing, scale = open_dxf(text, where)
    lines = []
    entities = list(drawing.modelspace())
    named = [e for e in entities if e.dxf.layer.upper() == "OUTLINE"]
    for entity in named or entities:
        try:
            curve = path.make_path(entity)
        except TypeError:
            continue  # texts, points, dimensions: no line
        points = [(v.x * scale, v.y * scale) for v in curve.flattening(SAGITTA_NM / 1e6 / scale)]
        snapped = [(round(x / JOIN_MM) * JOIN_MM, round(y / JOIN_MM) * JOIN_MM) for x, y in points]
        ends = [snapped[0], *points[1:-1], snapped[-1]]
        if len(ends) > 1:
            lines.append(LineString(ends))
    if not lines:
        raise InputError("The drawing has no lines", where, "Draw the outline with lines, arcs or polylines")
    return _rings(list(polygonize(unary_union(lines))), where)


@own_words("drawing")
def rings_from_svg(text: str, where: str = "outline.svg") -> list[Outline]:
    """Return the closed lines of an SVG drawing, in mm by its size and view box (96 px an inch). InputError."""
    from shapely import LineString, unary_union
    from shapely.ops import polygonize
    from svgelements import SVG, Close, Line, Move, Path, Shape, Text

    try:
        drawing = SVG.parse(StringIO(text), ppi=25.4, reify=True)
    except (ValueError, KeyError, TypeError, AttributeError, SyntaxError) as error:
        raise InputError(f"It is no SVG drawing: {error}", where, "Export it again as SVG") from error
    lines = []
    for element in drawing.elements():
        if not isinstance(element, Shape) or isinstance(element, Text):
            continue
        points: list[tuple[float, float]] = []
        for segment in Path(element):
            if isinstance(segment, Move):
                lines.append(points)
                points = []
            if isinstance(segment, Move | Line | Close):
                ends = [segment.end] if segment.end is not None else []
            else:
                ends = [segment.point((k + 1) / SVG_STEPS) for k in range(SVG_STEPS)]
            points += [(p.x, -p.y) for p in ends]
        lines.append(points)
    snapped = [[(round(x / JOIN_MM) * JOIN_MM, round(y / JOIN_MM) * JOIN_MM) for x, y in line] for line in lines]
    curves = [LineString(line) for line in snapped if len(set(line)) > 1]
    if not curves:
        raise InputError("The drawing has no lines", where, "Draw the outline as a path, a rectangle or a circle")
    return _rings(list(polygonize(unary_union(curves))), where)


def _rings(pieces: list[Any], where: str) -> list[Outline]:
    """Return the boundary of each closed piece."""
    found = [tuple(Point(nm(x), nm(y)) for x, y in list(piece.exterior.coords)[:-1]) for piece in pieces]
    if not found:
        raise InputError("No line of the drawing closes", where, "Close the line round the board")
    return found


def dxf_of(design: Design) -> str:
    """Return the outline, its cut-outs and holes for the template as a DXF drawing in mm."""
    import ezdxf
    from ezdxf import units

    drawing = ezdxf.new("R2010", units=units.MM)  # type: ignore[attr-defined]
    space = drawing.modelspace()
    for ring in (design.board.outline, *design.board.cutouts):
        if ring:
            space.add_lwpolyline([(mm(x), mm(y)) for x, y in ring], close=True, dxfattribs={"layer": "OUTLINE"})
    for hole in design.brief.template:
        space.add_point((mm(hole.x_nm), mm(hole.y_nm)), dxfattribs={"layer": "TEMPLATE"})
    out = StringIO()
    drawing.write(out)
    return out.getvalue()
