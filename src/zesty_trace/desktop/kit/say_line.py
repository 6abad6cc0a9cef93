"""The line that takes sentences: completes words, previews what will change, does it on Enter."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QStringListModel, Qt, Signal
from PySide6.QtWidgets import QCompleter, QFrame, QHBoxLayout, QLineEdit, QWidget

from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import Words
from zesty_trace.desktop.kit.widgets import popup_of
from zesty_trace.errors import ZestyError

DONE = "Done. Ctrl+Z takes it back."


class Understood(Protocol):
    """What a sentence would do."""

    @property
    def preview(self) -> str:
        """The change in words."""


class SayLine(QFrame):
    """`said` carries a sentence that the user wants done; call `clear_done` once it is."""

    said = Signal(str)

    def __init__(
        self,
        example: str,
        hint: str,
        understand: Callable[[str], Understood],
        complete: Callable[[str], list[str]] | None = None,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self._understand, self._complete_words = understand, complete
        self.field = QLineEdit()
        self.field.setPlaceholderText(example)
        self.field.setAccessibleName("Say it")
        self.preview = Words(hint)
        self.preview.setObjectName("muted")
        self.preview.setWordWrap(True)
        heading = Words("Say it")
        heading.setObjectName("heading")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 12, 14, 12)
        layout.addWidget(heading)
        layout.addWidget(self.field, 3)
        layout.addWidget(self.preview, 2)
        self._words = QStringListModel(self)
        self._completer = QCompleter(self._words, self)
        self._completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self._completer.setWidget(self.field)
        self._completer.activated.connect(self._take_word)
        self.field.textEdited.connect(self._edited)
        self.field.returnPressed.connect(self._entered)

    def focus_line(self) -> None:
        """Go to the line."""
        self.field.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def refresh(self) -> None:
        """Preview what stands in the line again."""
        self._show_preview(self.field.text())

    def clear_done(self) -> None:
        """Empty the line after its sentence was done."""
        self.field.clear()
        self.preview.setText(DONE)

    def _edited(self, text: str) -> None:
        words = self._complete_words(text) if self._complete_words else []
        self._words.setStringList(words)
        if words and words != [text]:
            theme.dress(popup_of(self._completer))
            self._completer.complete()
        else:
            popup_of(self._completer).hide()
        self._show_preview(text)

    def _show_preview(self, text: str) -> None:
        try:
            self.preview.setText(self._understand(text).preview)
        except ZestyError as error:
            self.preview.setText(str(error) if text.strip() else "Enter does it.")

    def _take_word(self, word: str) -> None:
        text = self.field.text()
        head = text[: len(text) - len(text.split()[-1])] if text.split() and not text.endswith(" ") else text
        self.field.setText(head + word)
        self._show_preview(self.field.text())

    def _entered(self) -> None:
        popup_of(self._completer).hide()
        self.said.emit(self.field.text())
