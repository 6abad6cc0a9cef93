"""The bare board as it will be made: mask in its colour, tinned openings, silk, holes, and its size with arrows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from zesty_trace.core.board.copper import board_pads, hole_items, hole_shape, pad_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import PEN_MM, silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Face
from zesty_trace.core.geometry import box_of
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
    return MadeLook(face, wired.design.build.colour, copper, openings, holes, lines)


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
    flat_text(p, (edge.x0 + edge.x1) / 2, below - 1.6, _size(edge.width), 1.9, "ink")
    p.save()
    p.translate(left - 1.6, (edge.y0 + edge.y1) / 2)
    p.rotate(90)
    flat_text(p, 0, 0, _size(edge.height), 1.9, "ink")
    p.restore()


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
    room = OUTSIDE_MM + 4
    return QRectF(edge.x0 - room, edge.y0 - room, edge.width + room + 2, edge.height + room + 2)
