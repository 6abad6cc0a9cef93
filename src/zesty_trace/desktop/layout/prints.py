"""The board on paper: copper, layer by layer, and assembly drawings, at 1:1 with a scale bar; backs mirrored."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QFileDialog, QWidget

from zesty_trace.core.board.copper import board_pads, hole_items, hole_shape, pattern_of, to_board
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import PEN_MM, silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import COPPER, FACES
from zesty_trace.core.quantities import mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import BoardPainter, BoardView, flat_text, outline_rect, pad_path, shape_path
from zesty_trace.desktop.layout.paper import FOOT_MM, HEAD_MM, MARGIN_MM, begin_pdf, scale_bar, words_at
from zesty_trace.desktop.schematic.paper import on_paper
from zesty_trace.errors import InputError, StoreError

SILKS, DRAWINGS = ("silk-top", "silk-bottom"), ("assembly-top", "assembly-bottom")
VIEWS = (*COPPER, *SILKS, *DRAWINGS)
SAID = {"assembly-top": "assembly, top", "assembly-bottom": "assembly, bottom", "silk-top": "silk, top"}


def views_of(wired: Wired, asked: str = "") -> tuple[str, ...]:
    """Return the views to draw, in order; all that a board has if none are asked for. InputError for an unknown one."""
    there = tuple(v for v in VIEWS if v not in COPPER or v in wired.design.board.stack)
    wanted = [word.strip().lower() for word in asked.split(",") if word.strip()]
    for word in wanted:
        if word not in there:
            raise InputError(f"The board has no view “{word}”", "views", f"Choose of {', '.join(there)}")
    return tuple(v for v in there if v in wanted) if wanted else there


def mirrored(view: str) -> bool:
    """Whether a view is seen from behind."""
    return view.endswith("bottom")


def write_board_pdf(path: Path, wired: Wired, views: Sequence[str]) -> None:
    """Write views of a board at 1:1, a page each, as a PDF. InputError if it goes on no paper, StoreError."""
    p = QPainter()
    writer, scale, layout = begin_pdf(p, path, wired, "")
    with on_paper():
        for number, view in enumerate(views):
            if number:
                writer.newPage()
            p.save()
            p.scale(scale, scale)
            paint_view(p, QRectF(0, 0, layout.width(), layout.height()), wired, view)
            p.restore()
    p.end()


def write_board_svg(path: Path, wired: Wired, views: Sequence[str]) -> list[Path]:
    """Write views of a board at 1:1 as SVG, one file each, named after them; return the files. StoreError."""
    from PySide6.QtSvg import QSvgGenerator

    room = outline_rect(wired.design)
    wide, tall = max(room.width(), 130.0) + 2 * MARGIN_MM, room.height() + HEAD_MM + FOOT_MM + 2 * MARGIN_MM
    made = []
    for view in views:
        target = path if len(views) == 1 else path.with_name(f"{path.stem}-{view}{path.suffix or '.svg'}")
        svg = QSvgGenerator()
        svg.setFileName(str(target))
        svg.setResolution(254)  # ten units a millimetre
        svg.setSize(QSizeF(wide * 10, tall * 10).toSize())
        svg.setViewBox(QRectF(0, 0, wide * 10, tall * 10))
        svg.setTitle(f"{wired.design.name}, {view}")
        p = QPainter()
        if not p.begin(svg):
            raise StoreError("The SVG could not be written", str(target), "Choose a folder that you may write to")
        with on_paper():
            p.scale(10, 10)
            paint_view(p, QRectF(MARGIN_MM, MARGIN_MM, wide - 2 * MARGIN_MM, tall - 2 * MARGIN_MM), wired, view)
        p.end()
        made.append(target)
    return made


def ask_and_write(parent: QWidget, wired: Wired, folder: Path, name: str = "") -> list[Path]:
    """Ask for a file, PDF or SVG, and write all views of the board to it; none if nothing was chosen."""
    if not name:
        start, kinds = str(folder / "board.pdf"), "PDF (*.pdf);;SVG, a file a view (*.svg)"
        name = QFileDialog.getSaveFileName(parent, "The board on paper", start, kinds)[0]
    if not name:
        return []
    path, views = Path(name), views_of(wired)
    if path.suffix.lower() == ".svg":
        return write_board_svg(path, wired, views)
    write_board_pdf(path, wired, views)
    return [path]


def paint_view(p: QPainter, area: QRectF, wired: Wired, view: str) -> None:
    """Draw one view of a board at 1:1 into an area in millimetres, y down."""
    design = wired.design
    side = "seen from the bottom, mirrored" if mirrored(view) else "seen from the top"
    words_at(
        p, area.left(), area.top() + 3, f"{design.name} {design.revision}, {SAID.get(view, view)}, {side}, 1:1", 4.0
    )
    words_at(p, area.left(), area.top() + 9, "Print at 100 %, then measure the bar before you trust it.", 3.0)
    room = outline_rect(design)
    p.save()
    left = area.left() + (area.width() - room.width()) / 2
    p.translate(left + (room.right() if mirrored(view) else -room.left()), area.top() + HEAD_MM + room.bottom())
    p.scale(-1 if mirrored(view) else 1, -1)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.setPen(QPen(theme.LIGHT.color("ink"), 0.2))
    for ring in (design.board.outline, *design.board.cutouts):
        p.drawPolygon(QPolygonF([QPointF(mm(x), mm(y)) for x, y in ring]))
    if view in COPPER:
        _copper(p, wired, view)
    elif view in SILKS:
        _silk(p, wired, view)
    else:
        _assembly(p, wired, view)
    p.restore()
    scale_bar(p, area)


def _copper(p: QPainter, wired: Wired, layer: str) -> None:
    ink = theme.LIGHT.color("ink")
    board = wired.design.board
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(ink)
    for face in board.stack:
        if face == layer:
            for _, area in pour_shapes(wired, face):
                p.drawPath(shape_path(area))
    for pad in board_pads(wired):
        if layer in pad.layers:
            p.drawPath(pad_path(pad))
    for via in board.vias:
        p.drawEllipse(QPointF(mm(via.x_nm), mm(via.y_nm)), mm(via.diameter_nm) / 2, mm(via.diameter_nm) / 2)
    p.setBrush(Qt.BrushStyle.NoBrush)
    for track in board.tracks:
        if track.layer == layer:
            pen = QPen(ink, mm(track.width_nm))
            pen.setCapStyle(Qt.PenCapStyle.RoundCap)
            pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
            p.setPen(pen)
            p.drawPolyline([QPointF(mm(x), mm(y)) for x, y in track.points])
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(Qt.GlobalColor.white)
    for hole in hole_items(wired):
        p.drawPath(shape_path(hole_shape(hole)))


def _silk(p: QPainter, wired: Wired, view: str) -> None:
    pen = QPen(theme.LIGHT.color("ink"), PEN_MM)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    p.setPen(pen)
    face = FACES[SILKS.index(view)]
    for line in silk_screen(wired, face).lines:
        p.drawPolyline([QPointF(x, y) for x, y in line])


def _assembly(p: QPainter, wired: Wired, view: str) -> None:
    """Draw what is soldered on a face: pads, bodies, pin 1, references and values."""
    t, design = theme.LIGHT, wired.design
    face = FACES[DRAWINGS.index(view)]
    p.setPen(QPen(t.color("muted"), 0.08))
    for pad in board_pads(wired):
        if face in pad.layers:
            p.drawPath(pad_path(pad))
    painter = BoardPainter(BoardView(wired))
    for ref, path in painter.bodies.items():
        spot = design.board.placements[ref]
        if spot.side != face or not wired.kind(ref).assembled:
            continue
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color("ink"), 0.14))
        p.drawPath(path)
        mark = pattern_of(wired, ref).mark
        if mark:
            p.setBrush(t.color("ink"))
            p.drawEllipse(QPointF(*(v / 1e6 for v in to_board(spot, *mark))), 0.25, 0.25)
        x, y, size = painter.labels[ref]
        flat_text(p, x, y, ref, size, "ink", True)
        value = design.parts[ref].value.split(" ")[0]
        body = path.boundingRect()
        if value and body.height() > 3 * size and body.width() > len(value) * size * 0.6:
            flat_text(p, x, y - size * 1.2, value, size * 0.7, "ink")
