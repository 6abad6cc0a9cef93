"""What was measured on the breadboard, beside what the model says."""

from __future__ import annotations

from typing import Literal

from PySide6.QtWidgets import QComboBox, QCompleter, QLineEdit, QVBoxLayout, QWidget

from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.scenario_edits import drop_measured, note_measured, reading
from zesty_trace.core.quantities import say
from zesty_trace.core.review.prototype import Comparison, compare
from zesty_trace.core.stated import parse_value
from zesty_trace.desktop.kit.widgets import button, card, fill, fit_height, label, row, table
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.errors import InputError, ZestyError

KINDS: dict[str, Literal["voltage", "current"]] = {"Current": "current", "Voltage": "voltage"}
HINT = (
    "A voltage of a net (3V3), or a current out of a supply or into a pin (J1, U3.VDD). The model is held against it."
)
WORST = "most on"


class MeasuredCard(QWidget):
    """A line to add a reading, and the table of readings."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.what, self.state = QComboBox(), QComboBox()
        self.what.addItems(list(KINDS))
        self.what.setAccessibleName("What was measured")
        self.state.setAccessibleName("In which state")
        self.where, self.reading, self.tolerance = QLineEdit(), QLineEdit(), QLineEdit("10")
        self.where.setPlaceholderText("J1")
        self.reading.setPlaceholderText("180 mA")
        self.tolerance.setMaximumWidth(48)
        self.tolerance.setToolTip("How far off it may be, in percent")
        self.where.setMinimumWidth(70)
        self.reading.setMinimumWidth(80)
        self.add_button = button("Add", self.add)
        self.drop_button = button("Forget it", self.drop)
        self.table = table("Reading", "State", "Measured", "Model says", "Off")
        self.table.horizontalHeader().setStretchLastSection(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(
            card(
                row(label("Measured on the prototype", "heading"), None, self.drop_button),
                label(HINT, "muted", wrap=True),
                row(self.what, self.where, label("in state"), self.state),
                row(self.reading, label("±"), self.tolerance, label("%"), None, self.add_button),
                self.table,
            )
        )
        self.reading.returnPressed.connect(self.add)
        self._worked = WorkedOut(session, "Comparing", self._compare, self._show, self.pull)
        self._names: list[str] = []

    def _compare(self, wired: Wired) -> list[Comparison]:
        return compare(wired)

    def pull(self) -> None:
        """Show the readings beside the model."""
        wired = self.session.wired
        design = wired.design
        states = [WORST, *(s.name for s in operating_states(wired))]
        if [self.state.itemText(k) for k in range(self.state.count())] != states:
            self.state.clear()
            self.state.addItems(states)
        supplies = [r for r in design.parts if any(p.role == "supply_out" for p in wired.kind(r).pins)]
        names = [*supplies, *design.nets, *(r for r in design.parts if r not in supplies)]
        if names != self._names:
            self._names = names
            self.where.setCompleter(QCompleter(names, self.where))
        self.table.setVisible(bool(design.measured))
        self.drop_button.setVisible(bool(design.measured))
        if design.measured:
            self._worked.ask()

    def _show(self, found: list[Comparison]) -> None:
        rows = []
        for c in found:
            m = c.measured
            verb = "drew" if m.what == "current" else "at"
            model = say(c.predicted, c.unit) if c.predicted is not None else c.problem
            off = (
                ""
                if c.predicted is None
                else f"{c.off_pct:+.0f} % " + ("ok" if c.agrees else f"over {m.tolerance_pct:g} %")
            )
            where = f"{m.where} {verb}" if m.what == "current" else f"{verb} {m.where}"
            rows.append([where, m.state or WORST, say(m.value, c.unit), model, off])
        fill(self.table, rows, (2, 3))
        fit_height(self.table, 5)

    def add(self) -> None:
        """Keep the reading in the line."""
        try:
            value = parse_value(self.reading.text(), "reading")
            tolerance = parse_value(self.tolerance.text(), "tolerance")
            where = self.where.text().strip()
            if not where:
                raise InputError("Say where it was measured", "where", "A net such as 3V3, a part such as J1")
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        state = self.state.currentText()
        measured = reading(KINDS[self.what.currentText()], where, value, tolerance, "" if state == WORST else state)
        if self.session.do(f"Reading at {where} kept", lambda d: note_measured(d, measured)):
            self.where.clear()
            self.reading.clear()

    def drop(self) -> None:
        """Forget the picked reading."""
        number = self.table.currentRow()
        if number < 0:
            self.session.message.emit("Pick a reading first")
            return
        self.session.do("Reading forgotten", lambda d: drop_measured(d, number))
