"""The timeline: states one after the other, played on the sheet; charge, average current and run time below."""

from __future__ import annotations

import time

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QSlider, QTableWidget, QTableWidgetItem

from zesty_trace.core.circuit.cells import RunTime, run_times
from zesty_trace.core.circuit.energy import Cycle, play, proposed_timeline
from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Moment
from zesty_trace.core.design.scenario_edits import set_timeline
from zesty_trace.core.quantities import say
from zesty_trace.core.stated import parse_value
from zesty_trace.desktop.kit.widgets import button, fit_height, label, row, table
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.errors import SolveError, ZestyError

FRAME_MS = 40
SLIDER = 1000
MONTH_H = 730.0


def say_hours(hours: float) -> str:
    """Return hours, days or months in words."""
    if hours < 48:
        return f"{hours:.1f} hours"
    return f"{hours / 24:.0f} days" if hours < 3 * MONTH_H else f"{hours / MONTH_H:.1f} months"


class TimelineDrawer(Drawer):
    """Steps in a table, a player, and what a cycle costs."""

    key, title, tip = "timeline", "Timeline", "Play the states in turn: lights by their current, charge, run time"

    def build(self) -> None:
        """Make the table and the player."""
        self._cycle = Cycle(())
        self._second = 0.0
        self._clock = 0.0
        self._loading = False
        self.steps = table("State", "Lasts", "Current")
        self.steps.setEditTriggers(QTableWidget.EditTrigger.AllEditTriggers)
        self.steps.horizontalHeader().setStretchLastSection(True)
        self.steps.setColumnWidth(0, 158)
        self.steps.setColumnWidth(1, 76)
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.add_button = button("Add a step", self.add)
        self.drop_button = button("Take it out", self.drop)
        self.up_button = button("Up", self.move_up, tip="Move the picked step up")
        self.again_button = button("Propose again", lambda: self._put((), "Timeline proposed again"))
        self.play_button = button("Play", self.toggle, True, "Play on the sheet (Ctrl+Shift+P)")
        self.speed = QDoubleSpinBox()
        self.speed.setRange(0.1, 1000.0)
        self.speed.setValue(1.0)
        self.speed.setPrefix("x ")
        self.speed.setAccessibleName("Speed")
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, SLIDER)
        self.slider.setMinimumHeight(28)
        self.slider.sliderMoved.connect(self._seek)
        self.now = wrapped()
        self.sums = wrapped(name="")
        for each in (
            self.steps,
            row(self.add_button, self.drop_button, self.up_button, None),
            row(self.again_button, None),
            row(self.play_button, None, label("Speed", "muted"), self.speed),
            self.slider,
            self.now,
            self.sums,
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.steps.itemChanged.connect(self._lasts_changed)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._tick)
        self._worked = WorkedOut(self.session, "Playing through", self._work, self._take, self.pull)

    def _work(self, wired: Wired) -> tuple[Cycle, list[RunTime], str]:
        try:
            return play(wired), run_times(wired), ""
        except SolveError as error:
            return Cycle(()), [], str(error)

    @property
    def moments(self) -> tuple[Moment, ...]:
        """The steps: the design's, or those proposed."""
        return self.session.design.timeline or proposed_timeline(self.session.wired)

    def pull(self) -> None:
        """Show the steps, and have the cycle worked out."""
        self._loading = True
        names = [s.name for s in operating_states(self.session.wired)]
        moments = self.moments
        chosen = self.steps.currentRow()
        self.steps.setRowCount(len(moments))
        for k, moment in enumerate(moments):
            box = QComboBox()
            box.addItems(names if moment.state in names else [moment.state, *names])
            box.setCurrentText(moment.state)
            box.activated.connect(lambda _i, k=k, box=box: self._state_changed(k, box.currentText()))
            self.steps.setCellWidget(k, 0, box)
            self.steps.setItem(k, 1, QTableWidgetItem(say(moment.seconds, "s")))
            amp = QTableWidgetItem("")
            amp.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            self.steps.setItem(k, 2, amp)
        self.steps.verticalHeader().setDefaultSectionSize(38)
        if 0 <= chosen < len(moments):
            self.steps.setCurrentCell(chosen, 1)
        self.again_button.setVisible(bool(self.session.design.timeline))
        fit_height(self.steps, 5)
        self._loading = False
        if self._worked.ask():
            self._show_cycle()

    def _take(self, answer: tuple[Cycle, list[RunTime], str]) -> None:
        self._cycle, self._runs, self._problem = answer
        self._show_cycle()

    def _show_cycle(self) -> None:
        self._loading = True
        played = {s.state for s in self._cycle.steps}
        known = [k for k, m in enumerate(self.moments) if m.state in played]
        for k, step in zip(known, self._cycle.steps, strict=False):
            item = self.steps.item(k, 2)
            if item:
                item.setText(say(step.amp, "A", 2))
        self._loading = False
        cycle = self._cycle
        if not cycle.steps:
            self.sums.setText(self._problem or "No step to play.")
            return
        lines = [
            f"One cycle: {say(cycle.seconds, 's')}, {say(cycle.charge_c, 'C')} "
            f"({say(cycle.charge_c / 3600, 'Ah')}), {say(cycle.average_a, 'A')} on average."
        ]
        for run in self._runs:
            held = f", until {run.held_by} loses its output at {run.floor_pct:.0f} %" if run.held_by else ""
            lines.append(
                f"{run.ref}, {run.capacity_mah:g} mAh: {say_hours(run.hours)} at {say(run.average_a, 'A')} "
                f"average{held}."
            )
        self.sums.setText("\n".join(lines))

    # Editing ------------------------------------------------------------------------------------------------------

    def _put(self, moments: tuple[Moment, ...], words: str) -> None:
        if not self.session.do(words, lambda d: set_timeline(d, moments)):
            self.pull()

    def _state_changed(self, number: int, name: str) -> None:
        moments = list(self.moments)
        moments[number] = Moment(state=name, seconds=moments[number].seconds)
        self._put(tuple(moments), f"Step {number + 1}: {name}")

    def _lasts_changed(self, item: QTableWidgetItem) -> None:
        if self._loading or item.column() != 1:
            return
        moments = list(self.moments)
        try:
            seconds = parse_value(item.text().strip().removesuffix("s"), f"step {item.row() + 1}")
        except ZestyError as error:
            self.tell(error)
            self.pull()
            return
        moments[item.row()] = Moment(state=moments[item.row()].state, seconds=seconds)
        self._put(tuple(moments), f"Step {item.row() + 1} lasts {say(seconds, 's')}")

    def add(self) -> None:
        """Add a step of the shown state at the end."""
        names = [s.name for s in operating_states(self.session.wired)]
        name = self.model.state_name if self.model.state_name in names else names[0]
        self._put((*self.moments, Moment(state=name, seconds=1.0)), f"Step added: {name}")

    def drop(self) -> None:
        """Take the picked step, else the last, out."""
        number = self.steps.currentRow() if self.steps.currentRow() >= 0 else len(self.moments) - 1
        self._put(tuple(m for k, m in enumerate(self.moments) if k != number), f"Step {number + 1} taken out")

    def move_up(self) -> None:
        """Move the picked step one up."""
        number, moments = self.steps.currentRow(), list(self.moments)
        if number > 0:
            moments[number - 1 : number + 1] = [moments[number], moments[number - 1]]
            self.steps.setCurrentCell(number - 1, 1)
            self._put(tuple(moments), f"Step {number + 1} moved up")

    # Playing ------------------------------------------------------------------------------------------------------

    @property
    def playing(self) -> bool:
        """Whether the cycle is running."""
        return self._timer.isActive()

    def toggle(self) -> None:
        """Play or stop."""
        if self.playing:
            self.stop()
        elif self._cycle.steps:
            self._clock = time.monotonic()
            self._timer.start()
            self.play_button.setText("Stop")
            self._show_second()

    def stop(self) -> None:
        """Stop playing; the sheet shows all LEDs alike again."""
        self._timer.stop()
        self.play_button.setText("Play")
        self.model.show_lights(None)

    def hideEvent(self, event: object) -> None:
        """Stop when put away."""
        self.stop()

    def _tick(self) -> None:
        now = time.monotonic()
        self._second = (self._second + (now - self._clock) * self.speed.value()) % max(self._cycle.seconds, 1e-9)
        self._clock = now
        if not self.slider.isSliderDown():
            self.slider.setValue(round(SLIDER * self._second / max(self._cycle.seconds, 1e-9)))
        self._show_second()

    def _seek(self, value: int) -> None:
        self._second = value / SLIDER * self._cycle.seconds * 0.999999
        self._show_second()

    def _show_second(self) -> None:
        if not self._cycle.steps:
            return
        step = self._cycle.at(self._second)
        lit = f", {len(step.lit)} lights on" if step.lit else ""
        self.now.setText(f"{self._second:.2f} s: {step.state}, {say(step.amp, 'A', 2)}{lit}")
        self.model.show_lights(step.lit, step.state)
