"""The bare board as it will be made: mask in its colour, tinned openings, silk, holes, and its size with arrows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from zesty_trace.core.board.copper import board_pads, hole_items, hole_shape, pad_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import PEN_MM, silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Face
from zesty_trace.core.geometry import Box, box_of
from zesty_trace.core.quantities import NM_PER_MIL, mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import flat_text, shape_path

# Mask, copper below it, silk: by the colour of the order.
MASKS = {
    "green": ("#2e6b45", "#3d8259", "#f4f2e8"),
    "blue": ("#27507f", "#356599", "#f4f2e8"),
    "black": ("#2b2b2b", "#3d3d3d", "#f4f2e8"),
    "white": ("#eceadf", "#dcd8c8", "#2b2b2b"),
    "red": ("#97322b", "#ad4a41", "#f4f2e8"),
}
TIN, LAMINATE = "#c9c2ac", "#b7a76f"
OUTSIDE_MM = 5.0  # of the board's edge: the lines that tell its size
ARROW_MM = 1.6


@dataclass(frozen=True)
class MadeLook:
    """One face as it will be made: paths in mm."""

    face: Face
    colour: str
    copper: QPainterPath
    openings: QPainterPath
    holes: QPainterPath
    silk: tuple[tuple[tuple[float, float], ...], ...]
    bare_holes: tuple[tuple[float, float], ...]


def made_look(wired: Wired, face: Face) -> MadeLook:
    """Work out how a face will look; for a worker's thread."""
    board = wired.design.board
    copper = QPainterPath()
    copper.setFillRule(Qt.FillRule.WindingFill)
    for _, area in pour_shapes(wired, face):
        copper.addPath(shape_path(area))
    for track in board.tracks:
        if track.layer == face:
            copper.addPath(shape_path(_line(track.points, mm(track.width_nm))))
    margin = mm(board.rules.mask_margin_nm)
    openings = QPainterPath()
    openings.setFillRule(Qt.FillRule.WindingFill)
    for pad in board_pads(wired):
        if face in pad.layers or pad.drill_nm:
            openings.addPath(shape_path(pad_shape(pad, margin)))
    holes = QPainterPath()
    for hole in hole_items(wired):
        holes.addPath(shape_path(hole_shape(hole)))
    lines = tuple(tuple((float(x), float(y)) for x, y in line) for line in silk_screen(wired, face).lines)
    bare = tuple((mm(h.x_nm), mm(h.y_nm)) for h in hole_items(wired) if not h.plated and not h.slot)
    return MadeLook(face, wired.design.build.colour, copper, openings, holes, lines, bare)


def _line(points: Any, width: float) -> Any:
    from shapely import LineString

    return LineString([(mm(x), mm(y)) for x, y in points]).buffer(width / 2)


def draw_made(p: QPainter, design: Design, look: MadeLook) -> None:
    """Draw a face as it will be made."""
    mask, copper, silk = (QColor(c) for c in MASKS.get(look.colour, MASKS["green"]))
    board = QPainterPath()
    for ring in (design.board.outline, *design.board.cutouts):
        board.addPolygon(QPolygonF([QPointF(mm(x), mm(y)) for x, y in ring]))
        board.closeSubpath()
    p.setPen(QPen(QColor(LAMINATE), 0.3))
    p.setBrush(mask)
    p.drawPath(board)
    p.setPen(Qt.PenStyle.NoPen)
    for path, colour in ((look.copper, copper), (look.openings, QColor(TIN))):
        p.setBrush(colour)
        p.drawPath(path)
    p.setBrush(theme.current().color("sheet"))
    p.drawPath(look.holes)
    pen = QPen(silk, PEN_MM)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    p.setPen(pen)
    for line in look.silk:
        p.drawPolyline([QPointF(x, y) for x, y in line])


