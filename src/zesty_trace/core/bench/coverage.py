"""What the test plan would notice.

Every single fault of a campaign planted in simulated boards, and the plan run on them.

The faults: a part missing, a pin not soldered, two pads closer than 0.6 mm bridged, a part the wrong way round, a
resistor or capacitor of ten times or a tenth of its value, each supply joined to ground and to each other supply.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from dataclasses import replace as replace_plan
from itertools import combinations

from msgspec.structs import replace

from zesty_trace.core.bench.direct import DirectBench
from zesty_trace.core.bench.plan import BenchPlan, BenchStep, make_plan
from zesty_trace.core.bench.run import run_plan
from zesty_trace.core.bench.simulated import SimulatedBoard
from zesty_trace.core.board.copper import board_pads, pad_shape, pattern_of
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin, Placement
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled

BRIDGE_MM = 0.6
BOARDS = ("cover-1", "cover-2")
KINDS = ("missing", "open", "bridged", "reversed", "wrong value", "supply")
# Meter and supply; counting lights that shine; only once the user has written the board's test program.
METHODS = ("electric", "by eye", "own program")
_TURNS = ("soic", "quad", "dip")
FACTORS = (10.0, 0.1)


@dataclass(frozen=True)
class Trial:
    """One fault, what it is called in the table, the part it is counted under, and by which step it was noticed."""

    sort: str
    fault: Fault
    part: str
    noticed_by: str = ""
    method: str = ""  # one of METHODS: the first that notices it

    @property
    def noticed(self) -> bool:
        """Whether every simulated board with this fault failed."""
        return bool(self.noticed_by)


@dataclass(frozen=True)
class Coverage:
    """The campaign's result."""

    variant: str
    trials: tuple[Trial, ...]
    steps: int
    unreached: tuple[str, ...] = ()  # nets that no probe reaches

    @property
    def share(self) -> float:
        """The share of faults that the plan notices, 0 to 1; 0 without faults."""
        return sum(t.noticed for t in self.trials) / len(self.trials) if self.trials else 0.0

    def by_sort(self) -> dict[str, tuple[int, int]]:
        """Return sort of fault -> (noticed, tried)."""
        return {
            sort: (sum(t.noticed for t in of), len(of))
            for sort in KINDS
            if (of := [t for t in self.trials if t.sort == sort])
        }

    def by_method(self, sort: str = "") -> dict[str, int]:
        """Return method -> faults that it notices and none before it does; of one sort, or of all.

        What is seen by eye needs the board's own program as well, to light the lights.
        """
        of = [t for t in self.trials if t.noticed and sort in ("", t.sort)]
        return {method: sum(t.method == method for t in of) for method in METHODS}

    @property
    def electric_share(self) -> float:
        """The share of faults that meter and supply notice without a program of the user's, 0 to 1."""
        return self.by_method()["electric"] / len(self.trials) if self.trials else 0.0

    def unnoticed(self) -> dict[str, list[Fault]]:
        """Return part -> the faults that would not be noticed, most of them first."""
        found: dict[str, list[Fault]] = {}
        for trial in self.trials:
            if not trial.noticed:
                found.setdefault(trial.part, []).append(trial.fault)
        return dict(sorted(found.items(), key=lambda i: (-len(i[1]), i[0])))


def campaign(wired: Wired) -> list[Trial]:
    """Return every single fault to try on boards of `design` (fitted to its variant)."""
    return [
        *_missing(wired),
        *_open(wired),
        *_bridged(wired),
        *_reversed(wired),
        *_wrong(wired),
        *_supplies(wired),
    ]


def cover(
    wired: Wired,
    variant: str = "",
    report: Report = quiet,
    plan: BenchPlan | None = None,
    trials: Iterable[Trial] | None = None,
) -> Coverage:
    """Return what the plan notices of each fault, on two boards with spread values each. Cancelled by `report`.

    A fault counts as noticed only if both boards fail or cannot be measured to the end.
    """
    design = wired.design
    fitted = wired.with_design(design.fitted(variant))
    plan = plan or make_plan(wired, variant)
    parts = {method: _part_of(plan, method) for method in METHODS}
    chosen = list(campaign(fitted) if trials is None else trials)
    done = []
    for k, trial in enumerate(chosen):
        if not report(k / max(1, len(chosen)), f"fault {k + 1} of {len(chosen)}: {trial.fault}"):
            raise Cancelled
        done.append(_tried(trial, parts, fitted))
    return Coverage(variant, tuple(done), len(plan.steps), plan.unreached)


def say_methods(counts: dict[str, int]) -> str:
    """Return in words how many faults each method notices first."""
    return ", ".join(f"{n} {method}" for method, n in counts.items() if n) or "none"


def method_of(step: BenchStep) -> str:
    """Return by what a step notices something: electric, by eye, or only with a program that the user must write."""
    if step.kind == "lights":
        return "by eye"
    program = step.kind in ("bus", "controller", "device") or step.drive or step.lit
    return "own program" if program else "electric"


