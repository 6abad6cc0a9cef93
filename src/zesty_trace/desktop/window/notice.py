"""A strip under the header for what needs an answer and must not be missed, but need not stop the work."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.text import Words

Choices = tuple[tuple[str, Callable[[], object]], ...]


class Notices(QWidget):
    """Questions by key, newest last; each is there until it is answered or taken back."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: dict[str, QFrame] = {}
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(16, 8, 12, 0)
        self._layout.setSpacing(6)
        self.setVisible(False)

    def put(self, key: str, text: str, choices: Choices) -> None:
        """Ask something; a question of the same key is replaced."""
        self.drop(key)
        row = QFrame()
        row.setObjectName("notice")
        inner = QHBoxLayout(row)
        inner.setContentsMargins(12, 8, 12, 8)
        words = Words(text)
        words.setWordWrap(True)
        inner.addWidget(words, 1)
        for label, run in choices:
            button = QPushButton(label)
            button.clicked.connect(lambda _checked=False, run=run: self._answered(key, run))
            inner.addWidget(button)
        self._rows[key] = row
        self._layout.addWidget(row)
        self.setVisible(True)

    def _answered(self, key: str, run: Callable[[], object]) -> None:
        self.drop(key)
        run()

    def drop(self, key: str) -> None:
        """Take a question back."""
        row = self._rows.pop(key, None)
        if row is not None:
            self._layout.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.setVisible(bool(self._rows))

    def text(self, key: str) -> str:
        """Return what is asked under a key, or ""."""
        row = self._rows.get(key)
        label = row.findChild(Words) if row else None
        return label.text() if label else ""

    def button(self, key: str, label: str) -> QPushButton:
        """Return a choice of a question. KeyError if it is not there."""
        for button in self._rows[key].findChildren(QPushButton):
            if button.text() == label:
                return button
        raise KeyError(label)
