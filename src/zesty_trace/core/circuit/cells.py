"""How long cells last on the timeline, and how chargers fill them beside what the board draws."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.build import charge_current
from zesty_trace.core.circuit.energy import play, proposed_timeline
from zesty_trace.core.circuit.regulators import wanted_v
from zesty_trace.core.circuit.states import operating_states, spec_of_state
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Moment

OUT_OF_HAND = 0.03  # a regulator's output this far down counts as lost
CV_FACTOR = 1.3  # charging ends slowly at constant voltage: common practice
SELF_DISCHARGE_PER_MONTH = 0.03  # lithium cells, common practice
LEAST_LEFT = 0.02  # of a charger's current: a cell that gets less is not filled
MONTH_S = 30 * 86400.0
LEVELS_PCT = (100.0, 80.0, 60.0, 40.0, 20.0, 10.0, 0.0)
_MAH = re.compile(r"(\d+(?:[.,]\d+)?)\s*mAh", re.I)


@dataclass(frozen=True)
class RunTime:
    """How long a cell lasts on the timeline."""

    ref: str
    capacity_mah: float
    average_a: float
    floor_pct: float
    held_by: str
    hours: float


def capacity_mah(wired: Wired, ref: str) -> float:
    """Return the capacity of a cell: stated in its value or notes as `1200 mAh`, else the kind's."""
    part = wired.part(ref)
    said = _MAH.search(f"{part.value} {part.notes}")
    if said:
        return float(said.group(1).replace(",", "."))
    return stated(wired.kind(ref).facts.capacity_mah, 1000.0)


def run_times(wired: Wired) -> list[RunTime]:
    """Return the run time of each cell on the timeline, supply unplugged.

    hours = capacity x the integral over the charge, from full down to the floor, of 1 / (average current at that
    charge + self-discharge). The floor is where a supply loses its output, or a chip its least supply, in some state of
    the timeline. SolveError as solving.
    """
    cells = [r for r in wired.design.parts if wired.kind(r).ocv]
    if not cells:
        return []
    timeline = wired.design.timeline or proposed_timeline(wired)
    if not timeline:
        return []
    floor, held_by = _floor_pct(wired, timeline)
    levels = [pct for pct in LEVELS_PCT if pct > floor] + [floor]
    average = [play(_on_cells(wired, timeline, pct)).average_a / len(cells) for pct in levels]
    found = []
    for ref in cells:
        mah = capacity_mah(wired, ref)
        lost = SELF_DISCHARGE_PER_MONTH * mah / 1000 * 3600 / MONTH_S
        slowness = [1.0 / (amp + lost) for amp in average]
        hours = mah / 1000 * float(-np.trapezoid(slowness, levels)) / 100
        used = mah / 1000 * (levels[0] - floor) / 100
        found.append(RunTime(ref, mah, used / hours - lost if hours else average[0], floor, held_by, hours))
    return found


def _on_cells(wired: Wired, timeline: tuple[Moment, ...], pct: float) -> Wired:
    """Return the design with nothing plugged in and its cells at a charge, in the states that the timeline names."""
    named = {t.state for t in timeline}
    states = tuple(
        replace(spec_of_state(s), supply_v=0.0, cell_pct=pct) for s in operating_states(wired) if s.name in named
    )
    return wired.with_design(replace(wired.design, states=states, timeline=timeline))


def _floor_pct(wired: Wired, timeline: tuple[Moment, ...]) -> tuple[float, str]:
    """Return the charge below which something is lost that works on a full cell, and what; 0 % if all hold."""
    full = {ref for ref, _ in _lost(_on_cells(wired, timeline, 100.0))}
    above = 100.0
    for pct in (75.0, *map(float, range(50, 0, -5)), 2.0, 0.0):
        gone = [(ref, volt) for ref, volt in _lost(_on_cells(wired, timeline, pct)) if ref not in full]
        if gone:
            return _between(wired, timeline, pct, above, full), gone[0][0]
        above = pct
    return 0.0, ""


