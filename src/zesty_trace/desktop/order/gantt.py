"""The calendar: when the batch is ready, what decides it, drawn as bars over days."""

from __future__ import annotations

from datetime import date, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QFileDialog, QFrame, QScrollArea, QVBoxLayout, QWidget

from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.project.session import Session
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.core.ordering.schedule import Schedule
    from zesty_trace.journey.scheduling import Plan
    from zesty_trace.journey.together import Answer

BAR_PX, HEAD_PX, NAME_PX = 19, 22, 150
MOST_WORDS = 7


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


class CalendarCard(QFrame):
    """When the tested boards are ready, and what one change would win."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("card")
        self.session = session
        self.plan: Plan | None = None
        self._of: object = None
        self.title = label("When it is all ready", "heading")
        self.summary = label("", "", True)
        self.chart = Gantt()
        self.words = label("", "muted", True)
        self.weigh_button = button(
            "Weigh all plans", self.weigh, tip="Boards and parts together: cheapest, soonest, surest"
        )
        self.which = QComboBox()
        self.which.setAccessibleName("Which plan")
        self.which.hide()
        self.which.activated.connect(self._choose)
        self.answer: Answer | None = None
        self.export_button = button("Write a calendar file …", self.ask_for_file, tip="iCalendar, for any calendar")
        holder = QScrollArea()
        holder.setWidgetResizable(True)
        holder.setFrameShape(QFrame.Shape.NoFrame)
        holder.setWidget(self.chart)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        last = row(self.weigh_button, None, self.export_button)
        for widget in (row(self.title, None, self.which), self.summary, holder, self.words, last):
            column.addWidget(widget)
        column.setStretch(2, 1)

    def pull(self) -> None:
        """Have the calendar worked out, if anything changed since."""
        wired, folder, today = self.session.wired, self.session.path, self.session.today
        if self._of is wired or not self.isVisible():
            return
        self.forget()
        self._of = wired

        def work(report: Report) -> tuple[Plan, list[str]]:
            from zesty_trace.journey.scheduling import plan_of, wins

            plan = plan_of(wired, folder, today, report=report)
            report(0.8, "asking what a change would win")
            return plan, wins(wired, folder, today, plan)

        def done(value: tuple[Plan, list[str]]) -> None:
            if self._of is wired:
                self._take(*value)

        def failed(error: object) -> None:
            self._of = None
            if error is not None:
                self.summary.setText(str(error))
                self.chart.show_schedule(None, today)

        self.session.jobs.start("Working out the calendar", work, done, failed)

    def forget(self) -> None:
        """Have it worked out anew when next shown."""
        self._of, self.answer = None, None
        self.which.hide()

    def weigh(self) -> None:
        """Weigh all pairs of boards and parts, as a job."""
        wired, folder, today = self.session.wired, self.session.path, self.session.today

        def work(report: Report) -> Answer:
            from zesty_trace.journey.together import together

            return together(wired, folder, today, report)

        def done(found: Answer) -> None:
            if self._of is wired:
                self.answer = found
                self.which.clear()
                self.which.addItems([t.name for t in found.chosen])
                self.which.show()
                self._choose(0)

        self.session.jobs.start("Weighing all plans", work, done)

    def _choose(self, number: int) -> None:
        """Show one of the plans that were chosen."""
        if self.answer is None or number >= len(self.answer.chosen):
            return
        self.which.setCurrentIndex(number)
        chosen = self.answer.chosen[number]
        self._take(chosen.plan, list(chosen.words[:MOST_WORDS]))
        self.words.setText(f"{self.answer.weighed} plans were weighed. {self.words.text()}")

    def _take(self, plan: Plan, said: list[str]) -> None:
        self.plan = plan
        s = plan.schedule
        needed = ""
        if s.needed is not None:
            days = (s.needed - s.ready).days
            needed = f", {days} days before it is needed" if days >= 0 else f": {-days} days LATE"
        words = [f"Ready {s.ready:%a %d %b}{needed}."]
        if s.likely is not None:
            words.append(f"In time in {100 * s.likely:.0f} cases of 100, without the spare day.")
        if s.days is not None:
            words.append(f"Nine cases of ten are ready by {s.days[2]:%a %d %b}.")
        if plan.cost_each is not None and plan.cost is not None:
            words.append(f"{plan.cost} in all, {plan.cost_each} a finished board.")
        self.summary.setText(" ".join(words))
        waits = [s.task(k).title for k in s.chain if s.task(k).sort == "wait" and k != "spare"]
        hours = sum(t.hours for t in s.tasks)
        lines = [f"It is decided by: {', '.join(waits) or 'the work alone'}; there are {hours:.1f} h of work."]
        lines += [f"· {w}" for w in said] + [f"Not known: {n}" for n in plan.notes]
        self.words.setText("\n".join(x for x in lines if x))
        self.chart.show_schedule(s, self.session.today)

    def ask_for_file(self) -> None:
        """Ask where the calendar file goes."""
        name, _ = QFileDialog.getSaveFileName(self, "Calendar file", "batch.ics", "iCalendar (*.ics)")
        if name:
            self.write(Path(name))

    def write(self, path: Path) -> None:
        """Write the calendar file."""
        from zesty_trace.journey.scheduling import calendar_bytes

        plan, name, today = self.plan, self.session.design.name, self.session.today
        if plan is None:
            return

        def work(_report: Report) -> None:
            write_given(path, calendar_bytes(plan, name, today))

        self.session.jobs.start("Writing the calendar", work, lambda _v: self.session.message.emit(f"Wrote {path}"))
