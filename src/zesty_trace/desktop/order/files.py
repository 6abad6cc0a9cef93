"""The files that go to the board house, or somebody's: looked at, looked through as intake does, compared."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFileDialog,
    QFrame,
    QHeaderView,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.contacts import contacts_of
from zesty_trace.core.fabrication.looking.intake import Intake
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, fill, label, row, table
from zesty_trace.desktop.order.at_home import MillPage
from zesty_trace.desktop.order.comparing import ComparePage
from zesty_trace.desktop.order.for_assembly import PlacesPage
from zesty_trace.desktop.order.on_panel import PanelPage
from zesty_trace.desktop.order.pages import Page
from zesty_trace.desktop.order.set_view import SetCanvas, SetLook, set_look
from zesty_trace.desktop.project.session import Session
from zesty_trace.journey.foreign import look_at

QUERIES_PX = 148
LAYER_PX = 164
OWN = "Fabrication files"
PROJECT_TIP = "Order, assemble and test this board with its bill of materials and table of places"
TABLES_TITLE = "Bill of materials and table of places (centroid)"


@dataclass(frozen=True)
class Looked:
    """A zip that was read: how it looks, what intake says, and the smallest things in it."""

    path: Path
    look: SetLook
    answer: Intake
    words: str
    has_tables: bool = False


def look_through(path: Path, own: bool, wired: Wired | None, report: Report) -> Looked:
    """Read a zip, an `own` one within its project only, and look it through; for a worker's thread.

    `wired` is the design that it should be.
    """
    seen = look_at(path, own, contacts_of(wired) if wired is not None else (), report)
    return Looked(path, set_look(seen.board), seen.answer, seen.words, seen.has_tables)


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
        self.made: SetLook | None = None
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
        self.project_button = button("Make it a project …", self.ask_for_project, True, PROJECT_TIP)
        self.tables: tuple[Path, ...] = ()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 12, 14, 12)
        layout.setSpacing(8)
        last = row(self.write_button, self.project_button, None, self.own_button, self.open_button)
        for widget in (
            row(self.heading, None, self.measure_button, self.layer),
            self.canvas,
            self.said,
            self._uses(),
            self.uses,
            last,
        ):
            layout.addWidget(widget)
        layout.setStretch(1, 1)
        self._show_buttons()

    def _uses(self) -> QWidget:
        """Return the row of what can be done with the files, and make the page of each."""
        first = QWidget()
        column = QVBoxLayout(first)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        for widget in (self.note, self.verdict, self.queries):
            column.addWidget(widget)
        column.addStretch(1)
        shared = (self.session, self._show_made, self.canvas.show_marks)
        self.comparing, self.places = ComparePage(*shared), PlacesPage(*shared)
        self.on_panel, self.at_home = PanelPage(*shared), MillPage(*shared)
        self.uses = QStackedWidget()
        self.use_buttons: list[QPushButton] = []
        group = QButtonGroup(self)
        titles = [("Check", "What intake of a board house would ask", first)]
        titles += [(page.title, page.tip, page) for page in self._pages()]
        for k, (title, tip, page) in enumerate(titles):
            self.uses.addWidget(page)
            made = button(title, partial(self.use, k), tip=tip)
            made.setCheckable(True)
            made.setChecked(k == 0)
            group.addButton(made)
            self.use_buttons.append(made)
        self.use_row = row(*self.use_buttons, None)
        return self.use_row

    def _pages(self) -> tuple[Page, ...]:
        return self.comparing, self.on_panel, self.at_home, self.places

    def use(self, number: int) -> None:
        """Turn to a page: 0 looks through, then compare, panel, mill."""
        self.use_buttons[number].setChecked(True)
        self.uses.setCurrentIndex(number)
        self._fit_page()
        if self.looked is None:
            return
        self._fill_views(self.looked.look)
        self._show()
        if number:
            self._pages()[number - 1].opened()
        self._fit_page()

    def _fit_page(self) -> None:
        """Give the stack the height that the page needs for its words, not that of the tallest page."""
        page = self.uses.currentWidget()
        if page is None:
            return
        wide = max(1, self.uses.width())
        high = page.heightForWidth(wide) if page.hasHeightForWidth() else page.sizeHint().height()
        self.uses.setFixedHeight(max(high, page.minimumSizeHint().height()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Words break elsewhere in another width."""
        super().resizeEvent(event)
        self._fit_page()

    def _show_made(self, look: SetLook, view: str) -> None:
        """Show what a page has made of the files."""
        self.made = look
        self._fill_views(look, view)
        self._show()
        self._fit_page()

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
        self.use_row.hide()
        self._show_buttons()
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
        self.looked, self.foreign, self.made = looked, foreign, None
        self.heading.setText(looked.path.name if foreign else OWN)
        answer = looked.answer
        self.verdict.setText(f"Intake: {answer.verdict}")
        fill(self.queries, [[q.severity.word, q.title, q.detail] for q in answer.queries])
        self.queries.setVisible(bool(answer.queries))
        self.layer.show()
        self.measure_button.show()
        self.use_row.show()
        self.said.setText("Click on copper for its aperture and net; the wheel zooms, M measures.")
        self._say_note()
        for page in self._pages():
            page.take(looked, foreign)
        self._show_buttons()
        self.use(0)
        self.turned()

    def _fill_views(self, look: SetLook, view: str = "") -> None:
        before = view or self.layer.currentText()
        self.layer.blockSignals(True)
        self.layer.clear()
        self.layer.addItems(list(look.views()))
        self.layer.setCurrentText(before)
        self.layer.blockSignals(False)

    def _show_buttons(self) -> None:
        """Show what can be done with these files: own ones are written, somebody's made a project of."""
        self.own_button.setVisible(self.foreign)
        self.project_button.setVisible(self.foreign)
        self.write_button.setVisible(not self.foreign and not self.session.design.board.given)

    def warn(self, words: str) -> None:
        """Say something before what the files are."""
        self._warning = words
        self._say_note()

    def _say_note(self) -> None:
        if self.looked is not None:
            before = "" if self.foreign else self._warning
            self.note.setText(f"{before}{self.looked.path.name}: {self.looked.words}. Drawn from the files alone.")
            self._fit_page()

    def _show(self) -> None:
        if self.looked is None:
            self._take_nothing()
            return
        look = self.made if self.made is not None and self.uses.currentIndex() else self.looked.look
        self.canvas.show_look(look, self.layer.currentText(), self.session.design.build.colour)

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
            self.tables = ()
            self.read(Path(name), of_design=False, own=False)

    def back(self) -> None:
        """Show the own files again."""
        self.foreign = False
        self._show_buttons()
        self._reading = None
        self.looked = None
        self.turned()
        self.again()

    def ask_for_project(self) -> None:
        """Ask for the folder of a new project, and for tables where the zip has none; make it of these files."""
        if self.looked is None:
            return
        tables = self.tables
        if not tables and not self.looked.has_tables:
            names, _ = QFileDialog.getOpenFileNames(
                self, TABLES_TITLE, str(self.looked.path.parent), "Tables (*.csv *.txt)"
            )
            tables = tuple(Path(n) for n in names)
            if not tables:
                return
        folder = QFileDialog.getExistingDirectory(self, "Folder of the new project", str(self.session.path.parent))
        if folder:
            self.make_project(Path(folder), tables)

    def make_project(self, folder: Path, tables: tuple[Path, ...] = ()) -> None:
        """Make a project of the files that are looked at, as a job, and ask for it to be opened."""
        from zesty_trace.journey.adopting import adopt_zip, sorted_tables

        looked = self.looked
        if looked is None:
            return

        def work(report: Report) -> list[str]:
            return adopt_zip(looked.path, folder, *sorted_tables(tables), report=report).notes

        def done(notes: list[str]) -> None:
            self.session.message.emit(f"Made {folder.name} of {looked.path.name}: {say_count(len(notes), 'remark')}")
            self.session.open_asked.emit(folder)

        self.session.jobs.start("Making a project of the files", work, done)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take a zip, and tables that belong to it."""
        if any(url.toLocalFile().lower().endswith(".zip") for url in event.mimeData().urls()):
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()

    def dropEvent(self, event: QDropEvent) -> None:
        """Look at the zip that is dropped; tables dropped with it are taken when it becomes a project."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        zips = [p for p in paths if p.suffix.lower() == ".zip"]
        if zips:
            self.tables = tuple(p for p in paths if p.suffix.lower() in (".csv", ".txt"))
            self.read(zips[0], of_design=False, own=False)
            event.acceptProposedAction()
