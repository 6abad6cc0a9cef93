"""Where each electrical judge enters itself.

Those that read the wiring only, and those that need the circuit solved.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding

ElectricalJudge = Callable[[Wired], Iterator[Finding]]
STATIC: list[ElectricalJudge] = []
SOLVED: list[ElectricalJudge] = []


def static(judge: ElectricalJudge) -> ElectricalJudge:
    """Enter a judge that reads the wiring only."""
    STATIC.append(judge)
    return judge


def solved(judge: ElectricalJudge) -> ElectricalJudge:
    """Enter a judge that needs the circuit solved."""
    SOLVED.append(judge)
    return judge
