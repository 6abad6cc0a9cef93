"""The journey across the top: a trace that jogs through one pad per station, copper as far as the board has come."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import tip
from zesty_trace.stations import SPEC, STATIONS


class JourneyTrace(QWidget):
    """Click a pad, or press Ctrl+1 to Ctrl+8, to go to a station."""

    picked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.done, self.current = 0, "brief"
        self.counts: dict[str, int] = {}
        self.setMinimumSize(640, 74)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Journey")

    def sizeHint(self) -> QSize:
        """Return the natural size."""
        return QSize(860, 74)

    def show_state(self, current: str, done: int, counts: dict[str, int]) -> None:
        """Show where we are, how far copper reaches, and the open findings of each station."""
        if (self.current, self.done, self.counts) != (current, done, counts):
            self.current, self.done, self.counts = current, done, counts
            self.update()

    def _pad(self, k: int) -> QPointF:
        step = (self.width() - 90) / (len(STATIONS) - 1)
        return QPointF(45 + k * step, 30 if k % 2 == 0 else 20)

    def _path(self, a: QPointF, b: QPointF) -> list[QPointF]:
        middle = (a.x() + b.x()) / 2
        jog = abs(b.y() - a.y()) / 2
        return [a, QPointF(middle - jog, a.y()), QPointF(middle + jog, b.y()), b]

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the trace, then the pads, then the names."""
        t = theme.current()
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for reached in (False, True):
            for k in range(len(STATIONS) - 1):
                if (k < self.done) == reached:
                    pen = QPen(t.color("copper" if reached else "line"), 5)
                    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
                    p.setPen(pen)
                    p.drawPolyline(self._path(self._pad(k), self._pad(k + 1)))
        for k, station in enumerate(STATIONS):
            self._draw_pad(p, k, station)
        p.end()

    def _draw_pad(self, p: QPainter, k: int, station: str) -> None:
        t, at, here = theme.current(), self._pad(k), station == self.current
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color("copper" if k <= self.done else "line"))
        p.drawEllipse(at, 12, 12)
        p.setBrush(t.color("lemon" if here else "panel"))
        p.drawEllipse(at, 5.5, 5.5)
        font = theme.plain_font()
        font.setPixelSize(13)
        font.setBold(here)
        p.setFont(font)
        p.setPen(t.color("ink" if here or k <= self.done else "muted"))
        p.drawText(QRectF(at.x() - 60, 46, 120, 20), Qt.AlignmentFlag.AlignCenter, SPEC[station].title)
        if here and self.hasFocus():
            p.setPen(QPen(t.color("teal"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(at, 15, 15)
        count = self.counts.get(station, 0)
        if count:
            badge = QRectF(at.x() + 6, at.y() - 19, 20, 17)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(t.color("stop"))
            p.drawRoundedRect(badge, 8, 8)
            font.setPixelSize(11)
            font.setBold(True)
            p.setFont(font)
            p.setPen(t.color("on_accent"))
            p.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(count))

    def _at(self, x: float) -> int:
        return min(range(len(STATIONS)), key=lambda k: abs(self._pad(k).x() - x))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Go to the station nearest to the click."""
        self.picked.emit(STATIONS[self._at(event.position().x())])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Tell what is open at a station."""
        k = self._at(event.position().x())
        count = self.counts.get(STATIONS[k], 0)
        text = f"{SPEC[STATIONS[k]].title} (Ctrl+{k + 1})" + (f": {count} to deal with" if count else "")
        QToolTip.showText(event.globalPosition().toPoint(), tip(text), self)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right go along the trace."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        k = STATIONS.index(self.current) + step
        if 0 <= k < len(STATIONS):
            self.picked.emit(STATIONS[k])
