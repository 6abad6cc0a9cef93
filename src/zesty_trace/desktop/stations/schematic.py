"""Schematic: the sheet arranges itself; wires follow the connections; a line takes sentences."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QComboBox, QPushButton, QVBoxLayout

from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.topology import ground_net, kind_of, pin_label
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.say_it import completions, understand
from zesty_trace.core.schematic.sheet import Sheet
from zesty_trace.core.schematic.wiring_csv import value_problem
from zesty_trace.desktop.actions import Action
from zesty_trace.desktop.say_line import SayLine
from zesty_trace.desktop.sheet_canvas import SheetCanvas
from zesty_trace.desktop.sheet_painter import SheetView
from zesty_trace.desktop.stations.base import Station, WorkedOut, button, card, label, row
from zesty_trace.errors import InputError, SolveError


class SchematicStation(Station):
    """The sheet, and the line below it."""

    key = "schematic"

    def build(self) -> None:
        """Make the canvas and the line."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self.canvas = SheetCanvas()
        self._arranged = WorkedOut(self.session, "Arranging", self._arrange, self._take_sheet, self._pull_if_seen)
        self._sheet: Sheet
        self._lit: tuple[frozenset[str], frozenset[str]] = (frozenset(), frozenset())
        self.overlay = QPushButton("Voltages and currents")
        self.overlay.setCheckable(True)
        self.overlay.toggled.connect(lambda _on: self._show())
        self.hint = label("", "muted")
        self.blocks = QComboBox()
        self.blocks.setAccessibleName("Show a block")
        self.blocks.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.blocks.activated.connect(self._show_block)
        bar = row(
            self.hint, None, self.blocks, self.overlay, button("Arrange again", self.arrange_again),
        )  # fmt: skip
        frame = card(bar, self.canvas, name="sheet")
        frame.layout().setStretch(1, 1)
        layout.addWidget(frame, 1)
        layout.addWidget(self._line())
        c = self.canvas
        c.part_moved.connect(self._moved)
        c.pins_joined.connect(self._joined)
        c.connection_deleted.connect(self._cut)
        c.part_deleted.connect(lambda ref: self.session.do(f"{ref} deleted", lambda d: edits.remove_part(d, ref)))
        c.value_edited.connect(self._value)
        c.picked.connect(self._picked)

    def _line(self) -> SayLine:
        self.say_line = SayLine(
            "U3.P4 - R20 330 - D7 red - GND", "Say a connection, a value, or “delete R8”. Enter does it.",
            lambda text: understand(text, self.session.design, self.session.catalogue),
            lambda text: completions(text, self.session.design, self.session.catalogue),
        )  # fmt: skip
        self.line, self.preview = self.say_line.field, self.say_line.preview
        self.say_line.said.connect(self.say)
        return self.say_line

    # Reading ------------------------------------------------------------------------------------------------------

    def pull(self) -> None:
        """Arrange the sheet of the current design off the GUI thread, then show it."""
        self._totals()
        if self._arranged.ask():
            self._show()

    def _pull_if_seen(self) -> None:
        if self.isVisible():
            self.pull()

    def _arrange(self, design: Design) -> tuple[Sheet, dict[str, float], dict[Pin, float]]:
        """Return the sheet with its voltages and currents; called off the GUI thread."""
        catalogue = self.session.catalogue
        sheet = arrange(design, catalogue)
        try:
            worst = analyse(design, catalogue).worst() if design.parts else None
        except SolveError:
            worst = None
        if worst is None:
            return sheet, {}, {}
        return sheet, worst.net_voltages(), worst.solution.pin_currents()

    def _take_sheet(self, answer: tuple[Sheet, dict[str, float], dict[Pin, float]]) -> None:
        self._sheet, self._volts, self._amps = answer
        names = ["Whole sheet", *dict.fromkeys(s.block for s in self._sheet.symbols)]
        if [self.blocks.itemText(k) for k in range(self.blocks.count())] != names:
            self.blocks.clear()
            self.blocks.addItems(names)
        self._show()

    def _show(self) -> None:
        design = self._arranged.of
        if design is None:
            return
        badges: dict[str, tuple[int, str]] = {}
        if self.session.findings_of is design:
            for number, f in enumerate(self.session.findings["schematic"], 1):
                if f.refs:
                    ref = next((r for r in f.refs if r not in badges), f.refs[0])
                    badges.setdefault(ref, (number, f.severity.word))
        view = SheetView(
            design, self.session.catalogue, self._sheet, ground_net(design, self.session.catalogue),
            self._volts, self._amps, self.overlay.isChecked(), *self._lit, badges=badges,
        )  # fmt: skip
        self.canvas.show_view(view)

    def _show_block(self) -> None:
        name = self.blocks.currentText()
        if self._arranged.of is None:
            return
        members = [s for s in self._sheet.symbols if s.block == name]
        if not members:
            self.canvas.fit()
            return
        bodies, bands = [s.body() for s in members], {s.band for s in members}
        rails = [r.y for r in self._sheet.rails if r.band in bands]
        left, right = min(b[0] for b in bodies) - 10, max(b[2] for b in bodies) + 6
        top, bottom = min([*(b[1] for b in bodies), *rails]) - 2, max([*(b[3] for b in bodies), *rails]) + 1
        self.canvas.show_rect(QRectF(left, top, right - left, bottom - top))

    def _totals(self) -> None:
        d, catalogue = self.session.design, self.session.catalogue
        loose = unaccounted_pins(d, catalogue)
        names = ", ".join(pin_label(d, catalogue, p) for p in loose[:4]) + (" …" if len(loose) > 4 else "")
        pins = f"every pin accounted for but {names}" if loose else "every pin accounted for"
        self.hint.setText(f"{len(d.parts)} parts · {len(d.nets)} nets · {pins}")

    # Doing --------------------------------------------------------------------------------------------------------

    def _moved(self, ref: str, x: int, y: int) -> None:
        self.session.do(f"{ref} moved on the sheet", lambda d: edits.move_on_sheet(d, {ref: (x, y)}))

    def _joined(self, a: Pin, b: Pin) -> None:
        names = " and ".join(pin_label(self.session.design, self.session.catalogue, p) for p in (a, b))
        self.session.do(f"{names} connected", lambda d: edits.join_pins(d, a, b))

    def _cut(self, pin: Pin) -> None:
        name = pin_label(self.session.design, self.session.catalogue, pin)
        self.session.do(f"{name} disconnected", lambda d: edits.disconnect(d, pin))

    def _value(self, ref: str, value: str) -> None:
        kind = kind_of(self.session.design, self.session.catalogue, ref)
        if problem := value_problem(kind, value):
            self.session.failed.emit(InputError(problem[0], ref, problem[1]))
            return
        self.session.do(f"{ref} is {value}", lambda d: edits.change_part(d, ref, value=value))

    def _picked(self, what: str) -> None:
        nets = frozenset((what,)) if what in self.session.design.nets else frozenset()
        self._lit = (frozenset(), nets)
        self._show()

    def arrange_again(self) -> None:
        """Forget the user's own spots."""
        if not self.session.do("Sheet arranged again", edits.forget_sheet):
            self.canvas.fit()

    def say(self, text: str) -> None:
        """Do what the line says."""
        if self.session.do(text, lambda d: understand(text, d, self.session.catalogue).design):
            self.say_line.clear_done()

    def show_finding(self, finding: Finding) -> None:
        """Light up the parts and nets of a finding and bring them into view."""
        self._lit = (frozenset(finding.refs), frozenset(finding.nets))
        self._show()
        symbol = self.canvas.symbol(finding.refs[0]) if finding.refs else None
        if symbol:
            self.canvas.center_on(QPointF(symbol.x, symbol.y), 11.0)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Say a connection", "Ctrl+L", self.say_line.focus_line),
            Action("Show voltages and currents", "Ctrl+E", self.overlay.toggle),
            Action("Arrange the sheet again", "Ctrl+Shift+A", self.arrange_again),
        ]
