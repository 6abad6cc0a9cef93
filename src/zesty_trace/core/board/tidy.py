"""Tidying routed copper: pieces in line become one, and nets that can be joined for less are routed again.

What is made by hand, or locked, stays. A net is kept as it was unless it becomes cheaper and nothing else is worse.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import msgspec

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.placing.measure import tree_mm
from zesty_trace.core.board.router import route
from zesty_trace.core.board.rules.currents import check_currents
from zesty_trace.core.board.rules.pairs import pairs_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Track
from zesty_trace.core.geometry import Point
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm
from zesty_trace.errors import Cancelled

VIA_MM = 3.0  # of track that a via may cost before it is worth its hole
LEAST_GAIN_MM = 0.2
LOOSE = 1.15  # a net is tried again where it costs this much more than the straight lines between its pads


@dataclass(frozen=True)
class Tidied:
    """The design, the length of its tracks before and after, mm, its vias, and the nets that were routed again."""

    design: Design
    before_mm: float
    after_mm: float
    vias_before: int
    vias_after: int
    nets: tuple[str, ...]


def tidy(wired: Wired, report: Report = quiet) -> Tidied:
    """Tidy a routed board. `report` returns False to stop, which raises Cancelled and keeps nothing."""
    first = wired.design.board
    wired = wired.with_design(straightened(wired.design))
    nets = [n for n in sorted({t.net for t in first.tracks if not t.kept}) if _worth_it(wired, n)]
    open_links, thin = len(connectivity(wired).links), _thin(wired)
    done = []
    for k, net in enumerate(nets):
        if not report(k / max(1, len(nets)), f"tidying {net}"):
            raise Cancelled
        trial = route(wired, nets=[net], again=True).design
        price = _price(wired.design, net)
        after = wired.with_design(straightened(trial))
        if _price(after.design, net) > price - LEAST_GAIN_MM or len(connectivity(after).links) > open_links:
            continue
        if not _thin(after) <= thin:
            continue
        wired, open_links, thin = after, len(connectivity(after).links), _thin(after)
        done.append(net)
    last = wired.design.board
    lengths = length_mm(first.tracks), length_mm(last.tracks)
    return Tidied(wired.design, *lengths, len(first.vias), len(last.vias), tuple(done))


def _thin(wired: Wired) -> set[str]:
    """Return what carries too much."""
    return {f.identity for f in check_currents(wired)}


def _worth_it(wired: Wired, net: str) -> bool:
    """Whether a net is so much longer than its pads are apart that another way may gain.

    What is poured is left, and pairs, which run beside each other on purpose.
    """
    left = {p.net for p in wired.design.board.pours} | {n for pair in pairs_of(wired) for n in pair}
    if net not in wired.design.nets or net in left:
        return False
    spots = [(mm(p.x_nm), mm(p.y_nm)) for p in board_pads(wired) if p.net == net and p.layers]
    bound = tree_mm(spots) if spots else 0.0
    return _price(wired.design, net) > LOOSE * bound + LEAST_GAIN_MM


def _price(design: Design, net: str) -> float:
    tracks = [t for t in design.board.tracks if t.net == net]
    return length_mm(tracks) + VIA_MM * sum(v.net == net for v in design.board.vias)


def length_mm(tracks: list[Track] | tuple[Track, ...]) -> float:
    """Return the length of tracks, mm."""
    return sum(math.dist(a, b) for t in tracks for a, b in pairwise(t.points)) / 1e6


def straightened(design: Design) -> Design:
    """Return a design whose machine-made tracks have no point that a straight line does not need, and none twice."""
    board = design.board
    seen: set[Track] = set()
    tracks = []
    for track in board.tracks:
        if track.kept:
            tracks.append(track)
            continue
        points = tuple(_needed(track.points))
        if len(points) < 2:
            continue
        plain = track if points == track.points else msgspec.structs.replace(track, points=points)
        if plain not in seen:
            seen.add(plain)
            tracks.append(plain)
    return edits.set_copper(design, tracks, board.vias, board.pours)


def _needed(points: tuple[Point, ...]) -> Iterator[Point]:
    """Yield the ends and the corners of a line."""
    kept: list[Point] = []
    for point in points:
        if kept and point == kept[-1]:
            continue
        while len(kept) > 1 and _straight(kept[-2], kept[-1], point):
            kept.pop()
        kept.append(point)
    yield from kept


def _straight(a: Point, b: Point, c: Point) -> bool:
    """Whether b lies on the way from a to c, on integers."""
    (ax, ay), (bx, by), (cx, cy) = a, b, c
    turn = (bx - ax) * (cy - by) - (by - ay) * (cx - bx)
    return turn == 0 and (bx - ax) * (cx - bx) + (by - ay) * (cy - by) > 0
