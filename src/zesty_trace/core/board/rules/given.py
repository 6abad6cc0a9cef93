"""A board whose copper is that of given files: what can be said of it here, and what only the files can tell."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import EditError

FILES = "the given files"
ELSEWHERE = rule(
    "copper elsewhere",
    Severity.NOTE,
    "Copper that is not drawn here cannot be reviewed here; intake looks it through from the files.",
    FILES,
    limits="the intake check in Order",
    station="layout",
)
NO_PLACE = rule(
    "no place",
    Severity.FIX,
    "A part that nobody knows the place of is in no step of the assembly picture.",
    FILES,
    limits="a place for every part",
    station="layout",
)


UNSURE = rule(
    "not told by the files",
    Severity.FIX,
    "A part put on the wrong way round, or on pads of another, fails or burns at the first power.",
    FILES,
    limits="what the files and tables say",
    station="layout",
)
TURN_UNKNOWN = "which way round it is is not known: look for the mark of pin 1"
NEAREST_PADS = "its pads were taken for lying nearest, and numbered from the upper left: check them"
FOUND_BY_PADS = "its place was found by its pads: check it, and where pin 1 is"
# What a part's notes say -> what that is called of several.
DOUBTS = {
    TURN_UNKNOWN: "Nobody knows which way round {} sit",
    NEAREST_PADS: "The pads of {} are a guess",
    FOUND_BY_PADS: "The places of {} were found by their pads alone",
}


def check_given(wired: Wired) -> Iterator[Finding]:
    """Yield what is said of a board with given copper."""
    design = wired.design
    given = design.board.given
    yield ELSEWHERE.found(
        Subject(which=given),
        f"The copper is that of {given}",
        "Distances, widths and connections are looked through from the files, in Order; not here.",
    )
    for note, words in DOUBTS.items():
        doubtful = tuple(r for r, p in design.parts.items() if note in p.notes)
        if doubtful:
            yield UNSURE.found(
                Subject(which=note),
                words.format(say_count(len(doubtful), "part")),
                f"{', '.join(doubtful)}. Look at the board's own marks; then take the words out of the part's notes.",
                refs=doubtful,
                value=float(len(doubtful)),
                limit=0.0,
                unit="parts",
            )
    lost = tuple(r for r in design.parts if r not in design.board.placements)
    if lost:
        yield NO_PLACE.found(
            Subject(which="given"),
            f"{say_count(len(lost), 'part')} of the tables have no place",
            f"{', '.join(lost[:10])}{' ...' if len(lost) > 10 else ''}. Put each where its pads are in the files.",
            refs=lost,
            value=float(len(lost)),
            limit=0.0,
            unit="parts",
        )


def refuse_given(design: Design) -> None:
    """EditError if parts and copper of the board are those of given files."""
    if design.board.given:
        raise EditError(
            f"Places and copper of this board are those of {design.board.given}",
            "layout",
            "Let go of the given files in Order first, to lay it out anew",
        )
