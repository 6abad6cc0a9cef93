"""The window: the journey on top, the station in the middle, the findings at the right, the status below."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.findings import Finding
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import Words, tip
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.window.notice import Notices
from zesty_trace.desktop.window.opening import demo_folder, new_project, recent
from zesty_trace.desktop.window.status import StatusStrip
from zesty_trace.desktop.window.trace import JourneyTrace
from zesty_trace.errors import StoreError
from zesty_trace.stations import DEMOS, SPEC, STATIONS

if TYPE_CHECKING:
    from zesty_trace.desktop.project.station import Station
    from zesty_trace.desktop.window.findings_panel import FindingsPanel
    from zesty_trace.desktop.window.palette import Palette


PAINT_FIRST_MS = 30
IDLE_MS = 400
NEEDED_LATER = ("pyqtgraph", "zesty_trace.store.records", "zesty_trace.journey.trusting")
NAME_PX = 262  # room for the project's name


def _station_class(key: str) -> type[Station]:
    """Import a station when it is first shown."""
    import importlib

    module, _, name = SPEC[key].view.partition(":")
    return getattr(importlib.import_module(module), name)  # type: ignore[no-any-return]


class MainWindow(QMainWindow):
    """One window on one session. `open_asked` asks the application to open another project folder."""

    open_asked = Signal(object)

    def __init__(self, session: Session, settings: QSettings | None = None) -> None:
        super().__init__()
        self.session = session
        self.settings = settings or QSettings("zesty-trace", "zesty-trace")
        self.stations: dict[str, Station] = {}
        self.current = ""
        self._leave_unsaved = False
        self._loaded = False
        self._shortcuts: list[QShortcut] = []
        self._build()
        self._connect()
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)
        self._head()
        QTimer.singleShot(PAINT_FIRST_MS, self._first)

    def _first(self) -> None:
        """Load what the stations need off the GUI thread, then show the one that was last open."""
        where = str(self.settings.value(f"station/{self.session.path}", "brief"))
        where = where if where in STATIONS else "brief"

        def load(report: object) -> None:
            from zesty_trace.journey import judges  # noqa: F401 - the judges are loaded before they are asked
            from zesty_trace.journey.kinds import check_known

            check_known(self.session.wired)

        def failed(error: object) -> None:
            if error is not None:
                self.session.failed.emit(error)
                self.notices.put(
                    "unreadable",
                    f"{error} Nothing can be shown until that is put right; nothing was changed.",
                    (("Try again", self._again),),
                )

        def ready(_value: object) -> None:
            self._loaded = True
            if not self.current:
                self.go(where)
            self.session.check_soon()
            self._ask_about_stale()
            QTimer.singleShot(IDLE_MS, self._load_the_rest)

        self.session.jobs.start("Loading", load, ready, failed, visible=False)

    def _load_the_rest(self) -> None:
        """Import the stations that were not shown yet, and what they need, while nobody waits for them."""

        def load(_report: object) -> None:
            import importlib

            for name in (*(SPEC[key].view.partition(":")[0] for key in STATIONS), *NEEDED_LATER):
                importlib.import_module(name)

        self.session.jobs.start("Loading the rest", load, lambda _v: None, visible=False)

    def _again(self) -> None:
        self.session.__dict__.pop("catalogue", None)
        self._first()

    def _build(self) -> None:
        self.trace = JourneyTrace()
        self.title, self.subtitle = Words(), Words()
        self.title.setObjectName("title")
        for words in (self.title, self.subtitle):
            words.setFixedWidth(NAME_PX)  # the journey stays where it is, however long a name is
        self.subtitle.setObjectName("muted")
        self.palette_button = QPushButton("Actions")
        self.palette_button.setToolTip("Everything that can be done here (Ctrl+K)")
        self.theme_button = QPushButton("Dark")
        header = QWidget()
        header.setObjectName("header")
        top = QHBoxLayout(header)
        top.setContentsMargins(20, 6, 16, 6)
        names = QVBoxLayout()
        names.setSpacing(2)
        names.addStretch(1)
        names.addWidget(self.title)
        names.addWidget(self.subtitle)
        names.addStretch(1)
        top.addLayout(names)
        top.addWidget(self.trace, 1)
        top.addWidget(self.palette_button)
        top.addWidget(self.theme_button)
        self.notices = Notices()
        self.stack = QStackedWidget()
        self.status = StatusStrip(self.session.jobs)
        middle = QHBoxLayout()
        middle.setContentsMargins(16, 14, 12, 4)
        middle.setSpacing(14)
        middle.addWidget(self.stack, 1)
        self._middle = middle
        page = QWidget()
        page.setObjectName("page")
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 4)
        layout.setSpacing(0)
        layout.addWidget(header)
        layout.addWidget(self.notices)
        layout.addLayout(middle, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(16, 0, 12, 0)
        foot.addWidget(self.status)
        layout.addLayout(foot)
        page.setAutoFillBackground(True)
        self._page = page
        self.setCentralWidget(page)
        self._pieces = (header, self.notices, self.status)
        self._dress()
        self.setMinimumSize(1060, 680)

    def _connect(self) -> None:
        s = self.session
        self.trace.picked.connect(self.go)
        s.message.connect(self.status.say)
        s.failed.connect(self.status.fail)
        s.written.connect(self.status.written)
        s.changed_outside.connect(self._ask_about_theirs)
        s.folder_gone.connect(self._ask_for_folder)
        s.records_damaged.connect(self._ask_about_records)
        s.show_finding.connect(self._show_finding)
        s.open_asked.connect(self.open_asked)
        for signal in (s.design_changed, s.findings_changed, s.records_changed):
            signal.connect(self._head)
        self.palette_button.clicked.connect(self.open_palette)
        self.theme_button.clicked.connect(self.switch_theme)
        for action in self.window_actions():
            self._add_shortcut(action)

    @cached_property
    def findings(self) -> FindingsPanel:
        """The findings at the right, made when first shown: the window's first paint does not wait for them."""
        from zesty_trace.desktop.window.findings_panel import FindingsPanel

        panel = FindingsPanel(self.session)
        panel.go_asked.connect(self.go)
        theme.dress(panel)
        self._middle.addWidget(panel)
        return panel

    def _add_shortcut(self, action: Action, context: QWidget | None = None) -> None:
        if not action.shortcut:
            return
        shortcut = QShortcut(QKeySequence(action.shortcut), context or self)
        if context is not None:
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        shortcut.activated.connect(action.run)
        self._shortcuts.append(shortcut)

    def window_actions(self) -> list[Action]:
        """Return what can be done anywhere."""

        def goer(key: str) -> Callable[[], None]:
            return lambda: self.go(key)

        here = [Action(f"Go to {SPEC[k].title}", f"Ctrl+{n}", goer(k)) for n, k in enumerate(STATIONS, 1)]
        return [
            *here,
            Action("Undo", "Ctrl+Z", self.session.undo),
            Action("Redo", "Ctrl+Shift+Z", self.session.redo),
            Action("Save", "Ctrl+S", self.save),
            Action("Save in another folder", "Ctrl+Shift+S", self.save_elsewhere),
            Action("Open another project", "Ctrl+Shift+O", self.choose_project),
            Action("New project", "Ctrl+Shift+N", self.new_project),
            *self._recent_actions(),
            *self._demo_actions(),
            Action("Switch between light and dark", "Ctrl+T", self.switch_theme),
            Action("All actions", "Ctrl+K", self.open_palette),
        ]

    def _recent_actions(self) -> list[Action]:
        def opener(path: Path) -> Callable[[], None]:
            return lambda: self.open_asked.emit(path)

        others = [p for p in recent(self.settings) if p != self.session.path]
        return [Action(f"Open recent: {p.name} ({p.parent})", "", opener(p)) for p in others]

    def _demo_actions(self) -> list[Action]:
        def maker(demo: str) -> Callable[[], None]:
            def work(report: object) -> Path:
                return demo_folder(False, demo)

            def make() -> None:
                self.session.jobs.start("Making the demo", work, self.open_asked.emit)

            return make

        return [Action(f"Open demo: {name.replace('-', ' ')}", "", maker(demo)) for demo, name in DEMOS.items()]

    # What must not be lost -----------------------------------------------------------------------------------------

    def flush(self) -> None:
        """Take over what is typed and not yet entered, in every station."""
        for station in self.stations.values():
            station.flush()

    def save(self) -> bool:
        """Take over what is typed, and save; whether it worked."""
        self.flush()
        return self.session.save()

    def save_elsewhere(self) -> None:
        """Ask for another folder and go on there."""
        self.flush()
        folder = QFileDialog.getExistingDirectory(self, "Save the project in this folder", str(Path.home()))
        if folder and self.session.save_elsewhere(Path(folder)):
            self.notices.drop("folder")

    def _ask_about_theirs(self) -> None:
        self.notices.put(
            "theirs",
            "Another program has changed design.json while it was open here. Nothing is overwritten until you choose.",
            (
                ("Take theirs", self.session.take_theirs),
                ("Save mine, keep theirs beside it", lambda: self.session.save(True)),
            ),
        )

    def _ask_for_folder(self, error: object) -> None:
        self.notices.put(
            "folder", f"{error} Your work is still in this window.", (("Save in another folder", self.save_elsewhere),)
        )

    def _ask_about_stale(self) -> None:
        if self.session.stale is not None:
            self.notices.put(
                "stale",
                "Edits of a session that ended suddenly belong to another design.json than the one that is here. "
                "They are kept in design.unsaved.json.",
                (("Take these edits", self.session.take_stale), ("Keep the file as it is", lambda: None)),
            )

    def _ask_about_records(self, error: object) -> None:
        backups = getattr(error, "backups", ())
        choices = [(f"Bring back {backups[0]}", lambda: self.session.bring_records_back(backups[0]))] if backups else []
        if getattr(error, "takeable", False):
            choices.append(("Take them as they are", lambda: self.session.take_records("taken in the window")))
        choices.append(("Begin new records", lambda: self.session.bring_records_back("")))
        self.notices.put(
            "records", f"{error} Nothing can be recorded until then; what is there is kept.", tuple(choices)
        )

    def leave(self) -> None:
        """Close without asking: what cannot be saved stays in the journal."""
        self._leave_unsaved = True
        self.close()

    def choose_project(self) -> None:
        """Ask for a project folder and open it in a window of its own."""
        folder = QFileDialog.getExistingDirectory(self, "Open a project folder", str(self.session.path.parent))
        if folder:
            self.open_asked.emit(Path(folder))

    def new_project(self) -> None:
        """Ask for an empty folder, make a project there and open it."""
        folder = QFileDialog.getExistingDirectory(self, "Folder of the new project", str(self.session.path.parent))
        if not folder:
            return
        try:
            self.open_asked.emit(new_project(Path(folder)))
        except StoreError as error:
            self.session.failed.emit(error)

    def go(self, key: str) -> None:
        """Show a station, once what it needs could be read."""
        if not self._loaded:
            return
        if key not in self.stations:
            station = _station_class(key)(self.session)
            self.stations[key] = station
            self.stack.addWidget(station)
            for action in station.actions_here():
                self._add_shortcut(action, station)
            station.room_asked.connect(lambda wanted: self.findings.setVisible(not wanted))
            station.restore_state(self.settings)
        theme.dress(self.stations[key])
        self.current = key
        self.stack.setCurrentWidget(self.stations[key])
        self.findings.show_station(key)
        self.findings.setVisible(not self.stations[key].wants_room)
        self.settings.setValue(f"station/{self.session.path}", key)
        self._head()

    @property
    def station(self) -> Station:
        """The station that is shown."""
        return self.stations[self.current]

    def open_palette(self) -> None:
        """Show the palette under the header."""
        from zesty_trace.desktop.window.palette import Palette

        station = self.stations.get(self.current)
        actions = [*(station.actions_here() if station else []), *self.window_actions()]
        palette = Palette(actions, self)
        theme.dress(palette)
        corner = self.mapToGlobal(self.rect().topLeft())
        palette.move(corner.x() + (self.width() - palette.minimumWidth()) // 2, corner.y() + 96)
        palette.field.setFocus()
        palette.finished.connect(lambda _r: self._run_chosen(palette))
        palette.show()
        palette.field.setFocus()
        self.open_palette_dialog = palette

    def _run_chosen(self, palette: Palette) -> None:
        if palette.chosen:
            palette.chosen.run()

    def _dress(self) -> None:
        self._page.setPalette(theme.palette(theme.current()))
        for piece in (*self._pieces, *([self.findings, self.station] if self.current else [])):
            theme.dress(piece)

    def switch_theme(self) -> None:
        """Light becomes dark and back."""
        name = "dark" if theme.current().name == "light" else "light"
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.use(app, name)
        self.settings.setValue("theme", name)
        self._dress()
        self._head()
        self.findings.show_station(self.current)
        for station in self.stations.values():
            station.changed()
        self.update()

    def _head(self) -> None:
        d = self.session.design
        self.title.setText(self.title.fontMetrics().elidedText(d.name, Qt.TextElideMode.ElideRight, NAME_PX))
        self.title.setToolTip(tip(d.name))
        try:
            needed = f" · ready by {date.fromisoformat(d.brief.needed_by):%a %d %b}"
        except ValueError:
            needed = ""
        self.subtitle.setText(f"rev {d.revision} · {say_count(d.brief.quantity, 'board')}{needed}")
        self.setWindowTitle(f"{d.name} rev {d.revision} — Zesty Trace")
        self.theme_button.setText("Light" if theme.current().name == "dark" else "Dark")
        counts = {k: self.session.open_count(k) for k in STATIONS}
        done = self.session.stations_done() if self.session.settled else self.trace.done
        self.trace.show_state(self.current, done, counts)

    def _show_finding(self, finding: Finding) -> None:
        self.go(finding.station)
        self.station.show_finding(finding)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Keep the window's state, write the design, let go of the project."""
        self.settings.setValue("geometry", self.saveGeometry())
        for station in self.stations.values():
            station.keep_state(self.settings)
        if not self.save() and not self._leave_unsaved:
            self._leave_unsaved = True
            self.status.text.setText(self.status.text.text() + " Close once more to leave without saving.")
            event.ignore()
            return
        self.session.close()
        super().closeEvent(event)
