"""What is wrong with the records, in words over each list of boards."""

from __future__ import annotations

from PySide6.QtWidgets import QSizePolicy, QWidget

from zesty_trace.desktop.kit.text import Words
from zesty_trace.desktop.project.session import Session


class TrustLine(Words):
    """Why no board stands as passed; hidden while the records can be trusted."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__("", parent)
        self.session = session
        self.setObjectName("bad")
        self.setWordWrap(True)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        session.records_trust.connect(self.say)
        self.say(session.records_words())

    def say(self, words: str) -> None:
        """Show what is wrong now."""
        self.setText(words)
        self.setVisible(bool(words))
