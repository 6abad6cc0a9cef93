"""Values that cannot be, with which nothing else can be measured."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.rules.holes import RULES_SOURCE
from zesty_trace.core.board.values import wrong_values
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, Subject, rule

IMPOSSIBLE = rule(
    "impossible value",
    Severity.STOP,
    "Nothing can be measured on a board with values that cannot be.",
    RULES_SOURCE,
    limits="widths, drills and rules above zero, an outline of three points or more",
    station="layout",
)


def check_values(design: Design) -> Iterator[Finding]:
    """Yield every value of the board that cannot be."""
    for wrong in wrong_values(design):
        yield IMPOSSIBLE.found(Subject(which=wrong.where), wrong.text, f"{wrong.where}: {wrong.hint}.")
