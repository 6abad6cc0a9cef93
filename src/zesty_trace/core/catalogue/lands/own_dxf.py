"""A package of the user's own from a drawing."""

from __future__ import annotations

from typing import Any

import msgspec

from zesty_trace.core.catalogue.kind import PackageSpec, PadRow
from zesty_trace.core.catalogue.lands.check import check_package
from zesty_trace.core.catalogue.lands.own import body_of
from zesty_trace.core.dxf import open_dxf
from zesty_trace.errors import InputError, own_words

CHORD_MM = 0.005


class _Drawing:
    """The closed lines, circles and texts of a drawing, mm, and the box of what is on its layer BODY."""

    def __init__(self, text: str, name: str) -> None:
        from ezdxf import path
        from shapely import Point, Polygon

        self.shapes: list[Any] = []
        self.circles: list[tuple[float, float, float, str]] = []
        self.texts: list[tuple[str, Any]] = []
        self.body: tuple[float, float, float, float] | None = None
        drawing, scale = open_dxf(text, name)
        for entity in drawing.modelspace():
            sort, layer = entity.dxftype(), entity.dxf.layer.upper()
            if sort == "CIRCLE":
                c = entity.dxf.center
                self.circles.append((c.x * scale, c.y * scale, 2 * entity.dxf.radius * scale, layer))
            elif sort in ("TEXT", "MTEXT"):
                at = entity.dxf.insert
                said = entity.dxf.text if sort == "TEXT" else entity.text
                self.texts.append((str(said).strip(), Point(at.x * scale, at.y * scale)))
            else:
                try:
                    curve = path.make_path(entity)
                except TypeError:
                    continue  # points, dimensions: no line
                self._line([(v.x * scale, v.y * scale) for v in curve.flattening(CHORD_MM / scale)], layer, Polygon)

    def _line(self, points: list[tuple[float, float]], layer: str, polygon: Any) -> None:
        if len(points) < 4:
            return
        shape = polygon(points)
        if layer == "BODY":
            self.body = shape.bounds
        elif shape.is_valid and shape.area > 0.001:
            self.shapes.append(shape)


@own_words("drawing")
def spec_from_dxf(name: str, text: str, height: float) -> PackageSpec:
    """Return a package from a drawing: closed lines are pads, a circle inside one its hole, a text in it its number.

    A circle with nothing round it is a round pad, or a bare hole on a layer called HOLES. Pads without a text are
    numbered down the left and up the right. InputError where it is no drawing, or has no pads.
    """
    drawing = _Drawing(text, name)
    from shapely import Point

    shapes, circles, texts, body = drawing.shapes, drawing.circles, drawing.texts, drawing.body
    rows = [_pad_of(shape, circles, texts) for shape in shapes]
    for x, y, size, layer in circles:
        spot = Point(x, y)
        if not any(s.contains(spot) for s in shapes):
            bare = layer == "HOLES"
            rows.append(
                PadRow(
                    "" if bare else _text_in(spot.buffer(size / 2), texts),
                    x,
                    y,
                    size,
                    size,
                    "round",
                    size if bare else 0.0,
                    0.0,
                    not bare,
                )
            )
    if not rows:
        raise InputError("The drawing has no closed line or circle", name, "Draw each pad as a closed line")
    rows = _numbered(rows)
    around = body_of(rows, (body[2] - body[0], body[3] - body[1]) if body else (0.0, 0.0))
    if body:
        around["body_shift"] = ((body[0] + body[2]) / 2, (body[1] + body[3]) / 2)
    spec = PackageSpec(id=name, family="table", height=height, pads=tuple(rows), **around)
    check_package(spec, name)
    return spec


def _pad_of(shape: Any, circles: list[Any], texts: list[Any]) -> PadRow:
    from shapely import Point

    x0, y0, x1, y1 = shape.bounds
    wide, high = x1 - x0, y1 - y0
    full = shape.area / (wide * high)
    kind: Any = "rect" if full > 0.97 else ("round" if abs(wide - high) < 0.01 else "oblong")
    drills = [c for c in circles if shape.contains(Point(c[0], c[1]))]
    drill = round(drills[0][2], 4) if drills else 0.0
    x, y = round((x0 + x1) / 2, 4), round((y0 + y1) / 2, 4)
    return PadRow(_text_in(shape, texts), x, y, round(wide, 4), round(high, 4), kind, drill)


def _text_in(shape: Any, texts: list[Any]) -> str:
    return next((said for said, at in texts if shape.buffer(0.01).contains(at) and said), "?")


def _numbered(rows: list[PadRow]) -> list[PadRow]:
    """Give pads without a text the numbers that are left: down the left, up the right."""
    open_ones = [r for r in rows if r.number == "?"]
    used = {r.number for r in rows}
    middle = sum(r.x for r in open_ones) / len(open_ones) if open_ones else 0.0
    spread = max((abs(r.x - middle) for r in open_ones), default=0.0)
    left = sorted((r for r in open_ones if r.x < middle or spread < 0.05), key=lambda r: -r.y)
    right = sorted((r for r in open_ones if r not in left), key=lambda r: r.y)
    free = (str(k) for k in range(1, 10_000) if str(k) not in used)
    names = {id(r): next(free) for r in (*left, *right)}
    return [msgspec.structs.replace(r, number=names[id(r)]) if id(r) in names else r for r in rows]
