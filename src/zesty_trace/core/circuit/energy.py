"""Where the current goes: what each supply gives in each state, and the charge of the timeline."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import Analysis, Operating, analyse
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Moment, Pin

SUPPLIES = ("inlet", "battery", "regulator", "converter")
LIT_A = 0.0002  # below this an LED looks dark


@dataclass(frozen=True)
class SupplyLoad:
    """What one supply gives in one state: volts at its output, amperes out of it, watts, its limit.

    A limit of None is not stated.
    """

    ref: str
    net: str
    state: str
    volt: float
    amp: float
    limit_a: float | None

    @property
    def watt(self) -> float:
        """Power into the net."""
        return self.volt * self.amp


def supply_budget(wired: Wired) -> list[SupplyLoad]:
    """Return the load of every supply in every operating state, supplies in the design's order.

    SolveError as solving.
    """
    design = wired.design
    analysis = analyse(wired)
    return [load for ref in design.parts for load in _loads(analysis, ref)]


def _loads(analysis: Analysis, ref: str) -> list[SupplyLoad]:
    design, kind = analysis.design, analysis.wired.kind(ref)
    out = next((s.number for s in kind.pins if s.role == "supply_out"), None)
    net = design.net_of().get(Pin(ref, out)) if out else None
    if out is None or net is None:
        return []
    limit = inflow(analysis.wired, ref).limit_a if kind.is_a(m.Inlet) else kind.model.limit_a
    found = []
    for operating in analysis.all():
        amp = -operating.solution.pin_currents().get(Pin(ref, out), 0.0)
        volt = operating.net_voltages().get(net, 0.0)
        found.append(SupplyLoad(ref, net, operating.state.name, volt, amp, limit))
    return found


def source_current(operating: Operating, wired: Wired) -> float:
    """Return what inlets and cells give together in a solved state, A. A cell that is charged does not count."""
    design = wired.design
    amps = operating.solution.pin_currents()
    total = 0.0
    for ref in design.parts:
        kind = wired.kind(ref)
        if kind.is_a(m.Inlet, m.Battery):
            total += sum(max(0.0, -amps.get(Pin(ref, s.number), 0.0)) for s in kind.pins if s.role == "supply_out")
    return total


# Timeline -------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Step:
    """One step of the timeline, solved.

    The current from the source (A), its charge (C), the lights that are lit (A).
    """

    state: str
    start_s: float
    seconds: float
    amp: float
    lit: dict[str, float]

    @property
    def charge_c(self) -> float:
        """Charge drawn in this step, coulomb."""
        return self.amp * self.seconds


@dataclass(frozen=True)
class Cycle:
    """The timeline once through."""

    steps: tuple[Step, ...]

    @property
    def seconds(self) -> float:
        """How long one cycle takes."""
        return sum(s.seconds for s in self.steps)

    @property
    def charge_c(self) -> float:
        """Charge of one cycle, coulomb."""
        return sum(s.charge_c for s in self.steps)

    @property
    def average_a(self) -> float:
        """Average current from the source, A."""
        return self.charge_c / self.seconds if self.steps else 0.0

    def at(self, second: float) -> Step:
        """Return the step at a time, the cycle repeating. ValueError without steps."""
        if not self.steps:
            raise ValueError("the timeline is empty")
        left = second % self.seconds
        for step in self.steps:
            if left < step.seconds:
                return step
            left -= step.seconds
        return self.steps[-1]


def proposed_timeline(wired: Wired) -> tuple[Moment, ...]:
    """Return a first timeline.

    Asleep for a minute and awake for a second where there is a cell, else each state 1 s.
    """
    design = wired.design
    states = operating_states(wired)
    ordinary = [s for s in states if not (s.flipped or s.unplugged or s.reset)] or states
    names = [s.name for s in ordinary if s.cell_pct is None]
    if any(s.asleep for s in states) and any(wired.kind(r).ocv for r in design.parts):
        sleep = next(s.name for s in states if s.asleep)
        awake = next((s.name for s in states if not s.asleep and s.cell_pct is None and s.supply_v == 0.0), names[-1])
        return Moment(state=sleep, seconds=60.0), Moment(state=awake, seconds=1.0)
    return tuple(Moment(state=n, seconds=1.0) for n in names)


def play(wired: Wired) -> Cycle:
    """Return the timeline (the design's, else the proposed one) solved step by step.

    Steps of unknown states are left out.
    """
    design = wired.design
    analysis = analyse(wired)
    by_name = {s.name: s for s in analysis.states}
    steps: list[Step] = []
    start = 0.0
    for moment in design.timeline or proposed_timeline(wired):
        if moment.state not in by_name:
            continue
        operating = analysis.operating(by_name[moment.state])
        amp = source_current(operating, wired)
        steps.append(Step(moment.state, start, moment.seconds, amp, lit_leds(operating, wired)))
        start += moment.seconds
    return Cycle(tuple(steps))


def lit_leds(operating: Operating, wired: Wired) -> dict[str, float]:
    """Return LED -> current of those that visibly light in a solved state, A."""
    design = wired.design
    amps = operating.solution.pin_currents()
    found = {}
    for ref in design.parts:
        kind = wired.kind(ref)
        if kind.is_a(m.Led):
            amp = abs(amps.get(Pin(ref, "1"), 0.0))
        elif kind.facts.light and isinstance(kind.model, m.Supplied):
            supply = kind.pin_named(kind.model.supply).number
            amp = amps.get(Pin(ref, supply), 0.0) - 2 * (kind.model.sleep_a or 0.0)
        else:
            continue
        if amp >= LIT_A:
            found[ref] = amp
    return found
