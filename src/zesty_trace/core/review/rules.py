"""The electrical review: every rule, run over one design."""

from __future__ import annotations

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, rule, worst_first
from zesty_trace.core.review import (  # noqa: F401 - each enters its rules and judges
    analogue,
    bus,
    cells,
    coils,
    connections,
    drive,
    heat,
    idle,
    inlets,
    levels,
    misplaced,
    names,
    plugs,
    prototype,
    pull_ups,
    ratings,
    straps,
    stress,
    supply,
    variants,
    wrong_way,
)
from zesty_trace.core.review.register import SOLVED, STATIC
from zesty_trace.errors import SolveError

SOLVE = rule(
    "solve",
    Severity.STOP,
    "Without voltages and currents no other judgement can be made.",
    "nodal analysis",
    limits="a solution",
)


def review(wired: Wired) -> list[Finding]:
    """Return the findings of all electrical rules, worst first. A circuit that cannot be solved is itself a finding."""
    found = [f for judge in STATIC for f in judge(wired)]
    try:
        found += [f for judge in SOLVED for f in judge(wired)]
    except SolveError as error:
        found.append(SOLVE.found(Subject(), "The circuit cannot be solved", str(error)))
    return worst_first(found)
