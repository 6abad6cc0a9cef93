"""The drawers beside the board: each made when first opened, one open at a time."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

from PySide6.QtWidgets import QStackedWidget

from zesty_trace.desktop.project.drawer import Drawer
from zesty_trace.desktop.project.session import Session

if TYPE_CHECKING:
    from zesty_trace.desktop.layout.drawers.lands import LandsDrawer

LEAST_PX = 340


class LayoutDrawers(QStackedWidget):
    """One drawer at a time, or none."""

    TITLES: ClassVar[dict[str, str]] = {"board": "Board", "lands": "Land patterns"}

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.key = ""
        self.made: dict[str, Drawer] = {}
        self.setMinimumWidth(LEAST_PX)
        self.hide()

    def _make(self, key: str) -> Drawer:
        if key == "board":
            from zesty_trace.desktop.layout.drawers.board import BoardDrawer

            return BoardDrawer(self.session)
        from zesty_trace.desktop.layout.drawers.lands import LandsDrawer

        return LandsDrawer(self.session)

    def open(self, key: str) -> None:
        """Open a drawer, or close the open one."""
        self.key = key
        self.setVisible(bool(key))
        if not key:
            return
        if key not in self.made:
            self.made[key] = self._make(key)
            self.made[key].close_asked.connect(self._closed)
            self.addWidget(self.made[key])
        self.setCurrentWidget(self.made[key])
        self.made[key].pull()

    def _closed(self) -> None:
        station = self.parent()
        while station is not None and not hasattr(station, "open_drawer"):
            station = station.parent()
        if station is not None:
            station.open_drawer("")

    def pull(self) -> None:
        """Bring the open drawer up to date."""
        if self.key:
            self.made[self.key].pull()

    def pick(self, ref: str) -> None:
        """Follow the part that is picked."""
        if self.key == "lands":
            drawer: LandsDrawer = self.made["lands"]  # type: ignore[assignment]
            drawer.pick(ref)
