"""A person at the bench, asked in the window.

The worker thread waits for the answer that is given on the GUI thread.
"""

from __future__ import annotations

import threading
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.text import Words
from zesty_trace.desktop.kit.widgets import button, row
from zesty_trace.errors import Cancelled, DeviceError, InputError

WAIT_S = 0.1


class WindowHands(QObject):
    """Asks by signal and waits; `stopped` is looked at while waiting."""

    asked = Signal(str, str)  # sentence, what is wanted: do, a unit, yes, addresses

    def __init__(self, stopped: Any = None) -> None:
        super().__init__()
        self._answer: str | None = None
        self._there = threading.Event()
        self.stopped = stopped or (lambda: False)

    def answer(self, text: str) -> None:
        """Give the answer; called on the GUI thread."""
        self._answer = text
        self._there.set()

    def _wait(self, sentence: str, want: str) -> str:
        self._there.clear()
        self.asked.emit(sentence, want)
        while not self._there.wait(WAIT_S):
            if self.stopped():
                raise Cancelled
        if self._answer == "skip":
            raise DeviceError("left out by the person", "bench", "Measure it later")
        return self._answer or ""

    def do(self, sentence: str) -> None:
        """Have something done."""
        self._wait(sentence, "do")

    def read(self, sentence: str, unit: str) -> float:
        """Have something read off and typed in."""
        from zesty_trace.core.quantities import read_off

        return read_off(self._wait(sentence, unit), unit)

    def see(self, sentence: str) -> bool:
        """Have a yes or no."""
        return self._wait(sentence, "yes") == "yes"

    def list_addresses(self, sentence: str) -> list[int]:
        """Have bus addresses typed in."""
        from zesty_trace.core.quantities import read_addresses

        return read_addresses(self._wait(sentence, "addresses"))


class HandsPanel(QWidget):
    """The sentence in large letters, a field for what is read, and the buttons to go on."""

    def __init__(self) -> None:
        super().__init__()
        self._hands: WindowHands | None = None
        self._want = "do"
        self.sentence = Words()
        self.sentence.setObjectName("ask")
        self.sentence.setWordWrap(True)
        self.field = QLineEdit()
        self.field.setAccessibleName("What you read")
        self.field.returnPressed.connect(self.next)
        self.unit = Words()
        self.problem = Words()
        self.problem.setObjectName("bad")
        self.next_button: QPushButton = button("Done, next", self.next, True, "Enter")
        self.yes_button = button("Yes", lambda: self._say("yes"), True, "Y")
        self.no_button = button("No", lambda: self._say("no"), False, "N")
        self.skip_button = button(
            "Leave it out", lambda: self._say("skip"), False, "The step then counts as not measured"
        )
        self.yes_button.setShortcut("Y")
        self.no_button.setShortcut("N")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.sentence)
        layout.addWidget(
            row(self.field, self.unit, self.next_button, self.yes_button, self.no_button, None, self.skip_button)
        )
        layout.addWidget(self.problem)
        self.hide()

    def serve(self, hands: WindowHands) -> None:
        """Show what this person is asked."""
        self._hands = hands
        hands.asked.connect(self._ask, Qt.ConnectionType.QueuedConnection)

    def end(self) -> None:
        """Ask nothing more."""
        self._hands = None
        self.hide()

    def _ask(self, sentence: str, want: str) -> None:
        if self._hands is None:
            return
        self._want = want
        self.sentence.setText(sentence)
        typed = want not in ("do", "yes")
        self.field.setVisible(typed)
        self.field.clear()
        self.field.setPlaceholderText("0x3C 0x44, or none" if want == "addresses" else "3.31, 4k7, OL")
        self.unit.setText(want if typed and want != "addresses" else "")
        self.problem.setText("")
        self.next_button.setVisible(want != "yes")
        for each in (self.yes_button, self.no_button):
            each.setVisible(want == "yes")
        self.skip_button.setVisible(want != "do")
        self.show()
        (self.field if typed else self.yes_button if want == "yes" else self.next_button).setFocus()

    def next(self) -> None:
        """Take what is typed, or say that it is done; what is no number is said and asked again."""
        from zesty_trace.core.quantities import read_addresses, read_off

        text = self.field.text()
        try:
            if self._want == "addresses":
                read_addresses(text)
            elif self._want not in ("do", "yes"):
                read_off(text, self._want)
        except InputError as error:
            self.problem.setText(str(error))
            return
        self._say(text if self._want not in ("do", "yes") else "done")

    def _say(self, text: str) -> None:
        if self._hands is not None:
            self.sentence.setText("…")
            self.field.hide()
            for each in (self.next_button, self.yes_button, self.no_button, self.skip_button):
                each.hide()
            self._hands.answer(text)
