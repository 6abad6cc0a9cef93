"""Autosave: the newest design goes to the journal in the background, within half a second."""

from __future__ import annotations

import threading
from collections.abc import Callable

from zesty_trace.core.design.model import Design
from zesty_trace.errors import StoreError
from zesty_trace.store.project import ProjectFolder

DELAY_S = 0.3


class Autosaver:
    """Writes what `submit` was last given; `on_error` hears of failures, from the writing thread."""

    def __init__(self, folder: ProjectFolder, on_error: Callable[[StoreError], None] | None = None) -> None:
        self._folder, self._on_error = folder, on_error
        self._newest: Design | None = None
        self._wake = threading.Condition()
        self._closing = False
        self._write = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="autosave", daemon=True)
        self._thread.start()

    def submit(self, design: Design) -> None:
        """Hand over the newest design; returns at once."""
        with self._wake:
            self._newest = design
            self._wake.notify()

    def save(self, design: Design) -> None:
        """Save `design` as the project's file, now, on the calling thread. StoreError if that fails."""
        with self._write:
            self._folder.save(design)
        with self._wake:
            if self._newest is design:
                self._newest = None

    def close(self) -> None:
        """Write what is waiting and stop the thread."""
        with self._wake:
            self._closing = True
            self._wake.notify()
        self._thread.join(5)

    def _run(self) -> None:
        while True:
            with self._wake:
                while self._newest is None and not self._closing:
                    self._wake.wait()
                if self._newest is None:
                    return
                closing = self._closing
            if not closing:
                threading.Event().wait(DELAY_S)
            with self._wake:
                design, self._newest = self._newest, None
            if design is None:
                continue
            try:
                with self._write:
                    self._folder.journal(design)
            except StoreError as error:
                if self._on_error:
                    self._on_error(error)
