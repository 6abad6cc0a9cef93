"""Tasks drawn as bars over days."""

from __future__ import annotations

from datetime import date, timedelta
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from zesty_trace.desktop.kit import theme

if TYPE_CHECKING:
    from zesty_trace.core.ordering.schedule import Schedule

BAR_PX, HEAD_PX, NAME_PX = 19, 22, 176


class Gantt(QWidget):
    """Bars over days: waiting hatched, work solid, the chain that decides outlined; the day it is needed as a line."""

    def __init__(self) -> None:
        super().__init__()
        self.schedule: Schedule | None = None
        self.today = date.today()
        self.setAccessibleName("Calendar of the batch")

    def show_schedule(self, found: Schedule | None, today: date) -> None:
        """Show a schedule."""
        self.schedule, self.today = found, today
        self.setMinimumHeight(HEAD_PX + BAR_PX * (len(found.tasks) if found is not None else 0) + 6)
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its bars."""
        return QSize(320, self.minimumHeight())

    def _days(self) -> int:
        assert self.schedule is not None
        last = max([self.schedule.ready, *([self.schedule.needed] if self.schedule.needed else [])])
        return max(1, (last - self.today).days + 1)

    def _x(self, day: date) -> float:
        return NAME_PX + (day - self.today).days * (self.width() - NAME_PX - 6) / self._days()

    def paintEvent(self, _event: QPaintEvent) -> None:
        """Draw days, bars and the line of the day."""
        if self.schedule is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme.current()
        self._draw_days(p)
        metrics = QFontMetricsF(p.font())
        for k, task in enumerate(self.schedule.tasks):
            y = HEAD_PX + k * BAR_PX
            p.setPen(t.color("ink" if task.key in self.schedule.chain else "muted"))
            said = metrics.elidedText(task.title, Qt.TextElideMode.ElideRight, NAME_PX - 8)
            p.drawText(QRectF(2, y, NAME_PX - 6, BAR_PX), Qt.AlignmentFlag.AlignVCenter, said)
            x0, x1 = self._x(task.start), self._x(task.end + timedelta(days=1))
            box = QRectF(x0, y + 3, max(5.0, x1 - x0), BAR_PX - 6)
            decides = task.key in self.schedule.chain
            colour: QColor = t.color("copper" if decides else "teal", 235 if task.sort == "work" else 150)
            p.setPen(QPen(t.color("copper" if decides else "teal"), 1.6 if decides else 1.0))
            p.setBrush(colour if task.sort == "work" else Qt.BrushStyle.NoBrush)
            p.drawRoundedRect(box, 3, 3)
            if task.sort == "wait":
                p.fillRect(box.adjusted(1, 1, -1, -1), QBrush(colour, Qt.BrushStyle.BDiagPattern))
        self._draw_needed(p)
        p.end()

    def _draw_days(self, p: QPainter) -> None:
        t = theme.current()
        days, high = self._days(), self.height()
        every = next((n for n in (1, 2, 7, 14, 28) if n * (self.width() - NAME_PX) / days > 44), 56)
        for k in range(days + 1):
            day = self.today + timedelta(days=k)
            if day.weekday() > 4:
                wide = self._x(day + timedelta(days=1)) - self._x(day)
                p.fillRect(QRectF(self._x(day), HEAD_PX, wide, high), t.color("faint"))
            if k % every == 0:
                p.setPen(t.color("line"))
                p.drawLine(QPointF(self._x(day), HEAD_PX - 4), QPointF(self._x(day), high))
                p.setPen(t.color("muted"))
                if self._x(day) < self.width() - 44:
                    p.drawText(QPointF(self._x(day) + 2, HEAD_PX - 7), f"{day:%d %b}")

    def _draw_needed(self, p: QPainter) -> None:
        assert self.schedule is not None
        if self.schedule.needed is None:
            return
        t = theme.current()
        x = self._x(self.schedule.needed + timedelta(days=1))
        p.setPen(QPen(t.color("stop"), 2))
        p.drawLine(QPointF(x, HEAD_PX - 4), QPointF(x, self.height()))
