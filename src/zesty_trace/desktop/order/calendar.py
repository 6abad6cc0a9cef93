"""The calendar: when the batch is ready, what decides it, what a change would win; and the maker's own hours."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QFileDialog, QFrame, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.order.gantt import Gantt
from zesty_trace.desktop.order.hours import HoursPage
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.journey.scheduling import Plan
    from zesty_trace.journey.together import Answer

MOST_WORDS = 7


class CalendarCard(QFrame):
    """When the tested boards are ready, and what one change would win."""

    def __init__(self, session: Session, steps: Steps) -> None:
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
        self.hours_button = button("My hours", self._turn, tip="Hours, days off, rate, spare days, yield")
        self.hours_button.setCheckable(True)
        self.hours = HoursPage(session, steps, self.kept)
        self.pages = QStackedWidget()
        shown = QWidget()
        inside = QVBoxLayout(shown)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(8)
        for widget in (holder, self.words, row(self.weigh_button, None, self.export_button)):
            inside.addWidget(widget)
        inside.setStretch(0, 1)
        self.pages.addWidget(shown)
        self.pages.addWidget(self.hours)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        for widget in (row(self.title, None, self.which, self.hours_button), self.summary, self.pages):
            column.addWidget(widget)
        column.setStretch(2, 1)

    def _turn(self) -> None:
        """Show the calendar, or the figures that it counts with."""
        at_hours = self.hours_button.isChecked()
        self.pages.setCurrentIndex(int(at_hours))
        if at_hours:
            self.hours.pull()

    def kept(self) -> None:
        """Work everything out anew with the figures that were kept."""
        self.hours_button.setChecked(False)
        self._turn()
        self.forget()
        self.pull()

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
        lacking = len(plan.parts.short) if plan.parts is not None else 0
        words = [f"{say_count(lacking, 'part')} CANNOT BE HAD; if found:"] if lacking else []
        words += [f"Ready {s.ready:%a %d %b}{needed}."]
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
        spent = ", ".join(f"{what} {amount:.2f}" for what, amount in plan.costs.items() if amount)
        lines += [f"In EUR: {spent}."] if spent else []
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
