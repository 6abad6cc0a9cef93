"""The board from its side, drawn: parts above and below it, and the lid of the case."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from zesty_trace.core.board.elevation import Elevation
from zesty_trace.core.geometry import Box
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import Lettering, draw_text

HIGH_PX = 150
ABOVE_MM = 4.0
NAMED_MM = 2.5  # parts that are narrower have no name beside them


def paint_side(p: QPainter, area: QRectF, side: Elevation, true_size: bool = False) -> None:
    """Draw the side view into an area, as large as it goes, or in millimetres."""
    low = min([side.board.y0, *(s.box.y0 for s in side.parts)])
    high = max([side.room_mm, *(s.box.y1 for s in side.parts)]) + ABOVE_MM
    wide = max(side.board.width, 1.0)
    scale = 1.0 if true_size else min(area.width() / (wide * 1.08), area.height() / (high - low + 1))
    x0 = area.left() + (area.width() - wide * scale) / 2 - side.board.x0 * scale
    y0 = area.top() + high * scale
    t = theme.current()

    def rect(box: Box) -> QRectF:
        return QRectF(x0 + box.x0 * scale, y0 - box.y1 * scale, box.width * scale, box.height * scale)

    pen = 0.2 if true_size else 1.2
    size = 2.4 if true_size else 11.0
    for part in side.parts:
        p.setBrush(t.color("stop", 70) if part.too_tall else t.color("part"))
        p.setPen(QPen(t.color("stop" if part.too_tall else "ink"), pen))
        p.drawRect(rect(part.box))
    p.setBrush(t.color("lime", 120))
    p.setPen(QPen(t.color("ink"), pen))
    p.drawRect(rect(side.board))
    lid = QPen(t.color("stop"), pen * 1.5)
    lid.setStyle(Qt.PenStyle.DashLine)
    p.setPen(lid)
    y = y0 - side.room_mm * scale
    p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
    words = f"lid of the case, {side.room_mm:.1f} mm above the board"
    draw_text(p, Lettering(area.left() + size / 2, y - size * 0.7, words, size, "ink", "left"))
    taken: list[tuple[float, float]] = []
    for part in side.parts:
        r = rect(part.box)
        half = len(part.ref) * size * 0.4
        middle = r.center().x()
        if part.box.width < NAMED_MM or any(a < middle + half and middle - half < b for a, b in taken):
            continue
        taken.append((middle - half, middle + half))
        above = r.top() - size * 0.6 if part.box.y1 > 0 else r.bottom() + size * 0.8
        draw_text(p, Lettering(middle, above, part.ref, size, "stop" if part.too_tall else "ink", "center"))


class SideView(QWidget):
    """A strip below the board: the board from its front edge."""

    def __init__(self) -> None:
        super().__init__()
        self.side: Elevation | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(HIGH_PX)
        self.setAccessibleName("The board from its side")

    def sizeHint(self) -> QSize:
        """Return the natural size."""
        return QSize(640, HIGH_PX)

    def show_side(self, side: Elevation) -> None:
        """Show another one."""
        self.side = side
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        if self.side is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), theme.current().color("sheet"))
        paint_side(p, QRectF(self.rect()).adjusted(10, 6, -10, -6), self.side)
        p.end()
