"""Autosave.

The newest design goes to the journal in the background, within half a second, and is tried until it is there.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from zesty_trace.core.design.model import Design
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.store.project import ProjectFolder

DELAY_S = 0.3
AGAIN_S = 2.0
LOOK_S = 1.0


class Autosaver:
    """Writes what `submit` was last given.

    `on_error` hears of failures and `on_written` of each write, from the writing thread; `on_outside` hears, once, that
    another program wrote the file. A failed write is tried again until it works or something newer is there to write.
    """

    def __init__(
        self,
        folder: ProjectFolder,
        on_error: Callable[[ZestyError], None] | None = None,
        on_written: Callable[[float], None] | None = None,
        on_outside: Callable[[], None] | None = None,
    ) -> None:
        self._folder, self._on_error, self._on_written, self._on_outside = folder, on_error, on_written, on_outside
        self._newest: Design | None = None
        self._wake = threading.Condition()
        self._closing = False
        self._write = threading.Lock()
        self.failing = False
        self._told_outside = False
        self._thread = threading.Thread(target=self._run, name="autosave", daemon=True)
        self._thread.start()

    def submit(self, design: Design) -> None:
        """Hand over the newest design; returns at once."""
        with self._wake:
            self._newest = design
            self._wake.notify()

    def save(self, design: Design, over_theirs: bool = False) -> None:
        """Save `design` as the project's file, now, on the calling thread. StoreError if that fails."""
        with self._write:
            self._folder.save(design, over_theirs)
            with self._wake:
                self._newest = None  # whatever was waiting is older than what is now the file
        self.failing = self._told_outside = False
        if self._on_written:
            self._on_written(time.time())

    def take_theirs(self) -> Design:
        """Return what another program wrote and go on from there. StoreError."""
        with self._write:
            design = self._folder.take_theirs()
        self._told_outside = False
        return design

    def close(self) -> None:
        """Write what is waiting and stop the thread."""
        with self._wake:
            self._closing = True
            self._wake.notify()
        self._thread.join(10)

    def _run(self) -> None:
        while True:
            with self._wake:
                if self._newest is None and not self._closing:
                    self._wake.wait(LOOK_S)
                waiting, closing = self._newest is not None, self._closing
            if not waiting:
                if closing:
                    return
                self._look()
                continue
            if not closing:
                self._pause(DELAY_S)
            self._write_newest()
            if self.failing:
                if self._closing:
                    return
                self._pause(AGAIN_S)

    def _pause(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        with self._wake:
            while not self._closing and (left := end - time.monotonic()) > 0:
                self._wake.wait(left)

    def _write_newest(self) -> None:
        with self._write:  # the design is taken under the lock: what a save has overtaken must not be written after it
            with self._wake:
                design, self._newest = self._newest, None
            if design is None:
                return
            try:
                self._folder.journal(design)
            except Exception as error:  # whatever it is, it must be said and tried again
                with self._wake:
                    self._newest = self._newest or design
                self._tell(error)
                return
        self.failing = False
        if self._on_written:
            self._on_written(time.time())

    def _look(self) -> None:
        """Tell at once that the folder is gone or that another program wrote the file."""
        try:
            self._folder.check_there()
            outside = self._folder.changed_outside()
        except ZestyError as error:
            if not self.failing:
                self._tell(error)
            return
        if outside and not self._told_outside and self._on_outside:
            self._told_outside = True
            self._on_outside()

    def _tell(self, error: Exception) -> None:
        self.failing = True
        if self._on_error:
            known = isinstance(error, ZestyError)
            told = StoreError(f"{type(error).__name__}: {error}", "autosave", "Save now")
            self._on_error(error if known else told)  # type: ignore[arg-type]
