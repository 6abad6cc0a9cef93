"""The electrical review: every rule, run over one design."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, worst_first
from zesty_trace.core.review.bus import bus_address_clash
from zesty_trace.core.review.connections import ground_missing, lonely_nets, unconnected_pins
from zesty_trace.core.review.context import Context, make_context
from zesty_trace.core.review.drive import (
    capacitor_rating,
    coil_suppression,
    gate_pull_down,
    led_current,
    pin_overload,
    resistor_power,
)
from zesty_trace.core.review.heat import heat
from zesty_trace.core.review.levels import high_too_low, level_clash, supply_range
from zesty_trace.core.review.pull_ups import bus_pull_ups
from zesty_trace.core.review.supply import (
    contention,
    decoupling,
    dropout,
    floating_input,
    fuse_missing,
    programming_access,
    supply_overload,
    test_point_missing,
)
from zesty_trace.errors import SolveError

Rule = Callable[[Context], Iterator[Finding]]
STATIC: tuple[Rule, ...] = (
    ground_missing, unconnected_pins, lonely_nets, bus_address_clash, gate_pull_down, coil_suppression, decoupling,
    fuse_missing, test_point_missing, programming_access, floating_input, contention,
)  # fmt: skip
SOLVED: tuple[Rule, ...] = (
    heat, level_clash, high_too_low, supply_range, led_current, pin_overload, resistor_power, capacitor_rating, dropout,
    supply_overload, bus_pull_ups,
)  # fmt: skip


def review(design: Design, catalogue: Catalogue) -> list[Finding]:
    """Return the findings of all electrical rules, worst first. A circuit that cannot be solved is itself a finding."""
    ctx = make_context(design, catalogue)
    found = [f for rule in STATIC for f in rule(ctx)]
    try:
        found += [f for rule in SOLVED for f in rule(ctx)]
    except SolveError as error:
        found.append(
            Finding(
                rule="solve",
                key="solve",
                severity=Severity.STOP,
                title="The circuit cannot be solved",
                detail=str(error),
                why="Without voltages and currents no other judgement can be made.",
                source="nodal analysis",
                station="schematic",
            )
        )
    return worst_first(found)
