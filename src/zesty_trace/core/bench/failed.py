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


RECORDS = rule(
    "records changed",
    Severity.STOP,
    "Records that somebody changed prove nothing: what they say of a board may be what somebody wished.",
    "the chain of checksums of the records",
    limits="every event as it was written",
    station="bench",
)


@dataclass(frozen=True)
class FailedBoard:
    """A board that stands as failed, why, and whether that was on a simulated bench."""

    serial: str
    why: str
    simulated: bool


def records_finding(why: str) -> Finding:
    """Return that the records cannot be trusted, and why."""
    return RECORDS.found(
        Subject(which="records"),
        "The records do not hold together: no board counts as passed",
        f"{why[:1].upper()}{why[1:]}. Find out who changed the file, then bring a copy back (zt records restore).",
    )


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
