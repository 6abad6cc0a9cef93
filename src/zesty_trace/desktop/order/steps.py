"""Steps that change the tables of Order, each of which can be undone."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QPushButton

from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.widgets import button
from zesty_trace.desktop.project.session import Session

MOST_STEPS = 50


class Steps:
    """The steps of this window, the last one offered to be undone."""

    def __init__(self, session: Session, changed: Callable[[], None]) -> None:
        self.session, self._changed = session, changed
        self._one_at_a_time = threading.Lock()
        self._done: list[tuple[str, dict[str, bytes], dict[str, bytes]]] = []
        self.undo_button: QPushButton = button("", self.undo, tip="Put the tables back as they were before")
        self._show()

    def start(self, title: str, work: Callable[[Report], Any], done: Callable[[Any], None]) -> None:
        """Run work that changes tables, as a job; keep how they were."""
        from zesty_trace.journey.steps import tables_of

        folder = self.session.path

        def held(report: Report) -> tuple[Any, dict[str, bytes], dict[str, bytes]]:
            with self._one_at_a_time:
                before = tables_of(folder)
                return work(report), before, tables_of(folder)

        def after(found: tuple[Any, dict[str, bytes], dict[str, bytes]]) -> None:
            value, old, new = found
            if old != new:
                self._done = [*self._done, (title, old, new)][-MOST_STEPS:]
            self._show()
            done(value)

        self.session.jobs.start(title, held, after, keeps=True)

    def undo(self) -> None:
        """Undo the last step, as a job."""
        from zesty_trace.journey.steps import put_back

        if not self._done:
            return
        title, old, new = self._done.pop()
        folder = self.session.path

        def done(names: list[str]) -> None:
            self.session.message.emit(f"Undone: {title} ({', '.join(names)})")
            self._show()
            self._changed()

        def failed(error: object) -> None:
            self._show()
            if error is not None:
                self.session.failed.emit(error)

        self.session.jobs.start(f"Undoing: {title}", lambda _r: put_back(folder, old, new), done, failed)

    def _show(self) -> None:
        if self._done:
            self.undo_button.setText(f"Undo: {self._done[-1][0].lower()}")
            self.undo_button.show()
        else:
            self.undo_button.hide()
