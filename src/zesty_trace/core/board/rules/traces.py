"""Tracks as drawn: corners that trap etchant, boards of one side, and the stencil's second heating."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from zesty_trace.core.board.copper import pattern_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, rule
from zesty_trace.core.geometry import Point

SHARP_DEG = 89.0

ACUTE = rule(
    "acute corner",
    Severity.NOTE,
    "Etchant stays in a corner sharper than a right angle, and eats the track from the side.",
    "common practice",
    limits="corners of 90° or more within a track",
    station="layout",
)
WRONG_SIDE = rule(
    "part on the bare side",
    Severity.STOP,
    "A board of one side has no copper there: the part cannot be soldered.",
    "board rules of the project: one side",
    limits="surface parts on the bottom of a board of one side",
    station="layout",
)
WIRE_LINKS = rule(
    "wire links",
    Severity.NOTE,
    "Each link is a piece of wire to cut, bend and solder by hand.",
    "board rules of the project: one side",
    limits="as few as can be",
    station="layout",
)


def check_traces(wired: Wired) -> Iterator[Finding]:
    """Yield sharp corners, one finding a net, and what a board of one side cannot have."""
    seen: set[str] = set()
    for track in wired.design.board.tracks:
        for a, b, c in zip(track.points, track.points[1:], track.points[2:], strict=False):
            angle = _angle(a, b, c)
            if angle < SHARP_DEG and track.net not in seen:
                seen.add(track.net)
                yield ACUTE.found(
                    of_net(track.net, "corner"),
                    f"A track of {track.net} turns at {angle:.0f}°",
                    "Draw it with two turns of 45°, or route the net anew.",
                    at=(Point(*b),),
                    value=angle,
                    limit=90.0,
                    unit="°",
                )
    if wired.design.board.rules.layers == 1:
        yield from _one_side(wired)


def _angle(a: tuple[int, int], b: tuple[int, int], c: tuple[int, int]) -> float:
    """Return the angle at b, degrees: 180 is straight on."""
    one, two = (a[0] - b[0], a[1] - b[1]), (c[0] - b[0], c[1] - b[1])
    long = math.hypot(*one) * math.hypot(*two)
    if long == 0:
        return 180.0
    return math.degrees(math.acos(max(-1.0, min(1.0, (one[0] * two[0] + one[1] * two[1]) / long))))


def flip_all(design: Design, refs: tuple[str, ...]) -> Design:
    """Put parts on the other face."""
    for ref in refs:
        design = edits.nudge(design, ref, flip=True)
    return design


def _one_side(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    wrong = tuple(
        r
        for r, s in design.board.placements.items()
        if r in design.parts and s.side == "top" and pattern_of(wired, r).surface_mount and wired.kind(r).pins
    )
    if wrong:
        yield WRONG_SIDE.found(
            Subject(),
            f"{len(wrong)} surface parts are on the side without copper",
            f"{', '.join(wrong[:10])}. Flip them.",
            refs=wrong,
            value=float(len(wrong)),
            limit=0.0,
            unit="parts",
            mend=Mend("Flip them", partial(flip_all, refs=wrong)),
        )
    links = [t for t in design.board.tracks if t.layer == "top"]
    if links:
        yield WIRE_LINKS.found(
            Subject(),
            f"{len(links)} wire links",
            "Solder them on the top, insulated where they cross.",
            value=float(len(links)),
            limit=0.0,
            unit="links",
        )
