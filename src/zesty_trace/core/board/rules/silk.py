"""What is printed: references that found no room, the board's name and revision."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.silk import silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LAYERS
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point

LEFT_OUT = rule(
    "reference left out",
    Severity.NOTE,
    "Without its reference on the board a part is looked for in the drawing, at assembly and at each repair.",
    "common practice",
    limits="a reference beside every part",
    station="layout",
)
NAME = rule(
    "board name",
    Severity.NOTE,
    "Boards of two revisions in one drawer look alike: fixes and firmware differ.",
    "common practice",
    limits="name and revision on the board",
    station="layout",
)


def check_silk(wired: Wired) -> Iterator[Finding]:
    """Yield what the silk does not say."""
    named = False
    spots = wired.design.board.placements
    for side in LAYERS:
        silk = silk_screen(wired, side)
        named = named or silk.named
        if silk.left_out:
            yield LEFT_OUT.found(
                Subject(which=side),
                f"{len(silk.left_out)} references find no room on the {side}",
                f"{', '.join(silk.left_out[:12])}. Move parts a little apart.",
                refs=silk.left_out,
                at=tuple(Point(spots[r].x_nm, spots[r].y_nm) for r in silk.left_out[:20]),
                value=float(len(silk.left_out)),
                limit=0.0,
                unit="references",
            )
    if not named:
        yield NAME.found(Subject(), "Name and revision find no room on the board", "Leave a free strip for them.")
