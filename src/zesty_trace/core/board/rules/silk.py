"""What is printed: references that found no room, the board's name and revision."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.silk import PEN_MM, TEXT_MM, silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

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


SIZE = rule(
    "silk size",
    Severity.NOTE,
    "Letters that are smaller or thinner than the house prints come out as smears.",
    "silk of the board rules",
    limits="least pen and letter height of the board rules",
    station="layout",
)


def _size(wired: Wired) -> Iterator[Finding]:
    rules = wired.design.board.rules
    for what, drawn, least in (("pen", PEN_MM, mm(rules.silk_pen_nm)), ("letters", TEXT_MM, mm(rules.silk_text_nm))):
        if drawn < least - 1e-9:
            yield SIZE.found(
                Subject(which=what),
                f"The {what} of the silk: {drawn:g} mm, the house prints from {least:g} mm",
                "Expect smears: leave the silk out, or choose a house that prints finer.",
                value=drawn,
                limit=least,
                unit="mm",
            )


def check_silk(wired: Wired) -> Iterator[Finding]:
    """Yield what the silk does not say, and what is too fine to print."""
    yield from _size(wired)
    named = False
    spots = wired.design.board.placements
    for side in FACES:
        silk = silk_screen(wired, side)
        named = named or silk.named
        if silk.left_out:
            yield LEFT_OUT.found(
                Subject(which=side),
                f"{len(silk.left_out)} references find no room on the {side}"
                if len(silk.left_out) > 1
                else f"One reference finds no room on the {side}",
                f"{', '.join(silk.left_out[:12])}. Move parts a little apart.",
                refs=silk.left_out,
                at=tuple(Point(spots[r].x_nm, spots[r].y_nm) for r in silk.left_out[:20]),
                value=float(len(silk.left_out)),
                limit=0.0,
                unit="references",
            )
    if not named:
        yield NAME.found(Subject(), "Name and revision find no room on the board", "Leave a free strip for them.")
