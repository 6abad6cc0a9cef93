"""Assembly: what to place next, shown on the board, and the heat profile that this board will see."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QElapsedTimer, Qt
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout, QHeaderView, QSpinBox, QVBoxLayout, QWidget

from zesty_trace.core.assembly.oven import Measure
from zesty_trace.core.assembly.profiles import WINDOWS
from zesty_trace.core.assembly.sequence import SCHOOLS, PlacingStep, placing_sequence
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import rich
from zesty_trace.desktop.kit.widgets import button, card, fill, label, lines_of, row, table
from zesty_trace.desktop.layout.canvas import BoardCanvas
from zesty_trace.desktop.layout.painter import BoardView
from zesty_trace.desktop.project.station import Station
from zesty_trace.errors import EditError, ZestyError
from zesty_trace.journey.assembling import heat_run, record_assembled, still_to_assemble
from zesty_trace.journey.hours import keep_pace

HOT = (
    "Hot glass, hot metal, fumes: ventilate, wear eye protection, never use this oven for food again. Mains parts of "
    "an oven controller belong in an enclosed, earthed, fused unit: follow local codes."
)


def _bounds(m: Measure) -> str:
    if m.low is None:
        return f"up to {m.high:g}"
    return f"from {m.low:g}" if m.high is None else f"{m.low:g} to {m.high:g}"


class AssemblyStation(Station):
    """The step and its board on the left, the list and the heat on the right."""

    key = "assembly"

    def build(self) -> None:
        """Make the board, the steps and the plot."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(12)
        self.steps: list[PlacingStep] = []
        self.index = 0
        self.school = SCHOOLS[0]
        outer.addWidget(self._board(), 6)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._list(), 1)
        right.addWidget(self._heat())
        outer.addLayout(right, 5)

    def _board(self) -> QWidget:
        self.title = label("", "heading", True)
        self.refs = label("", "", True)
        self.caution = label("", "caution", True)
        self.alloy_caution = label("", "caution", True)
        self.canvas = BoardCanvas(read_only=True)
        self.previous_button = button("Back", lambda: self.go(-1), tip="Left")
        self.next_button = button("Placed, next", lambda: self.go(1), True, "Right")
        tip = "From step to step the seconds are kept, for one board: the calendar in Order counts with them"
        self.time_button = button("Time my placing", self._start_clock, tip=tip)
        self.time_button.setCheckable(True)
        self.clock = QElapsedTimer()
        self.count = label("", "muted")
        self.assembled = QSpinBox()
        self.assembled.setAccessibleName("Boards that were assembled")
        self.assembled.setMinimumHeight(34)
        self.build_button = button("Record as assembled", self.record, tip="Ctrl+Shift+B")
        frame = card(
            row(self.title, None, self.count),
            self.refs,
            self.canvas,
            self.caution,
            self.alloy_caution,
            row(self.previous_button, self.next_button, None, self.time_button),
            row(label("Boards assembled"), self.assembled, None, self.build_button),
            name="sheet",
        )
        lines_of(frame).setStretch(2, 1)
        return frame

    def _list(self) -> QWidget:
        self.variant = QComboBox()
        self.variant.currentTextChanged.connect(self._set_variant)
        self.order = QComboBox()
        self.order.addItems(list(SCHOOLS))
        self.order.currentTextChanged.connect(self._set_school)
        self.table = table("", "Parts", "Face", "How", "Count")
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.cellClicked.connect(lambda r, _c: self.show_step(r))
        return card(row(label("Placing order", "heading"), None, self.variant, self.order), self.table)

    def _heat(self) -> QWidget:
        self.alloy = QComboBox()
        self.alloy.addItems(list(WINDOWS))
        self.alloy.currentTextChanged.connect(self._set_alloy)
        self.power, self.litres = QDoubleSpinBox(), QDoubleSpinBox()
        for box, name, low, high, unit in (
            (self.power, "Power of the oven", 100.0, 10_000.0, " W"),
            (self.litres, "Room inside the oven", 1.0, 500.0, " l"),
        ):
            box.setAccessibleName(name)
            box.setRange(low, high)
            box.setDecimals(0)
            box.setSuffix(unit)
            box.setKeyboardTracking(False)
            box.valueChanged.connect(lambda _v: self._set_oven())
        self.power.setSingleStep(100.0)
        self.verdict = label("", "", True)
        self.measures = label("", "muted", True)
        self._plot_holder = QWidget()
        holder = QVBoxLayout(self._plot_holder)
        holder.setContentsMargins(0, 0, 0, 0)
        self.plot: Any = None
        frame = card(
            row(label("Heat profile, calculated", "heading"), None, label("Alloy"), self.alloy),
            row(label("For a table oven of"), self.power, self.litres, None),
            self.verdict,
            self._plot_holder,
            self.measures,
        )
        lines_of(frame).setStretch(2, 1)
        self._run_of: Design | None = None
        self._run: Any = None
        return frame

    # Placing ------------------------------------------------------------------------------------------------------

    def pull(self) -> None:
        """Show the sequence and the step, and simulate the heat."""
        d = self.session.design
        for box, items, value in (
            (self.variant, list(d.variants) or ["one board"], d.build.variant),
            (self.alloy, list(WINDOWS), d.build.alloy),
        ):
            box.blockSignals(True)
            if [box.itemText(k) for k in range(box.count())] != items:
                box.clear()
                box.addItems(items)
            box.setCurrentText(value)
            box.blockSignals(False)
        self.steps = placing_sequence(self.session.wired.with_design(d), d.build.variant, self.school)
        fill(self.table, [[str(s.number), s.title, s.face, s.how, str(len(s.refs))] for s in self.steps], (0, 4))
        self.show_step(min(self.index, max(0, len(self.steps) - 1)))
        for spin, number in ((self.power, d.build.oven_power_w), (self.litres, d.build.oven_litres)):
            spin.blockSignals(True)
            spin.setValue(number)
            spin.blockSignals(False)
        self._pull_assembled()
        self._simulate()

    def _pull_assembled(self) -> None:
        """Offer as many boards as are still to be assembled."""
        design = self.session.design
        left = still_to_assemble(self.session.records, design) if design.board.placements else []
        self.assembled.setRange(1 if left else 0, len(left))
        self.assembled.setSuffix(f" of {len(left)} left")
        self.assembled.setValue(len(left))
        self.assembled.setEnabled(bool(left))
        self.build_button.setEnabled(bool(left))

    def show_step(self, index: int) -> None:
        """Light up the parts of a step."""
        d = self.session.design
        self.index = index
        if not self.steps:
            self.title.setText("Nothing to place yet")
            return
        step = self.steps[index]
        before = frozenset(r for s in self.steps[:index] for r in s.refs)
        hidden = frozenset(r for r in d.parts if not d.parts[r].fitted(d.build.variant))
        self.canvas.show_view(
            BoardView(self.session.wired, lit=frozenset(step.refs), done=before, show_copper=False, hidden=hidden)
        )
        total = sum(len(s.refs) for s in self.steps)
        self.title.setText(f"{step.number}. {len(step.refs)} × {step.title}")
        self.refs.setText(
            "Place " + ", ".join(step.refs) + (" into paste" if step.how == "paste" else ", solder by iron")
        )
        self.caution.setText(" · ".join(step.cautions))
        self.caution.setVisible(bool(step.cautions))
        self.count.setText(f"step {index + 1} of {len(self.steps)} · {len(before)} of {total} parts placed")
        self.table.selectRow(index)
        self.previous_button.setEnabled(index > 0)
        self.next_button.setEnabled(index < len(self.steps) - 1)

    def go(self, by: int) -> None:
        """Go to the next or the previous step; the way forwards is timed if that is asked for."""
        if not 0 <= self.index + by < len(self.steps):
            return
        if by > 0 and self.time_button.isChecked():
            self._keep_time(self.steps[self.index], self.clock.elapsed() / 1000)
        self.show_step(self.index + by)
        self._start_clock()

    def _start_clock(self) -> None:
        self.clock.start()

    def _keep_time(self, step: PlacingStep, seconds: float) -> None:
        """Keep how long the parts of a step took to place, by package; what is soldered by iron is not placed."""
        if step.how != "paste" or seconds <= 0:
            return
        wired, folder, today = self.session.wired, self.session.path, self.session.today
        self.session.jobs.start("Keeping the time", lambda _r: keep_pace(wired, folder, today, step.refs, seconds),
                                lambda _v: None, visible=False)  # fmt: skip

    def record(self) -> None:
        """Record as many boards as were assembled."""
        design = self.session.design
        try:
            fresh = record_assembled(self.session.records, design, self.assembled.value())
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        first, last = fresh[0], fresh[-1]
        which = first if first == last else f"{first} to {last}"
        self.session.message.emit(f"{say_count(len(fresh), 'board')} recorded as assembled: {which}")
        self.session.records_changed.emit()
        self._pull_assembled()

    def _set_variant(self, variant: str) -> None:
        if variant in self.session.design.variants:
            self.session.do(f"Building {variant}", lambda d: edits.set_build(d, variant=variant))

    def _set_school(self, school: str) -> None:
        self.school = school  # type: ignore[assignment]
        self.index = 0
        self.pull()

    def _set_alloy(self, alloy: str) -> None:
        self.session.do(f"Alloy: {alloy}", lambda d: edits.set_build(d, alloy=alloy))

    def _set_oven(self) -> None:
        watts, litres = self.power.value(), self.litres.value()
        words = f"Oven: {watts:.0f} W, {litres:.0f} l"
        self.session.do(words, lambda d: edits.set_build(d, oven_power_w=watts, oven_litres=litres))

    # Heat ---------------------------------------------------------------------------------------------------------

    def _simulate(self) -> None:
        wired = self.session.wired
        design = wired.design
        window = WINDOWS[design.build.alloy]
        self.alloy_caution.setText(f"{window.title}: {window.caution} {HOT}")
        self.alloy_caution.setStyleSheet("font-size: 12px")
        if self._run_of is design:
            return
        if not design.board.outline:
            self.verdict.setText("Place the parts first: the heat depends on the board.")
            return

        def failed(error: EditError | None) -> None:
            self.verdict.setText(str(error) if error else "stopped")

        self.session.jobs.start(
            "Heating",
            lambda report: heat_run(wired),
            lambda v: self._heated(design, *v),
            failed,
            visible=False,
        )

    def _heated(self, design: Design, run: Any, measures: Any, window: Any) -> None:
        if design is not self.session.design:
            return
        self._run_of = design
        bad = [m for m in measures if not m.good]
        self.verdict.setObjectName("bad" if bad else "good")
        self.verdict.style().polish(self.verdict)
        self.verdict.setText(
            f"{len(bad)} numbers are outside the window of {window.title}"
            if bad
            else f"All {len(measures)} numbers are inside the window of {window.title}"
        )
        words = []
        for m in measures:
            words.append(f"{'✓' if m.good else '✗'} {m.name} {m.value:.1f} {m.unit} ({_bounds(m)})")
        self.measures.setText("   ".join(words))
        self._draw(run, window)

    def _draw(self, run: Any, window: Any) -> None:
        import pyqtgraph as pg

        t = theme.current()
        if self.plot is None:
            self.plot = pg.PlotWidget()
            self.plot.setMinimumHeight(120)
            self.plot.setMaximumHeight(220)
            lines_of(self._plot_holder).addWidget(self.plot)
        plot = self.plot
        plot.clear()
        plot.setBackground(t.sheet)
        for side, text, unit in (("bottom", "time", "s"), ("left", "temperature", "°C")):
            axis = plot.getAxis(side)
            axis.enableAutoSIPrefix(False)
            axis.setLabel(text, units=unit, color=t.muted)
            axis.setPen(t.muted)
            axis.setTextPen(t.muted)
        if plot.plotItem.legend is None:
            plot.addLegend(offset=(140, -8), labelTextColor=t.ink)
        dash = Qt.PenStyle.DashLine
        plot.plot(run.time_s, run.target_c, pen=pg.mkPen(t.muted, width=2, style=dash), name="target", connect="finite")
        plot.plot(run.time_s, run.air_c, pen=pg.mkPen(t.lemon, width=1.5), name="air")
        plot.plot(run.time_s, run.board_c, pen=pg.mkPen(t.copper, width=3), name="board")
        if run.slowest:
            plot.plot(run.time_s, run.slowest_c, pen=pg.mkPen(t.teal, width=1.5), name=f"{rich(run.slowest)}, slowest")
        for level, text in ((window.liquidus_c, "melts"), (window.peak_max_c, "most")):
            line = pg.InfiniteLine(
                level,
                angle=0,
                pen=pg.mkPen(t.teal, width=1),
                label=f"{text} {level:.0f} °C",
                labelOpts={"position": 0.2, "color": t.teal},
            )
            plot.addItem(line)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Next placing step", "Right", lambda: self.go(1)),
            Action("Previous placing step", "Left", lambda: self.go(-1)),
            Action("Record as assembled", "Ctrl+Shift+B", self.record),
        ]
