"""The prototype's two tables: looked through before they are imported, unknown kinds repaired once and remembered."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QLineEdit,
    QPlainTextEdit,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.tables.repair import Preview, Unknown
from zesty_trace.core.tables.rows import told
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, card, fit_height, label, row, table
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.store.own import keep_names, load_names

CHANGES_SHOWN = 5
OTHER = "another kind …"


class ImportCard(QWidget):
    """Two paths, what importing them would give, and the button that does it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._chosen: dict[str, str] = {}
        self._preview: Preview | None = None
        self.parts_path, self.wiring_path = QLineEdit(), QLineEdit()
        self.parts_path.setPlaceholderText("parts.csv: ref, kind, value, package, …")
        self.wiring_path.setPlaceholderText("wiring.csv: net, ref, pin")
        grid = QGridLayout()
        for k, (text, edit) in enumerate((("Parts", self.parts_path), ("Wiring", self.wiring_path))):
            grid.addWidget(label(text), k, 0)
            grid.addWidget(edit, k, 1)
            grid.addWidget(button("Choose …", partial(self._choose, edit)), k, 2)
            edit.textChanged.connect(lambda _t: self._paths_changed())
        holder = QWidget()
        holder.setLayout(grid)
        self.said = label("", "muted", wrap=True)
        self.said.hide()
        self.unknown = table("Your word", "Used by", "Is a")
        self.unknown.setSelectionMode(self.unknown.SelectionMode.NoSelection)
        self.unknown.verticalHeader().setDefaultSectionSize(40)
        self.unknown.horizontalHeader().setStretchLastSection(True)
        self.unknown.hide()
        self.problems = QPlainTextEdit()
        self.problems.setReadOnly(True)
        self.problems.setMaximumHeight(110)
        self.problems.hide()
        self.import_button = button("Import the prototype", self.import_now, True)
        self.totals = [label("0", "big"), label("0", "big"), label("0", "big")]
        names = ("parts", "nets", "pins not accounted for")
        counts = row(*(w for n, t in zip(self.totals, names, strict=True) for w in (n, label(t, "muted"), None)))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(
            card(
                label("The prototype", "heading"),
                holder,
                self.said,
                self.unknown,
                row(self.import_button, None),
                self.problems,
                counts,
            )
        )

    def _choose(self, edit: QLineEdit) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Choose a table", str(self.session.path), "Tables (*.csv);;All (*)")
        if path:
            edit.setText(path)

    def _paths_changed(self) -> None:
        both = all(Path(e.text()).is_file() for e in (self.parts_path, self.wiring_path))
        if both:
            self.look()
        else:
            self.said.hide()
            self.unknown.hide()

    def look(self) -> None:
        """Say what importing the two tables would give."""
        self._read(lambda _preview: None)

    def _read(self, after: Callable[[Preview], None]) -> None:
        """Read the two tables as a job, in a process of its own; show what they give, then go on."""
        from zesty_trace.journey.foreign import previewed

        self.problems.hide()
        parts, wiring = Path(self.parts_path.text()), Path(self.wiring_path.text())
        design, catalogue = self.session.design, self.session.catalogue
        names = {**load_names(), **self._chosen}

        def done(preview: Preview) -> None:
            if design is not self.session.design:
                self._read(after)  # the design has changed meanwhile
                return
            self._preview = preview
            self._show(preview)
            after(preview)

        def failed(error: ZestyError | None) -> None:
            self._preview = None
            if error is not None:
                self._say_problems([str(error)])

        self.session.jobs.start(
            "Reading the tables", lambda _r: previewed(parts, wiring, catalogue, design, names), done, failed
        )

    def _show(self, preview: Preview) -> None:
        lines = [preview.say()]
        if preview.design is not None:
            changes = describe_changes(self.session.design, preview.design) if self.session.design.parts else []
            more = len(changes) - CHANGES_SHOWN
            lines += changes[:CHANGES_SHOWN] + ([f"and {more} more changes"] if more > 0 else [])
        self.said.setText("\n".join(lines))
        self.said.setObjectName("good" if preview.design is not None else "bad")
        self.said.style().polish(self.said)
        self.said.show()
        self.unknown.setVisible(bool(preview.unknown))
        self.unknown.setRowCount(len(preview.unknown))
        for k, unknown in enumerate(preview.unknown):
            self._fill_unknown(k, unknown)
        fit_height(self.unknown, 5)
        if preview.problems:
            self._say_problems(told(preview.problems))

    def _fill_unknown(self, number: int, unknown: Unknown) -> None:
        catalogue = self.session.catalogue
        self.unknown.setItem(number, 0, QTableWidgetItem(unknown.word))
        used = QTableWidgetItem(" ".join(unknown.refs))
        used.setToolTip(tip(used.text()))
        self.unknown.setItem(number, 1, used)
        box = QComboBox()
        box.setAccessibleName(f"Kind of {unknown.word}")
        box.addItem("choose …", "")
        rest = sorted(set(catalogue.kinds) - set(unknown.guesses), key=lambda k: catalogue.kinds[k].title)
        for kind_id in (*unknown.guesses, *rest):
            box.addItem(f"{catalogue.kinds[kind_id].title} ({kind_id})", kind_id)
        box.insertSeparator(1 + len(unknown.guesses))
        box.activated.connect(lambda _k, box=box, word=unknown.word: self.map_kind(word, box.currentData()))
        box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.unknown.setCellWidget(number, 2, box)

    def map_kind(self, word: str, kind_id: str) -> None:
        """Take a word of the tables for a kind, now and in every later import."""
        if not kind_id:
            return
        self._chosen[word.lower()] = kind_id
        try:
            keep_names({word: kind_id})
        except StoreError as error:
            self.session.failed.emit(error)
        self.look()

    def import_now(self) -> None:
        """Replace parts and nets by those of the two tables, or say what is wrong with them."""
        self._read(self._import)

    def _import(self, preview: Preview) -> None:
        if preview.design is None:
            if not preview.problems:
                file = Path(self.parts_path.text()).name
                where = [f"{file} line {u.lines[0]}, column kind: “{u.word}” is not known" for u in preview.unknown]
                self._say_problems([f"{each}. Say above what it is." for each in where])
            return
        self.said.hide()
        after = preview.design
        self.session.do(f"Imported {len(after.parts)} parts", lambda _d: after)

    def _say_problems(self, lines: list[str]) -> None:
        self.problems.setPlainText("\n".join(["Nothing was imported.", *lines]))
        self.problems.show()

    def show_totals(self, parts: int, nets: int, loose: int) -> None:
        """Show the counts of the design as it is."""
        for target, number in zip(self.totals, (parts, nets, loose), strict=True):
            target.setText(str(number))
