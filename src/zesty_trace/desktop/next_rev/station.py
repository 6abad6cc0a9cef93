"""Next rev: the road of each board, the yield, and the list of what the next revision should do better."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QWidget

from zesty_trace.core.design import edits
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, card, cell, fill, label, row, table
from zesty_trace.desktop.project.station import Station
from zesty_trace.desktop.project.trust import TrustLine
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.journey.batch import batch_of, book, chosen_serial, provenance
from zesty_trace.journey.revising import keep_revision
from zesty_trace.store.board import BoardEvent, BoardRecord

ROAD = ("assembled", "flashed", "measured", "reworked")


class NextRevStation(Station):
    """The batch on the left, the change list on the right."""

    key = "next"

    def build(self) -> None:
        """Make the road table and the change list."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(12)
        outer.addWidget(self._batch(), 12)
        outer.addWidget(self._changes(), 5)

    def _batch(self) -> QWidget:
        self.yield_label = label("", "big")
        self.yield_words = label("", "muted")
        self.road = table("Serial", *(w.capitalize() for w in ROAD), "Last word")
        header = self.road.horizontalHeader()
        header.setStretchLastSection(True)
        self.road.cellClicked.connect(lambda r, _c: self._pick(cell(self.road, r, 0).text()))
        self.serial = QLineEdit()
        self.serial.setMaximumWidth(100)
        self.serial.setPlaceholderText("A-004")
        self.rework = QLineEdit()
        self.rework.setPlaceholderText("what was done")
        self.rework.returnPressed.connect(self.add_rework)
        self.rework_button = button("Record rework", self.add_rework)
        return card(
            row(self.yield_label, self.yield_words, None),
            TrustLine(self.session),
            self.road,
            row(self.serial, self.rework, self.rework_button),
            name="sheet",
        )

    def _changes(self) -> QWidget:
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemChanged.connect(self._ticked)
        self.note = QLineEdit()
        self.note.setPlaceholderText("what to do better")
        self.note.returnPressed.connect(self.add_note)
        self.note_button = button("Add", self.add_note)
        self.from_faults = button("Add what the bench found", self.add_failures)
        self.start_button = button("Start the next revision", self.start, True)
        self.revision = label("", "muted", True)
        return card(
            label("Change list", "heading"),
            self.list,
            row(self.note, self.note_button),
            row(self.from_faults, None),
            self.revision,
            row(self.start_button, None),
        )

    def pull(self) -> None:
        """Show the records and the change list."""
        d = self.session.design
        boards = {b.serial: b for b in self.session.boards(d.revision)}
        rows = []
        for serial in batch_of(d).serials(boards.values()):
            board = boards.get(serial)
            cells = [serial]
            for kind in ROAD:
                kinds = ("flashing", "flashed") if kind == "flashed" else (kind,)
                event = board.last(*kinds) if board else None
                cells.append(self._word(board, kind, event))
            cells.append(board.events[-1].words if board and board.events else "nothing yet")
            rows.append(cells)
        t = theme.current()
        for r in fill(self.road, rows):
            cells = rows[r]
            cell(self.road, r, 5).setToolTip(tip(cells[5]))
            for c, text in enumerate(cells[1:5], 1):
                if text.partition(",")[0] in ("pass", "yes", "fail"):
                    cell(self.road, r, c).setForeground(QColor(t.stop if text.startswith("fail") else t.lime))
        standings = [b.standing() for b in boards.values()]
        passed = sum(s.verdict == "pass" for s in standings)
        measured = sum(s.verdict != "open" for s in standings)
        mark = ", simulated" if any(s.simulated for s in standings) else ""
        self.yield_label.setText(f"{passed / measured:.0%}" if measured else "—")
        self.yield_words.setText(f"yield of rev {d.revision}: {passed} of {measured} measured boards passed{mark}")
        self.list.blockSignals(True)
        self.list.clear()
        for note in d.changes:
            item = QListWidgetItem(note.text)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if note.done else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        after = edits.next_revision(d).revision
        self.start_button.setText(f"Start rev {after}")
        self.revision.setText(
            f"Rev {after} starts as a copy of rev {d.revision}. The records of rev {d.revision} stay; its design is "
            f"kept as design-rev-{d.revision}.json."
        )

    @staticmethod
    def _word(board: BoardRecord | None, kind: str, event: BoardEvent | None) -> str:
        """Return how far the board is with one thing."""
        if board is None or event is None:
            return "—"
        if kind == "flashed":
            return board.content().words
        if kind == "measured":
            return board.standing().words
        return event.verdict or "yes"

    def keep_state(self, settings: QSettings) -> None:
        """Remember what is typed and not yet entered."""
        settings.setValue(f"draft/{self.session.path}", [self.note.text(), self.serial.text(), self.rework.text()])

    def restore_state(self, settings: QSettings) -> None:
        """Bring back what was typed."""
        kept = settings.value(f"draft/{self.session.path}", [])
        if isinstance(kept, list) and len(kept) == 3:
            for field, text in zip((self.note, self.serial, self.rework), kept, strict=True):
                field.setText(str(text or ""))

    def _pick(self, serial: str) -> None:
        self.serial.setText(serial)
        self.rework.setFocus()

    def add_note(self) -> None:
        """Add the typed point to the change list."""
        text = self.note.text()
        if self.session.do("Noted for the next revision", lambda d: edits.note_change(d, text)):
            self.note.clear()

    def add_failures(self) -> None:
        """Add each distinct failure of this revision's boards to the change list."""
        d = self.session.design
        known = {c.text for c in d.changes}
        found = [
            f"{b.serial}: {b.last('measured').words}"  # type: ignore[union-attr]
            for b in self.session.boards(d.revision)
            if b.verdict == "fail"
        ]

        def edit(design: object) -> object:
            for text in found:
                if text not in known:
                    design = edits.note_change(design, text)  # type: ignore[arg-type]
            return design

        self.session.do(f"{len(found)} points from the bench", edit)  # type: ignore[arg-type]

    def add_rework(self) -> None:
        """Record what was done to a board."""
        try:
            d = self.session.design
            serial = chosen_serial(self.serial.text(), batch_of(d), self.session.boards(d.revision))
            book(self.session.records, batch_of(d), [serial])
            words = self.rework.text().strip() or "reworked"
            self.session.records.add(serial, "reworked", words, told=provenance("person", d))
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        self.rework.clear()
        self.session.records_changed.emit()

    def _ticked(self, item: QListWidgetItem) -> None:
        index, done = self.list.row(item), item.checkState() == Qt.CheckState.Checked
        self.session.do("Change list", lambda d: edits.tick_change(d, index, done))

    def start(self) -> None:
        """Keep this revision's design beside the project and go on with the next letter."""
        try:
            keep_revision(self.session.path, self.session.design)
        except StoreError as error:
            self.session.failed.emit(error)
            return
        self.session.do("Next revision started", edits.next_revision)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Start the next revision", "", self.start),
            Action("Add what the bench found", "", self.add_failures),
        ]
