"""Long work off the GUI thread: progress, cancel, and an answer that comes back on the GUI thread."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Qt, Signal

from zesty_trace import logs
from zesty_trace.core.progress import Report
from zesty_trace.errors import Cancelled, ZestyError

if TYPE_CHECKING:
    from PySide6.QtCore import QThreadPool

TELL_EVERY_S = 0.05


class Job(QObject):
    """One piece of work on a frozen value. Signals arrive on the GUI thread."""

    progress = Signal(float, str)
    done = Signal(object)
    failed = Signal(object)
    ended = Signal()

    def __init__(self, title: str, work: Callable[[Report], Any], visible: bool, keeps: bool = False) -> None:
        super().__init__()
        self.title, self.visible, self.keeps = title, visible, keeps
        self._work = work
        self._stop = threading.Event()
        self._told = 0.0

    def cancel(self) -> None:
        """Ask the work to stop at its next report."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        """Whether cancel was asked for."""
        return self._stop.is_set()

    def _report(self, share: float, text: str) -> bool:
        now = time.monotonic()
        if now - self._told > TELL_EVERY_S or share >= 1.0:
            self._told = now
            self.progress.emit(share, text)
        return not self._stop.is_set()

    def run(self) -> None:
        """Do the work; called on a worker thread."""
        try:
            value = self._work(self._report)
        except Cancelled:
            self.failed.emit(None)
        except ZestyError as error:
            self.failed.emit(error)
        except Exception as error:  # a fault of ours: shown, never swallowed, and the window stays up
            path = logs.keep(error)
            said = f"{type(error).__name__}: {error}"
            self.failed.emit(ZestyError(said, self.title, f"Please report this; details are in {path}"))
        else:
            if self._stop.is_set() and not self.keeps:
                self.failed.emit(None)
            else:
                self.done.emit(value)
        self.ended.emit()


class Jobs(QObject):
    """The running jobs of a window."""

    changed = Signal()
    failed = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.running: list[Job] = []
        self._closed = False
        self._made: QThreadPool | None = None

    @property
    def _pool(self) -> QThreadPool:
        """The worker threads, made with the first job: the window's first paint does not wait for them."""
        if self._made is None:
            from PySide6.QtCore import QThreadPool

            self._made = QThreadPool(self)
            self._made.setMaxThreadCount(3)
        return self._made

    def start(
        self,
        title: str,
        work: Callable[[Report], Any],
        done: Callable[[Any], None],
        failed: Callable[[Any], None] | None = None,
        visible: bool = True,
        keeps: bool = False,
    ) -> Job:
        """Run `work(report)` on a worker thread and `done(value)` on the GUI thread.

        With `keeps` its value counts after a cancel too: what it had got to.
        """
        job = Job(title, work, visible, keeps)
        if self._closed:
            return job
        queued = Qt.ConnectionType.QueuedConnection
        job.done.connect(lambda value: None if self._closed else done(value), queued)
        job.failed.connect(lambda error: self._fail(error, failed), queued)
        job.ended.connect(lambda: self._end(job), queued)
        job.progress.connect(lambda *_: self.changed.emit() if job.visible else None, queued)
        self.running.append(job)
        self.changed.emit()
        self._pool.start(job.run)
        return job

    def _fail(self, error: Any, failed: Callable[[Any], None] | None) -> None:
        if failed:
            failed(error)
        elif error is not None:
            self.failed.emit(error)

    def _end(self, job: Job) -> None:
        if job in self.running:
            self.running.remove(job)
        self.changed.emit()

    def busy(self, visible_only: bool = False) -> bool:
        """Whether anything runs."""
        return any(j.visible or not visible_only for j in self.running)

    def close(self) -> None:
        """Cancel everything and wait for the threads; nothing can be started any more."""
        self._closed = True
        for job in self.running:
            job.cancel()
        self._pool.waitForDone(8000)
