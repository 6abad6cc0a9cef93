"""Rules on what feeds what: cells that are charged and must not be, inlets that are fed from behind, idle cells."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import Analysis, analyse
from zesty_trace.core.circuit.cells import chargers
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, of_part, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved

CHARGED = rule(
    "cell charged",
    Severity.STOP,
    "A cell that is not made for it leaks, swells or burns when current is pushed into it.",
    "IEC 60086-5 for primary cells (from memory); common practice for lithium cells: through a charger alone",
    limits="0.1 mA into a cell by any other way than its charger",
)
BACK_FED = rule(
    "back-fed inlet",
    Severity.FIX,
    "An inlet that is live by itself pushes current into what is plugged in.",
    "common practice; USB Type-C: no voltage on VBUS without a host",
    limits="1 V on an inlet that nothing is plugged into",
)
IDLE_CELL = rule(
    "idle cell",
    Severity.FIX,
    "A cell that feeds nothing is wired past.",
    COMMON,
    limits="what needs a supply works on the cell alone",
)
NO_SUPPLY = rule(
    "no supply",
    Severity.STOP,
    "Where nothing feeds the board, no voltage in it is known and nothing that follows from one is checked.",
    COMMON,
    limits="an inlet, a cell, or a connector with supply and ground on it",
)
PUSHED_A, LIVE_V, TOLERATED = 1e-4, 1.0, 1.15


@solved
def cells_charged(wired: Wired) -> Iterator[Finding]:
    """Yield cells into which current flows by another way than a charger set for it."""
    set_to = {c.cell: c.amp for c in chargers(wired)}
    analysis = analyse(wired)
    for ref in wired.of_model(m.Battery):
        plus = wired.pin_of_role(ref, "supply_out")
        if plus is None:
            continue
        worst = max(
            ((o.solution.pin_currents().get(plus, 0.0), o.state.name) for o in analysis.all()), default=(0.0, "")
        )
        allowed = set_to.get(ref, 0.0) * TOLERATED + PUSHED_A
        if worst[0] > allowed:
            by = f"its charger gives {say(set_to[ref], 'A')}" if ref in set_to else "no charger is on it"
            yield CHARGED.found(
                of_part(ref),
                f"{say(worst[0], 'A')} flows into {ref} ({worst[1]})",
                f"{by[0].upper()}{by[1:]}. A diode or a transistor from the cell to its load keeps current out of it; "
                "look whether one is the wrong way round.",
                nets=(wired.net_of.get(plus, ""),),
                value=worst[0],
                limit=allowed,
                unit="A",
            )


@solved
def back_fed_inlets(wired: Wired) -> Iterator[Finding]:
    """Yield inlets that are live while nothing is plugged into them, fed by a cell or another inlet."""
    for ref in wired.of_model(m.Inlet):
        plus = wired.pin_of_role(ref, "supply_out")
        net = wired.net_of.get(plus, "") if plus else ""
        volt, state = _highest_unplugged(analyse(wired), ref, net)
        if net and volt > LIVE_V:
            yield BACK_FED.found(
                of_part(ref),
                f"{ref} carries {say(volt, 'V')} with nothing plugged in ({state})",
                "What feeds the board then feeds the inlet too. A diode or a transistor in its line keeps it out; look "
                "whether one is the wrong way round.",
                nets=(net,),
                value=volt,
                limit=LIVE_V,
                unit="V",
            )


def _highest_unplugged(analysis: Analysis, ref: str, net: str) -> tuple[float, str]:
    found = (0.0, "")
    for operating in analysis.all():
        state = operating.state
        if state.supply_v == 0.0 or ref in state.unplugged:
            found = max(found, (operating.net_voltages().get(net, 0.0), state.name))
    return found


@solved
def idle_cells(wired: Wired) -> Iterator[Finding]:
    """Yield cells on which nothing of the board runs, though it does on the inlet."""
    analysis = analyse(wired)
    alone = [o for o in analysis.all() if o.state.supply_v == 0.0 and o.state.cell_pct is None and not o.state.asleep]
    cells = [r for r in wired.of_model(m.Battery) if wired.kind(r).ocv and wired.pin_of_role(r, "supply_out")]
    if not alone or not cells or not wired.of_model(m.Inlet):
        return
    ends = [p for r in cells if (p := wired.pin_of_role(r, "supply_out"))]
    if all(-o.solution.pin_currents().get(p, 0.0) < PUSHED_A for o in alone for p in ends):
        yield IDLE_CELL.found(
            Subject(refs=tuple(cells)),
            f"{', '.join(cells)} feeds nothing when nothing else is plugged in",
            "Everything hangs on the inlet alone. Lead the cell to the regulator, through a diode or a power path.",
        )


@solved
def no_supply(wired: Wired) -> Iterator[Finding]:
    """Yield a board with parts that need a supply and nothing that brings one."""
    needy = [r for r in wired.design.parts if wired.kind(r).of_role("supply_in") and not wired.kind(r).connector]
    if needy and not wired.of_model(m.Inlet, m.Battery):
        yield NO_SUPPLY.found(
            Subject(which="board"),
            f"Nothing feeds the board: {', '.join(needy[:4])} get no supply",
            "Add the inlet, or put ground and supply on the connector that brings them. What follows from voltages is "
            "not checked.",
            refs=tuple(needy[:4]),
        )
