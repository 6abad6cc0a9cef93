"""Schematic: the sheet arranges itself; wires follow the connections; a line takes sentences."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QStringListModel, Qt
from PySide6.QtWidgets import QComboBox, QCompleter, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout

from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.topology import ground_net, kind_of, pin_label
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.say_it import completions, understand
from zesty_trace.core.schematic.wiring_csv import value_problem
from zesty_trace.desktop.actions import Action
from zesty_trace.desktop.sheet_canvas import SheetCanvas
from zesty_trace.desktop.sheet_painter import SheetView
from zesty_trace.desktop.stations.base import Station, button, card, label, row
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
        self.drawn_of: Design | None = None
        self._working_on: Design | None = None
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

    def _line(self) -> QLabel:
        self.line = QLineEdit()
        self.line.setPlaceholderText("U3.P4 - R20 330 - D7 red - GND")
        self.line.setAccessibleName("Say what to connect")
        self.line.textEdited.connect(self._preview)
        self.line.returnPressed.connect(self.say)
        self._words = QStringListModel(self)
        self._completer = QCompleter(self._words, self)
        self._completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self._completer.setWidget(self.line)
        self._completer.activated.connect(self._complete)
        self.preview = label("Say a connection, a value, or “delete R8”. Enter does it.", "muted", True)
        holder = card()
        inner = QHBoxLayout()
        inner.addWidget(label("Say it", "heading"))
        inner.addWidget(self.line, 3)
        inner.addWidget(self.preview, 2)
        holder.layout().addLayout(inner)
        return holder

    # Reading ------------------------------------------------------------------------------------------------------

    def pull(self) -> None:
        """Arrange the sheet of the current design off the GUI thread, then show it."""
        design, catalogue = self.session.design, self.session.catalogue
        self._totals()
        if self.drawn_of is design:
            self._show()
            return
        if self._working_on is design:
            return
        self._working_on = design

        def work(report: object) -> tuple[object, dict[str, float], dict[Pin, float]]:
            sheet = arrange(design, catalogue)
            try:
                worst = analyse(design, catalogue).worst() if design.parts else None
            except SolveError:
                worst = None
            volts = worst.net_voltages() if worst else {}
            amps = worst.solution.pin_currents() if worst else {}
            return sheet, volts, amps

        self.session.jobs.start("arranging", work, lambda v: self._arranged(design, *v), visible=False)

    def _arranged(self, design: Design, sheet: object, volts: dict[str, float], amps: dict[Pin, float]) -> None:
        if self._working_on is design:
            self._working_on = None
        if design is not self.session.design:
            if self.isVisible():
                self.pull()
            return
        self.drawn_of = design
        self._sheet, self._volts, self._amps = sheet, volts, amps
        names = ["Whole sheet", *dict.fromkeys(s.block for s in sheet.symbols)]  # type: ignore[attr-defined]
        if [self.blocks.itemText(k) for k in range(self.blocks.count())] != names:
            self.blocks.clear()
            self.blocks.addItems(names)
        self._show()

    def _show(self) -> None:
        if self.drawn_of is None:
            return
        design = self.drawn_of
        badges: dict[str, tuple[int, str]] = {}
        if self.session.findings_of is design:
            for number, f in enumerate(self.session.findings["schematic"], 1):
                if f.refs:
                    ref = next((r for r in f.refs if r not in badges), f.refs[0])
                    badges.setdefault(ref, (number, f.severity.word))
        view = SheetView(
            design, self.session.catalogue, self._sheet, ground_net(design, self.session.catalogue),  # type: ignore[arg-type]
            self._volts, self._amps, self.overlay.isChecked(), *self._lit, badges=badges,
        )  # fmt: skip
        self.canvas.show_view(view)

    def _show_block(self) -> None:
        name = self.blocks.currentText()
        members = [s for s in self._sheet.symbols if s.block == name]  # type: ignore[attr-defined]
        if not members:
            self.canvas.fit()
            return
        bodies, bands = [s.body() for s in members], {s.band for s in members}
        rails = [r.y for r in self._sheet.rails if r.band in bands]  # type: ignore[attr-defined]
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

    def _preview(self, text: str) -> None:
        words = completions(text, self.session.design, self.session.catalogue)
        self._words.setStringList(words)
        if words and words != [text]:
            self._completer.complete()
        else:
            self._completer.popup().hide()
        try:
            spoken = understand(text, self.session.design, self.session.catalogue)
        except InputError as error:
            self.preview.setText(str(error) if text.strip() else "Enter does it.")
        except Exception as error:  # an edit the design cannot take is said the same way
            self.preview.setText(str(error))
        else:
            self.preview.setText(spoken.preview)

    def _complete(self, word: str) -> None:
        text = self.line.text()
        head = text[: len(text) - len(text.split()[-1])] if text.split() and not text.endswith(" ") else text
        self.line.setText(head + word)
        self._preview(self.line.text())

    def say(self) -> None:
        """Do what the line says."""
        self._completer.popup().hide()
        text = self.line.text()

        def edit(design: Design) -> Design:
            return understand(text, design, self.session.catalogue).design

        if self.session.do(text, edit):
            self.line.clear()
            self.preview.setText("Done. Ctrl+Z takes it back.")

    def show_finding(self, finding: Finding) -> None:
        """Light up the parts and nets of a finding and bring them into view."""
        self._lit = (frozenset(finding.refs), frozenset(finding.nets))
        self._show()
        symbol = self.canvas.symbol(finding.refs[0]) if finding.refs else None
        if symbol:
            self.canvas.center_on(QPointF(symbol.x, symbol.y), 11.0)

    def focus_line(self) -> None:
        """Go to the line."""
        self.line.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Say a connection", "Ctrl+L", self.focus_line),
            Action("Show voltages and currents", "Ctrl+E", self.overlay.toggle),
            Action("Arrange the sheet again", "Ctrl+Shift+A", self.arrange_again),
        ]
