"""The maker's own figures: hours of each weekday, days off, what an hour costs, spare days, yield, own pace."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QGridLayout, QLineEdit, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.widgets import button, count, label, number, row
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import ZestyError

if TYPE_CHECKING:
    from zesty_trace.core.ordering.maker import Own

WEEK = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
MOST_PACES = 6


class HoursPage(QWidget):
    """Figures that the calendar counts with; kept in the project's hours.toml."""

    def __init__(self, session: Session, steps: Steps, kept: Callable[[], None]) -> None:
        super().__init__()
        self.session, self.steps, self._kept = session, steps, kept
        self.own: Own | None = None
        grid = QGridLayout()
        self.hours = []
        for k, day in enumerate(WEEK):
            box = number(0, 0, 24, 0.5, "", f"Hours of work on a {day}", 1)
            self.hours.append(box)
            grid.addWidget(label(day), 0, k)
            grid.addWidget(box, 1, k)
        self.off = QLineEdit()
        self.off.setAccessibleName("Days off")
        self.off.setPlaceholderText("2026-12-24..2027-01-03, 2027-02-15")
        self.rate = number(0, 0, 10_000, 1.0, "EUR", "What an hour of your work costs")
        self.spare_days = count(1, 0, 365, "Days kept in spare at the end")
        self.yield_ = number(95, 1, 100, 1.0, "%", "Boards of a hundred that work at the end", 0)
        self.pace = label("", "muted", True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        column.addWidget(label("Hours of work on each day of the week"))
        column.addLayout(grid)
        for widget in (
            label("Days off, as dates or spans"), self.off,
            row(label("An hour costs"), self.rate, None, label("Spare days"), self.spare_days),
            row(label("Boards that work at the end"), self.yield_, None), self.pace,
            row(None, button("Keep these figures", self.keep, True)),
        ):  # fmt: skip
            column.addWidget(widget)
        column.addStretch(1)

    def pull(self) -> None:
        """Show the figures that count now."""
        from zesty_trace.core.ordering.days import say_closed
        from zesty_trace.journey.hours import load_own

        try:
            own = self.own = load_own(self.session.path)
        except ZestyError as error:
            self.pace.setText(str(error))
            return
        for box, hours in zip(self.hours, own.maker.hours, strict=True):
            box.setValue(hours)
        self.off.setText(", ".join(say_closed(own.maker.off)))
        self.rate.setValue(own.maker.rate_eur_per_h)
        self.spare_days.setValue(own.maker.spare_days)
        self.yield_.setValue(100 * own.yield_)
        said = ", ".join(f"{package} {seconds:.0f} s" for package, seconds in own.placing[:MOST_PACES])
        more = f" and {len(own.placing) - MOST_PACES} more" if len(own.placing) > MOST_PACES else ""
        self.pace.setText(
            f"Your own pace a part: {said}{more}."
            if said
            else "Placing counts with usual seconds a part. Press “Time my placing” in Assembly for your own."
        )

    def keep(self) -> None:
        """Keep the figures, as a job. What is not understood is said, and nothing is kept."""
        from zesty_trace.core.ordering.days import read_closed
        from zesty_trace.core.ordering.schedule import Maker
        from zesty_trace.journey.hours import change_own

        if self.own is None:
            return
        words = [w.strip() for w in self.off.text().split(",") if w.strip()]
        hours = tuple(box.value() for box in self.hours)
        try:
            off = read_closed(words, "days off")
            maker = Maker(hours, off, self.rate.value(), self.spare_days.value())
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        share, folder = self.yield_.value() / 100, self.session.path
        self.own = replace(self.own, maker=maker, yield_=share)
        self.steps.start(
            "Keeping figures",
            lambda _r: change_own(folder, lambda own: replace(own, maker=maker, yield_=share)),
            lambda _v: self._kept(),
        )
