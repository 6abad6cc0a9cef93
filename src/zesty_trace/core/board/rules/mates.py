"""Modules that stand on headers: the pin map of each is laid over the headers' pads, where it stands.

One row too far, or a module that was drawn from below, puts the supply on a signal: found here, pin by pin.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial
from typing import NamedTuple

from zesty_trace.core.board.copper import pattern_of, to_board
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin, Placement
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, rule
from zesty_trace.core.geometry import Point, rotate

REACH_MM = 0.4  # a pin that is farther from the contact does not go in
QUARTERS = (0, 90_000, 180_000, 270_000)

MATE = rule(
    "pins of a module",
    Severity.STOP,
    "A header one pin off, or mirrored, puts the supply on a signal: the module is lost at the first power-up.",
    "common practice: the module's own pin map laid over its headers",
    limits=f"each connected pin of the module on a contact of its net, within {REACH_MM:g} mm",
    station="layout",
)
NO_HEADER = rule(
    "module without its header",
    Severity.FIX,
    "A module that stands on headers has no pads of its own: without them nothing holds or joins it.",
    "common practice",
    limits="each header that it stands on is on the board",
    station="layout",
)


class Contact(NamedTuple):
    """A pin of a module as it stands: where it is, mm, the contact below it, if any, and the two nets."""

    pin: Pin
    x_mm: float
    y_mm: float
    below: Pin | None
    net: str
    net_below: str

    @property
    def wrong(self) -> bool:
        """Whether it matters and does not fit: an open pin may stand on anything that is on no net as well."""
        if self.below is None:
            return bool(self.net)
        return self.net != self.net_below and bool(self.net or self.net_below)


def check_mates(wired: Wired) -> Iterator[Finding]:
    """Yield modules of which a pin stands beside its contact, or on another net's."""
    board = wired.design.board
    for ref, headers in wired.standing.items():
        missing = [h for h in headers if h not in board.placements]
        if missing and ref in board.placements:
            yield NO_HEADER.found(
                of_part(ref),
                f"{ref} stands on {', '.join(missing)}, which {'is' if len(missing) == 1 else 'are'} not on the board",
                f"Place {', '.join(missing)} below it.",
                refs=(ref, *missing),
                mend=Mend(f"Put the headers under {ref}", partial(headers_under, wired, ref)),
            )
        elif ref in board.placements:
            yield from _laid_over(wired, ref, headers)


def _laid_over(wired: Wired, ref: str, headers: tuple[str, ...]) -> Iterator[Finding]:
    found = contacts(wired, ref)
    wrong = [c for c in found if c.wrong]
    if not wrong:
        return
    first = wrong[0]
    if first.below is None:
        what = f"Pin {wired.label(first.pin)} is {_nearest_mm(wired, first, headers):.2f} mm from the next contact"
    else:
        on = first.net_below or "no net"
        what = f"Pin {wired.label(first.pin)} stands on {first.below}: {first.net or 'no net'} meets {on}"
    moved = headers_under(wired, ref, wired.design)
    fits = not any(c.wrong for c in contacts(wired.with_design(moved), ref))
    todo = (
        f"{_how(wired, ref, headers, moved)} puts it right." if fits else "No place of the headers fits: rewire them."
    )
    yield MATE.found(
        Subject(refs=(ref, *headers)),
        f"{len(wrong)} of {len(found)} pins of {ref} do not meet their net on {', '.join(headers)}",
        f"{what}. {todo}",
        at=tuple(Point(round(c.x_mm * 1e6), round(c.y_mm * 1e6)) for c in wrong[:20]),
        value=float(len(wrong)),
        limit=0.0,
        unit="pins",
        mend=Mend(f"Put the headers under {ref}", partial(headers_under, wired, ref)) if fits else None,
    )


