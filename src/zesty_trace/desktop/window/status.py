"""The strip at the bottom: running jobs with progress and Cancel, and the last word to the user."""

from __future__ import annotations

import time

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from zesty_trace.desktop.kit.text import Words
from zesty_trace.desktop.project.jobs import Job, Jobs
from zesty_trace.errors import ZestyError

KEEP_MS = 12000


class StatusStrip(QWidget):
    """Shows the first running job and the newest message."""

    def __init__(self, jobs: Jobs, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._job: Job | None = None
        layout = QHBoxLayout(self)
        layout.setContentsMargins(2, 0, 2, 0)
        self.text = Words()
        self.text.setObjectName("muted")
        self.text.setWordWrap(True)
        self.job_text = Words()
        self.job_text.setObjectName("muted")
        self.bar = QProgressBar()
        self.bar.setFixedWidth(180)
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(self._cancel)
        self.saved = Words()
        self.saved.setObjectName("muted")
        self.saved.setToolTip("When the work was last written to the disk")
        layout.addWidget(self.text, 1)
        layout.addWidget(self.saved)
        for widget in (self.job_text, self.bar, self.cancel):
            layout.addWidget(widget)
            widget.hide()
        self._fade = QTimer(self)
        self._fade.setSingleShot(True)
        self._fade.setInterval(KEEP_MS)
        self._fade.timeout.connect(lambda: self.text.setText(""))
        jobs.changed.connect(self._pull)

    def say(self, text: str) -> None:
        """Show a message for a while."""
        self._tone("muted")
        self.text.setText(text)
        self._fade.start()

    def fail(self, error: ZestyError | Exception) -> None:
        """Show an error until the next message."""
        self._tone("bad")
        self.text.setText(str(error))
        self._fade.stop()

    def written(self, when: float) -> None:
        """Show when the work was last written to the disk."""
        self.saved.setText(time.strftime("kept %H:%M:%S", time.localtime(when)))

    def _tone(self, name: str) -> None:
        self.text.setObjectName(name)
        self.text.style().polish(self.text)

    def _pull(self) -> None:
        job = next((j for j in self._jobs.running if j.visible), None)
        if job is not self._job:
            self._job = job
            if job:
                job.progress.connect(self._progress)
                self.bar.setValue(0)
                self.job_text.setText(job.title)
        for widget in (self.job_text, self.bar, self.cancel):
            widget.setVisible(job is not None)
        self.cancel.setEnabled(job is not None and not job.cancelled)

    def _progress(self, share: float, text: str) -> None:
        self.bar.setValue(round(share * 1000))
        self.job_text.setText(f"{self._job.title}: {text}" if self._job else text)

    def _cancel(self) -> None:
        if self._job:
            self._job.cancel()
            self.cancel.setEnabled(False)
            self.say(f"{self._job.title} is being stopped")
