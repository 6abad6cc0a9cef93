"""Bench: the generated plan, run on each board; pass or fail with the numbers."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QLineEdit, QStackedWidget, QVBoxLayout, QWidget

from zesty_trace.core.bench.plan import BenchPlan, BenchStep, make_plan
from zesty_trace.core.bench.run import BoardResult
from zesty_trace.core.bench.simulated import demo_faults
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.design.model import Design
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say
from zesty_trace.desktop.bench.hands import HandsPanel, WindowHands
from zesty_trace.desktop.bench.trust import TrustPage
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, card, cell, fill, label, lines_of, row, table
from zesty_trace.desktop.project.station import Station
from zesty_trace.desktop.project.trust import TrustLine
from zesty_trace.devices.instruments import Bench
from zesty_trace.errors import DeviceError, ZestyError
from zesty_trace.journey.batch import batch_of, book, chosen_serial, refuse_simulated_on_real
from zesty_trace.journey.flashing import wanted_of
from zesty_trace.journey.measuring import measure_boards, measure_simulated
from zesty_trace.journey.trusting import trusted_of
from zesty_trace.store.board import BoardRecord, Standing, Wanted
from zesty_trace.store.payloads import MeasureTold

if TYPE_CHECKING:
    from zesty_trace.core.bench.coverage import Coverage

ORDER_CAUTION = (
    "Before power: look once more at the polarity of electrolytics; a reversed one bursts. Wear eye protection. "
    "A program can fail to switch off: keep a switch within reach that cuts the supply."
)


def limits(step: BenchStep) -> str:
    """Return the limits of a step in words."""
    if step.unit in ("answer", "lights"):
        return "must answer" if step.unit == "answer" else f"{step.expected:.0f}"
    if step.kind == "bus":
        return ", ".join(f"0x{a:02X}" for a in step.addresses)
    low = say(step.low, step.unit) if step.low is not None else ""
    high = say(step.high, step.unit) if step.high is not None else ""
    if low and high:
        return f"{low} to {high}"
    return f"at least {low}" if low else f"at most {high}"


MODES = {"simulated boards": "simulated", "instruments": "instruments", "a person, by hand": "hand"}
RUN_WORDS = {"simulated": "Measure simulated boards", "instruments": "Measure the batch", "hand": "Measure by hand"}


def _short(part: str, fault: Fault) -> str:
    return str(fault).removeprefix(f"{part} ")


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
        self._measuring = False
        self._seen: list[str] = []
        self._covered_of: object = None
        self._wanted = Wanted()
        self._wanted_of: tuple[Design, BenchPlan | None] | None = None
        outer.addWidget(self._plan_card(), 8)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._batch_card(), 1)
        right.addWidget(self._instrument_card())
        outer.addLayout(right, 5)

    def _plan_card(self) -> QWidget:
        self.title = label("Test plan", "heading")
        self.note = label("", "muted", True)
        self.hands = HandsPanel()
        self.plan_button = button("Steps", lambda: self._show_side(0), tip="The steps and the readings of one board")
        self.cover_button = button(
            "What it notices", self.show_coverage, tip="Which single faults the plan would notice"
        )
        self.trust_button = button(
            "Who and with what", self.show_trust, tip="Your name, this bench, and how far your instruments may be off"
        )
        self.steps = table("", "Measure", "Limits", "Reading", "")
        self.steps.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.coverage_text = label("", "", True)
        self.coverage = table("Part", "Faults that would not be noticed")
        self.coverage.horizontalHeader().setStretchLastSection(True)
        other = QWidget()
        inner = QVBoxLayout(other)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addWidget(self.coverage_text)
        inner.addWidget(self.coverage)
        self.sides = QStackedWidget()
        self.sides.addWidget(self.steps)
        self.sides.addWidget(other)
        self.trust = TrustPage(self.session.today)
        self.trust.kept.connect(self._kept)
        self.sides.addWidget(self.trust)
        return card(
            row(self.title, None, self.plan_button, self.cover_button, self.trust_button),
            self.note,
            self.hands,
            self.sides,
            label(ORDER_CAUTION, "caution", True),
            name="sheet",
        )

    def _show_side(self, index: int) -> None:
        self.sides.setCurrentIndex(index)

    def _batch_card(self) -> QWidget:
        self.yield_label = label("", "big")
        self.yield_words = label("passed", "muted")
        self.batch = table("Serial", "Verdict", "What")
        self.batch.horizontalHeader().setStretchLastSection(True)
        self.batch.cellClicked.connect(lambda r, _c: self.show_board(cell(self.batch, r, 0).text()))
        self.run_button = button("Measure the batch", self.measure, True, "Ctrl+B")
        self.serial = QLineEdit()
        self.serial.setPlaceholderText("all")
        self.serial.setMaximumWidth(96)
        self.serial.setAccessibleName("Serial number to measure, empty for the whole batch")
        return card(row(self.yield_label, self.yield_words, None), row(self.serial, self.run_button, None),
                    TrustLine(self.session), self.batch)  # fmt: skip

    def _instrument_card(self) -> QWidget:
        self.mode = QComboBox()
        self.mode.addItems(list(MODES))
        self.mode.setAccessibleName("How to measure")
        self.mode.currentTextChanged.connect(lambda _t: self._show_mode())
        self.stand_in = label("", "muted", True)
        self.addresses = [QLineEdit(), QLineEdit(), QLineEdit()]
        holder = QVBoxLayout()
        for text, edit in zip(("Multimeter", "Supply", "Fixture"), self.addresses, strict=True):
            edit.setPlaceholderText("VISA address")
            line = row(label(text), edit)
            first = lines_of(line).itemAt(0)
            if first and (title := first.widget()):
                title.setMinimumWidth(86)
            holder.addWidget(line)
        self.address_box = QWidget()
        self.address_box.setLayout(holder)
        holder.setContentsMargins(0, 0, 0, 0)
        return card(row(label("Measured by", "heading"), None, self.mode), self.address_box, self.stand_in)

    def _show_mode(self) -> None:
        mode = MODES[self.mode.currentText()]
        self.address_box.setVisible(mode != "simulated")
        d, quantity = self.session.design, self.session.design.brief.quantity
        if mode == "simulated":
            planted = (
                len(demo_faults(self.session.wired.with_design(d.fitted(d.build.variant)), quantity))
                if self.plan
                else 0
            )
            self.stand_in.setText(
                "Simulated boards are measured by stand-in instruments over the same protocols. Results are marked "
                f"simulated and never mix with those of real boards; {planted} of the {quantity} have a planted "
                "fault."
            )
        elif mode == "instruments":
            self.stand_in.setText(
                "The fixture puts the probes on, scans the bus and switches outputs: see docs/fixture.md."
            )
        else:
            self.stand_in.setText(
                "You are told where the probes go and type what you read. With the address of a meter or a supply, "
                "it is read for you."
            )
        self.stand_in.setText(self.stand_in.text() + self._trust_words(mode))
        self.run_button.setText(RUN_WORDS[mode])

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

            wired, variant = self.session.wired, d.build.variant
            self.session.jobs.start("Planning", lambda r: make_plan(wired, variant, r), done, failed, visible=False)
        self._show()

    @property
    def wanted(self) -> Wanted:
        """What a board must hold and be measured by to stand as passed."""
        if self._wanted_of != (self.session.design, self.plan):
            self._wanted_of = (self.session.design, self.plan)
            self._wanted = wanted_of(self.session.design, self.session.path, self.plan.checksum if self.plan else "")
        return self._wanted

    def _show(self) -> None:
        boards = self._boards()
        wanted = self.wanted
        rows = []
        for serial in batch_of(self.session.design).serials(boards.values()):
            standing = boards[serial].standing(wanted) if serial in boards else Standing("open", "not measured yet")
            rows.append([serial, standing.words, standing.why])
        for r in fill(self.batch, rows):
            cells = rows[r]
            self._tint(self.batch, r, 1, cells[1].partition(",")[0])
            cell(self.batch, r, 2).setToolTip(tip(cells[2]))
        passed = sum(c[1].startswith("pass") for c in rows)
        measured = sum(c[1].startswith(("pass", "fail")) for c in rows)
        self.yield_label.setText(f"{passed} of {measured}" if measured else "0")
        self.yield_words.setText("passed, simulated" if any("simulated" in c[1] for c in rows) else "passed")
        self._show_plan(boards)
        self.run_button.setEnabled(self.plan is not None and not self._measuring)
        self._show_mode()

    def _boards(self) -> dict[str, BoardRecord]:
        return {b.serial: b for b in self.session.boards(self.session.design.revision)}

    def _tint(self, widget: Any, r: int, c: int, verdict: str) -> None:
        t = theme.current()
        color = {"pass": t.lime, "fail": t.stop, "ok": t.lime, "out": t.stop}.get(verdict)
        if color:
            cell(widget, r, c).setForeground(QColor(color))

    def _show_plan(self, boards: dict[str, BoardRecord]) -> None:
        if self.plan is None:
            return
        distrust = boards[self.shown].distrust if self.shown in boards else ""
        event = boards[self.shown].last("measured") if self.shown in boards and not distrust else None
        told = event.measurement if event and event.measurement.plan == self.plan.checksum else MeasureTold()
        readings = {r.step: r for r in told.readings}
        rows = []
        for s in self.plan.steps:
            reading = readings.get(s.number)
            text = reading.text if reading else "—"
            verdict = ""
            if reading:
                found = reading.measured and reading.value is not None
                verdict = "ok" if reading.passed else "out" if found else "—"
            where = f" at {s.probe}" if s.probe and s.kind in ("voltage", "resistance") else ""
            rows.append([str(s.number), s.title + where, limits(s), text, verdict])
        for r in fill(self.steps, rows, (0,)):
            cells = rows[r]
            self._tint(self.steps, r, 4, cells[4])
            cell(self.steps, r, 3).setToolTip(tip(cells[3]))
            cell(self.steps, r, 1).setToolTip(tip(self.plan.steps[r].why))
        mark = ", simulated" if event and event.simulated else ""
        self.title.setText(f"Board {self.shown}{mark}" if event else "Test plan")
        words = (
            f"{len(self.plan.steps)} steps from the design and its tolerances"
            + (f", variant {self.plan.variant}" if self.plan.variant else "")
            + f". The supply is limited to {say(self.plan.current_limit_a, 'A')} at rest; "
            "a short stops the test before power."
        )
        if distrust:
            words += f" The readings of {self.shown} are not shown: {distrust}."
        if event and event.measurement.zero and not event.simulated:
            words += f" 0 V was proved so: {event.measurement.zero}"
        if event and event.measurement.meter and not event.simulated:
            words += f" {event.measurement.meter}"
        if event and event.measurement.plan != self.plan.checksum:
            words += f" {self.shown} was measured by another plan: its readings are not shown under this one."
        self.note.setText(words)
        self.note.setToolTip(tip("\n".join(self.plan.setup)))

    def show_board(self, serial: str) -> None:
        """Show the readings of one board."""
        self.shown = serial
        self._show()

    def measure(self) -> None:
        """Measure the batch, or the board named, as a job."""
        wired, plan, session = self.session.wired, self.plan, self.session
        design = wired.design
        if plan is None or self._measuring:
            return
        mode = MODES[self.mode.currentText()]
        batch, boards = batch_of(design), self._boards()
        meter, supply, fixture = (e.text().strip() for e in self.addresses)
        try:
            typed = self.serial.text().strip()
            wanted = [chosen_serial(typed, batch, boards.values())] if typed else batch.serials(boards.values())
            records = session.records
            serials = book(records, batch, wanted)
            if mode == "simulated":
                refuse_simulated_on_real(records, serials)
        except ZestyError as error:
            session.failed.emit(error)
            return
        self._measuring = True
        hands = WindowHands() if mode == "hand" else None
        if hands:
            self.hands.serve(hands)
            self._show_side(0)

        def work(report: Report) -> list[BoardResult]:
            if mode == "simulated":
                return measure_simulated(wired, serials, records, report, plan=plan)
            if hands:
                hands.stopped = lambda: not report(0.0, "waiting for you")
            with Bench(meter, supply, fixture, hands) as bench:
                self._seen = [n for n in bench.names if n]
                known = trusted_of(*bench.names)
                return measure_boards(plan, bench, serials, records, report, design, "real", bench.instruments, known)

        def failed(error: Any) -> None:
            self._ended()
            if error is not None:
                session.failed.emit(error)

        session.jobs.start("Measuring", work, self._measured, failed)

    def _ended(self) -> None:
        self._measuring = False
        self.hands.end()
        self.session.records_changed.emit()

    def _measured(self, results: list[BoardResult]) -> None:
        bad = [r for r in results if not r.passed]
        self.shown = (bad or results)[0].serial if results else ""
        self._ended()
        live = next((r.live for r in results if r.live), "")
        if live:
            self.session.failed.emit(DeviceError(live, "supply", "Do not touch the board before"))
        else:
            self.session.message.emit(f"{len(results) - len(bad)} of {len(results)} boards passed")

    def show_trust(self) -> None:
        """Show who measures and with what."""
        self.trust.pull(tuple(self._seen))
        self._show_side(2)

    def _kept(self) -> None:
        self.session.message.emit("Kept: records say it from now on")
        self._show_mode()

    def _trust_words(self, mode: str) -> str:
        """Return what is known of the instruments that are to measure, and what is not."""
        if mode == "simulated":
            return ""
        from zesty_trace.journey.trusting import must_ask, trusted_of

        today, meter = self.session.today, self._seen[0] if self._seen else ""
        ask = " When was it calibrated? See “Who and with what”." if must_ask(meter, today) else ""
        return f" {trusted_of(meter).words(today)}{ask}"

    def show_coverage(self) -> None:
        """Show which single faults the plan would notice, worked out as a job when it is not known yet."""
        self._show_side(1)
        wired, plan = self.session.wired, self.plan
        design = wired.design
        if plan is None or self._covered_of is design:
            return
        self._covered_of = design
        self.coverage_text.setText(
            "Every single fault is planted in two simulated boards, and the plan is run on them …"
        )
        fill(self.coverage, [])

        def work(report: Report) -> Coverage:
            from zesty_trace.core.bench.coverage import cover

            return cover(wired, design.build.variant, report, plan)

        def failed(error: Any) -> None:
            self._covered_of = None
            self.coverage_text.setText(str(error) if error else "Stopped. Press “What it notices” to start again.")

        self.session.jobs.start("Trying faults", work, lambda c: self._covered(design, c), failed)

    def _covered(self, design: object, found: Coverage) -> None:
        if design is not self.session.design:
            self._covered_of = None
            self.coverage_text.setText("The design has changed meanwhile. Press “What it notices” to start again.")
            return
        sorts = ", ".join(f"{sort} {n} of {m}" for sort, (n, m) in found.by_sort().items())
        by = found.by_method()
        self.coverage_text.setText(
            f"{sum(t.noticed for t in found.trials)} of {len(found.trials)} single faults would be noticed "
            f"({found.share:.0%}): {sorts}. By meter and supply alone it is {found.electric_share:.0%}: "
            f"{by['own program']} more only with the test program that you write for the board, {by['by eye']} more "
            "by counting lights. Capacitors carry no direct current, so most of what can be wrong with "
            "them is not seen." + (f" No probe reaches {', '.join(found.unreached)}." if found.unreached else "")
        )
        fill(
            self.coverage,
            [[part, "; ".join(_short(part, f) for f in faults)] for part, faults in found.unnoticed().items()],
        )
        for r in range(self.coverage.rowCount()):
            cell(self.coverage, r, 1).setToolTip(tip(cell(self.coverage, r, 1).text()))

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [Action("Measure the batch", "Ctrl+B", self.measure)]
