"""The findings of a station as cards: stripe and word for severity, the number, Show, Why, Mend."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from zesty_trace.core.design.edits import accept, take_back
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import Words, tip
from zesty_trace.desktop.project.session import Session
from zesty_trace.stations import SPEC, STATIONS

WIDTH = 304


class FindingCard(QFrame):
    """One finding."""

    show_asked = Signal(object)
    mend_asked = Signal(object)
    accepted = Signal(object, str)
    taken_back = Signal(object)

    def __init__(self, number: int, finding: Finding, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.finding = finding
        self.setObjectName("card")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 10, 8)
        layout.setSpacing(4)
        word = Words(f"{number} · {'accepted' if finding.accepted else finding.severity.word}")
        word.setObjectName("muted")
        title = Words(finding.title)
        title.setObjectName("heading")
        title.setWordWrap(True)
        detail = Words(finding.detail)
        detail.setObjectName("muted")
        detail.setWordWrap(True)
        if finding.accepted:
            detail.setText(f"Accepted: {finding.accepted}")
        for label in (word, title, detail):
            layout.addWidget(label)
        self.why = Words(f"{finding.why}\nFrom: {finding.source}.")
        self.why.setWordWrap(True)
        self.why.hide()
        layout.addWidget(self.why)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why it is all right; Enter accepts")
        self.reason.returnPressed.connect(lambda: self.accepted.emit(finding, self.reason.text()))
        self.reason.hide()
        layout.addWidget(self.reason)
        layout.addLayout(self._buttons(finding))

    def _buttons(self, finding: Finding) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        if finding.refs or finding.nets or finding.at:
            show = QPushButton("Show")
            show.setObjectName("link")
            show.clicked.connect(lambda: self.show_asked.emit(finding))
            row.addWidget(show)
        why = QPushButton("Why")
        why.setObjectName("link")
        why.clicked.connect(lambda: self.why.setVisible(not self.why.isVisible()))
        row.addWidget(why)
        if finding.accepted or finding.severity < Severity.NOTE:
            row.addWidget(self._accept_button(finding))
        row.addStretch(1)
        self.mend_button: QPushButton | None = None
        if finding.mend and not finding.accepted:
            self.mend_button = QPushButton("Mend")
            self.mend_button.setToolTip(tip(finding.mend.label))
            self.mend_button.setAccessibleName(f"Mend: {finding.mend.label}")
            self.mend_button.clicked.connect(lambda: self.mend_asked.emit(finding))
            row.addWidget(self.mend_button)
        return row

    def _accept_button(self, finding: Finding) -> QPushButton:
        self.accept_button = QPushButton("Take back" if finding.accepted else "Accept")
        self.accept_button.setObjectName("link")
        if finding.accepted:
            self.accept_button.clicked.connect(lambda: self.taken_back.emit(finding))
        else:
            self.accept_button.clicked.connect(self._ask_reason)
        return self.accept_button

    def _ask_reason(self) -> None:
        self.reason.setVisible(not self.reason.isVisible())
        self.reason.setFocus()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the severity stripe over the card's left edge."""
        super().paintEvent(event)
        t = theme.current()
        colors = {Severity.STOP: t.stop, Severity.FIX: t.fix, Severity.NOTE: t.note}
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor(colors[self.finding.severity]))
        p.drawRoundedRect(0, 0, 6, self.height(), 3, 3)
        p.end()


