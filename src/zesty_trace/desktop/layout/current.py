"""Current density over the copper of a net: denser is redder, the densest place ringed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from zesty_trace.core.quantities import mm, say
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import flat_text

if TYPE_CHECKING:
    from zesty_trace.core.board.fields.density import Flow

PIXELS_MM = 12
STEPS = 16
SHOWN_SHARE = (
    0.98  # triangles denser than that of all, by area, are as red as it gets: corners are denser than any track
)


class FlowPicture:
    """A flow drawn once as pixels: densities from none to that of all but the densest corners."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        points, corners = flow.mesh.points, flow.mesh.triangles
        (x0, y0), (x1, y1) = points.min(axis=0), points.max(axis=0)
        self.room = QRectF(x0, y0, x1 - x0, y1 - y0)
        wide, high = int((x1 - x0) * PIXELS_MM) + 1, int((y1 - y0) * PIXELS_MM) + 1
        self.image = QImage(wide, high, QImage.Format.Format_ARGB32_Premultiplied)
        self.image.fill(Qt.GlobalColor.transparent)
        self.scale_a_mm2 = max(float(np.quantile(flow.density_a_mm2, SHOWN_SHARE)), 1e-9)
        level = np.minimum((flow.density_a_mm2 / self.scale_a_mm2 * STEPS).astype(int), STEPS - 1)
        p = QPainter(self.image)
        p.scale(PIXELS_MM, -PIXELS_MM)
        p.translate(-x0, -y1)
        p.setPen(Qt.PenStyle.NoPen)
        cool, hot = theme.current().color("lemon"), theme.current().color("stop")
        for step in range(STEPS):
            p.setBrush(_between(cool, hot, step / (STEPS - 1)))
            for triangle in corners[level == step]:
                p.drawPolygon(QPolygonF([QPointF(*points[k]) for k in triangle]))
        p.end()

    def draw(self, p: QPainter) -> None:
        """Draw it over the board, in scene units."""
        p.save()
        p.translate(self.room.left(), self.room.bottom())
        p.scale(1, -1)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.drawImage(QRectF(0, 0, self.room.width(), self.room.height()), self.image)
        p.restore()
        at = QPointF(mm(self.flow.densest.x_nm), mm(self.flow.densest.y_nm))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.current().color("ink"), 0.25))
        p.drawEllipse(at, 1.2, 1.2)
        flat_text(p, at.x(), at.y() - 2.1, f"{self.flow.most_a_mm2:.0f} A/mm²", 1.7, "ink", True)


def _between(a: QColor, b: QColor, share: float) -> QColor:
    red, green, blue = (
        round(p + (q - p) * share) for p, q in ((a.red(), b.red()), (a.green(), b.green()), (a.blue(), b.blue()))
    )
    return QColor(red, green, blue, 120 + round(110 * share))


def flow_words(flow: Flow) -> str:
    """Return what flows in a sentence."""
    return (
        f"{flow.net}: {say(flow.current_a, 'A')} in “{flow.state}”, densest {flow.most_a_mm2:.0f} A/mm² on "
        f"{flow.densest_on}; its copper drops {say(flow.drop_v, 'V')} and loses {say(flow.loss_w, 'W')}."
    )
