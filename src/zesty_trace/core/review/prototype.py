"""What was measured on the breadboard against what the model says: where they differ, one of them is wrong."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.circuit.analysis import Analysis, Operating, analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Measured, Pin
from zesty_trace.core.findings import Finding, Severity, of_net, of_part, rule
from zesty_trace.core.quantities import say
from zesty_trace.errors import InputError, SolveError

PROTOTYPE = rule(
    "prototype",
    Severity.FIX,
    "Every later number comes out of this model: limits, heat, run time.",
    "reading against the solved circuit",
    limits="the tolerance of the reading",
    station="brief",
)


@dataclass(frozen=True)
class Comparison:
    """One reading beside its prediction; `predicted` is None with the reason in `problem` where there is none."""

    measured: Measured
    unit: str
    predicted: float | None
    problem: str = ""

    @property
    def off_pct(self) -> float:
        """How far the reading is from the prediction, in percent of the prediction."""
        if not self.predicted:
            return 0.0 if self.measured.value == 0 else 100.0
        return 100.0 * (self.measured.value - self.predicted) / abs(self.predicted)

    @property
    def agrees(self) -> bool:
        """Whether the two agree within the reading's tolerance."""
        return self.predicted is not None and abs(self.off_pct) <= self.measured.tolerance_pct


def predict(wired: Wired, measured: Measured) -> float:
    """Return what the model says for a reading, V or A.

    A voltage is asked of a net; a current of a pin (into the part) or of a supply (out of it). InputError if that is
    none, SolveError as solving.
    """
    design = wired.design
    analysis = analyse(wired)
    operating = _state(analysis, measured.state)
    if measured.net:
        if measured.net not in design.nets:
            raise InputError(f"There is no net {measured.net}", measured.net, suggest(measured.net, design.nets))
        return operating.net_voltages().get(measured.net, 0.0)
    ref, name = measured.ref, measured.pin
    if ref not in design.parts:
        raise InputError(f"There is no part {ref}", measured.where, suggest(ref, design.parts))
    kind = wired.kind(ref)
    amps = operating.solution.pin_currents()
    if name:
        spec = kind.pin(name)
        if spec is None:
            raise InputError(f"{ref} has no pin “{name}”", measured.where, suggest(name, [p.name for p in kind.pins]))
        return abs(amps.get(Pin(ref, spec.number), 0.0))
    supply = next((s.number for s in kind.pins if s.role == "supply_out"), None)
    if supply is None and (feed := kind.supply_pins()):
        supply = feed[0].number
    return abs(amps.get(Pin(ref, supply or kind.pins[0].number), 0.0))


def _state(analysis: Analysis, name: str) -> Operating:
    if not name:
        return analysis.worst()
    for state in analysis.states:
        if state.name == name:
            return analysis.operating(state)
    raise InputError(f"There is no state “{name}”", name, suggest(name, [s.name for s in analysis.states]))


def compare(wired: Wired) -> list[Comparison]:
    """Return every reading beside its prediction."""
    design = wired.design
    found = []
    for item in design.measured:
        unit = "V" if item.what == "voltage" else "A"
        try:
            found.append(Comparison(item, unit, predict(wired, item)))
        except (InputError, SolveError) as error:
            found.append(Comparison(item, unit, None, str(error)))
    return found


def prototype_findings(wired: Wired) -> list[Finding]:
    """Return one finding for each reading that the model does not agree with, or cannot place."""
    return [_finding(c) for c in compare(wired) if not c.agrees]


def _finding(c: Comparison) -> Finding:
    m = c.measured
    state = f" ({m.state})" if m.state else ""
    which = " ".join(w for w in (m.pin, m.state) if w)
    subject = of_net(m.net, which) if m.net else of_part(m.ref, which)
    if c.predicted is None:
        return PROTOTYPE.found(
            subject,
            f"The reading at {m.where} cannot be placed",
            c.problem,
            why="A reading is compared only with something that the design has.",
            source="the brief",
            refs=(),
            nets=(),
        )
    verb = "drew" if m.what == "current" else "had"
    return PROTOTYPE.found(
        subject,
        f"{m.where}: the prototype {verb} {say(m.value, c.unit)}, the model says {say(c.predicted, c.unit)}{state}",
        f"{c.off_pct:+.0f} %, allowed {m.tolerance_pct:g} %. Measure again; if the reading stands, a part is missing "
        "from the list, has another value, or draws more than its kind says.",
        refs=(),
        nets=(),
        value=m.value,
        limit=c.predicted,
        unit=c.unit,
    )
