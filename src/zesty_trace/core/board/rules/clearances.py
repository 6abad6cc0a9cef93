"""Copper of different nets that is nearer than the rule."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.rules.holes import RULES_SOURCE
from zesty_trace.core.board.shorts import TooNear, nets_too_near
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.quantities import mm, say_mm

CLEARANCE = rule(
    "clearance",
    Severity.STOP,
    "Copper that is too near etches together, or shorts under solder.",
    RULES_SOURCE,
    limits="clearance of the board rules",
    station="layout",
)


def check_clearances(wired: Wired) -> Iterator[Finding]:
    """Yield one finding for each pair of nets and layer."""
    for pair in nets_too_near(wired):
        yield near_finding(wired, pair)


def near_finding(wired: Wired, pair: TooNear) -> Finding:
    """Return the finding of two pieces that are too near."""
    rules = wired.design.board.rules
    ends = ((pair.net_a, pair.what_a), (pair.net_b, pair.what_b))
    loose = " ".join(sorted(what for net, what in ends if not net))
    names = " and ".join(net or what for net, what in ends)
    subject = Subject(nets=tuple(sorted(pair.nets)), which=f"{pair.layer} {loose}".strip())
    gap = f"are {pair.gap_mm:.2f} mm apart" if pair.gap_mm > 0 else "touch"
    return CLEARANCE.found(
        subject,
        f"{names} {gap} on {pair.layer}",
        f"{pair.what_a} and {pair.what_b} need {say_mm(rules.clearance_nm)}. Move one, or route again.",
        nets=pair.nets,
        at=(pair.at,),
        value=pair.gap_mm,
        limit=mm(rules.clearance_nm),
        unit="mm",
    )