def _part_of(plan: BenchPlan, method: str) -> BenchPlan:
    """Return the steps of a plan by one method, with the power on that the others need."""
    mine = [s for s in plan.steps if method_of(s) == method]
    if method != "electric" and mine:
        mine = [*(s for s in plan.steps if s.kind == "power on" and s.feed == mine[0].feed), *mine]
    return replace_plan(plan, steps=tuple(mine))


def _tried(trial: Trial, parts: dict[str, BenchPlan], wired: Wired) -> Trial:
    if _without_current(trial.fault, wired):
        return trial
    first = ""
    methods: list[str] = []
    for serial in BOARDS:
        noticed, method = _noticed(trial, parts, wired, serial)
        if not method:
            return trial
        first, methods = first or noticed, [*methods, method]
    return Trial(trial.sort, trial.fault, trial.part, first, max(methods, key=METHODS.index))


def _noticed(trial: Trial, parts: dict[str, BenchPlan], wired: Wired, serial: str) -> tuple[str, str]:
    """Return the step and the method that notice a fault on one board; "" if none does."""
    for method, part in parts.items():
        if not part.steps:
            continue
        board = SimulatedBoard(wired, serial, trial.fault)
        result = run_plan(part, DirectBench(board, part), serial, quiet, until_failure=True)
        if result.verdict == "fail":
            bad = result.main_failure
            return bad.step.title if bad else "", method
    return "", ""


def _without_current(fault: Fault, wired: Wired) -> bool:
    """Whether a fault is one of a capacitor, which carries no direct current: no step of the plan can see it."""
    design = wired.design
    part = fault.target in design.parts and fault.kind != "short"
    return part and wired.kind(fault.target).is_a(m.Capacitor)


def _built(wired: Wired) -> list[str]:
    design = wired.design
    return [r for r in design.parts if wired.kind(r).assembled]


def _missing(wired: Wired) -> Iterator[Trial]:
    for ref in _built(wired):
        yield Trial("missing", Fault("missing", ref), ref)


def _open(wired: Wired) -> Iterator[Trial]:
    net_of = wired.net_of
    for ref in _built(wired):
        for spec in wired.kind(ref).pins:
            net = net_of.get(Pin(ref, spec.number))
            if net is not None:
                yield Trial("open", Fault("open", ref, net, pin=spec.number), ref)


def _bridged(wired: Wired) -> Iterator[Trial]:
    """Yield pairs of nets whose pads are close; parts that are not placed yet are looked at one by one."""
    design = wired.design
    from shapely import STRtree

    net_of = wired.net_of
    placed = [r for r in _built(wired) if r in design.board.placements]
    groups = [board_pads(wired, placed)]
    for ref in _built(wired):
        if ref not in placed and pattern_of(wired, ref).pads:
            spot = {ref: Placement(x_nm=0, y_nm=0)}
            lone = replace(design, board=replace(design.board, placements=spot))
            groups.append(board_pads(wired.with_design(lone), [ref]))
    seen: set[tuple[str, str]] = set()
    for pads in groups:
        joined = [p for p in pads if net_of.get(p.pin)]
        shapes = [pad_shape(p) for p in joined]
        if len(shapes) < 2:
            continue
        tree = STRtree(shapes)
        first, second = tree.query(shapes, predicate="dwithin", distance=BRIDGE_MM)
        for i, j in sorted(zip(first.tolist(), second.tolist(), strict=True)):
            a, b = joined[i], joined[j]
            pair = (min(a.net, b.net), max(a.net, b.net))
            if i < j and a.net != b.net and pair not in seen and set(a.layers) & set(b.layers):
                seen.add(pair)
                yield Trial("bridged", Fault("short", *pair), a.pin.ref)


def _reversed(wired: Wired) -> Iterator[Trial]:
    for ref in _built(wired):
        kind = wired.kind(ref)
        package = wired.package(ref)
        turns = len(kind.pins) % 2 == 0 and len(kind.pins) >= 4 and package.family in _TURNS
        if (kind.polarity and len(kind.pins) in (2, 4)) or (turns and not kind.connector):
            yield Trial("reversed", Fault("reversed", ref), ref)


def _wrong(wired: Wired) -> Iterator[Trial]:
    for ref in _built(wired):
        kind = wired.kind(ref)
        if kind.is_a(m.Resistor, m.Capacitor) and kind.unit and not kind.connector:
            for factor in FACTORS:
                yield Trial("wrong value", Fault("wrong value", ref, factor=factor), ref)


def _supplies(wired: Wired) -> Iterator[Trial]:
    ground = wired.ground
    rails = [n for n in wired.rails if n != ground]
    for a, b in [*((r, ground) for r in rails), *combinations(rails, 2)]:
        yield Trial("supply", Fault("short", a, b), a)
