"""An application that notes every event whose handling keeps the GUI thread busy for too long."""

from __future__ import annotations

import time

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication

from ..speed import slowness

LIMIT_S = 0.25


def limit_s() -> float:
    """Return the limit for this machine at this moment: a machine at half speed gets twice the time."""
    return LIMIT_S * slowness()


class WatchedApplication(QApplication):
    """Measures processor time, so that waiting for others does not count, of each event that is not part of another."""

    def __init__(self, arguments: list[str]) -> None:
        super().__init__(arguments)
        self.watching = False
        self.blocks: list[tuple[float, str]] = []
        self._depth = 0

    def notify(self, receiver: QObject, event: QEvent) -> bool:
        """Deliver an event, and note it if it took too long."""
        if not self.watching or self._depth:
            return super().notify(receiver, event)
        self._depth += 1
        start = time.thread_time()
        try:
            return super().notify(receiver, event)
        finally:
            self._depth -= 1
            took = time.thread_time() - start
            if took > LIMIT_S:
                self.blocks.append((took, f"{event.type().name} of {type(receiver).__name__} {receiver.objectName()}"))
