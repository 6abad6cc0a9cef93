"""Rule: a board that stands as failed is mended or kept apart."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zesty_trace.core.findings import Finding, Severity, Subject, rule

MEASURED = rule(
    "measured",
    Severity.FIX,
    "A board that fails a test is mended or kept apart; the reading says where to look first.",
    "limits of the test plan",
    limits="the test plan",
    station="bench",
)


@dataclass(frozen=True)
class FailedBoard:
    """A board that stands as failed, why, and whether that was on a simulated bench."""

    serial: str
    why: str
    simulated: bool


def failed_findings(boards: Iterable[FailedBoard]) -> list[Finding]:
    """Return one finding for each board that stands as failed."""
    return [
        MEASURED.found(
            Subject(which=board.serial),
            f"{board.serial} failed{' on a simulated bench' if board.simulated else ''}",
            f"{board.why}. Mend, measure again.",
        )
        for board in boards
    ]
