"""What the facts already mean, beside the fields."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.desktop.kit.widgets import card, label
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.journey.meaning import Meaning, meanings

WORDS = {"fine": "", "look": "look at it", "missing": "not known"}


class MeaningCard(QWidget):
    """A line for each thing that follows; those to look at say so in a word."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.holder = QWidget()
        self.grid = QGridLayout(self.holder)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(12)
        self.grid.setVerticalSpacing(5)
        self.grid.setColumnStretch(1, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(card(label("What that means", "heading"), self.holder))
        self._worked = WorkedOut(session, "Working out the brief", self._work, self._show, self.pull)
        self.shown: list[Meaning] = []

    def _work(self, wired: Wired) -> list[Meaning]:
        return meanings(wired, self.session.today, self.session.path)

    def pull(self) -> None:
        """Have it worked out for what the session holds now."""
        self._worked.ask()

    def _show(self, found: list[Meaning]) -> None:
        if found == self.shown:
            return
        self.shown = found
        while (item := self.grid.takeAt(0)) is not None:
            if widget := item.widget():
                widget.hide()
                widget.deleteLater()
        for line, each in enumerate(found):
            said = label(each.said, "", wrap=True)
            said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            word = label(WORDS[each.word], "stop" if each.word == "look" else "muted")
            for column, widget in enumerate((label(each.what, "muted"), said, word)):
                self.grid.addWidget(widget, line, column)
        self.holder.updateGeometry()

    def texts(self) -> list[str]:
        """Return what is shown, line by line."""
        labels = [self.grid.itemAtPosition(k, 1) for k in range(self.grid.rowCount())]
        return [w.text() for item in labels if item and isinstance(w := item.widget(), QLabel)]
