"""A picture that is drawn once and put down as it was while it is panned or zoomed; drawn anew once that rests."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPixmap, QTransform

from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.canvas import Canvas

MARGIN = 0.4  # of the view, drawn beyond each of its sides, so that it is there when it is panned to
REST_MS = 120  # after the last pan or zoom it is drawn anew


class Drawn(NamedTuple):
    """What was drawn last: of what and in which look, at which scale, and which part of the scene."""

    of: tuple[object, ...]
    scale: float
    scene: QRectF
    pixels: QPixmap


class Still:
    """The backdrop of a canvas."""

    def __init__(self, canvas: Canvas, draw: Callable[[QPainter], None]) -> None:
        """`draw` draws it in scene units."""
        self.canvas, self.draw = canvas, draw
        self.drawn: Drawn | None = None
        self._rest = QTimer(canvas)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self.forget)

    def forget(self) -> None:
        """Have it drawn anew."""
        self.drawn = None
        self.canvas.update()

    def put(self, p: QPainter, *of: object) -> None:
        """Put down what was drawn of the same things, at its place, or draw it."""
        canvas = self.canvas
        look = (*of, theme.current().name, canvas.devicePixelRatioF(), canvas.size(), canvas.flipped)
        if self.drawn is None or self.drawn.of != look:
            self.drawn = self._draw(look)
        there, view = self.drawn, canvas.transform()
        seen = view.inverted()[0].mapRect(QRectF(canvas.rect()))
        if there.scale != canvas.scale or not there.scene.contains(seen):
            self._rest.start()
        p.save()
        p.resetTransform()
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.drawPixmap(view.mapRect(there.scene), there.pixels, QRectF(there.pixels.rect()))
        p.restore()

    def _draw(self, look: tuple[object, ...]) -> Drawn:
        """Draw it on a sheet somewhat larger than the view."""
        canvas = self.canvas
        wide, high = canvas.width() * MARGIN, canvas.height() * MARGIN
        room = QRectF(canvas.rect()).adjusted(-wide, -high, wide, high).toAlignedRect()
        ratio = canvas.devicePixelRatioF()
        pixels = QPixmap(round(room.width() * ratio), round(room.height() * ratio))
        pixels.setDevicePixelRatio(ratio)
        pixels.fill(Qt.GlobalColor.transparent)
        p = QPainter(pixels)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setTransform(canvas.transform() * QTransform.fromTranslate(-room.x(), -room.y()))
        self.draw(p)
        p.end()
        return Drawn(look, canvas.scale, canvas.transform().inverted()[0].mapRect(QRectF(room)), pixels)
