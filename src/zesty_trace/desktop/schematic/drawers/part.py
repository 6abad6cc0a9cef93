"""The selected parts: what each carries, and their value, package, block and boards; one part or many at once."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLineEdit, QTableWidget, QVBoxLayout, QWidget

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.catalogue.markings import nearest, write_bands, write_chip
from zesty_trace.core.design import edits, group_edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.quantities import say, say_part_value
from zesty_trace.core.schematic.blocks import block_order, propose_blocks
from zesty_trace.core.stated import leading_value
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.core.wording.swap import Figures, Proposal, propose, swappable
from zesty_trace.desktop.kit.widgets import button, fill, fit_height, label, line_of, row, table
from zesty_trace.desktop.schematic import edits as sheet_edits
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.errors import InputError, SolveError, ZestyError

SEVERAL = "several"
NOTHING = "Click a part on the sheet. Shift-click or drag a frame for several."


class PartDrawer(Drawer):
    """Facts on top, fields below, then what can be done with the selection."""

    key, title, tip = "part", "Part", "Value, package, block and boards of what is selected"

    def build(self) -> None:
        """Make the fields."""
        self._loading = False
        self.said = wrapped(NOTHING)
        self.marking = wrapped()
        self.value, self.notes = QLineEdit(), QLineEdit()
        self.package, self.block = QComboBox(), QComboBox()
        self.block.setEditable(True)
        self.form_holder = QWidget()
        self.form = QFormLayout(self.form_holder)
        self.form.setVerticalSpacing(6)
        for text, widget in (
            ("Value", self.value),
            ("Package", self.package),
            ("Block", self.block),
            ("Notes", self.notes),
        ):
            self.form.addRow(text, widget)
        self.boards_holder = QWidget()
        self.boards = QVBoxLayout(self.boards_holder)
        self.boards.setContentsMargins(0, 0, 0, 0)
        self.pins = table("Pin", "Net", "Volt", "Current")
        self.pins.horizontalHeader().setStretchLastSection(True)
        self.swap_button = button("Module or bare …", self.show_swap)
        self.copy_button = button(
            "Copy beside", self.copy, tip="Another one, on the same outside nets (Ctrl+C, Ctrl+V)"
        )
        self.open_button = button("Leave loose pins open", self.leave_open)
        self.delete_button = button("Delete", self.delete)
        self.again_button = button("Arrange these again", lambda: sheet_edits.arrange_again(self.model))
        self.swap = _SwapCard(self.take_swap)
        self.swap.hide()
        for each in (
            self.said,
            self.form_holder,
            self.marking,
            self.boards_holder,
            row(self.swap_button, None),
            self.swap,
            self.pins,
            row(self.copy_button, self.delete_button, None),
            row(self.again_button, None),
            row(self.open_button, None),
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.value.editingFinished.connect(self._value_changed)
        self.notes.editingFinished.connect(self._notes_changed)
        self.package.activated.connect(lambda _k: self._package_changed())
        line_of(self.block).editingFinished.connect(self._block_changed)
        self.block.activated.connect(lambda _k: self._block_changed())

    @property
    def refs(self) -> list[str]:
        """The selected parts."""
        return [r for r in self.model.selection if r in self.session.design.parts]

    def selection_changed(self) -> None:
        """Show the new selection."""
        self.swap.hide()
        self.pull()

    def pull(self) -> None:
        """Show the selected parts."""
        refs, design = self.refs, self.session.design
        some, one = bool(refs), len(refs) == 1
        for widget in (self.form_holder, self.copy_button, self.open_button, self.delete_button, self.again_button):
            widget.setVisible(some)
        self.boards_holder.setVisible(some and bool(design.variants))
        self.pins.setVisible(one)
        self.marking.setVisible(one)
        self.swap_button.setVisible(one and refs[0] in swappable(design))
        self.heading.setText(refs[0] if one else f"{len(refs)} parts" if some else self.title)
        if not some:
            self.said.setText(NOTHING)
            return
        self._loading = True
        self._fill_fields(refs)
        self._fill_boards(refs)
        if one:
            self._fill_one(refs[0])
        else:
            self.said.setText(" ".join(refs))
        self._loading = False

    def _fill_fields(self, refs: list[str]) -> None:
        wired = self.session.wired
        design = wired.design
        parts = [design.parts[r] for r in refs]
        kinds = [wired.kind(r) for r in refs]
        for field, texts in ((self.value, {p.value for p in parts}), (self.notes, {p.notes for p in parts})):
            field.setText(next(iter(texts)) if len(texts) == 1 else "")
            field.setPlaceholderText("" if len(texts) == 1 else SEVERAL)
        choices = [wired.catalogue.packages_for(k) for k in kinds]
        common = [p for p in choices[0] if all(p in c for c in choices)]
        now = {p.package or k.packages[0] for p, k in zip(parts, kinds, strict=True)}
        self.package.clear()
        self.package.addItems(([] if len(now) == 1 else [SEVERAL]) + common)
        self.package.setCurrentText(next(iter(now)) if len(now) == 1 else SEVERAL)
        self.package.setEnabled(bool(common))
        proposed = propose_blocks(wired)
        names = block_order(set(proposed.values()))
        blocks = {proposed.get(r, "") for r in refs}
        self.block.clear()
        self.block.addItems(names)
        self.block.setEditText(next(iter(blocks)) if len(blocks) == 1 else "")
        line_of(self.block).setPlaceholderText(SEVERAL if len(blocks) > 1 else "by proposal")

    def _fill_boards(self, refs: list[str]) -> None:
        while item := self.boards.takeAt(0):
            if widget := item.widget():
                widget.deleteLater()
        design = self.session.design
        for variant in design.variants:
            fitted = [design.parts[r].fitted(variant) for r in refs]
            check = QCheckBox(f"On {variant}")
            check.setTristate(any(fitted) and not all(fitted))
            state = Qt.CheckState.Checked if all(fitted) else Qt.CheckState.PartiallyChecked
            check.setCheckState(state if any(fitted) else Qt.CheckState.Unchecked)
            check.clicked.connect(lambda on, v=variant: self._fit(v, on))
            other = QLineEdit(design.parts[refs[0]].values.get(variant, "") if len(refs) == 1 else "")
            other.setPlaceholderText("same value")
            other.setAccessibleName(f"Value on {variant}")
            other.setVisible(len(refs) == 1)
            other.setMinimumWidth(60)
            other.editingFinished.connect(lambda f=other, v=variant: self._value_on(v, f.text().strip()))
            self.boards.addWidget(row(check, other))

    def _fill_one(self, ref: str) -> None:
        wired = self.session.wired
        design = wired.design
        kind = wired.kind(ref)
        self.said.setText(self._carries(ref, kind.title))
        self.marking.setText("\n".join(self._in_the_hand(ref, kind)))
        self.marking.setVisible(bool(self.marking.text()))
        net_of, rows = design.net_of(), []
        volts, amps = self.model.volts, self.model.amps
        for spec in kind.pins:
            pin = Pin(ref, spec.number)
            net = net_of.get(pin, "open" if pin in design.not_connected else "—")
            volt = say(volts[net], "V") if net in volts else ""
            amp = amps.get(pin)
            name = f"{spec.number} {spec.name}" if spec.name != spec.number else spec.number
            rows.append([name, net, volt, say(amp, "A", 2) if amp and abs(amp) > 1e-9 else ""])
        fill(self.pins, rows, (2, 3))
        self.pins.resizeColumnsToContents()
        fit_height(self.pins, 6)

    def _in_the_hand(self, ref: str, kind: Kind) -> list[str]:
        """Return how to know the part when it lies there, and what to mind with it."""
        value = leading_value(self.session.design.parts[ref].value)
        lines = []
        if kind.is_a(m.Resistor) and value and 0.1 <= value < 1e8:
            lines.append(f"In the hand: {' '.join(write_bands(value))}, or {write_chip(value)} on a chip")
        if kind.unit in ("Ω", "F") and value and not (near := nearest(value, 24)) * 0.999 < value < near * 1.001:
            lines.append(f"No preferred value: the nearest of E24 is {say_part_value(near)} (IEC 60063)")
        if kind.polarity:
            lines.append(f"Polarity: {kind.polarity}")
        if kind.assembly:
            lines.append(kind.assembly)
        return lines

    def _carries(self, ref: str, title: str) -> str:
        analysis = self.model.analysis
        if analysis is None or ref not in analysis.design.parts:
            return title
        try:
            heat = next((h for h in analysis.heats() if h.ref == ref), None)
        except SolveError:
            heat = None
        if heat is None:
            return title
        state = f" ({heat.state})" if len(analysis.states) > 1 else ""
        warm = f"{heat.temperature_c:.0f} °C of {heat.limit_c:.0f} °C"
        return f"{title}. At most {say(heat.power_w, 'W', 2)}, {warm}{state}."

    # Doing --------------------------------------------------------------------------------------------------------

    def _change(self, what: str, change: Callable[[Design, str], Design]) -> None:
        refs = self.refs
        if self._loading or not refs:
            return
        names = refs[0] if len(refs) == 1 else f"{len(refs)} parts"

        def edit(design: Design) -> Design:
            for ref in refs:
                design = change(design, ref)
            return design

        self.session.do(f"{names}: {what}", edit)

    def _value_changed(self) -> None:
        text = self.value.text().strip()
        refs, design = self.refs, self.session.design
        if not self.value.isModified() or not refs or (not text and self.value.placeholderText() == SEVERAL):
            return
        self.value.setModified(False)
        for ref in refs:
            if problem := value_problem(self.session.wired.with_design(design).kind(ref), text):
                self.tell(InputError(problem[0], ref, problem[1]))
                self.pull()
                return
        self._change(text or "no value", lambda d, r: edits.change_part(d, r, value=text))

    def _notes_changed(self) -> None:
        if self.notes.isModified():
            self.notes.setModified(False)
            text = self.notes.text().strip()
            self._change("notes", lambda d, r: edits.change_part(d, r, notes=text))

    def _package_changed(self) -> None:
        text = self.package.currentText()
        if text != SEVERAL:
            self._change(text, lambda d, r: edits.change_part(d, r, package=text))

    def _block_changed(self) -> None:
        text = self.block.currentText().strip()
        now = propose_blocks(self.session.wired)
        if any(now.get(r) != text for r in self.refs) and (text or len(self.refs) == 1):
            self._change(f"block {text or 'by proposal'}", lambda d, r: group_edits.set_block(d, [r], text))

    def _fit(self, variant: str, on: bool) -> None:
        refs = self.refs
        word = "on" if on else "not on"
        if not self.session.do(f"{len(refs)} {word} {variant}", lambda d: group_edits.fit(d, refs, variant, on)):
            self.pull()

    def _value_on(self, variant: str, text: str) -> None:
        refs = self.refs
        if len(refs) == 1 and self.session.design.parts[refs[0]].values.get(variant, "") != text:
            kind = self.session.wired.kind(refs[0])
            if text and (problem := value_problem(kind, text)):
                self.tell(InputError(problem[0], refs[0], problem[1]))
                return
            self.session.do(
                f"{refs[0]} on {variant}: {text or 'same value'}",
                lambda d: group_edits.set_value_on(d, refs[0], variant, text),
            )

    def copy(self) -> None:
        """Put a copy of the selection beside it."""
        sheet_edits.copy_selection(self.model)
        sheet_edits.paste(self.model)

    def leave_open(self) -> None:
        """Say of every pin that is on no net that it stays open on purpose."""
        refs = self.refs
        wired = self.session.wired
        design = wired.design
        net_of = design.net_of()
        loose = [
            pin
            for r in refs
            for s in wired.kind(r).pins
            if (pin := Pin(r, s.number)) not in net_of and pin not in design.not_connected and s.role != "no_connect"
        ]
        if not loose:
            self.session.message.emit("No pin of these is loose")
            return
        names = ", ".join(wired.label(p) for p in loose[:4]) + (" …" if len(loose) > 4 else "")
        self.session.do(f"{names} left open", lambda d: group_edits.leave_all_open(d, loose))

    def delete(self) -> None:
        """Take the selected parts out."""
        sheet_edits.delete_parts(self.model, self.refs)

    def show_swap(self) -> None:
        """Show the other form of the part, side by side, before anything changes."""
        try:
            self.swap.show_proposal(propose(self.session.wired, self.refs[0]))
        except ZestyError as error:
            self.tell(error)

    def take_swap(self, proposal: Proposal) -> None:
        """Replace the part by its other form."""
        fresh = propose(self.session.wired, proposal.ref)
        self.swap.hide()
        self.session.do(f"{proposal.ref} is now {fresh.to_kind}", lambda _d: fresh.design)


class _SwapCard(QWidget):
    """Module and bare chip side by side, with what is gained and lost."""

    def __init__(self, take: Callable[[Proposal], None]) -> None:
        super().__init__()
        self.proposal: Proposal | None = None
        self.table: QTableWidget = table("", "Now", "Then")
        self.table.horizontalHeader().setStretchLastSection(True)
        self.words = wrapped()
        self.take_button = button("Replace it", lambda: take(self.proposal) if self.proposal else None, True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(label("Module or bare", "heading"))
        for widget in (self.table, self.words, row(self.take_button, button("Leave it", self.hide), None)):
            layout.addWidget(widget)

    def show_proposal(self, p: Proposal) -> None:
        """Show both sides of a swap."""
        self.proposal = p

        def cells(f: Figures) -> list[str]:
            return [
                str(f.parts),
                f"{f.area_mm2:.0f} mm²",
                f"{f.height_mm:.1f} mm",
                str(f.joints),
                f"{f.cost_eur:.2f} EUR",
            ]

        names = ["Parts", "Board area", "Height", "Joints", "Parts cost, about"]
        fill(self.table, [list(r) for r in zip(names, cells(p.before), cells(p.after), strict=True)], (1, 2))
        self.table.resizeColumnsToContents()
        fit_height(self.table)
        lines = [
            f"Gained: {'; '.join(p.gains)}." if p.gains else "",
            f"Lost: {'; '.join(p.losses)}." if p.losses else "",
        ]
        if p.homeless:
            lines.append(f"No place for: {', '.join(p.homeless)}.")
        self.words.setText("\n".join(line for line in lines if line))
        self.take_button.setText(f"Replace by {p.to_kind}")
        self.show()
