"""A line that finds parts and nets by reference, value or name, as one types."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QStringListModel, Qt, Signal
from PySide6.QtWidgets import QCompleter, QLineEdit, QWidget

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.wording.find import Found, find
from zesty_trace.desktop.kit.widgets import popup_of


class FindBox(QLineEdit):
    """`chosen` carries the references and nets to show.

    One picked from the list, or on Enter all that match exactly.
    """

    chosen = Signal(object, object)

    def __init__(self, of: Callable[[], Wired], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._of = of
        self._found: list[Found] = []
        self.setPlaceholderText("Find …")
        self.setToolTip("A reference, a value, a net, or a marking: yellow violet red, 472 (Ctrl+F)")
        self.setAccessibleName("Find")
        self.setMinimumWidth(90)
        self.setMaximumWidth(240)
        self._words = QStringListModel(self)
        completer = QCompleter(self._words, self)
        completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        completer.setWidget(self)
        popup_of(completer).setMinimumWidth(320)
        completer.activated.connect(self._take)
        self._completer = completer
        self.textEdited.connect(self._edited)
        self.returnPressed.connect(self._entered)

    def focus_line(self) -> None:
        """Go to the line."""
        self.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.selectAll()

    def _edited(self, text: str) -> None:
        self._found = find(text, self._of())
        self._words.setStringList([f.text for f in self._found])
        if self._found:
            self._completer.complete()
        else:
            popup_of(self._completer).hide()

    def _take(self, text: str) -> None:
        found = next((f for f in self._found if f.text == text), None)
        if found:
            self._emit([found])

    def _entered(self) -> None:
        """Show the first that is found, with others of the same value."""
        popup_of(self._completer).hide()
        self._found = find(self.text(), self._of())
        wanted = self.text().strip().lower()
        design = self._of().design
        same = [f for f in self._found if f.ref and design.parts[f.ref].value.lower() == wanted]
        self._emit(same or self._found[:1])

    def _emit(self, found: list[Found]) -> None:
        refs, nets = [f.ref for f in found if f.ref], [f.net for f in found if f.net]
        if refs or nets:
            self.chosen.emit(refs, nets)
