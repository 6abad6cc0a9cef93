"""Bench: the generated plan, run on each board; pass or fail with the numbers."""

from __future__ import annotations

from typing import Any

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QLineEdit, QVBoxLayout, QWidget

from zesty_trace import journey
from zesty_trace.core.bench.plan import BenchPlan, BenchStep, make_plan
from zesty_trace.core.bench.run import BoardResult
from zesty_trace.core.bench.simulated import demo_faults
from zesty_trace.core.quantities import say
from zesty_trace.desktop import theme
from zesty_trace.desktop.actions import Action
from zesty_trace.desktop.stations.base import Station, button, card, fill, label, row, table
from zesty_trace.devices.instruments import ScpiBench
from zesty_trace.errors import ZestyError

ORDER_CAUTION = (
    "Before power: look once more at the polarity of electrolytics; a reversed one bursts. Wear eye protection."
)


def limits(step: BenchStep) -> str:
    """Return the limits of a step in words."""
    if step.kind == "bus":
        return ", ".join(f"0x{a:02X}" for a in step.addresses)
    low = say(step.low, step.unit) if step.low is not None else ""
    high = say(step.high, step.unit) if step.high is not None else ""
    if low and high:
        return f"{low} to {high}"
    return f"at least {low}" if low else f"at most {high}"


