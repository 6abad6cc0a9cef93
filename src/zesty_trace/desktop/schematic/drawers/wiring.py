"""The wiring list: the same truth as the drawing, as sentences; edited here, both change."""

from __future__ import annotations

import re

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QKeySequence, QShortcut, QSyntaxHighlighter, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit

from zesty_trace.core.design.model import Design
from zesty_trace.core.wording.wiring_list import line_of, read_list, write_list
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.widgets import button, row
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.errors import InputError, ZestyError

HINT = "Change lines as you like, then Ctrl+Enter. Lines that begin with # are skipped."
BEHIND = "The drawing changed meanwhile. Apply your text over it, or take the drawing’s."


class _Shades(QSyntaxHighlighter):
    """Comments faint, the words of sentences and net names in their own colours."""

    def highlightBlock(self, text: str) -> None:
        t = theme.current()

        def paint(start: int, length: int, color: QColor, bold: bool = False) -> None:
            style = QTextCharFormat()
            style.setForeground(color)
            if bold:
                style.setFontWeight(600)
            self.setFormat(start, length, style)

        if text.lstrip().startswith("#"):
            paint(0, len(text), t.color("muted"), True)
            return
        if match := re.match(r"\s*(add|leave)\b", text):
            paint(match.start(1), len(match.group(1)), t.color("copper"), True)
        if match := re.search(r"= (\S+)\s*$", text):
            paint(match.start(1), len(match.group(1)), t.color("teal"), True)


class WiringDrawer(Drawer):
    """All sentences in one text."""

    key, title, tip = "wiring", "Wiring list", "Every connection and part as a sentence, to read and to edit"

    def build(self) -> None:
        """Make the text, its buttons and the line for what is wrong."""
        self._shown = ""
        self._of: Design | None = None
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("Wiring list")
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setMinimumHeight(200)
        self._shades = _Shades(self.text.document())
        self.apply_button = button("Apply", self.apply, True, "Make the drawing follow the list (Ctrl+Enter)")
        self.drop_button = button("Take the drawing’s", self.drop, tip="Forget what was typed here")
        self.said = wrapped(HINT)
        self.body.addWidget(self.text, 1)
        self.body.addWidget(self.said)
        self.body.addWidget(row(self.apply_button, self.drop_button, None))
        self.text.textChanged.connect(self._typed)
        for keys in ("Ctrl+Return", "Ctrl+Enter"):
            shortcut = QShortcut(QKeySequence(keys), self.text)
            shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
            shortcut.activated.connect(self.apply)

    @property
    def dirty(self) -> bool:
        """Whether something was typed that the drawing does not show yet."""
        return self.text.toPlainText() != self._shown

    def pull(self) -> None:
        """Write the list again, unless the user is in the middle of an edit."""
        design = self.session.design
        if design is self._of:
            return
        if self.dirty:
            self._say(BEHIND, "bad")
            return
        self._of = design
        fresh = write_list(self.session.wired.with_design(design))
        if fresh != self._shown:
            at = self.text.verticalScrollBar().value()
            cursor = self.text.textCursor().position()
            self._shown = fresh
            self.text.setPlainText(fresh)
            moved = self.text.textCursor()
            moved.setPosition(min(cursor, len(fresh)))
            self.text.setTextCursor(moved)
            self.text.verticalScrollBar().setValue(at)
        self._typed()

    def _typed(self) -> None:
        self.apply_button.setEnabled(self.dirty)
        self.drop_button.setEnabled(self.dirty)
        self.text.setExtraSelections([])
        self._say("Not applied yet: Ctrl+Enter does it." if self.dirty else HINT, "muted")

    def _say(self, text: str, name: str) -> None:
        self.said.setObjectName(name)
        self.said.setText(text)
        self.said.style().polish(self.said)

    def apply(self) -> None:
        """Make the design what the list says, as one undo step; an error is shown at its line."""
        text = self.text.toPlainText()
        try:
            read_list(text, self.session.wired)
        except ZestyError as error:
            self._mark(error)
            return
        self._shown = text
        self.session.do("Wiring list applied", lambda d: read_list(text, self.session.wired.with_design(d)))
        self._of = None
        self.pull()

    def _mark(self, error: ZestyError) -> None:
        if isinstance(error, InputError) and error.line:
            block = self.text.document().findBlockByNumber(error.line - 1)
            mark = QTextEdit.ExtraSelection()
            mark.cursor = QTextCursor(block)  # type: ignore[attr-defined]
            mark.format.setProperty(QTextCharFormat.Property.FullWidthSelection, True)  # type: ignore[attr-defined]
            mark.format.setBackground(theme.current().color("stop", 60))  # type: ignore[attr-defined]
            self.text.setTextCursor(QTextCursor(block))
            self.text.setExtraSelections([mark])
        self._say(str(error), "bad")

    def drop(self) -> None:
        """Forget what was typed."""
        self._shown, self._of = self.text.toPlainText(), None
        self.pull()

    def selection_changed(self) -> None:
        """Bring the line of the selected part into view."""
        refs = self.model.selection
        if len(refs) == 1 and not self.dirty:
            number = line_of(self._shown, ref=refs[0])
            if number is not None:
                self.text.setTextCursor(QTextCursor(self.text.document().findBlockByNumber(number)))
                self.text.centerCursor()
