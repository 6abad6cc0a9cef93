"""What every station shares: it is given the session, re-reads when it is shown, and lists its actions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QSettings, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QWidget,
)

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.project.session import Session


class Station(QWidget):
    """A station. Subclasses build their widgets in `build` and read the session in `pull`."""

    room_asked = Signal(bool)  # the station wants the findings' room, or gives it back
    key = ""

    @property
    def wants_room(self) -> bool:
        """Whether something of the station's own stands where the findings would."""
        return False

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session = session
        self._stale = True
        self.build()
        for signal in (session.design_changed, session.records_changed, session.findings_changed):
            signal.connect(self.changed)

    def build(self) -> None:
        """Make the widgets."""

    def pull(self) -> None:
        """Show what the session holds now."""

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return []

    def flush(self) -> None:
        """Take over what is typed and not yet entered: lines and numbers as if the cursor had left them."""
        for spin in self.findChildren(QAbstractSpinBox):
            if spin.lineEdit().isModified():
                spin.interpretText()
                spin.editingFinished.emit()
        for line in self.findChildren(QLineEdit):
            if line.isModified() and not isinstance(line.parent(), QAbstractSpinBox | QComboBox):
                line.editingFinished.emit()

    def show_finding(self, finding: Finding) -> None:
        """Show where a finding is."""

    def keep_state(self, settings: QSettings) -> None:
        """Remember what is open, for next time."""

    def restore_state(self, settings: QSettings) -> None:
        """Open what was open last time."""

    def changed(self) -> None:
        """Re-read, now or when next shown."""
        self._stale = True
        if self.isVisible():
            self._fresh()

    def showEvent(self, event: QShowEvent) -> None:
        """Re-read if something changed meanwhile."""
        super().showEvent(event)
        if self._stale:
            self._fresh()

    def _fresh(self) -> None:
        self._stale = False
        self.pull()


class WorkedOut:
    """What a station works out from a design and its catalogue off the GUI thread, for the newest only.

    `of` is what the last answer belongs to. An answer for a design or catalogue that is no longer the current one is
    dropped; `again` is then called so that the station can ask for the new one. With `reports`, `work` is also given
    what it reports its progress to.
    """

    def __init__(
        self,
        session: Session,
        title: str,
        work: Callable[..., Any],
        show: Callable[[Any], None],
        again: Callable[[], None],
        reports: bool = False,
    ) -> None:
        self._reports = reports
        self._session, self._title, self._work = session, title, work
        self._show, self._again = show, again
        self._busy_with: Wired | None = None
        self.of: Wired | None = None

    def ask(self, visible: bool = False) -> bool:
        """Have the current design worked out, unless it is, or is being; return whether the answer is there.

        `visible` shows the job with its progress and a way to cancel it.
        """
        wired = self._session.wired
        if self.of is wired:
            return True
        if self._busy_with is not wired:
            self._busy_with = wired
            self._session.jobs.start(
                self._title,
                lambda report: self._work(wired, report) if self._reports else self._work(wired),
                lambda value: self._done(wired, value),
                lambda error: self._failed(wired, error),
                visible=visible,
            )
        return False

    def _free(self, wired: Wired) -> None:
        if self._busy_with is wired:
            self._busy_with = None

    def _done(self, wired: Wired, value: Any) -> None:
        self._free(wired)
        if wired is self._session.wired:
            self.of = wired
            self._show(value)
        else:
            self._again()

    def _failed(self, wired: Wired, error: Any) -> None:
        self._free(wired)
        if error is not None:
            self._session.failed.emit(error)
