"""The board at 1:1 on paper, to lay on the object: outline, holes, lands, parts, the template, and a scale bar."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QMarginsF, QPointF, QRectF, Qt
from PySide6.QtGui import QPageLayout, QPageSize, QPainter, QPdfWriter, QPen, QPolygonF

from zesty_trace.core.board.copper import board_pads, hole_items, hole_shape
from zesty_trace.core.board.elevation import elevation
from zesty_trace.core.board.object import misfits
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.quantities import mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import Lettering, draw_text
from zesty_trace.desktop.layout.painter import BoardPainter, BoardView, outline_rect, pad_path, shape_path
from zesty_trace.desktop.layout.side import paint_side
from zesty_trace.desktop.schematic.paper import on_paper
from zesty_trace.errors import InputError, StoreError

PAPERS = (QPageSize.PageSizeId.A4, QPageSize.PageSizeId.A3)
MARGIN_MM, HEAD_MM, FOOT_MM = 8.0, 14.0, 24.0
BAR_MM = 50.0
CROSS_MM = 3.0


def page_for(wired: Wired) -> tuple[QPageSize.PageSizeId, QPageLayout.Orientation]:
    """Return the smallest paper on which the board goes at 1:1. InputError without an outline, or for one too large."""
    if not wired.design.board.outline:
        raise InputError("The board has no outline yet", "print", "Set its outline first")
    room = outline_rect(wired.design)
    for paper in PAPERS:
        size = QPageSize(paper).size(QPageSize.Unit.Millimeter)
        for way in (QPageLayout.Orientation.Portrait, QPageLayout.Orientation.Landscape):
            wide, tall = size.width(), size.height()
            if way == QPageLayout.Orientation.Landscape:
                wide, tall = tall, wide
            if room.width() <= wide - 2 * MARGIN_MM and room.height() <= tall - 2 * MARGIN_MM - HEAD_MM - FOOT_MM:
                return paper, way
    words = f"The board of {room.width():.0f} × {room.height():.0f} mm does not go on A3 at 1:1"
    raise InputError(words, "print", "Write its outline as DXF instead")


def begin_pdf(p: QPainter, path: Path, wired: Wired, title: str) -> tuple[QPdfWriter, float, QRectF]:
    """Begin a PDF on the smallest paper that takes the board; return it, its units a mm, and its room in mm.

    InputError if the board goes on no paper, StoreError if the file cannot be written.
    """
    paper, way = page_for(wired)
    writer = QPdfWriter(str(path))
    writer.setResolution(600)
    writer.setTitle(f"{wired.design.name} {wired.design.revision}{title}")
    writer.setPageSize(QPageSize(paper))
    writer.setPageOrientation(way)
    writer.setPageMargins(QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM), QPageLayout.Unit.Millimeter)
    if not p.begin(writer):
        raise StoreError("The PDF could not be written", str(path), "Choose a folder that you may write to")
    return writer, writer.logicalDpiX() / 25.4, writer.pageLayout().paintRect(QPageLayout.Unit.Millimeter)


def write_true_size(path: Path, wired: Wired) -> None:
    """Write the board at 1:1, and its side view below, as a PDF. InputError, StoreError."""
    p = QPainter()
    writer, scale, layout = begin_pdf(p, path, wired, ", 1:1")
    with on_paper():
        p.save()
        p.scale(scale, scale)
        paint_true_size(p, QRectF(0, 0, layout.width(), layout.height()), wired)
        p.restore()
        writer.newPage()
        p.scale(scale, scale)
        words_at(p, 0, 4, f"{wired.design.name} {wired.design.revision}, from the side, 1:1", 4.0)
        paint_side(p, QRectF(0, 12, layout.width(), layout.height() - 12), elevation(wired), true_size=True)
    p.end()


def paint_true_size(p: QPainter, area: QRectF, wired: Wired) -> None:
    """Draw the board at 1:1 into an area in millimetres, y down."""
    design = wired.design
    words_at(p, area.left(), area.top() + 3, f"{design.name} {design.revision}, 1:1, seen from the top", 4.0)
    words_at(p, area.left(), area.top() + 9, "Print at 100 %, then measure the bar before you trust it.", 3.0)
    room = outline_rect(design)
    p.save()
    p.translate(
        area.left() + (area.width() - room.width()) / 2 - room.left(), area.top() + HEAD_MM + room.height() + room.top()
    )
    p.scale(1, -1)
    _board(p, wired)
    p.restore()
    scale_bar(p, area)


def _board(p: QPainter, wired: Wired) -> None:
    t, design = theme.LIGHT, wired.design
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.setPen(QPen(t.color("ink"), 0.25))
    for ring in (design.board.outline, *design.board.cutouts):
        p.drawPolygon(QPolygonF([QPointF(mm(x), mm(y)) for x, y in ring]))
    p.setPen(QPen(t.color("muted"), 0.1))
    for pad in board_pads(wired):
        if pad.layers:
            p.drawPath(pad_path(pad))
    p.setPen(QPen(t.color("ink"), 0.15))
    for hole in hole_items(wired):
        p.drawPath(shape_path(hole_shape(hole)))
    painter = BoardPainter(BoardView(wired))
    p.setPen(QPen(t.color("ink"), 0.12))
    p.setBrush(Qt.BrushStyle.NoBrush)
    for ref, path in painter.bodies.items():
        if wired.kind(ref).assembled:
            p.drawPath(path)
    for ref in painter.bodies:
        painter._reference(p, ref, True)
    _template(p, wired)


def _template(p: QPainter, wired: Wired) -> None:
    """Draw where the object's holes are, as crosses, and how far a part is off."""
    t, design = theme.LIGHT, wired.design
    off = {m.ref: m for m in misfits(design)}
    for hole in design.brief.template:
        x, y = mm(hole.x_nm), mm(hole.y_nm)
        good = hole.ref not in off or off[hole.ref].fits
        p.setPen(QPen(t.color("lime" if good else "stop"), 0.2))
        p.drawLine(QPointF(x - CROSS_MM, y), QPointF(x + CROSS_MM, y))
        p.drawLine(QPointF(x, y - CROSS_MM), QPointF(x, y + CROSS_MM))
        radius = mm(hole.hole_nm) / 2 if hole.hole_nm else CROSS_MM / 2
        p.drawEllipse(QPointF(x, y), radius, radius)


def scale_bar(p: QPainter, area: QRectF) -> None:
    """Draw a bar of 50 mm and one of 2 in, with marks."""
    y = area.bottom() - 10
    t = theme.LIGHT
    for x, long, words, marks in (
        (area.left(), BAR_MM, "50 mm", 5),
        (area.left() + BAR_MM + 12, 50.8, "2 in, 2000 mil", 2),
    ):
        p.setPen(QPen(t.color("ink"), 0.3))
        p.drawLine(QPointF(x, y), QPointF(x + long, y))
        for k in range(marks + 1):
            at = x + long * k / marks
            p.drawLine(QPointF(at, y - 2), QPointF(at, y + 2))
        words_at(p, x, y + 5, words, 3.2)


def words_at(p: QPainter, x: float, y: float, text: str, size: float) -> None:
    """Draw words on paper, their middle line at y."""
    draw_text(p, Lettering(x, y, text, size, "ink", "left"))
