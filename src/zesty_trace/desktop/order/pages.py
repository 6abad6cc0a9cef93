"""A page each for what can be done with files beside looking them through."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QComboBox,
    QDoubleSpinBox,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.desktop.kit.widgets import label
from zesty_trace.desktop.order.set_view import SetLook
from zesty_trace.desktop.project.session import Session

if TYPE_CHECKING:
    from zesty_trace.desktop.order.files import Looked


SOON_MS = 350
TABLE_PX = 112
Show = Callable[[SetLook, str], None]


class Page(QWidget):
    """One page: it is given the files that are looked at, and shows what it makes of them."""

    title = ""
    tip = ""

    def __init__(self, session: Session, show: Show, ring: Callable[[tuple[tuple[float, float], ...]], None]) -> None:
        super().__init__()
        self.session, self.show_look, self.ring = session, show, ring
        self.looked: Looked | None = None
        self.foreign = False
        self.words = label("", "", True)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(6)
        self.build()

    def build(self) -> None:
        """Make the widgets."""

    def take(self, looked: Looked, foreign: bool) -> None:
        """Take other files."""
        self.looked, self.foreign = looked, foreign

    def opened(self) -> None:
        """Work out what is shown, since the page is turned to."""


class Worked(Page):
    """A page that works something out anew, soon after a field is changed."""

    def later(self, *fields: QAbstractSpinBox | QComboBox) -> None:
        """Work it out anew when one of these is changed."""
        self.soon = QTimer(self)
        self.soon.setSingleShot(True)
        self.soon.setInterval(SOON_MS)
        self.soon.timeout.connect(self.opened)
        for field in fields:
            if isinstance(field, QComboBox):
                field.currentTextChanged.connect(lambda _t: self.soon.start())
            elif isinstance(field, QSpinBox | QDoubleSpinBox):
                field.valueChanged.connect(lambda _v: self.soon.start())