def _between(wired: Wired, timeline: tuple[Moment, ...], low: float, high: float, full: set[str]) -> float:
    """Return where between two charges the first thing is lost, to 1 %."""
    while high - low > 1.0:
        middle = (low + high) / 2
        if any(ref not in full for ref, _ in _lost(_on_cells(wired, timeline, middle))):
            low = middle
        else:
            high = middle
    return high


def _lost(wired: Wired) -> list[tuple[str, float]]:
    """Return (part, V) of supplies that miss their output and of chips below their least supply, in any state."""
    found = []
    for operating in analyse(wired).all():
        volts = operating.net_voltages()
        for ref in wired.design.parts:
            kind = wired.kind(ref)
            if kind.is_a(m.Supply) and (out := wired.pin_of_role(ref, "supply_out")):
                volt, wanted = volts.get(wired.net_of.get(out, ""), 0.0), (wanted_v(wired, ref) or 0.0)
                if volt < wanted * (1 - OUT_OF_HAND):
                    found.append((ref, volt))
            elif kind.facts.supply_min_v and (net := wired.supply_of(ref)) and ref not in operating.state.asleep:
                volt = volts.get(net, 0.0)
                if volt < kind.facts.supply_min_v:
                    found.append((ref, volt))
    return found


@dataclass(frozen=True)
class Charger:
    """A charger that reaches a cell, the current that it is set to (A), and the rate that this is for the cell."""

    ref: str
    amp: float
    cell: str
    capacity_mah: float

    @property
    def rate_c(self) -> float:
        """The current by the capacity, 1/h."""
        return self.amp / (self.capacity_mah / 1000)


@dataclass(frozen=True)
class Charging:
    """How a charger fills its cell, `board_a` being what the board draws of its current meanwhile.

    `hours` None: the board draws all of it, and the cell is never full while the board runs.
    """

    charger: Charger
    board_a: float
    hours: float | None


def chargers(wired: Wired) -> list[Charger]:
    """Return the chargers whose current is set and that reach a cell."""
    found = []
    for ref in wired.of_model(m.Charger):
        amp = charge_current(wired, ref)
        cell = next((p.ref for p in wired.on(wired.net_at(ref, "BAT")) if wired.kind(p.ref).ocv), None)
        if amp and cell:
            found.append(Charger(ref, amp, cell, capacity_mah(wired, cell)))
    return found


def charging(wired: Wired) -> list[Charging]:
    """Return how long each charger takes.

    hours = capacity / (charger's current - what the board draws from the cell's side on the timeline) x 1.3: the end
    goes slowly at constant voltage (common practice). SolveError as solving.
    """
    found = []
    for c in chargers(wired):
        board = _drawn_beside(wired, c.cell, c.amp)
        left = c.amp - board
        hours = c.capacity_mah / 1000 / left * CV_FACTOR if left > LEAST_LEFT * c.amp else None
        found.append(Charging(c, board, hours))
    return found


def _drawn_beside(wired: Wired, cell: str, amp: float) -> float:
    """Return what the board draws of a charger's current while it charges, averaged over the timeline, A."""
    design = _plugged_in(wired)
    analysis = analyse(wired.with_design(design))
    by_name = {s.name: s for s in analysis.states}
    plus = wired.pin_of_role(cell, "supply_out")
    charge = seconds = 0.0
    for moment in design.timeline:
        if moment.state in by_name and plus is not None:
            into = analysis.operating(by_name[moment.state]).solution.pin_currents().get(plus, 0.0)
            charge += max(0.0, amp - into) * moment.seconds
            seconds += moment.seconds
    return charge / seconds if seconds else 0.0


def _plugged_in(wired: Wired) -> Design:
    """Return the design with its timeline, every inlet plugged in."""
    timeline = wired.design.timeline or proposed_timeline(wired)
    named = {t.state for t in timeline}
    states = tuple(
        replace(spec_of_state(s), supply_v=None, unplugged=()) for s in operating_states(wired) if s.name in named
    )
    return replace(wired.design, states=states, timeline=timeline)