class BenchStation(Station):
    """The plan with the readings of one board on the left, the batch on the right."""

    key = "bench"

    def build(self) -> None:
        """Make the tables and the instrument addresses."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(12)
        self.plan: BenchPlan | None = None
        self._plan_of: object = None
        self.shown = ""
        outer.addWidget(self._plan_card(), 8)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._batch_card(), 1)
        right.addWidget(self._instrument_card())
        outer.addLayout(right, 5)

    def _plan_card(self) -> QWidget:
        self.title = label("Test plan", "heading")
        self.note = label("", "muted", True)
        self.steps = table("", "Measure", "Limits", "Reading", "")
        header = self.steps.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        return card(self.title, self.note, self.steps, label(ORDER_CAUTION, "caution", True), name="sheet")

    def _batch_card(self) -> QWidget:
        self.yield_label = label("", "big")
        self.batch = table("Serial", "Verdict", "What")
        header = self.batch.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        self.batch.cellClicked.connect(lambda r, _c: self.show_board(self.batch.item(r, 0).text()))
        self.run_button = button("Measure the batch", self.measure, True, "Ctrl+B")
        return card(row(self.yield_label, label("passed", "muted"), None, self.run_button), self.batch)

    def _instrument_card(self) -> QWidget:
        self.stand_in = label("", "muted", True)
        self.addresses = [QLineEdit(), QLineEdit(), QLineEdit()]
        holder = QVBoxLayout()
        for text, edit in zip(("Multimeter", "Supply", "Bus adapter"), self.addresses, strict=True):
            edit.setPlaceholderText("stand-in, or a VISA address")
            line = row(label(text), edit)
            line.layout().itemAt(0).widget().setMinimumWidth(86)
            holder.addWidget(line)
        inner = QWidget()
        inner.setLayout(holder)
        holder.setContentsMargins(0, 0, 0, 0)
        return card(
            label("Instruments", "heading"), inner,
            self.stand_in,
        )  # fmt: skip

    def pull(self) -> None:
        """Make the plan anew if the design changed, and show the records."""
        d = self.session.design
        if self._plan_of is not d:
            self._plan_of = d

            def done(plan: BenchPlan) -> None:
                if self._plan_of is d:
                    self.plan = plan
                    self._show()

            def failed(error: ZestyError | None) -> None:
                self.plan = None
                self.note.setText(str(error) if error else "stopped")
                fill(self.steps, [])

            catalogue, variant = self.session.catalogue, d.build.variant
            self.session.jobs.start("Planning", lambda r: make_plan(d, catalogue, variant), done, failed, visible=False)
        self._show()

    def _show(self) -> None:
        boards = self._boards()
        rows = []
        for serial in journey.batch_of(self.session.design).serials():
            event = boards[serial].last("measured") if serial in boards else None
            rows.append([serial, event.verdict if event else "—", event.summary if event else "not measured yet"])
        fill(self.batch, rows)
        for r, cells in enumerate(rows):
            self._tint(self.batch, r, 1, cells[1])
            self.batch.item(r, 2).setToolTip(cells[2])
        self.batch.resizeRowsToContents()
        passed, measured = sum(c[1] == "pass" for c in rows), sum(c[1] in ("pass", "fail") for c in rows)
        self.yield_label.setText(f"{passed} of {measured}" if measured else "0")
        self._show_plan(boards)
        self.run_button.setEnabled(self.plan is not None)
        d, quantity = self.session.design, self.session.design.brief.quantity
        planted = len(demo_faults(d.fitted(d.build.variant), self.session.catalogue, quantity))
        self.stand_in.setText(
            "Left empty, simulated boards are measured by stand-in instruments over the same protocol; "
            f"{planted} of the {quantity} have a planted fault."
        )

    def _boards(self) -> dict[str, journey.BoardRecord]:
        return {b.serial: b for b in self.session.records.boards(self.session.design.revision)}

    def _tint(self, widget: Any, r: int, c: int, verdict: str) -> None:
        t = theme.current()
        color = {"pass": t.lime, "fail": t.stop, "ok": t.lime, "out": t.stop}.get(verdict)
        if color:
            widget.item(r, c).setForeground(QColor(color))

    def _show_plan(self, boards: dict[str, journey.BoardRecord]) -> None:
        if self.plan is None:
            return
        event = boards[self.shown].last("measured") if self.shown in boards else None
        readings = {r["step"]: r for r in event.data["readings"]} if event else {}
        rows = []
        for s in self.plan.steps:
            reading = readings.get(s.number)
            text = reading["text"] if reading else "—"
            verdict = (
                "" if not reading else "ok" if reading["passed"] else "out" if reading["value"] is not None else ""
            )
            where = f" at {s.probe}" if s.probe and s.kind in ("voltage", "resistance") else ""
            rows.append([str(s.number), s.title + where, limits(s), text, verdict])
        fill(self.steps, rows, (0,))
        for r, cells in enumerate(rows):
            self._tint(self.steps, r, 4, cells[4])
            self.steps.item(r, 3).setToolTip(cells[3])
            self.steps.item(r, 1).setToolTip(self.plan.steps[r].why)
        self.title.setText(f"Board {self.shown}" if event else "Test plan")
        self.note.setText(
            f"{len(self.plan.steps)} steps from the design and its tolerances"
            + (f", variant {self.plan.variant}" if self.plan.variant else "")
            + f". The supply is limited to {say(self.plan.current_limit_a, 'A')}; a short stops the test before power."
        )

    def show_board(self, serial: str) -> None:
        """Show the readings of one board."""
        self.shown = serial
        self._show()

    def measure(self) -> None:
        """Measure the whole batch, as a job."""
        design, catalogue, records, plan = self.session.design, self.session.catalogue, self.session.records, self.plan
        if plan is None:
            return
        batch = journey.batch_of(design)
        serials = records.add_boards(batch.revision, batch.variant, range(1, batch.quantity + 1))
        meter, supply, bus = (e.text().strip() for e in self.addresses)

        def work(report: journey.Report) -> list[BoardResult]:
            if meter or supply or bus:
                with ScpiBench(meter, supply, bus) as bench:
                    return journey.measure_boards(plan, bench, serials, records, report)
            return journey.measure_simulated(design, catalogue, serials, records, report)

        def failed(error: Any) -> None:
            self.session.records_changed.emit()
            if error is not None:
                self.session.failed.emit(error)

        self.session.jobs.start("Measuring", work, self._measured, failed)

    def _measured(self, results: list[BoardResult]) -> None:
        bad = [r for r in results if not r.passed]
        self.shown = (bad or results)[0].serial if results else ""
        self.session.message.emit(f"{len(results) - len(bad)} of {len(results)} boards passed")
        self.session.records_changed.emit()

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [Action("Measure the batch", "Ctrl+B", self.measure)]