class FindingsPanel(QWidget):
    """The cards of the station that is open, and the step to take next."""

    go_asked = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._station = session, "brief"
        self.setFixedWidth(WIDTH)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        heading = Words("Findings")
        heading.setObjectName("heading")
        self.counts = Words()
        self.counts.setObjectName("muted")
        head.addWidget(heading)
        head.addStretch(1)
        head.addWidget(self.counts)
        layout.addLayout(head)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout.addWidget(self._area, 1)
        self.step = Words()
        self.step.setWordWrap(True)
        self.step_button = QPushButton()
        self.step_button.clicked.connect(lambda: self.go_asked.emit(self._next_station()))
        frame = QFrame()
        frame.setObjectName("card")
        inner = QVBoxLayout(frame)
        inner.setContentsMargins(14, 10, 14, 10)
        title = Words("Next step")
        title.setObjectName("heading")
        for widget in (title, self.step, self.step_button):
            inner.addWidget(widget)
        layout.addWidget(frame)
        self.cards: list[FindingCard] = []
        self._mended: tuple[Finding, frozenset[str]] | None = None
        session.findings_changed.connect(self._pull)
        session.findings_changed.connect(self._prove)
        session.design_changed.connect(self._wait)

    def show_station(self, station: str) -> None:
        """Show the findings of a station."""
        self._station = station
        self._pull()

    def _wait(self) -> None:
        self.counts.setText("checking …")

    def _pull(self) -> None:
        findings = self._session.findings.get(self._station, [])
        body = QWidget()
        body.setObjectName("scrolled")
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 0, 8, 0)
        layout.setSpacing(10)
        self.cards = []
        for number, finding in enumerate(findings, 1):
            card = FindingCard(number, finding)
            card.show_asked.connect(self._session.show_finding)
            card.mend_asked.connect(self._mend)
            card.accepted.connect(self._accept)
            card.taken_back.connect(self._take_back)
            layout.addWidget(card)
            self.cards.append(card)
        if not findings:
            empty = Words(self._nothing_words())
            empty.setObjectName("muted")
            empty.setWordWrap(True)
            layout.addWidget(empty)
        layout.addStretch(1)
        self._area.setWidget(body)
        self.counts.setText(self._count_words(findings) if self._session.settled else "checking …")

        self._pull_step()

    def _nothing_words(self) -> str:
        """Return what to say where there is no finding: that nothing is wrong only where there is something."""
        if not self._session.settled:
            return "Checking …"
        if not self._session.design.parts:
            return SPEC[self._station].empty
        return "Nothing stands in the way here."

    def _next_station(self) -> str:
        return STATIONS[min(self._session.stations_done(), len(STATIONS) - 1)]

    def _pull_step(self) -> None:
        station = self._next_station() if self._session.settled else self._station
        self.step.setText(SPEC[station].next_step)
        self.step_button.setText(f"Go to {SPEC[station].title}")
        self.step_button.setVisible(station != self._station)

    def _count_words(self, findings: list[Finding]) -> str:
        words = []
        for severity, text in ((Severity.STOP, "stop"), (Severity.FIX, "to fix"), (Severity.NOTE, "noted")):
            count = sum(f.severity is severity for f in findings)
            if count:
                words.append(f"{count} {text}")
        return " · ".join(words) or "none"

    def _accept(self, finding: Finding, reason: str) -> None:
        kept = finding.acceptance(reason, self._session.today.isoformat())
        self._session.do(f"Accepted: {finding.title}", lambda d: accept(d, kept))

    def _take_back(self, finding: Finding) -> None:
        self._session.do(f"Counts again: {finding.title}", lambda d: take_back(d, finding.acceptance("")))

    def _mend(self, finding: Finding) -> None:
        """Do what the mend says; once the review has been made again, what it did not do or brought is told."""
        if finding.mend is None:
            return
        known = frozenset(f.identity for f in self._session.findings[finding.station])
        if self._session.do(finding.mend.label, finding.mend.apply):
            self._mended = (finding, known)

    def _prove(self) -> None:
        """Hold the last mend against the findings that are there now."""
        if self._mended is None or not self._session.is_current(self._mended[0].station):
            return
        finding, known = self._mended
        self._mended = None
        now = self._session.findings[finding.station]
        if any(f.identity == finding.identity for f in now):
            self._session.message.emit(f"{finding.title}: the mend did not help. Ctrl+Z takes it back.")
        elif came := [f.title for f in now if f.identity not in known]:
            self._session.message.emit(f"Mended, but it brought: {'; '.join(came[:2])}. Ctrl+Z takes it back.")
