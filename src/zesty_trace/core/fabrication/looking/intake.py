"""What an intake engineer of a board house would say of a set: re-read alone, against limits, with places."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zesty_trace.core.fabrication.contacts import Contact
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.fabrication.looking.capability import Capability, usual
from zesty_trace.core.fabrication.looking.copper_checks import COPPER_CHECKS
from zesty_trace.core.fabrication.looking.desk import Check, Desk, Query
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.fabrication.looking.set_checks import SET_CHECKS
from zesty_trace.core.fabrication.looking.tracing import Copper, Traced, trace, what_should_be
from zesty_trace.core.findings import Severity
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled


@dataclass(frozen=True)
class Intake:
    """The answer of intake: what it asks about, worst first, and what was looked at and what could not be."""

    queries: tuple[Query, ...]
    checked: tuple[str, ...]
    unchecked: tuple[str, ...]
    traced: Traced | None

    @property
    def passed(self) -> bool:
        """Whether nothing stops the set or should be put right first."""
        return not any(q.severity < Severity.NOTE for q in self.queries)

    @property
    def verdict(self) -> str:
        """The answer in a sentence."""
        stops = sum(q.severity is Severity.STOP for q in self.queries)
        fixes = sum(q.severity is Severity.FIX for q in self.queries)
        if stops:
            return f"Not accepted: {stops} to stop it, {fixes} to put right."
        if fixes:
            return f"On hold: {fixes} to put right or to confirm."
        left = f" Not checked: {'; '.join(self.unchecked)}." if self.unchecked else ""
        return f"Accepted: nothing found in {len(self.checked)} checks.{left}"


def intake(
    board: BoardSet,
    limits: Capability | None = None,
    contacts: Sequence[Contact] = (),
    source: str = "",
    report: Report = quiet,
) -> Intake:
    """Look a set through, against `limits` or those of a usual service.

    `contacts` is what the netlist should be, `source` who says so; else the set says it. Cancelled if `report` says so.
    """
    wanted, who = (list(contacts), source) if contacts else what_should_be(board)
    desk = Desk(board, Measures(board), limits or usual(len(board.layers)), tuple(wanted), who)
    found: list[Query] = []
    checked: list[str] = []
    checks: list[tuple[str, Check]] = [*SET_CHECKS, *COPPER_CHECKS]
    for k, (name, check) in enumerate(checks):
        if not report(k / len(checks), f"intake: {name}"):
            raise Cancelled
        found += check(desk)
        checked.append(name)
    traced, unchecked = None, list(_unchecked(desk))
    if desk.contacts and board.layers:
        traced = trace(board, desk.contacts, desk.source, Copper(board))
        found += netlist_queries(traced)
        checked.append("netlist")
    else:
        unchecked.append("the netlist: nothing says what should be joined (no net names in the files, no netlist)")
    return Intake(tuple(sorted(found, key=lambda q: q.severity)), tuple(checked), tuple(unchecked), traced)


def _unchecked(desk: Desk) -> Iterator[str]:
    if any(h.plated is None for h in desk.board.holes):
        yield "which holes are plated: no file says; all are taken to be"
    if desk.board.edges.board is None:
        yield "distances to the edge: there is no closed edge"
    if desk.board.holes == () and desk.board.layers:
        yield "holes: there is no drill file"


def netlist_queries(traced: Traced) -> Iterator[Query]:
    """Yield what differs between the copper and the netlist."""
    for short in traced.shorts:
        yield Query(
            Severity.STOP, "short", f"{' and '.join(short.nets[:4])} are one piece of copper",
            f"Pins {', '.join(short.pins[:4])} are joined; {traced.source} says they are not. Write the files again.",
        )  # fmt: skip
    for open_ in traced.opens:
        pieces = "; ".join(", ".join(p[:3]) for p in open_.pieces[:3])
        yield Query(
            Severity.STOP, "open", f"{open_.net} is in {len(open_.pieces)} pieces",
            f"{pieces} are not joined; {traced.source} says they are. Route it, or write the files again.",
        )  # fmt: skip
    if traced.missing:
        pins = ", ".join(c.pin for c in traced.missing[:6])
        yield Query(
            Severity.STOP, "pad missing", f"{len(traced.missing)} pads have no copper",
            f"{pins}: {traced.source} has them, the copper files have not.",
            tuple((c.x, c.y) for c in traced.missing),
        )  # fmt: skip
