"""The numbers.

What each supply gives, cells and chargers, times and peaks, warmth, and the spread that tolerances give.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from zesty_trace.core.circuit.analysis import Heat, Spread, analyse, current_spreads, monte_carlo, worst_case
from zesty_trace.core.circuit.build import build_network
from zesty_trace.core.circuit.cells import Charging, RunTime, charging, run_times
from zesty_trace.core.circuit.energy import SupplyLoad, supply_budget
from zesty_trace.core.circuit.time_constants import TimeConstant, time_constants
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, row
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.desktop.schematic.drawers.timeline import say_hours
from zesty_trace.errors import SolveError

SAMPLES = 10_000
WARMEST = 12
LEAST_A = 1e-6  # smaller currents are not listed


@dataclass
class Figures:
    """All that is shown, or why it cannot be."""

    loads: list[SupplyLoad] = field(default_factory=list)
    runs: list[RunTime] = field(default_factory=list)
    charges: list[Charging] = field(default_factory=list)
    times: tuple[TimeConstant, ...] = ()
    heats: list[Heat] = field(default_factory=list)
    problem: str = ""


class NumbersDrawer(Drawer):
    """One tree; the heaviest state of each supply on top, the others folded away."""

    key, title, tip = "numbers", "Numbers", "Supply budget, run time, times and peaks, warmth, spread"

    def build(self) -> None:
        """Make the tree."""
        self._spreads: list[tuple[str, Spread, Spread]] = []
        self._currents: dict[str, Spread] = {}
        self._spread_of: Design | None = None
        self._figures = Figures()
        self.tree = QTreeWidget()
        self.tree.setColumnCount(3)
        self.tree.setHeaderHidden(True)
        self.tree.setMinimumHeight(300)
        self.tree.setAccessibleName("Numbers")
        self.tree.setIndentation(14)
        self.tree.setWordWrap(True)
        head = self.tree.header()
        head.setStretchLastSection(False)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column in (1, 2):
            head.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        self.spread_button = button(
            f"Spread of {SAMPLES:,} boards", self.spread, tip="Every part value drawn within its tolerance, all solved"
        )
        self.said = wrapped("Point at a line for how it was worked out; click it to see the part on the sheet.")
        self.body.addWidget(self.said)
        self.body.addWidget(self.tree, 1)
        self.body.addWidget(row(self.spread_button, None))
        self.tree.itemClicked.connect(self._clicked)
        self._worked = WorkedOut(self.session, "Working out the numbers", self._work, self._take, self.pull)

    def _work(self, wired: Wired) -> Figures:
        if not wired.design.parts:
            return Figures(problem="There are no parts yet.")
        try:
            return Figures(
                supply_budget(wired),
                run_times(wired),
                charging(wired),
                time_constants(wired),
                analyse(wired).heats(),
            )
        except SolveError as error:
            return Figures(problem=str(error))

    def pull(self) -> None:
        """Have the numbers of the current design worked out, and show them."""
        if self._worked.ask():
            self._show()

    def _take(self, figures: Figures) -> None:
        self._figures = figures
        self._show()

    def _show(self) -> None:
        f = self._figures
        at = self.tree.verticalScrollBar().value()
        self.tree.clear()
        if f.problem:
            self._group(f.problem)
        self._supplies(f)
        self._cells(f)
        if f.times:
            group = self._group("Times and peaks")
            for t in f.times:
                limit = f"limit {say(t.limit, t.unit)}" if t.limit is not None else ""
                self._line(group, f"{t.what}, {t.where}", t.say(), limit, t.how, t.refs[:1], t.nets[:1])
        if f.heats:
            group = self._group(f"Warmest parts, at {self.session.design.brief.ambient_c:g} °C around")
            for h in f.heats[:WARMEST]:
                how = f"{say(h.power_w, 'W')} x {h.theta_c_per_w:g} °C/W in state {h.state}"
                self._line(group, h.ref, f"{h.temperature_c:.0f} °C", f"of {h.limit_c:.0f} °C", how, (h.ref,))
        if self._spreads and self._spread_of is self.session.design:
            group = self._group(f"Spread over {SAMPLES:,} boards, all but 1 in 1000 on each side")
            for net, spread, corner in self._spreads:
                how = f"Worst case by sensitivity: {say(corner.low, 'V')} to {say(corner.high, 'V')}"
                self._line(group, net, say(spread.low, "V"), f"to {say(spread.high, 'V')}", how, (), (net,))
            for ref, amp in self._currents.items():
                how = f"{say(amp.nominal, 'A')} in the middle of the boards"
                self._line(group, f"{ref}, current", say(amp.low, "A"), f"to {say(amp.high, 'A')}", how, (ref,))
        self.tree.verticalScrollBar().setValue(at)

    def _supplies(self, f: Figures) -> None:
        by_ref: dict[str, list[SupplyLoad]] = {}
        for load in f.loads:
            by_ref.setdefault(load.ref, []).append(load)
        if not by_ref:
            return
        group = self._group("Supplies, each in its heaviest state")
        for ref, loads in by_ref.items():
            worst = max(loads, key=lambda load: load.amp)
            item = self._load_line(group, f"{ref} on {worst.net}", worst)
            for load in loads if len(loads) > 1 else ():
                self._load_line(item, load.state, load)

    def _load_line(self, parent: QTreeWidgetItem, name: str, load: SupplyLoad) -> QTreeWidgetItem:
        limit = f"of {say(load.limit_a, 'A', 2)}" if load.limit_a else say(load.watt, "W", 2)
        how = f"{say(load.volt, 'V')}, {say(load.watt, 'W')} in state {load.state}"
        return self._line(parent, name, say(load.amp, "A", 2), limit, how, (load.ref,), (load.net,))

    def _cells(self, f: Figures) -> None:
        if not f.runs and not f.charges:
            return
        group = self._group("Cells")
        for run in f.runs:
            held = f"; {run.held_by} loses its output below {run.floor_pct:.0f} %" if run.held_by else ""
            how = f"{run.capacity_mah:g} mAh at {say(run.average_a, 'A')} average of the timeline{held}"
            self._line(group, f"{run.ref} lasts", say_hours(run.hours), say(run.average_a, "A", 2), how, (run.ref,))
        for charge in f.charges:
            c = charge.charger
            board = f" less {say(charge.board_a, 'A')} for the board" if charge.board_a > 0 else ""
            how = f"{c.capacity_mah:g} mAh / ({say(c.amp, 'A')}{board}) x 1.3, common practice"
            took = "never" if charge.hours is None else f"{charge.hours:.1f} h"
            self._line(group, f"{c.ref} fills {c.cell}", took, f"{c.rate_c:.2g} C", how, (c.ref,))

    def _group(self, text: str) -> QTreeWidgetItem:
        item = QTreeWidgetItem(self.tree, [text])
        font = item.font(0)
        font.setBold(True)
        item.setFont(0, font)
        item.setFirstColumnSpanned(True)
        item.setExpanded(True)
        return item

    def _line(
        self,
        parent: QTreeWidgetItem,
        name: str,
        value: str,
        limit: str,
        how: str,
        refs: tuple[str, ...] = (),
        nets: tuple[str, ...] = (),
    ) -> QTreeWidgetItem:
        item = QTreeWidgetItem(parent, [name, value, limit])
        for column in range(3):
            item.setToolTip(column, tip(how))
        for column in (1, 2):
            item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        item.setData(0, Qt.ItemDataRole.UserRole, (refs, nets))
        return item

    def _clicked(self, item: QTreeWidgetItem, _column: int) -> None:
        data = item.data(0, Qt.ItemDataRole.UserRole)
        if data:
            self.said.setText(item.toolTip(0))
            self.model.light(*data)

    def spread(self) -> None:
        """Solve thousands of boards with values drawn within their tolerances, and the worst-case corners."""
        wired = self.session.wired
        design = wired.design

        def work(report: Report) -> tuple[list[tuple[str, Spread, Spread]], dict[str, Spread]]:
            report(0.0, "worst-case corners")
            network = build_network(wired)
            _, corners = worst_case(network)
            if not report(0.3, f"{SAMPLES:,} boards"):
                return [], {}
            solution, spreads = monte_carlo(network, SAMPLES)
            amps = {r: s for r, s in current_spreads(solution).items() if r in design.parts and s.high > LEAST_A}
            return [(n, s, corners[n]) for n, s in spreads.items() if n in design.nets], amps

        def done(found: tuple[list[tuple[str, Spread, Spread]], dict[str, Spread]]) -> None:
            (self._spreads, self._currents), self._spread_of = found, design
            self._show()

        self.session.jobs.start("Spread of part values", work, done)