def draw_size(p: QPainter, design: Design) -> None:
    """Draw the width and the height of the board outside its edge."""
    if not design.board.outline:
        return
    t = theme.current()
    edge = box_of((mm(x), mm(y)) for x, y in design.board.outline)
    size = lettering_mm(edge)
    pen = QPen(t.color("muted"), 0.15)
    p.setPen(pen)
    below, left = edge.y0 - OUTSIDE_MM, edge.x0 - OUTSIDE_MM
    for a, b in (((edge.x0, below), (edge.x1, below)), ((left, edge.y0), (left, edge.y1))):
        p.drawLine(QLineF(*a, *b))
        _arrows(p, QPointF(*a), QPointF(*b))
    for x in (edge.x0, edge.x1):
        p.drawLine(QLineF(x, edge.y0 - 0.8, x, below - 1))
    for y in (edge.y0, edge.y1):
        p.drawLine(QLineF(edge.x0 - 0.8, y, left - 1, y))
    flat_text(p, (edge.x0 + edge.x1) / 2, below - size, _size(edge.width), size, "ink")
    p.save()
    p.translate(left - size, (edge.y0 + edge.y1) / 2)
    p.rotate(90)
    flat_text(p, 0, 0, _size(edge.height), size, "ink")
    p.restore()


def draw_holes_from_corner(p: QPainter, design: Design, holes: Sequence[tuple[float, float]]) -> None:
    """Draw how far screw holes are from the lower left corner of the board, above it and to its right."""
    if not design.board.outline:
        return
    t = theme.current()
    edge = box_of((mm(x), mm(y)) for x, y in design.board.outline)
    p.setPen(QPen(t.color("muted", 150), 0.1, Qt.PenStyle.DashLine))
    size = lettering_mm(edge)
    xs, ys = (spaced([h[k] for h in holes], 1.2 * size) for k in (0, 1))
    top, right = edge.y1 + OUTSIDE_MM / 2, edge.x1 + OUTSIDE_MM / 2
    for x, at in xs:
        p.drawPolyline([QPointF(x, edge.y1), QPointF(x, edge.y1 + 0.6), QPointF(at, top)])
    for y, at in ys:
        p.drawPolyline([QPointF(edge.x1, y), QPointF(edge.x1 + 0.6, y), QPointF(right, at)])
    for x, at in xs:
        p.save()
        p.translate(at, top + 1.9 * size)
        p.rotate(90)
        flat_text(p, 0, 0, f"{x - edge.x0:.2f}", size, "ink")
        p.restore()
    for y, at in ys:
        flat_text(p, right + 1.9 * size, at, f"{y - edge.y0:.2f}", size, "ink")


def lettering_mm(edge: Box) -> float:
    """Return how high the words beside a board are, mm: larger for a larger one, which is shown smaller."""
    return max(1.6, 0.034 * max(edge.width, edge.height))


def spaced(values: Sequence[float], room: float) -> list[tuple[float, float]]:
    """Return each value once, in order, with the place of its words, no two nearer to each other than `room`.

    >>> spaced([5.0, 1.0, 1.5, 5.0], 1.0)
    [(1.0, 1.0), (1.5, 2.0), (5.0, 5.0)]
    """
    found: list[tuple[float, float]] = []
    for value in sorted({round(v, 3) for v in values}):
        found.append((value, max(value, found[-1][1] + room) if found else value))
    return found


def _size(value_mm: float) -> str:
    return f"{value_mm:.2f} mm ({value_mm * 1e6 / NM_PER_MIL:.0f} mil)"


def _arrows(p: QPainter, a: QPointF, b: QPointF) -> None:
    for end, other in ((a, b), (b, a)):
        line = QLineF(end, other)
        line.setLength(ARROW_MM)
        for turn in (18.0, -18.0):
            wing = QLineF(line)
            wing.setAngle(line.angle() + turn)
            p.drawLine(wing)


def made_rect(design: Design) -> QRectF:
    """Return the room that the board takes with the lines of its size, mm."""
    edge = box_of((mm(x), mm(y)) for x, y in design.board.outline)
    room = OUTSIDE_MM + 2.4 * lettering_mm(edge)
    return QRectF(edge.x0 - room, edge.y0 - room, edge.width + 2 * room, edge.height + 2 * room)
