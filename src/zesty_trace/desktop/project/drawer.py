"""What every drawer beside a canvas shares: the session, a heading, a place to scroll, re-reading while it is open."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.widgets import button, label
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import ZestyError


class Drawer(QFrame):
    """A panel beside a canvas. Subclasses build into `self.body` and read the session in `pull`."""

    close_asked = Signal()
    key = ""
    title = ""
    tip = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("drawerFrame")
        self.session = session
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 2, 2, 2)
        outer.setSpacing(8)
        head = QHBoxLayout()
        self.heading = label(self.title, "heading")
        head.addWidget(self.heading, 1)
        close = button("Close", self.close_asked.emit, tip="Back to the findings")
        head.addWidget(close)
        outer.addLayout(head)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        inside.setObjectName("drawer")
        self.body = QVBoxLayout(inside)
        self.body.setContentsMargins(0, 0, 8, 0)
        self.body.setSpacing(8)
        area.setWidget(inside)
        outer.addWidget(area, 1)
        self.build()

    def build(self) -> None:
        """Make the widgets."""

    def pull(self) -> None:
        """Show what the session holds now."""

    def selection_changed(self) -> None:
        """Follow what is picked."""

    def tell(self, error: ZestyError) -> None:
        """Say what went wrong."""
        self.session.failed.emit(error)


def wrapped(text: str = "", name: str = "muted") -> QLabel:
    """Return a label that wraps and asks for no width."""
    made = label(text, name, wrap=True)
    made.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    made.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return made
