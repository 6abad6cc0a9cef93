"""Operating states: which outputs are high, which parts are in their other position or asleep, what feeds the board."""

from __future__ import annotations

from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFormLayout, QLineEdit, QListWidget, QListWidgetItem, QWidget

from zesty_trace.core.circuit.drivers import drivers
from zesty_trace.core.circuit.energy import source_current
from zesty_trace.core.circuit.states import can_sleep, operating_states, read_wipers, spec_of_state
from zesty_trace.core.design.model import Pin, StateSpec
from zesty_trace.core.design.scenario_edits import drop_state, keep_states, put_state
from zesty_trace.core.quantities import say
from zesty_trace.core.stated import parse_value
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.errors import EditError, SolveError, ZestyError

HINT = "The state picked here is the one whose voltages the sheet shows. Every rating is checked in all of them."
ROW_PX = 30


WORDS = {"push-pull": "high", "open drain": "pulled low", "bus": "driven high"}


class StatesDrawer(Drawer):
    """The list of states, and the picked one to edit."""

    key, title, tip = "states", "States", "What is on and off: the states in which everything is worked out"

    def build(self) -> None:
        """Make the list and the fields."""
        self._loading = False
        self.list = QListWidget()
        self.list.setAccessibleName("Operating states")
        self.list.setFixedHeight(180)
        self.name, self.supply, self.cell, self.wipers = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        self.supply.setPlaceholderText("as in the brief")
        self.cell.setPlaceholderText("as stated with the cell")
        self.wipers.setPlaceholderText("all at 50 %, or: RV1 20 %")
        form = QFormLayout()
        form.setVerticalSpacing(6)
        self.fields = {
            "Name": self.name,
            "Supply": self.supply,
            "Cell charge": self.cell,
            "Potentiometers": self.wipers,
        }
        for text, field in self.fields.items():
            form.addRow(text, field)
            field.editingFinished.connect(self._fields_changed)
        holder = QWidget()
        holder.setLayout(form)
        self.checks = QListWidget()
        self.checks.setAccessibleName("What is on in this state")
        self.checks.setMinimumHeight(170)
        self.add_button = button("Add like this", self.add)
        self.drop_button = button("Delete", self.drop)
        self.again_button = button("Propose again", self.propose, tip="Forget your states: they are read off the parts")
        for each in (
            wrapped(HINT),
            self.list,
            row(self.add_button, self.drop_button, self.again_button, None),
            holder,
            label("On in this state", "heading"),
            self.checks,
        ):
            self.body.addWidget(each)
        self.list.currentRowChanged.connect(self._picked)
        self.checks.itemChanged.connect(lambda _i: self._checks_changed())

    def _specs(self) -> list[StateSpec]:
        return [spec_of_state(s) for s in operating_states(self.session.wired)]

    @property
    def current(self) -> StateSpec | None:
        """The picked state."""
        return next((s for s in self._specs() if s.name == self.model.state_name), None)

    def pull(self) -> None:
        """Show the states with what the source gives in each."""
        self._loading = True
        specs = self._specs()
        amps = self._source_amps()
        self.list.clear()
        for spec in specs:
            said = f"{spec.name}  ·  {say(amps[spec.name], 'A', 2)}" if spec.name in amps else spec.name
            self.list.addItem(said)
        names = [s.name for s in specs]
        if self.model.state_name in names:
            self.list.setCurrentRow(names.index(self.model.state_name))
        self.again_button.setVisible(bool(self.session.design.states))
        self.drop_button.setEnabled(len(specs) > 1)
        self._fill()
        self._loading = False

    def _source_amps(self) -> dict[str, float]:
        analysis = self.model.analysis
        if analysis is None:
            return {}
        try:
            return {o.state.name: source_current(o, analysis.wired) for o in analysis.all()}
        except SolveError:
            return {}

    def _fill(self) -> None:
        spec = self.current
        self.checks.clear()
        for field in self.fields.values():
            field.setEnabled(spec is not None)
        if spec is None:
            return
        self.name.setText(spec.name)
        self.supply.setText("" if spec.supply_v is None else f"{spec.supply_v:g} V")
        self.cell.setText("" if spec.cell_pct is None else f"{spec.cell_pct:g} %")
        self.wipers.setText(", ".join(f"{w.ref} {w.pct:g} %" for w in spec.wipers))
        for said, key, on in self._choices(spec):
            item = QListWidgetItem(said)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable)
            item.setData(Qt.ItemDataRole.UserRole, key)
            item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
            self.checks.addItem(item)

    def _choices(self, spec: StateSpec) -> list[tuple[str, tuple[str, str, str], bool]]:
        """Return what can be on or off: words, key, whether it is."""
        wired = self.session.wired
        design = wired.design
        net_of = design.net_of()
        found = [
            (
                f"{net_of[d.pin]} {WORDS[d.how]} ({wired.label(d.pin)})",
                ("high", d.pin.ref, d.pin.number),
                d.pin in spec.high,
            )
            for d in drivers(wired)
            if d.loaded or d.how == "bus"
        ]
        for ref in design.parts:
            kind = wired.kind(ref)
            if kind.flipped:
                found.append((f"{ref} in its other position ({kind.title})", ("flipped", ref, ""), ref in spec.flipped))
            if can_sleep(kind):
                found.append((f"{ref} asleep ({kind.title})", ("asleep", ref, ""), ref in spec.asleep))
        return found

    # Doing --------------------------------------------------------------------------------------------------------

    def _picked(self, number: int) -> None:
        specs = self._specs()
        if not self._loading and 0 <= number < len(specs):
            self.model.set_state(specs[number].name)

    def _put(self, spec: StateSpec, old: str, words: str) -> None:
        base = self._specs()
        self.model.state_name = spec.name
        if not self.session.do(words, lambda d: put_state(d, spec, base, old)):
            self.model.state_name = old
            self.pull()

    def _checks_changed(self) -> None:
        spec = self.current
        if self._loading or spec is None:
            return
        on: dict[str, list[tuple[str, str]]] = {"high": [], "flipped": [], "asleep": []}
        for k in range(self.checks.count()):
            item = self.checks.item(k)
            if item.checkState() == Qt.CheckState.Checked:
                what, ref, number = item.data(Qt.ItemDataRole.UserRole)
                on[what].append((ref, number))
        fresh = replace(
            spec,
            high=tuple(Pin(r, n) for r, n in on["high"]),
            flipped=tuple(r for r, _ in on["flipped"]),
            asleep=tuple(r for r, _ in on["asleep"]),
        )
        self._put(fresh, spec.name, f"State {spec.name} changed")

    def _fields_changed(self) -> None:
        spec = self.current
        if self._loading or spec is None:
            return
        try:
            supply = parse_value(self.supply.text(), "supply") if self.supply.text().strip() else None
            cell = float(parse_value(self.cell.text(), "cell charge")) if self.cell.text().strip() else None
            if cell is not None and not 0 <= cell <= 100:
                raise EditError("A cell is between 0 and 100 % charged", "cell charge", "Type a share such as 20 %")
            wipers = read_wipers(self.wipers.text(), self.session.wired)
            fresh = replace(spec, name=self.name.text().strip(), supply_v=supply, cell_pct=cell, wipers=wipers)
        except ZestyError as error:
            self.tell(error)
            self.pull()
            return
        if fresh != spec:
            self._put(fresh, spec.name, f"State {fresh.name} changed")

    def add(self) -> None:
        """Add a state like the picked one, under a fresh name."""
        spec, names = self.current, {s.name for s in self._specs()}
        if spec is None:
            return
        number = 2
        while f"{spec.name} {number}" in names:
            number += 1
        fresh = replace(spec, name=f"{spec.name} {number}")
        base = self._specs()
        self.model.state_name = fresh.name
        self.session.do(f"State {fresh.name} added", lambda d: put_state(d, fresh, base))

    def drop(self) -> None:
        """Delete the picked state."""
        spec, base = self.current, self._specs()
        if spec:
            self.session.do(f"State {spec.name} deleted", lambda d: drop_state(d, spec.name, base))

    def propose(self) -> None:
        """Go back to the states that the parts propose."""
        self.session.do("States proposed again", lambda d: keep_states(d, ()))
