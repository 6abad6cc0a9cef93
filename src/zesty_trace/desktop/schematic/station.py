"""Schematic: the sheet arranges itself; wires follow the connections; a line takes sentences; drawers have the rest."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSettings, Qt, QTimer
from PySide6.QtWidgets import QComboBox, QPushButton, QSizePolicy, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from zesty_trace.core.circuit.analysis import Analysis, Operating, analyse
from zesty_trace.core.design.model import Design, Page, Pin
from zesty_trace.core.findings import Finding
from zesty_trace.core.progress import Report
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.schematic.amend import amend
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.blocks import propose_blocks
from zesty_trace.core.schematic.pages import page_marks, pages_of
from zesty_trace.core.wording.sentences import completions, understand
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.say_line import SayLine
from zesty_trace.desktop.kit.widgets import card, label, lines_of, row
from zesty_trace.desktop.project.station import Station, WorkedOut
from zesty_trace.desktop.schematic import files as sheet_files
from zesty_trace.desktop.schematic.canvas import SheetCanvas
from zesty_trace.desktop.schematic.edits import SheetEdits
from zesty_trace.desktop.schematic.find_box import FindBox
from zesty_trace.desktop.schematic.host import Drawn
from zesty_trace.desktop.schematic.painter import SheetView
from zesty_trace.errors import SolveError, ZestyError

if TYPE_CHECKING:
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.desktop.schematic.drawers.base import Drawer

DRAWERS = {
    "part": ("part", "PartDrawer", "Part", "Ctrl+Shift+1"),
    "wiring": ("wiring", "WiringDrawer", "Wiring list", "Ctrl+Shift+2"),
    "states": ("states", "StatesDrawer", "States", "Ctrl+Shift+3"),
    "timeline": ("timeline", "TimelineDrawer", "Timeline", "Ctrl+Shift+4"),
    "numbers": ("numbers", "NumbersDrawer", "Numbers", "Ctrl+Shift+5"),
    "options": ("options", "OptionsDrawer", "Options", "Ctrl+Shift+6"),
    "make": ("make_part", "MakePartDrawer", "Make a part", "Ctrl+Shift+7"),
}
DRAWER_PX = 370
LONG_JOB_PARTS = 100  # from here on the arrangement may take a second: it shows its progress
AFTER_PAINT_MS = 60  # an edit is on screen first; what takes longer starts then
WHOLE = "All on one sheet"


class SchematicStation(SheetEdits, Station):
    """The sheet, the drawer beside it and the line below it."""

    key = "schematic"

    def build(self) -> None:
        """Make the canvas, the bars and the line."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self.canvas = SheetCanvas()
        self._arranged = WorkedOut(
            self.session, "Arranging", self._arrange, self._take_sheet, self._pull_if_seen, reports=True
        )
        self._drawn: Drawn | None = None
        self._lit: tuple[frozenset[str], frozenset[str]] = (frozenset(), frozenset())
        self._lights: dict[str, float] | None = None
        self._copied: list[str] = []
        self.page = self.state_name = self.variant = ""
        self.drawers: dict[str, Drawer] = {}
        self.drawer_key = ""
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(AFTER_PAINT_MS)
        self._later.timeout.connect(self._pull_rest)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(8)
        self.drawer_stack = QStackedWidget()
        self.drawer_stack.setMinimumWidth(DRAWER_PX - 40)
        self.drawer_stack.hide()
        self.splitter.addWidget(self.canvas)
        self.splitter.addWidget(self.drawer_stack)
        self.splitter.setStretchFactor(0, 1)
        frame = card(self._upper_bar(), self._lower_bar(), self.splitter, name="sheet")
        lines_of(frame).setStretch(2, 1)
        layout.addWidget(frame, 1)
        layout.addWidget(self._line())
        c = self.canvas
        c.parts_moved.connect(self._moved)
        c.pins_joined.connect(self._joined)
        c.connection_deleted.connect(self._cut)
        c.parts_deleted.connect(self.delete_parts)
        c.value_edited.connect(self._value)
        c.picked.connect(self._picked)
        c.selection_changed.connect(self._selected)

    def _upper_bar(self) -> QWidget:
        self.overlay = QPushButton("Voltages and currents")
        self.overlay.setCheckable(True)
        self.overlay.toggled.connect(lambda _on: self._show())
        self.hint = label("", "muted")
        self.blocks, self.pages, self.states = QComboBox(), QComboBox(), QComboBox()
        for box, name, run in (
            (self.blocks, "Show a block", self._show_block),
            (self.pages, "Page", self._pick_page),
            (self.states, "Operating state", lambda: self.set_state(self.states.currentText())),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            box.setMaximumWidth(170)
            box.activated.connect(lambda _k, run=run: run())
        self.states.setToolTip("The state whose voltages and currents are shown")
        self.pages.hide()
        bar = row(self.hint, self.pages, self.blocks, self.states, self.overlay)
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # the first to give way
        lines_of(bar).setStretch(0, 1)
        return bar

    def _lower_bar(self) -> QWidget:
        self.find_box = FindBox(lambda: self.session.wired)
        self.find_box.chosen.connect(self.light)
        self.toggles: dict[str, QPushButton] = {}
        titles = {"": ("", "", "Findings", "back from a drawer"), **DRAWERS}
        for key, (_, _, title, keys) in titles.items():
            toggle = QPushButton(title)
            toggle.setObjectName("chip")
            toggle.setCheckable(True)
            toggle.setToolTip(f"{title} ({keys})")
            toggle.clicked.connect(lambda on, key=key: self.open_drawer(key) if on and key else self.close_drawer())
            self.toggles[key] = toggle
        self.more = QPushButton("Sheet …")
        self.more.setObjectName("chip")
        self.more.setToolTip("Arrange, number, split into pages, print, export")
        self.more.setMenu(sheet_files.menu_of(self))
        return row(self.find_box, None, *self.toggles.values(), self.more)

    def _line(self) -> SayLine:
        self.say_line = SayLine(
            "U3.P4 - R20 330 - D7 red - GND",
            "Say a connection, a value, or “delete R8”. Enter does it.",
            lambda text: understand(text, self.session.wired),
            lambda text: completions(text, self.session.wired),
        )
        self.line, self.preview = self.say_line.field, self.say_line.preview
        self.say_line.said.connect(self.say)
        return self.say_line

    # Reading ------------------------------------------------------------------------------------------------------

    def pull(self) -> None:
        """Draw an edit at once, have the whole arranged off the GUI thread, and bring the drawer up to date."""
        if self._amend():
            self._later.start()
            return
        self._pull_rest()

    def _pull_rest(self) -> None:
        """Have the whole arranged, and bring what stands around the sheet up to date."""
        self._later.stop()
        self._totals()
        if self._arranged.ask(len(self.session.design.parts) > LONG_JOB_PARTS) and self._drawn is not None:
            self._fill_choices(self._drawn)
            self._show()
        if self.drawer_key:
            self.drawers[self.drawer_key].pull()

    def _amend(self) -> bool:
        """Bring the sheet that is shown up to the current design, moving nothing; whether there was anything to do."""
        drawn, wired = self._drawn, self.session.wired
        if drawn is None or drawn.wired is wired:
            return False
        marks = None
        if drawn.page:
            page = next((p for p in pages_of(wired) if p.name == drawn.page), None)
            if page is None:
                return False
            marks = page_marks(wired, page)
        sheet = amend(drawn.sheet, drawn.design, wired, marks)
        self._drawn = Drawn(sheet, wired, drawn.page, drawn.analysis)
        self._show()
        return True

    def _pull_if_seen(self) -> None:
        if self.isVisible():
            self.pull()

    def _arrange(self, wired: Wired, report: Report) -> Drawn:
        """Return the sheet or page with the solved states; called off the GUI thread."""
        page = next((p for p in pages_of(wired) if p.name == self.page), None)
        sheet = arrange(wired, page, report)
        analysis: Analysis | None = None
        try:
            if wired.design.parts:
                analysis = analyse(wired)
                analysis.all()
        except SolveError:
            analysis = None
        return Drawn(sheet, wired, page.name if page else "", analysis)

    def _take_sheet(self, drawn: Drawn) -> None:
        moved = self._drawn is None or self._drawn.page != drawn.page
        self._drawn = drawn
        self._fill_choices(drawn)
        self._show(keep_zoom=not moved)
        if self.drawer_key:
            self.drawers[self.drawer_key].pull()

    def _fill_choices(self, drawn: Drawn) -> None:
        pages = [p.name for p in pages_of(drawn.wired)]
        self.pages.setVisible(bool(pages))
        self._fill_box(
            self.pages, [WHOLE, *(f"Page {p}" for p in pages)], f"Page {drawn.page}" if drawn.page else WHOLE
        )
        blocks = ["Whole sheet", *dict.fromkeys(s.block for s in drawn.sheet.symbols)]
        self._fill_box(self.blocks, blocks, self.blocks.currentText())
        names = [s.name for s in drawn.analysis.states] if drawn.analysis else []
        if self.state_name not in names and drawn.analysis:
            self.state_name = drawn.analysis.worst().state.name
        self._fill_box(self.states, names, self.state_name)
        self.states.setVisible(len(names) > 1)

    @staticmethod
    def _fill_box(box: QComboBox, texts: list[str], current: str) -> None:
        if [box.itemText(k) for k in range(box.count())] != texts:
            box.clear()
            box.addItems(texts)
        if current in texts:
            box.setCurrentText(current)

    @property
    def analysis(self) -> Analysis | None:
        """The solved states of the design that is drawn, or None."""
        return self._drawn.analysis if self._drawn else None

    @property
    def _operating(self) -> Operating | None:
        analysis = self.analysis
        if analysis is None:
            return None
        state = next((s for s in analysis.states if s.name == self.state_name), None)
        try:
            return analysis.operating(state) if state else analysis.worst()
        except SolveError:
            return None

    @property
    def volts(self) -> dict[str, float]:
        """Net -> V in the shown state."""
        operating = self._operating
        return dict(operating.net_voltages()) if operating else {}

    @property
    def amps(self) -> dict[Pin, float]:
        """Pin -> A in the shown state."""
        operating = self._operating
        return dict(operating.solution.pin_currents()) if operating else {}

    def _show(self, keep_zoom: bool = True) -> None:
        drawn = self._drawn
        if drawn is None:
            return
        self.canvas.show_view(self.view_of(drawn), keep_zoom)

    def view_of(self, drawn: Drawn, for_paper: bool = False) -> SheetView:
        """Return what the painter needs for a drawn sheet."""
        design = drawn.design
        badges: dict[str, tuple[int, str]] = {}
        if not for_paper:  # those of the design before stay until the new ones are there
            for number, f in enumerate(self.session.findings["schematic"], 1):
                refs = [r for r in f.refs if r in design.parts]
                if refs:
                    ref = next((r for r in refs if r not in badges), refs[0])
                    badges.setdefault(ref, (number, f.severity.word))
        return SheetView(
            drawn.wired,
            drawn.sheet,
            drawn.wired.ground,
            self.volts,
            self.amps,
            self.overlay.isChecked(),
            *((frozenset(), frozenset()) if for_paper else self._lit),
            badges=badges,
            variant=self.variant,
            lights=None if for_paper else self._lights,
        )

    def _show_block(self) -> None:
        name = self.blocks.currentText()
        if self._drawn is None:
            return
        sheet = self._drawn.sheet
        members = [s for s in sheet.symbols if s.block == name]
        if not members:
            self.canvas.fit()
            return
        bodies, bands = [s.body() for s in members], {s.band for s in members}
        rails = [r.y for r in sheet.rails if r.band in bands]
        left, right = min(b[0] for b in bodies) - 10, max(b[2] for b in bodies) + 6
        top, bottom = min([*(b[1] for b in bodies), *rails]) - 2, max([*(b[3] for b in bodies), *rails]) + 1
        self.canvas.show_rect(QRectF(left, top, right - left, bottom - top))

    def _totals(self) -> None:
        wired = self.session.wired
        d = wired.design
        loose = unaccounted_pins(wired)
        names = ", ".join(wired.label(p) for p in loose[:2]) + (" …" if len(loose) > 2 else "")
        pins = f"loose: {names}" if loose else "every pin accounted for"
        self.hint.setText(f"{len(d.parts)} parts · {len(d.nets)} nets · {pins}")

    # Choosing what is shown ---------------------------------------------------------------------------------------

    def set_state(self, name: str) -> None:
        """Show another operating state."""
        self.state_name = name
        self.states.setCurrentText(name)
        self._show()
        if self.drawer_key:
            self.drawers[self.drawer_key].pull()

    def show_lights(self, lights: dict[str, float] | None, state: str = "") -> None:
        """Light the LEDs by their currents, in a state; None draws them all alike again."""
        self._lights = lights
        if state and state != self.state_name:
            self.state_name = state
            self.states.setCurrentText(state)
        self._show()

    def show_variant(self, variant: str) -> None:
        """Draw what the boards of a variant do not have faintly; "" shows every part alike."""
        self.variant = variant
        self._show()

    def _pick_page(self) -> None:
        self._show_page(self.pages.currentText().removeprefix("Page ") if self.pages.currentIndex() > 0 else "")

    def _show_page(self, name: str) -> None:
        self.page = name
        self._arranged.of = None
        self._arranged.ask()

    def open_drawer(self, key: str) -> None:
        """Open a drawer beside the sheet."""
        if key not in self.drawers:
            import importlib

            module, name, _, _ = DRAWERS[key]
            made = getattr(importlib.import_module(f"zesty_trace.desktop.schematic.drawers.{module}"), name)(self)
            self.drawers[key] = made
            self.drawer_stack.addWidget(made)
        self.drawer_stack.setCurrentWidget(self.drawers[key])
        if not self.drawer_key:
            self.room_asked.emit(True)
            self.drawer_stack.show()
            self.splitter.setSizes([max(self.splitter.width() - DRAWER_PX, DRAWER_PX), DRAWER_PX])
        self.drawer_key = key
        self._check_toggles()
        self.drawers[key].pull()
        self.drawers[key].selection_changed()

    def close_drawer(self) -> None:
        """Give the findings their place again."""
        self.drawer_key = ""
        self.drawer_stack.hide()
        self._check_toggles()
        self.room_asked.emit(False)
        self.canvas.setFocus()

    def _check_toggles(self) -> None:
        for key, toggle in self.toggles.items():
            toggle.setChecked(key == self.drawer_key)

    @property
    def wants_room(self) -> bool:
        """Whether a drawer stands where the findings would."""
        return bool(self.drawer_key)

    def keep_state(self, settings: QSettings) -> None:
        """Remember the open drawer."""
        settings.setValue("schematic/drawer", self.drawer_key)

    def restore_state(self, settings: QSettings) -> None:
        """Open the drawer that was open."""
        key = str(settings.value("schematic/drawer", ""))
        if key in DRAWERS:
            self.open_drawer(key)

    # Doing --------------------------------------------------------------------------------------------------------

    def _selected(self) -> None:
        if self.drawer_key:
            self.drawers[self.drawer_key].selection_changed()

    def all_pages(self, design: Design, report: Report) -> list[Drawn]:
        """Return every page of a design drawn, in order; the sheet itself if it is not split. Called off the GUI thread."""
        wired = self.session.wired.with_design(design)
        pages: list[Page | None] = [*pages_of(wired)]
        drawn, analysis = self._drawn, self.analysis
        if not pages and drawn is not None and drawn.design is design:
            return [drawn]
        return [
            Drawn(arrange(wired, page, report), wired, page.name if page else "", analysis)
            for page in (pages or [None])
        ]

    def light(self, refs: Iterable[str], nets: Iterable[str]) -> None:
        """Light up parts and nets, on the page where they are, and bring the first part into view."""
        self._lit = (frozenset(refs), frozenset(nets))
        self._show()
        first = next(iter(refs), None)
        symbol = self.canvas.symbol(first) if first else None
        if symbol:
            self.canvas.select([symbol.ref])
            self.canvas.center_on(QPointF(symbol.x, symbol.y), 11.0)
        elif first and self._drawn and self._drawn.page:
            self._turn_to(first)

    def _turn_to(self, ref: str) -> None:
        """Turn to the page that a part is on."""
        wired = self.session.wired
        block = propose_blocks(wired).get(ref)
        page = next((p for p in pages_of(wired) if block in p.blocks), None)
        if page:
            self._show_page(page.name)
            self.canvas.select([ref])

    def show_finding(self, finding: Finding) -> None:
        """Light up the parts and nets of a finding and bring them into view."""
        self.light(finding.refs, finding.nets)

    def changed(self) -> None:
        """Re-read; what cannot be drawn is told and changes nothing."""
        try:
            super().changed()
        except ZestyError as error:
            self.session.failed.emit(error)

    def _toggle_drawer(self, key: str) -> None:
        if self.drawer_key == key:
            self.close_drawer()
        else:
            self.open_drawer(key)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        drawers = [
            Action(f"{t} beside the sheet", keys, partial(self._toggle_drawer, k))
            for k, (_, _, t, keys) in DRAWERS.items()
        ]
        run: list[tuple[str, str, Callable[[], object]]] = [
            ("Say a connection", "Ctrl+L", self.say_line.focus_line),
            ("Find a part, value or net", "Ctrl+F", self.find_box.focus_line),
            ("Show voltages and currents", "Ctrl+E", self.overlay.toggle),
            ("Arrange the sheet again", "Ctrl+Shift+A", self.arrange_again),
            ("Copy the selected parts", "Ctrl+C", self.copy_selection),
            ("Paste the copied parts", "Ctrl+V", self.paste),
            ("Select every part", "Ctrl+A", self.select_all),
            ("Play the timeline", "Ctrl+Shift+P", self.play),
        ]
        files = [
            Action(title, sheet_files.SHORTCUTS.get(title, ""), partial(action, self))
            for title, action in sheet_files.ACTIONS.items()
        ]
        return [*(Action(*each) for each in run), *drawers, *files]

    def select_all(self) -> None:
        """Select every part of the sheet or page."""
        if self._drawn:
            self.canvas.select(s.ref for s in self._drawn.sheet.symbols)

    def play(self) -> None:
        """Open the timeline and play it, or stop."""
        if self.drawer_key != "timeline":
            self.open_drawer("timeline")
        self.drawers["timeline"].toggle()  # type: ignore[attr-defined]
