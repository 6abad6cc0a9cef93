"""Text is shown as it is: what a project's file says is never taken for mark-up."""

from __future__ import annotations

import html

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QMessageBox, QWidget

from zesty_trace.desktop.kit import theme
from zesty_trace.names import printable


class Words(QLabel):
    """A label that shows its text letter by letter."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def rich(text: str) -> str:
    """Return a text for a place that takes mark-up, as it is: the one door through which words that are not ours go."""
    return html.escape(printable(text)).replace("\n", "<br>")


def tip(text: str) -> str:
    """Return a text for a tool tip, which Qt takes for mark-up as soon as it looks like it."""
    return f"<qt>{rich(text)}</qt>" if "<" in text or "&" in text else printable(text)


def ask(title: str, text: str, parent: QWidget | None = None) -> bool:
    """Ask a yes-or-no question in a dialog; the text is shown as it is."""
    box = QMessageBox(parent)
    box.setWindowTitle(title)
    theme.dress(box)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(text)
    box.setStandardButtons(QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No)
    return box.exec() == QMessageBox.StandardButton.Yes


def warn(title: str, text: str, parent: QWidget | None = None) -> None:
    """Show a warning in a dialog; the text is shown as it is."""
    box = QMessageBox(parent)
    box.setIcon(QMessageBox.Icon.Warning)
    box.setWindowTitle(title)
    theme.dress(box)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(text)
    box.exec()
