"""Running a plan on one board through whatever instruments are there, or a person's hands."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Protocol

from zesty_trace.core.bench.accuracy import NOT_KNOWN, Trusted
from zesty_trace.core.bench.plan import BenchPlan, BenchStep, Inlet
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say
from zesty_trace.errors import Cancelled, DeviceError

OFF_V = 0.3  # under this a board counts as discharged, common practice


class Instruments(Protocol):
    """What a bench needs to be able to do. Each raises DeviceError when it cannot be done."""

    def select_board(self, serial: str) -> None:
        """Say which board is in the fixture; ask for it if a person puts it there."""

    def prepare(self, words: tuple[str, ...]) -> None:
        """Have the board set up as these sentences say. DeviceError if nobody confirms it."""

    def resistance(self, step: BenchStep, a: str, b: str) -> float:
        """Ohms between two nets; infinite beyond the range."""

    def voltage(self, step: BenchStep, a: str, b: str) -> float:
        """Volts between two nets."""

    def power_on(self, step: BenchStep) -> None:
        """Switch the supply on at the step's place, voltage and current limit."""

    def supply_reading(self) -> tuple[float, float]:
        """Volts and amperes that the supply gives now."""

    def power_off(self, inlets: tuple[Inlet, ...] = (), ground: str = "") -> str:
        """Switch the supply off and wait until the board is discharged, at the supply and at its inlets.

        Return how that was proved, and what is not known. DeviceError if it cannot be told, or is not so.
        """

    def switch(self, step: BenchStep) -> None:
        """Have the controller switch the step's outputs on, all others off, its lights lit or dark."""

    def bus_answers(self) -> list[int]:
        """Addresses that answer on the bus."""

    def lights(self) -> int:
        """How many lights shine."""

    def answers(self, ref: str) -> bool:
        """Whether a controller, or a device behind one, answers."""


@dataclass(frozen=True)
class Reading:
    """What one step found. `value` is None for a step that was not measured."""

    step: BenchStep
    value: float | None
    passed: bool
    text: str
    off: float = 0.0  # how far the reading may be off, in its unit; 0 where that is not known
    near: bool = False  # within the limits, but nearer to one than the reading may be off

    def as_dict(self) -> dict[str, Any]:
        """Return plain values for the record and for `--json`."""
        s = self.step
        value = self.value if self.value is None or math.isfinite(self.value) else None
        return {
            "step": s.number,
            "kind": s.kind,
            "title": s.title,
            "value": value,
            "low": s.low,
            "high": s.high,
            "expected": s.expected,
            "unit": s.unit,
            "passed": self.passed,
            "text": self.text,
            "measured": self.value is not None,
            "off": self.off,
            "near": self.near,
        }


@dataclass(frozen=True)
class BoardResult:
    """The verdict on one board. `live` warns that the supply may still be on; `zero` says how 0 V was proved."""

    serial: str
    readings: tuple[Reading, ...]
    live: str = ""
    zero: str = ""

    @property
    def passed(self) -> bool:
        """Whether every step was measured and passed."""
        return bool(self.readings) and all(r.passed for r in self.readings)

    @property
    def verdict(self) -> str:
        """pass, fail for a measured step out of its limits, or open where steps were not measured or prove nothing."""
        if self.passed:
            return "pass"
        return "fail" if self._failed else "open"

    @property
    def _failed(self) -> list[Reading]:
        return [r for r in self.readings if not r.passed and r.value is not None and not r.near]

    @property
    def main_failure(self) -> Reading | None:
        """Return the failure to look at first.

        The lowest supply, else what fails with power on, else the first failed.
        """
        failed = self._failed
        low = [r for r in failed if r.step.kind == "resistance" and _ends(r)]
        if low:
            return min(low, key=lambda r: r.value or 0.0)
        return next((r for r in failed if r.step.powered), next(iter(failed), None))

    def summary(self) -> str:
        """Return one line for the record."""
        bad = self.main_failure
        if bad is not None:
            words = f"{bad.step.title}: {bad.text}"
        elif self.passed:
            words = f"{len(self.readings)} steps within limits"
        else:
            left = [r for r in self.readings if not r.passed and not r.near]
            near = [r for r in self.readings if r.near]
            said = []
            if left:
                said.append(f"{len(left)} of {len(self.readings)} steps not measured, first {_first(left)}")
            if near:
                said.append(f"{len(near)} of {len(self.readings)} steps prove nothing, first {_first(near)}")
            words = "; ".join(said) or "nothing measured"
        return f"{self.live} {words}".strip()


