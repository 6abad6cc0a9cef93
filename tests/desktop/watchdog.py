"""An application that notes every event whose handling keeps the GUI thread busy for too long."""

from __future__ import annotations

import time

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication

LIMIT_S = 0.25


class WatchedApplication(QApplication):
    """Measures processor time, so that waiting for others does not count, of each event that is not part of another."""

    def __init__(self, arguments: list[str]) -> None:
        super().__init__(arguments)
        self.watching = False
        self.blocks: list[str] = []
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
                self.blocks.append(
                    f"{took:.2f} s: {event.type().name} of {type(receiver).__name__} {receiver.objectName()}"
                )
