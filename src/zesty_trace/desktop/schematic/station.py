"""Schematic: the sheet arranges itself; wires follow the connections; a line takes sentences; drawers have the rest."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QPointF, QRectF, QSettings, Qt, QTimer
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QMenu, QPushButton, QSizePolicy, QSplitter, QVBoxLayout, QWidget

from zesty_trace.core.findings import Finding
from zesty_trace.core.schematic.pages import pages_of
from zesty_trace.core.wording.completing import completions
from zesty_trace.core.wording.sentences import understand
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.say_line import SayLine
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import card, label, lines_of, row
from zesty_trace.desktop.project.station import Station
from zesty_trace.desktop.schematic import edits
from zesty_trace.desktop.schematic import files as sheet_files
from zesty_trace.desktop.schematic.canvas import SheetCanvas
from zesty_trace.desktop.schematic.drawers.stack import DRAWERS, WIDE_PX, DrawerStack
from zesty_trace.desktop.schematic.find_box import FindBox
from zesty_trace.desktop.schematic.model import Drawn, SchematicModel
from zesty_trace.errors import ZestyError

AFTER_PAINT_MS = 60  # an edit is on screen first; what takes longer starts then
NEAR_PX = 11.0  # pixels per grid unit at which a part that is shown can be read
WHOLE = "All on one sheet"
BESIDE = "Beside: Findings"


class SchematicStation(Station):
    """The sheet, the drawer beside it and the line below it: the view of a SchematicModel."""

    key = "schematic"

    def build(self) -> None:
        """Make the canvas, the bars and the line."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self.model = SchematicModel(self.session, self._pull_if_seen)
        self.canvas = SheetCanvas()
        self.drawers = DrawerStack(self.model)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(AFTER_PAINT_MS)
        self._later.timeout.connect(self._pull_rest)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(8)
        self.splitter.addWidget(self.canvas)
        self.splitter.addWidget(self.drawers)
        self.splitter.setStretchFactor(0, 1)
        frame = card(self._upper_bar(), self._lower_bar(), self.splitter, name="sheet")
        lines_of(frame).setStretch(2, 1)
        layout.addWidget(frame, 1)
        layout.addWidget(self._line())
        self._connect()

    def _connect(self) -> None:
        c, m = self.canvas, self.model
        self.whole.clicked.connect(c.overview)
        c.parts_moved.connect(partial(edits.move, m))
        c.pins_joined.connect(partial(edits.join, m))
        c.connection_deleted.connect(partial(edits.cut, m))
        c.parts_deleted.connect(partial(edits.delete_parts, m))
        c.value_edited.connect(partial(edits.set_value, m))
        c.picked.connect(m.pick)
        c.kind_dropped.connect(lambda kind, spot: edits.add_kind(m, kind, spot=spot))
        c.selection_changed.connect(lambda: m.select(c.selection))
        m.selection_changed.connect(lambda: c.select(m.selection))
        m.drawn_changed.connect(self._redrawn)
        m.shown_changed.connect(self._show)
        m.state_set.connect(self.drawers.pull)
        m.reveal.connect(self._reveal)
        m.fit_asked.connect(c.fit)
        m.line_asked.connect(self._put_on_line)
        m.said.connect(self.say_line.clear_done)
        self.drawers.turned.connect(self._drawer_turned)

    def _upper_bar(self) -> QWidget:
        self.overlay = QPushButton("Voltages and currents")
        self.overlay.setCheckable(True)
        self.overlay.toggled.connect(self.model.show_overlay)
        self.whole = QPushButton("Overview")
        self.whole.setToolTip("The whole sheet, however small, or back to a size that can be read (End, Home)")
        self.hint = label("", "muted")
        self.blocks, self.pages, self.states = QComboBox(), QComboBox(), QComboBox()
        for box, name, run in (
            (self.blocks, "Show a block", self._show_block),
            (self.pages, "Page", self._pick_page),
            (self.states, "Operating state", lambda: self.model.set_state(self.states.currentText())),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            box.setMaximumWidth(170)
            box.activated.connect(lambda _k, run=run: run())
        self.states.setToolTip("The state whose voltages and currents are shown")
        self.pages.hide()
        bar = row(self.hint, self.pages, self.blocks, self.states, self.whole, self.overlay)
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # the first to give way
        lines_of(bar).setStretch(0, 1)
        return bar

    def _lower_bar(self) -> QWidget:
        self.find_box = FindBox(lambda: self.session.wired)
        self.find_box.chosen.connect(self.model.light)
        self.shelf = QPushButton(DRAWERS["shelf"].title)
        self.shelf.setToolTip(tip(f"Find a part by words and put it on the sheet ({DRAWERS['shelf'].keys})"))
        self.shelf.setObjectName("chip")
        self.shelf.setCheckable(True)
        self.shelf.clicked.connect(lambda on: self._toggled("shelf", on))
        self.beside = QPushButton(BESIDE)
        self.beside.setObjectName("chip")
        self.beside.setToolTip("What stands beside the sheet: findings, the selected part, wiring list, numbers …")
        menu = QMenu(self.beside)
        self.toggles: dict[str, QAction] = {}
        named = {key: (spec.title, spec.keys) for key, spec in DRAWERS.items() if key != "shelf"}
        for key, (title, keys) in {"": ("Findings", ""), **named}.items():
            toggle = menu.addAction(f"{title}\t{keys}" if keys else title)
            toggle.setCheckable(True)
            toggle.triggered.connect(lambda on, key=key: self._toggled(key, on))
            self.toggles[key] = toggle
        self.beside.setMenu(menu)
        self.more = QPushButton("Sheet …")
        self.more.setObjectName("chip")
        self.more.setToolTip("Arrange, number, split into pages, print, export")
        self.more.setMenu(sheet_files.menu_of(self.model, self.canvas))
        return row(self.find_box, None, self.shelf, self.beside, self.more)

    def _line(self) -> SayLine:
        self.say_line = SayLine(
            "U3.P4 - R20 330 - D7 red - GND",
            "Say a connection, a value, or “delete R8”. Enter does it.",
            lambda text: understand(text, self.session.wired),
            lambda text: completions(text, self.session.wired),
        )
        self.line, self.preview = self.say_line.field, self.say_line.preview
        self.say_line.said.connect(partial(edits.say, self.model))
        return self.say_line

    # Reading ------------------------------------------------------------------------------------------------------

    def pull(self) -> None:
        """Draw an edit at once, have the whole arranged off the GUI thread, and bring the drawer up to date."""
        if self.model.amend():
            self._later.start()
        else:
            self._pull_rest()

    def _pull_rest(self) -> None:
        """Have the whole arranged, and bring what stands around the sheet up to date."""
        self._later.stop()
        self.hint.setText(self.model.totals())
        if self.model.ask() and self.model.drawn is not None:
            self._fill_choices(self.model.drawn)
            self._show()
        self.drawers.pull()

    def _pull_if_seen(self) -> None:
        if self.isVisible():
            self.pull()

    def _redrawn(self, turned: bool) -> None:
        drawn = self.model.drawn
        if drawn is not None:
            self._fill_choices(drawn)
            self._show(keep_zoom=not turned)
            self.drawers.pull()

    def _fill_choices(self, drawn: Drawn) -> None:
        pages = [p.name for p in pages_of(drawn.wired)]
        self.pages.setVisible(bool(pages))
        self._fill_box(
            self.pages, [WHOLE, *(f"Page {p}" for p in pages)], f"Page {drawn.page}" if drawn.page else WHOLE
        )
        blocks = ["All blocks", *dict.fromkeys(s.block for s in drawn.sheet.symbols)]
        self._fill_box(self.blocks, blocks, self.blocks.currentText())
        names = [s.name for s in drawn.analysis.states] if drawn.analysis else []
        self._fill_box(self.states, names, self.model.state_name)
        self.states.setVisible(len(names) > 1)

    @staticmethod
    def _fill_box(box: QComboBox, texts: list[str], current: str) -> None:
        if [box.itemText(k) for k in range(box.count())] != texts:
            box.clear()
            box.addItems(texts)
        if current in texts:
            box.setCurrentText(current)

    def _show(self, keep_zoom: bool = True) -> None:
        drawn = self.model.drawn
        if drawn is None:
            return
        if self.states.findText(self.model.state_name) >= 0:
            self.states.setCurrentText(self.model.state_name)
        self.canvas.show_view(self.model.view_of(drawn), keep_zoom)

    def _show_block(self) -> None:
        name = self.blocks.currentText()
        if self.model.drawn is None:
            return
        sheet = self.model.drawn.sheet
        members = [s for s in sheet.symbols if s.block == name]
        if not members:
            self.canvas.overview()
            return
        bodies, bands = [s.body() for s in members], {s.band for s in members}
        rails = [r.y for r in sheet.rails if r.band in bands]
        left, right = min(b[0] for b in bodies) - 10, max(b[2] for b in bodies) + 6
        top, bottom = min([*(b[1] for b in bodies), *rails]) - 2, max([*(b[3] for b in bodies), *rails]) + 1
        self.canvas.show_rect(QRectF(left, top, right - left, bottom - top))

    def _pick_page(self) -> None:
        self.model.turn_to(self.pages.currentText().removeprefix("Page ") if self.pages.currentIndex() > 0 else "")

    def _reveal(self, ref: str) -> None:
        symbol = self.canvas.symbol(ref)
        if symbol:
            self.canvas.center_on(QPointF(symbol.x, symbol.y), NEAR_PX)

    def _put_on_line(self, text: str) -> None:
        self.say_line.field.setText(text)
        self.say_line.focus_line()
        self.say_line.refresh()

    def show_finding(self, finding: Finding) -> None:
        """Light up the parts and nets of a finding and bring them into view."""
        self.model.light(finding.refs, finding.nets)

    def changed(self) -> None:
        """Re-read; what cannot be drawn is told and changes nothing."""
        try:
            super().changed()
        except ZestyError as error:
            self.session.failed.emit(error)

    # The drawers --------------------------------------------------------------------------------------------------

    def _toggled(self, key: str, on: bool) -> None:
        if on and key:
            self.drawers.open(key)
        else:
            self.drawers.close_open()

    def _drawer_turned(self) -> None:
        """Give an opened drawer its room, or the findings theirs."""
        opened = bool(self.drawers.key)
        if opened and not self.drawers.isVisibleTo(self):
            self.room_asked.emit(True)
            self.drawers.show()
            self.splitter.setSizes([max(self.splitter.width() - WIDE_PX, WIDE_PX), WIDE_PX])
        for key, toggle in self.toggles.items():
            toggle.setChecked(key == self.drawers.key)
        self.shelf.setChecked(self.drawers.key == "shelf")
        named = DRAWERS[self.drawers.key].title if opened and self.drawers.key != "shelf" else "Findings"
        self.beside.setText(BESIDE.replace("Findings", named))
        if not opened:
            self.room_asked.emit(False)
            self.canvas.setFocus()

    @property
    def wants_room(self) -> bool:
        """Whether a drawer stands where the findings would."""
        return bool(self.drawers.key)

    def keep_state(self, settings: QSettings) -> None:
        """Remember the open drawer."""
        settings.setValue("schematic/drawer", self.drawers.key)

    def restore_state(self, settings: QSettings) -> None:
        """Open the drawer that was open."""
        key = str(settings.value("schematic/drawer", ""))
        if key in DRAWERS:
            self.drawers.open(key)

    # Doing --------------------------------------------------------------------------------------------------------

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        drawers = [
            Action(f"{spec.title} beside the sheet", spec.keys, partial(self.drawers.toggle, key))
            for key, spec in DRAWERS.items()
        ]
        m = self.model
        run: list[tuple[str, str, Callable[[], object]]] = [
            ("Say a connection", "Ctrl+L", self.say_line.focus_line),
            ("Find a part, value or net", "Ctrl+F", self.find_box.focus_line),
            ("Show voltages and currents", "Ctrl+E", self.overlay.toggle),
            ("Arrange the sheet again", "Ctrl+Shift+A", partial(edits.arrange_again, m)),
            ("Copy the selected parts", "Ctrl+C", partial(edits.copy_selection, m)),
            ("Paste the copied parts", "Ctrl+V", partial(edits.paste, m)),
            ("Select every part", "Ctrl+A", m.select_all),
            ("Play the timeline", "Ctrl+Shift+P", self.play),
        ]
        files = [
            Action(title, sheet_files.SHORTCUTS.get(title, ""), partial(action, m, self.canvas))
            for title, action in sheet_files.ACTIONS.items()
        ]
        return [*(Action(*each) for each in run), *drawers, *files]

    def play(self) -> None:
        """Open the timeline and play it, or stop."""
        if self.drawers.key != "timeline":
            self.drawers.open("timeline")
        self.drawers.made["timeline"].toggle()  # type: ignore[attr-defined]