def _first(readings: list[Reading]) -> str:
    return f"{readings[0].step.title}: {readings[0].text}"


def run_plan(
    plan: BenchPlan,
    bench: Instruments,
    serial: str,
    report: Report,
    until_failure: bool = False,
    trusted: Trusted = NOT_KNOWN,
) -> BoardResult:
    """Run the plan on one board; the supply is off before it, and on every way out.

    Cancelled if `report` returns False.

    StillLive instead of it, or of whatever else ended the test, if the supply may still be on.

    After a failed supply resistance the other resistances are still measured, but power is never applied. A device
    that does not answer makes its step "not measured", never passed; three such steps in a row end the board.
    `until_failure` leaves out what comes after the first step that fails. A reading nearer to its limit than it may be
    off by what is `trusted` proves nothing: its step is not passed, and not failed either.
    """
    readings: list[Reading] = []
    state = _State(trusted)
    try:
        _run(plan, bench, serial, report, readings, until_failure, state)
    except BaseException as stopped:
        live = _off(bench, plan, state)
        if live:
            raise StillLive(live, serial, "Do not touch the board before") from stopped
        raise
    live = _off(bench, plan, state)
    left = [Reading(s, None, False, "not run: stopped before") for s in plan.steps[len(readings) :]]
    return BoardResult(serial, (*readings, *left), live, _zero(state))


def _zero(state: _State) -> str:
    """Return how 0 V was proved before resistances and after power."""
    before, after = state.zero_before, state.zero_after
    if before == after:
        return f"Before and after: {before}" if before else ""
    return " ".join(f"{when}: {how}" for when, how in (("Before", before), ("After", after)) if how)


class StillLive(DeviceError):
    """The test was stopped, and the supply may still be on."""


def _off(bench: Instruments, plan: BenchPlan, state: _State) -> str:
    """Switch off; return a warning if that failed, or if the person who was to do it has gone with the power on."""
    said = ""
    for _ in range(2):
        try:
            state.zero_after = bench.power_off(plan.inlets if state.feed or not state.zero_before else (), plan.ground)
            return ""
        except DeviceError as error:
            said = error.message
        except (Cancelled, KeyboardInterrupt):
            said = "nobody has confirmed that it is off"
            if not state.feed:
                return ""
    return f"THE SUPPLY MAY STILL BE ON: switch it off by hand ({said})."


def _run(
    plan: BenchPlan,
    bench: Instruments,
    serial: str,
    report: Report,
    readings: list[Reading],
    until_failure: bool,
    state: _State,
) -> None:
    if not report(0.0, f"{serial}: getting ready"):
        raise Cancelled
    steps = list(plan.steps)
    try:
        bench.select_board(serial)
        state.zero_before = bench.power_off(plan.inlets, plan.ground)  # also what another program left on
        bench.prepare(plan.setup)
    except DeviceError as error:
        readings.append(Reading(steps[0], None, False, f"not measured: {error.message}"))
        return
    for step in steps:
        if not report(len(readings) / len(steps), f"{serial}: {step.title}"):
            raise Cancelled
        if state.stopped and (step.powered or state.silent >= 3):
            readings.append(Reading(step, None, False, "not run: stopped before"))
            continue
        reading = _attempt(plan, step, bench, state)
        readings.append(reading)
        if until_failure and not reading.passed and reading.value is not None:
            return
        state.silent = state.silent + 1 if reading.value is None and not step.unclear else 0
        state.stopped = state.stopped or _ends(reading) or state.silent >= 3


def _ends(reading: Reading) -> bool:
    """Whether a reading forbids power: a supply that is low or was not measured; one that is high lacks a part."""
    step = reading.step
    if not step.stops or reading.passed:
        return False
    high = (
        step.kind == "resistance" and reading.value is not None and step.low is not None and reading.value >= step.low
    )
    return not high


@dataclass
class _State:
    trusted: Trusted = NOT_KNOWN
    zero_before: str = ""
    zero_after: str = ""
    stopped: bool = False
    silent: int = 0
    feed: str = ""
    limit_a: float = 0.0
    drive: tuple[tuple[str, ...], bool] = ((), False)


