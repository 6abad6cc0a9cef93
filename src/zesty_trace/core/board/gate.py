"""What keeps a board from being ordered: stops of the board review that nobody has accepted with a reason."""

from __future__ import annotations

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.values import refuse_wrong_values
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, with_acceptance
from zesty_trace.errors import EditError


def stopping(wired: Wired) -> list[Finding]:
    """Return the findings that stop an order, worst first."""
    found = with_acceptance(check_board(wired), wired.design.accepted)
    return [f for f in found if f.severity is Severity.STOP and not f.accepted]


def refuse_stopped(wired: Wired) -> None:
    """EditError if something stops the order, with what it is and what to do.

    Values that cannot be are refused whoever accepted them: no file can be made of them.
    """
    if wired.design.board.outline:
        refuse_wrong_values(wired.design)
    stops = stopping(wired)
    if stops:
        more = f", and {len(stops) - 1} more" if len(stops) > 1 else ""
        raise EditError(
            f"No files are written for a board that would not work: {stops[0].title}{more}",
            "layout",
            "Mend it, or accept each finding with your reason: that goes into the record",
        )


def accept_stops(wired: Wired, reason: str, when: str) -> Design:
    """Return the design with every stop accepted for a reason. EditError without one."""
    design = wired.design
    for finding in stopping(wired):
        design = edits.accept(design, finding.acceptance(reason, when))
    return design
