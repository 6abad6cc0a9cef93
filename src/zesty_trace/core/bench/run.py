"""Running a plan on one board through whatever instruments are there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from zesty_trace.core.bench.plan import BenchPlan, BenchStep
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say
from zesty_trace.errors import Cancelled


class Instruments(Protocol):
    """What a bench needs to be able to do."""

    def select_board(self, serial: str) -> None:
        """Say which board is in the fixture."""

    def resistance(self, a: str, b: str) -> float:
        """Ohms between two nets."""

    def voltage(self, a: str, b: str) -> float:
        """Volts between two nets."""

    def power_on(self, volt: float, limit_a: float) -> None:
        """Switch the supply on."""

    def supply_reading(self) -> tuple[float, float]:
        """Volts and amperes that the supply gives now."""

    def power_off(self) -> None:
        """Switch the supply off."""

    def bus_answers(self) -> list[int]:
        """Addresses that answer on the bus."""


@dataclass(frozen=True)
class Reading:
    """What one step found. `value` is None for a step that was not run."""

    step: BenchStep
    value: float | None
    passed: bool
    text: str

    def as_dict(self) -> dict[str, Any]:
        """Return plain values for the record and for `--json`."""
        s = self.step
        return {
            "step": s.number, "kind": s.kind, "title": s.title, "value": self.value, "low": s.low, "high": s.high,
            "expected": s.expected, "unit": s.unit, "passed": self.passed, "text": self.text,
        }  # fmt: skip


@dataclass(frozen=True)
class BoardResult:
    """The verdict on one board."""

    serial: str
    readings: tuple[Reading, ...]

    @property
    def passed(self) -> bool:
        """Whether every step was run and passed."""
        return all(r.passed for r in self.readings)

    @property
    def main_failure(self) -> Reading | None:
        """Return the failure to look at first: of several low resistances the lowest, else the first failed step."""
        failed = [r for r in self.readings if not r.passed and r.value is not None]
        low = [r for r in failed if r.step.kind == "resistance"]
        return min(low, key=lambda r: r.value or 0.0) if low else next(iter(failed), None)

    def summary(self) -> str:
        """Return one line for the record."""
        bad = self.main_failure
        return f"{len(self.readings)} steps within limits" if bad is None else f"{bad.step.title}: {bad.text}"


def run_plan(plan: BenchPlan, bench: Instruments, serial: str, report: Report) -> BoardResult:
    """Run the plan on one board; the supply is off on every way out. Cancelled if `report` returns False.

    After a failed resistance the other resistances are still measured, but power is never applied.
    """
    bench.select_board(serial)
    readings: list[Reading] = []
    stopped = False
    try:
        for step in plan.steps:
            if not report(len(readings) / len(plan.steps), f"{serial}: {step.title}"):
                raise Cancelled
            if stopped and step.kind != "resistance":
                readings.append(Reading(step, None, False, "not run: stopped before"))
                continue
            reading = _take(plan, step, bench)
            readings.append(reading)
            stopped = stopped or (step.stops and not reading.passed)
    finally:
        bench.power_off()
    return BoardResult(serial, tuple(readings))


def _take(plan: BenchPlan, step: BenchStep, bench: Instruments) -> Reading:
    if step.kind == "resistance":
        return _judge(step, bench.resistance(step.net, plan.ground))
    if step.kind == "power on":
        bench.power_on(plan.supply_v, plan.current_limit_a)
        volt, amp = bench.supply_reading()
        good = volt > 0.95 * plan.supply_v and amp < plan.current_limit_a
        text = f"{say(amp, 'A')} at {say(volt, 'V')}" + ("" if good else ": in current limit, switched off")
        return Reading(step, amp, good, text)
    if step.kind == "voltage":
        return _judge(step, bench.voltage(step.net, plan.ground))
    if step.kind == "current":
        return _judge(step, bench.supply_reading()[1])
    found = bench.bus_answers()
    missing = [a for a in step.addresses if a not in found]
    extra = [a for a in found if a not in step.addresses]
    words = [f"no answer at 0x{a:02X}" for a in missing] + [f"unexpected answer at 0x{a:02X}" for a in extra]
    return Reading(step, float(len(found)), not words, ", ".join(words) or f"all {len(found)} answer")


def _judge(step: BenchStep, value: float) -> Reading:
    low = step.low is None or value >= step.low
    high = step.high is None or value <= step.high
    text = say(value, step.unit)
    if not low and step.low is not None:
        text += f", at least {say(step.low, step.unit)}"
    elif not high and step.high is not None:
        text += f", at most {say(step.high, step.unit)}"
    return Reading(step, value, low and high, text)