def _attempt(plan: BenchPlan, step: BenchStep, bench: Instruments, state: _State) -> Reading:
    try:
        _bring_about(step, bench, state)
        return _take(plan, step, bench, state.trusted)
    except DeviceError as error:
        return Reading(step, None, False, f"not measured: {error.message}")


def _bring_about(step: BenchStep, bench: Instruments, state: _State) -> None:
    """Have the board in the state that the step needs."""
    if not step.powered:
        return
    if step.kind == "power on" and state.feed and step.feed != state.feed:
        bench.power_off()  # at the supply; the board is measured at the end
        state.drive = ((), False)
    if (step.drive, step.lit) != state.drive and step.kind != "power on":
        if step.limit_a >= state.limit_a:  # the limit is raised before a load is switched on, lowered after it is off
            bench.power_on(step)
            bench.switch(step)
        else:
            bench.switch(step)
            bench.power_on(step)
        state.drive = (step.drive, step.lit)
    state.feed, state.limit_a = step.feed, step.limit_a


def _take(plan: BenchPlan, step: BenchStep, bench: Instruments, trusted: Trusted) -> Reading:
    if step.kind == "resistance":
        return _judge(step, bench.resistance(step, step.net, step.other or plan.ground), trusted)
    if step.kind == "power on":
        bench.power_on(step)
        volt, amp = bench.supply_reading()
        good = 0.95 * step.volt < volt < 1.05 * step.volt and -0.01 <= amp < step.limit_a
        text = f"{say(amp, 'A')} at {say(volt, 'V')}"
        if not good:
            text += ": in current limit" if volt <= 0.95 * step.volt else ": not what was set"
        return Reading(step, amp, good, text)
    if step.kind == "voltage":
        return _judge(step, bench.voltage(step, step.net, plan.ground), trusted)
    if step.kind == "current":
        return _judge(step, bench.supply_reading()[1], trusted)
    if step.kind in ("controller", "device"):
        there = bench.answers(step.ref)
        return Reading(step, float(there), there, "answers" if there else "no answer")
    if step.kind == "lights":
        return _judge(step, float(bench.lights()), trusted)
    return _bus(step, bench.bus_answers())


def _bus(step: BenchStep, found: list[int]) -> Reading:
    missing = [a for a in step.addresses if a not in found]
    extra = [a for a in found if a not in step.addresses]
    words = [f"no answer at 0x{a:02X}" for a in missing] + [f"unexpected answer at 0x{a:02X}" for a in extra]
    if step.unclear and not words:
        names = " and ".join(step.unclear)
        return Reading(step, None, False, f"not measured: {names} cannot be told apart by their addresses")
    return Reading(step, float(len(found)), not words, ", ".join(words) or f"all {len(found)} answer")


def _judge(step: BenchStep, value: float, trusted: Trusted) -> Reading:
    if math.isnan(value) or (math.isinf(value) and step.kind != "resistance"):
        return Reading(step, None, False, "not measured: the reading is no number")
    low = step.low is None or value >= step.low
    high = step.high is None or value <= step.high
    if step.unit == "lights":
        return Reading(step, value, low and high, f"{value:.0f} of {step.expected or 0:.0f}")
    text = "open" if step.kind == "resistance" and value >= 1e9 else say(value, step.unit)
    if not low and step.low is not None:
        text += f", at least {say(step.low, step.unit)}"
    elif not high and step.high is not None:
        text += f", at most {say(step.high, step.unit)}"
    off = trusted.off(value, step.unit) if math.isfinite(value) else 0.0
    near = low and high and (_within(step.low, value, off) or _within(step.high, value, off))
    if near:
        text += f" ± {say(off, step.unit)}, too near to {_limit(step, value, off)} to tell"
    return Reading(step, value, low and high and not near, text, off, near)


def _within(limit: float | None, value: float, off: float) -> bool:
    """Whether a reading is nearer to a limit than it may be off. A limit of 0 is a bound of what can be."""
    return limit is not None and limit != 0 and abs(value - limit) < off


def _limit(step: BenchStep, value: float, off: float) -> str:
    if step.low is not None and _within(step.low, value, off):
        return f"the least, {say(step.low, step.unit)}"
    return f"the most, {say(step.high or 0.0, step.unit)}"