def contacts(wired: Wired, ref: str) -> list[Contact]:
    """Return the pins of a module that stands on headers, with what is below each."""
    spot = wired.design.board.placements[ref]
    below = [
        (Pin(header, pad.number), *_mm(wired.design.board.placements[header], pad.x_nm, pad.y_nm))
        for header in wired.standing[ref]
        if header in wired.design.board.placements
        for pad in pattern_of(wired, header).pads
        if pad.plated
    ]
    found = []
    known = {spec.number for spec in wired.kind(ref).pins}
    for pad in pattern_of(wired, ref).pads:
        if pad.number not in known:
            continue
        pin = Pin(ref, pad.number)
        x, y = _mm(spot, pad.x_nm, pad.y_nm)
        near = min(below, key=lambda b: math.hypot(b[1] - x, b[2] - y), default=None)
        there = near[0] if near and math.hypot(near[1] - x, near[2] - y) <= REACH_MM else None
        net_below = wired.net_of.get(there, "") if there else ""
        found.append(Contact(pin, x, y, there, wired.net_of.get(pin, ""), net_below))
    return found


def headers_under(wired: Wired, ref: str, design: Design) -> Design:
    """Return the design with the headers of a module where most of their pins meet their net, one after the other."""
    now = wired.with_design(design)
    for header in wired.standing[ref]:
        best = max(_places(now, ref, header), key=lambda place: _rank(now, ref, header, place), default=None)
        if best is not None:
            now = now.with_design(edits.place(now.design, header, best))
    return now.design


def _places(wired: Wired, ref: str, header: str) -> Iterator[Placement]:
    """Yield the places of a header that put its first pin below a pin of the module, at each quarter turn."""
    module = wired.design.board.placements[ref]
    pads = [p for p in pattern_of(wired, header).pads if p.plated]
    old = wired.design.board.placements.get(header)
    if not pads:
        return
    for pad in pattern_of(wired, ref).pads:
        x, y = to_board(module, pad.x_nm, pad.y_nm)
        for quarter in QUARTERS:
            turn = (module.angle_mdeg + quarter) % 360_000
            dx, dy = rotate(pads[0].x_nm, pads[0].y_nm, turn)
            held = bool(old and old.fixed)
            yield Placement(x_nm=round(x - dx), y_nm=round(y - dy), angle_mdeg=turn, fixed=held)


def _rank(wired: Wired, ref: str, header: str, place: Placement) -> tuple[int, int, float]:
    """Order places: most nets met, least wrong, nearest to where the header is."""
    moved = wired.with_design(edits.place(wired.design, header, place))
    mine = [c for c in contacts(moved, ref) if c.below is not None and c.below.ref == header]
    met = sum(bool(c.net) and c.net == c.net_below for c in mine)
    wrong = sum(c.wrong for c in mine)
    old = wired.design.board.placements.get(header, place)
    return met - wrong, len(mine), -math.hypot(place.x_nm - old.x_nm, place.y_nm - old.y_nm)


def _how(wired: Wired, ref: str, headers: tuple[str, ...], moved: Design) -> str:
    """Say what becomes of the headers."""
    words = []
    for header in headers:
        a, b = wired.design.board.placements[header], moved.board.placements[header]
        turn = (b.angle_mdeg - a.angle_mdeg) % 360_000 / 1000
        off = math.hypot(b.x_nm - a.x_nm, b.y_nm - a.y_nm) / 1e6
        if turn and off > 0.005:
            words.append(f"moving {header} by {off:.2f} mm and turning it by {turn:g}°")
        elif turn:
            words.append(f"turning {header} by {turn:g}°")
        elif off > 0.005:
            words.append(f"moving {header} by {off:.2f} mm")
    said = " and ".join(words) or f"moving the headers under {ref}"
    return said[0].upper() + said[1:]


def _nearest_mm(wired: Wired, contact: Contact, headers: tuple[str, ...]) -> float:
    spots = wired.design.board.placements
    return min(
        math.hypot(x - contact.x_mm, y - contact.y_mm)
        for header in headers
        for pad in pattern_of(wired, header).pads
        for x, y in (_mm(spots[header], pad.x_nm, pad.y_nm),)
    )


def _mm(spot: Placement, x_nm: float, y_nm: float) -> tuple[float, float]:
    x, y = to_board(spot, x_nm, y_nm)
    return x / 1e6, y / 1e6
