"""Brief: the facts that all later stations check against, and the prototype's two tables."""

from __future__ import annotations

from PySide6.QtCore import QDate, Qt
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QDateEdit,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QScrollArea,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, TemplateHole
from zesty_trace.core.quantities import mm, nm, parse_length_nm
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.stated import parse_value
from zesty_trace.desktop.brief.meaning import MeaningCard
from zesty_trace.desktop.brief.measured import MeasuredCard
from zesty_trace.desktop.brief.tables import ImportCard
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, card, cell, fill, label, lines_of, row, table
from zesty_trace.desktop.project.station import Station
from zesty_trace.errors import InputError


class BriefStation(Station):
    """The fact sheet on the left, the prototype on the right."""

    key = "brief"

    def build(self) -> None:
        """Make the form, the totals and the import."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(14)
        self._loading = False
        self._shown: dict[str, object] = {}
        outer.addWidget(self._facts(), 5)
        outer.addWidget(self._prototype(), 6)

    def _facts(self) -> QWidget:
        self.name = QLineEdit()
        self.purpose, self.options = QLineEdit(), QLineEdit()
        self.options.setPlaceholderText("humidity sensor on half of them")
        self.quantity = self._whole(1, 1000, " boards")
        self.needed = QDateEdit()
        self.needed.setDisplayFormat("ddd d MMM yyyy")
        self.needed.setCalendarPopup(True)
        self.budget = self._number(0, 100000, " EUR", 0)
        self.supply = self._number(0, 60, " V", 2)
        self.supply.setSpecialValueText("not said")
        self.limit = self._number(0, 60, " A", 2)
        self.ambient = self._number(-40, 120, " °C", 1)
        self.humidity = self._number(0, 100, " %", 0)
        self.board_width = self._number(5, 500, " mm", 2)
        self.board_height = self._number(5, 500, " mm", 2)
        self.board_depth = self._number(1, 200, " mm", 2)
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        form.setVerticalSpacing(7)
        fields: tuple[tuple[str, QWidget], ...] = (
            ("Name", self.name),
            ("What for", self.purpose),
            ("Quantity", self.quantity),
            ("Needed by", self.needed),
            ("Budget for boards", self.budget),
            ("Supply", self.supply),
            ("Supply gives up to", self.limit),
            ("Ambient", self.ambient),
            ("Humidity", self.humidity),
            ("Board width", self.board_width),
            ("Board height", self.board_height),
            ("Room in the case", self.board_depth),
            ("Options wanted", self.options),
        )
        for text, widget in fields:
            form.addRow(text, widget)
        self.name.editingFinished.connect(self._push)
        self.purpose.editingFinished.connect(self._push)
        self.options.editingFinished.connect(self._push)
        spins: tuple[QSpinBox | QDoubleSpinBox, ...] = (
            self.quantity,
            self.budget,
            self.supply,
            self.limit,
            self.ambient,
            self.humidity,
            self.board_width,
            self.board_height,
            self.board_depth,
        )
        for spin in spins:
            spin.editingFinished.connect(self._push)
        self.needed.dateChanged.connect(lambda _d: self._push())
        holder = QWidget()
        holder.setLayout(form)
        frame = card(label("The board must", "heading"), holder)
        lines_of(frame).addStretch(1)
        return frame

    def _whole(self, low: int, high: int, suffix: str) -> QSpinBox:
        spin = QSpinBox()
        spin.setRange(low, high)
        spin.setSuffix(suffix)
        spin.lineEdit().setTextMargins(8, 0, 8, 0)
        return spin

    def _number(self, low: float, high: float, suffix: str, decimals: int) -> QDoubleSpinBox:
        spin = QDoubleSpinBox()
        spin.setRange(low, high)
        spin.setDecimals(decimals)
        spin.setSuffix(suffix)
        spin.lineEdit().setTextMargins(8, 0, 8, 0)
        return spin

    def _prototype(self) -> QWidget:
        self.tables = ImportCard(self.session)
        self.parts_path, self.wiring_path = self.tables.parts_path, self.tables.wiring_path
        self.problems, self.totals, self.import_button = (
            self.tables.problems,
            self.tables.totals,
            self.tables.import_button,
        )
        self.import_now = self.tables.import_now
        self.meaning = MeaningCard(self.session)
        self.measured = MeasuredCard(self.session)
        self.template = table("Part", "x", "y", "turn")
        self.template.horizontalHeader().setStretchLastSection(True)
        self.template.setMinimumHeight(120)
        self.template.setEditTriggers(QTableWidget.EditTrigger.AllEditTriggers)
        self.template.itemChanged.connect(self._template_changed)
        self.facts = QPlainTextEdit()
        self.facts.setPlaceholderText("One fact a line, for example: Fan: 12 V, 0.15 A, inductive")
        self.facts.setFixedHeight(104)
        self.facts.setTabChangesFocus(True)
        self.keep_facts = button("Keep the facts", self._facts_changed)
        self.hole_ref = QLineEdit()
        self.hole_ref.setPlaceholderText("J1")
        self.hole_ref.setMaximumWidth(80)
        self.hole_ref.setAccessibleName("Part that the case holds")
        self.hole_ref.returnPressed.connect(self.add_hole)
        self.add_hole_button = button("Add", self.add_hole)
        page = QWidget()
        page.setObjectName("scrolled")
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(12)
        layout.addWidget(self.tables)
        layout.addWidget(self.meaning)
        layout.addWidget(self.measured)
        layout.addWidget(card(row(label("Known facts", "heading"), None, self.keep_facts), self.facts))
        layout.addWidget(
            card(
                row(label("Held in place by the case", "heading"), None, self.hole_ref, self.add_hole_button),
                self.template,
            ),
            1,
        )
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(page)
        return area

    def pull(self) -> None:
        """Show the brief and the totals."""
        d = self.session.design
        b = d.brief
        self._loading = True
        self._shown = {}
        self.name.setText(d.name)
        self.purpose.setText(b.purpose)
        self.purpose.setCursorPosition(0)
        self.purpose.setToolTip(tip(b.purpose))
        self.quantity.setValue(b.quantity)
        self.needed.setDate(QDate.fromString(b.needed_by, "yyyy-MM-dd") if b.needed_by else QDate.currentDate())
        for shown, value in (
            (self.budget, b.budget_eur),
            (self.supply, b.supply_v),
            (self.limit, b.supply_limit_a),
            (self.ambient, b.ambient_c),
            (self.humidity, b.humidity_pct),
            (self.board_width, mm(b.case_width_nm)),
            (self.board_height, mm(b.case_height_nm)),
            (self.board_depth, mm(b.case_depth_nm)),
        ):
            shown.setValue(value)
        loose = len(unaccounted_pins(self.session.wired.with_design(d)))
        self.tables.show_totals(len(d.parts), len(d.nets), loose)
        self.measured.pull()
        self.meaning.pull()
        self.options.setText(b.options_wanted)
        facts = "\n".join(f"{k}: {v}" for k, v in b.facts.items())
        if facts != self.facts.toPlainText():
            self.facts.setPlainText(facts)
        self.facts.document().setModified(False)
        self._shown = self._typed()
        self._loading = False
        self.template.blockSignals(True)
        fill(
            self.template,
            [
                [h.ref, f"{mm(h.x_nm):.2f} mm", f"{mm(h.y_nm):.2f} mm", f"{h.angle_mdeg / 1000:.0f}°"]
                for h in b.template
            ],
            (1, 2, 3),
        )
        for r in range(self.template.rowCount()):
            cell(self.template, r, 0).setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        self.template.blockSignals(False)

    def _facts_changed(self) -> None:
        """Keep the typed facts: what is before the colon names a fact."""
        facts = {}
        for number, line in enumerate(self.facts.toPlainText().splitlines(), 1):
            name, colon, text = line.partition(":")
            if line.strip():
                facts[name.strip() if colon else f"Note {number}"] = (text if colon else line).strip()
        self.session.do("Facts kept", lambda d: edits.set_brief(d, facts=facts))

    def add_hole(self) -> None:
        """Say that the case holds a part, at the place where it is now, else in the board's middle."""
        d = self.session.design
        ref = self.hole_ref.text().strip()
        if ref not in d.parts:
            self.session.failed.emit(InputError(f"There is no part {ref}", ref or "part", suggest(ref, d.parts)))
            return
        spot = d.board.placements.get(ref)
        x, y = (spot.x_nm, spot.y_nm) if spot else (d.brief.case_width_nm // 2, d.brief.case_height_nm // 2)
        hole = TemplateHole(ref=ref, x_nm=x, y_nm=y, angle_mdeg=spot.angle_mdeg if spot else 0)
        others = tuple(h for h in d.brief.template if h.ref != ref)
        if self.session.do(f"{ref} is held by the case", lambda d: edits.set_brief(d, template=(*others, hole))):
            self.hole_ref.clear()

    def _template_changed(self, item: QTableWidgetItem) -> None:
        """Take a changed cell over into the template; an emptied one takes the part off it."""
        holes = list(self.session.design.brief.template)
        old, text = holes[item.row()], item.text().strip()
        try:
            if not text:
                del holes[item.row()]
            elif item.column() == 3:
                turn = round(parse_value(text.rstrip("°")) * 1000)
                holes[item.row()] = TemplateHole(ref=old.ref, x_nm=old.x_nm, y_nm=old.y_nm, angle_mdeg=turn)
            else:
                length = parse_length_nm(text, old.ref)
                x, y = (length, old.y_nm) if item.column() == 1 else (old.x_nm, length)
                holes[item.row()] = TemplateHole(ref=old.ref, x_nm=x, y_nm=y, angle_mdeg=old.angle_mdeg)
        except InputError as error:
            self.session.failed.emit(error)
            self.pull()
            return
        self.session.do("Template changed", lambda d: edits.set_brief(d, template=tuple(holes)))

    def flush(self) -> None:
        """Take over what is typed: lines, numbers and facts."""
        for spin in self.findChildren(QAbstractSpinBox):
            spin.interpretText()
        self._push()
        if self.facts.document().isModified():
            self._facts_changed()

    def _typed(self) -> dict[str, object]:
        """Return what the fields say now, by the name of the brief's field."""
        return {
            "name": self.name.text(),
            "purpose": self.purpose.text(),
            "options_wanted": self.options.text(),
            "quantity": self.quantity.value(),
            "needed_by": self.needed.date().toString("yyyy-MM-dd"),
            "budget_eur": self.budget.value(),
            "supply_v": self.supply.value(),
            "supply_limit_a": self.limit.value(),
            "ambient_c": self.ambient.value(),
            "humidity_pct": self.humidity.value(),
            "case_width_nm": nm(self.board_width.value()),
            "case_height_nm": nm(self.board_height.value()),
            "case_depth_nm": nm(self.board_depth.value()),
        }

    def _push(self) -> None:
        """Take over the fields that differ from what was shown: the others keep what fields cannot show."""
        if self._loading:
            return
        typed = self._typed()
        changed = {k: v for k, v in typed.items() if self._shown.get(k) != v}
        if not changed:
            return
        self._shown = typed

        def edit(design: Design) -> Design:
            if "name" in changed:
                design = edits.set_name(design, str(changed["name"]))
            return edits.set_brief(design, **{k: v for k, v in changed.items() if k != "name"})

        if not self.session.do("Brief changed", edit):
            self._shown = {k: v for k, v in self._shown.items() if k not in changed}

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [Action("Import the prototype", "Ctrl+I", self.import_now)]
