"""The files that go to the board house, or somebody's: looked at, looked through as intake does, compared."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QComboBox, QFileDialog, QFrame, QHeaderView, QPushButton, QVBoxLayout

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.contacts import contacts_of
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.looking.intake import Intake, intake
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.fabrication.sources import zip_files
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, fill, label, row, table
from zesty_trace.desktop.order.set_view import SetCanvas, SetLook, set_look
from zesty_trace.desktop.project.session import Session
from zesty_trace.files import read_inside

QUERIES_PX = 148
LAYER_PX = 164
OWN = "Fabrication files"


@dataclass(frozen=True)
class Looked:
    """A zip that was read: how it looks, what intake says, and the smallest things in it."""

    path: Path
    look: SetLook
    answer: Intake
    words: str


def _later(report: Report, share: float, text: str) -> bool:
    return report(0.5 + share / 3, text)


def look_through(path: Path, own: bool, wired: Wired | None, report: Report) -> Looked:
    """Read a zip, an `own` one within its project only, and look it through; for a worker's thread.

    `wired` is the design that it should be.
    """
    inside = f"{path.parent.name}/{path.name}"
    files = read_zip(read_inside(path.parents[1], inside, "archive")) if own else zip_files(path)
    board = read_set(files, report=lambda share, text: report(share / 2, text))
    contacts = contacts_of(wired) if wired is not None else ()
    answer = intake(
        board, contacts=contacts, source="the design", report=lambda share, text: report(0.5 + share / 3, text)
    )
    report(0.9, "measuring")
    m = Measures(board)
    size = board.edges.size_mm
    words = [
        f"{size[0]:.2f} x {size[1]:.2f} mm" if size else "no closed outline",
        f"{len(board.layers)} layers of copper",
    ]
    for name, found in (("track", m.tracks), ("gap", m.gaps)):
        words += [f"smallest {name} {found[0].mm:.2f} mm"] if found else []
    words += [f"ring {m.rings[0][0].mm:.2f} mm"] if m.rings else []
    words.append(say_count(len(board.holes), "hole"))
    odd = board.remarks()
    if odd:
        words.append(f"{say_count(len(odd), 'odd thing')}: {odd[0]}")
    return Looked(path, set_look(board), answer, ", ".join(words))


class FilesPanel(QFrame):
    """The view of a set, what intake says of it, and the buttons."""

    def __init__(
        self, session: Session, write: Callable[[], None], again: Callable[[], None], turned: Callable[[], None]
    ) -> None:
        """`write` writes the own files, `again` has them looked at, `turned` hears that other files are shown."""
        super().__init__()
        self.setObjectName("sheet")
        self.setAcceptDrops(True)
        self.session, self.again, self.turned = session, again, turned
        self.looked: Looked | None = None
        self.foreign = False
        self._warning = ""
        self._reading: object = None
        self.canvas = SetCanvas()
        self.canvas.tapped.connect(self._tapped)
        self.layer = QComboBox()
        self.layer.setAccessibleName("What is shown")
        self.layer.setMinimumWidth(LAYER_PX)
        self.layer.currentTextChanged.connect(lambda _t: self._show())
        self.heading = label(OWN, "heading")
        self.measure_button = QPushButton("Measure")
        self.measure_button.setToolTip("Between two points, in mm and mil (M)")
        self.measure_button.clicked.connect(lambda: self.canvas.measure(self.canvas.tape is None))
        self.note = label("", "muted", True)
        self.said = label("", "muted", True)
        self.verdict = label("", "", True)
        self.queries = table("", "What intake asks", "What to do")
        self.queries.setFixedHeight(QUERIES_PX)
        head = self.queries.horizontalHeader()
        head.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.queries.itemSelectionChanged.connect(self._ring)
        self.write_button = button("Write the fabrication zip", write, True, "Ctrl+G")
        self.open_button = button("Look at a zip …", self.ask_for_zip, tip="A zip of any tool; or drop one here")
        self.own_button = button("Back to own files", self.back)
        self.own_button.hide()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 12, 14, 12)
        layout.setSpacing(8)
        for widget in (
            row(self.heading, None, self.measure_button, self.layer),
            self.canvas,
            self.said,
            self.note,
            self.verdict,
            self.queries,
            row(self.write_button, None, self.own_button, self.open_button),
        ):
            layout.addWidget(widget)
        layout.setStretch(1, 1)

    def nothing(self, words: str) -> None:
        """Show that there are no files."""
        self.looked = None
        self.heading.setText(OWN)
        self.note.setText(words)
        self._take_nothing()

    def _take_nothing(self) -> None:
        self.canvas.show_look(None)
        self.verdict.setText("")
        self.said.setText("")
        self.queries.hide()
        self.layer.hide()
        self.measure_button.hide()

    def read(self, path: Path, of_design: bool, own: bool = True) -> None:
        """Read a zip and look it through, as a job; against the design if it is written from it as it is."""
        wired = self.session.wired if of_design else None
        self._reading = path

        def done(found: Looked) -> None:
            if self._reading == path:
                self._take(found, not own)

        self.session.jobs.start(
            "Looking through the files", lambda report: look_through(path, own, wired, report), done, visible=not own
        )

    def _take(self, looked: Looked, foreign: bool) -> None:
        self.looked, self.foreign = looked, foreign
        self.heading.setText(looked.path.name if foreign else OWN)
        self.own_button.setVisible(foreign)
        self.write_button.setVisible(not foreign)
        before = self.layer.currentText()
        self.layer.blockSignals(True)
        self.layer.clear()
        self.layer.addItems(list(looked.look.views()))
        self.layer.setCurrentText(before)
        self.layer.blockSignals(False)
        answer = looked.answer
        self.verdict.setText(f"Intake: {answer.verdict}")
        fill(self.queries, [[q.severity.word, q.title, q.detail] for q in answer.queries])
        self.queries.setVisible(bool(answer.queries))
        self.layer.show()
        self.measure_button.show()
        self.said.setText("Click on copper for its aperture and net; the wheel zooms, M measures.")
        self._say_note()
        self._show()
        self.turned()

    def warn(self, words: str) -> None:
        """Say something before what the files are."""
        self._warning = words
        self._say_note()

    def _say_note(self) -> None:
        if self.looked is not None:
            before = "" if self.foreign else self._warning
            self.note.setText(f"{before}{self.looked.path.name}: {self.looked.words}. Drawn from the files alone.")

    def _show(self) -> None:
        if self.looked is None:
            self._take_nothing()
            return
        self.canvas.show_look(self.looked.look, self.layer.currentText(), self.session.design.build.colour)

    def recolour(self) -> None:
        """Show the colour of the order."""
        if self.looked is not None and self.canvas.colour != self.session.design.build.colour:
            self._show()

    def _ring(self) -> None:
        chosen = {index.row() for index in self.queries.selectedIndexes()}
        queries = self.looked.answer.queries if self.looked is not None else ()
        marks = tuple(spot for k, q in enumerate(queries) if k in chosen for spot in q.at)
        self.canvas.show_marks(marks)
        for k in sorted(chosen)[:1]:
            self.said.setText(str(queries[k]) if k < len(queries) else "")

    def _tapped(self, words: str) -> None:
        self.said.setText(words)

    def ask_for_zip(self) -> None:
        """Ask for a zip and look at it."""
        name, _ = QFileDialog.getOpenFileName(self, "A fabrication zip of any tool", "", "Zip (*.zip)")
        if name:
            self.read(Path(name), of_design=False, own=False)

    def back(self) -> None:
        """Show the own files again."""
        self.foreign = False
        self.own_button.hide()
        self.write_button.show()
        self._reading = None
        self.looked = None
        self.turned()
        self.again()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take a zip."""
        if any(url.toLocalFile().lower().endswith(".zip") for url in event.mimeData().urls()):
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()

    def dropEvent(self, event: QDropEvent) -> None:
        """Look at the zip that is dropped."""
        for url in event.mimeData().urls():
            if url.toLocalFile().lower().endswith(".zip"):
                self.read(Path(url.toLocalFile()), of_design=False, own=False)
                event.acceptProposedAction()
                return
