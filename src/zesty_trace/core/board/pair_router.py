"""Pairs of lines routed as one: a corridor as wide as both, then the two lines side by side in it.

The corridor runs on one face from the middle between two pads to the middle between the two at the other end. What
cannot be had so - a pair that would cross itself, or no room for both - is left to be routed line by line.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise, product
from typing import NamedTuple

import numpy as np

from zesty_trace.core.board.copper import BoardPad, board_pads, pad_shape
from zesty_trace.core.board.rules.pairs import Pair, pairs_of
from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import FACES, Design, LayerName, Track
from zesty_trace.core.geometry import Point, rotate
from zesty_trace.core.progress import quiet
from zesty_trace.core.quantities import mm

PITCH_MM = 3.0  # two pads farther apart than this are no end of a pair
SPARE_MM = 0.12  # more than straight sides need, since corners are rounded off when they are grown
FINE_GAP_MM = 0.3  # half of what is free between two pads where nothing can turn
BEYOND_MM = 0.3  # past the ends of such pads
SHORTEST_MM = 2.0  # ends nearer than this are joined as they are
Line = list[tuple[float, float]]


class End(NamedTuple):
    """Two pads beside each other, one of each line."""

    plus: BoardPad
    minus: BoardPad

    @property
    def middle(self) -> tuple[float, float]:
        """The point between them, mm."""
        return mm(self.plus.x_nm + self.minus.x_nm) / 2, mm(self.plus.y_nm + self.minus.y_nm) / 2

    def exit(self, towards: tuple[float, float]) -> tuple[float, float]:
        """Return where a way to a point begins: beyond the ends of pads in a fine row, else between the two."""
        pad, (x, y) = self.plus, self.middle
        across = pad.width_nm < pad.height_nm
        long, short = mm(max(pad.width_nm, pad.height_nm)), mm(min(pad.width_nm, pad.height_nm))
        if _apart(*self) - short > 2 * FINE_GAP_MM or long < 1.2 * short:
            return x, y
        ux, uy = rotate(0.0, 1.0, pad.angle_mdeg) if across else rotate(1.0, 0.0, pad.angle_mdeg)
        off = (long / 2 + BEYOND_MM) * (1 if (towards[0] - x) * ux + (towards[1] - y) * uy >= 0 else -1)
        return x + ux * off, y + uy * off

    @property
    def parts(self) -> frozenset[str]:
        """The parts that they belong to."""
        return frozenset((self.plus.pin.ref, self.minus.pin.ref))


def with_pairs(wired: Wired, wanted: set[str]) -> Design:
    """Return the design with the pairs among `wanted` laid that have no copper yet and can be laid side by side."""
    laid = {t.net for t in wired.design.board.tracks} | {v.net for v in wired.design.board.vias}
    for pair in pairs_of(wired):
        if not set(pair) <= wanted or set(pair) & (laid | spacings(wired).high):
            continue  # two lines that have to stand farther apart are no neighbours
        for a, b in _links(_ends(wired, pair)):
            tracks = _side_by_side(wired, pair, a, b)
            board = wired.design.board
            trial = wired.edited(edits.set_copper, [*board.tracks, *tracks], board.vias, board.pours)
            before = {(p.layer, p.nets) for p in nets_too_near(wired)}
            if tracks and not {(p.layer, p.nets) for p in nets_too_near(trial)} - before:
                wired = trial
    return wired.design


def _ends(wired: Wired, pair: Pair) -> list[End]:
    """Return the pads of both lines that stand beside each other: each is the other's nearest, on one face."""
    pads = [p for p in board_pads(wired) if p.layers]
    plus, minus = ([p for p in pads if p.net == n] for n in pair)
    found = []
    for p in plus:
        mates = [n for n in minus if set(n.layers) & set(p.layers)]
        near = min(mates, key=lambda n, p=p: _apart(p, n), default=None)  # type: ignore[misc]
        if near is None or _apart(p, near) > PITCH_MM:
            continue
        if min(plus, key=lambda q, near=near: _apart(q, near)) is p:  # type: ignore[misc]
            found.append(End(p, near))
    return found


def _apart(a: BoardPad, b: BoardPad) -> float:
    return math.hypot(mm(a.x_nm - b.x_nm), mm(a.y_nm - b.y_nm))


def _links(ends: list[End]) -> Iterator[tuple[End, End]]:
    """Yield ends to join, nearest first, each part once: what one part joins within itself is left."""
    group = {part: k for k, end in enumerate(ends) for part in end.parts}
    pairs = sorted(
        ((math.dist(a.middle, b.middle), i, j) for (i, a), (j, b) in product(enumerate(ends), repeat=2) if i < j),
    )
    for far, i, j in pairs:
        one, two = ({group[p] for p in ends[k].parts} for k in (i, j))
        if one & two or far < SHORTEST_MM:
            continue
        yield ends[i], ends[j]
        low = min(one | two)
        group = {part: low if k in one | two else k for part, k in group.items()}


def _side_by_side(wired: Wired, pair: Pair, a: End, b: End) -> list[Track]:
    """Return the tracks of both lines between two ends; none if there is no way for both."""
    rules = wired.design.board.rules
    width, gap = mm(rules.track_nm), mm(rules.clearance_nm)
    for layer in (n for n in FACES if n in a.plus.layers and n in b.plus.layers):
        middle = _corridor(wired, pair, a, b, 2 * width + gap, layer)
        if not middle:
            continue
        half = (width + gap) / 2
        left, right = _beside(middle, half), _beside(middle, -half)
        signs = [_on_left(middle, a), _on_left(middle[::-1], b)]
        if signs[0] == signs[1]:
            continue  # seen from both ends plus is on the same hand: the lines would have to cross
        plus, minus = (left, right) if signs[0] else (right, left)
        return [
            _track(pair.plus, layer, rules.track_nm, a.plus, plus, b.plus),
            _track(pair.minus, layer, rules.track_nm, a.minus, minus, b.minus),
        ]
    return []


def _corridor(wired: Wired, pair: Pair, a: End, b: End, wide_mm: float, layer: LayerName) -> Line:
    """Return the middle line of a way as wide as both, without a via; empty if there is none."""
    from zesty_trace.core.board.routing.negotiate import Negotiation
    from zesty_trace.core.board.routing.problem import CELL_MM, Closed, Group, Shape, lay_out
    from zesty_trace.core.board.routing.reading import problem_of
    from zesty_trace.core.board.routing.tracks import copper_of

    whole = round(wide_mm * 1e6)
    problem = problem_of(wired, lambda _pad: whole, {pair.plus})
    plus, minus = (problem.nets.index(n) for n in pair)
    k = wired.design.board.stack.index(layer)
    starts = (a.exit(b.middle), b.exit(a.middle))
    ends = [Shape(*start, 0.05, 0.05, 0.0, 0.05, plus, (k,), pad=False) for start in starts]
    shapes = [replace(s, net=plus) if s.net == minus else s for s in problem.shapes]
    groups = tuple(Group(plus, (len(shapes) + n,), wide_mm) for n in (0, 1))
    closed = [*problem.closed, Closed(problem.rings[0], k, False, True)]
    closed += [Closed(ring, k, True, True) for ring in _own_pads(wired, pair, layer, wide_mm)]
    try:
        board = lay_out(replace(problem, shapes=(*shapes, *ends), groups=groups, closed=tuple(closed)))
    except ValueError:
        return []
    work = Negotiation(board, quiet)
    work.run()
    tracks, vias = copper_of(board, wired.design.board.stack)
    if vias or work.open_groups().any() or any(t.layer != layer or t.width_nm < whole - 1 for t in tracks):
        return []
    line: Line = [(mm(x), mm(y)) for t in tracks for x, y in t.points]
    if line and math.dist(line[0], starts[0]) > math.dist(line[-1], starts[0]):
        line.reverse()
    if line and math.dist(starts[0], a.middle) > CELL_MM:
        line.insert(0, a.middle)
    if line and math.dist(starts[1], b.middle) > CELL_MM:
        line.append(b.middle)
    return [p for n, p in enumerate(line) if n == 0 or p != line[n - 1]]


def _own_pads(wired: Wired, pair: Pair, layer: LayerName, wide_mm: float) -> Iterator[np.ndarray]:
    """Yield what the middle line keeps off the pads of both, so that the line on the far side keeps its gap to them."""
    rules = wired.design.board.rules
    room = mm(rules.clearance_nm) + mm(rules.track_nm) / 2 - (mm(rules.track_nm) + mm(rules.clearance_nm)) / 2
    pads = [p for p in board_pads(wired) if p.net in pair and layer in p.layers]
    shapes = [pad_shape(p) for p in pads]
    for pad, shape in zip(pads, shapes, strict=True):
        kept = shape.buffer(room + SPARE_MM - wide_mm / 2)
        beside = min(shape.distance(s) for p, s in zip(pads, shapes, strict=True) if p.net != pad.net)
        if not kept.is_empty and beside > 2 * (room + SPARE_MM):  # between finer ones there is no room to keep
            yield np.array(kept.exterior.coords[:-1])


def _on_left(line: Line, end: End) -> bool:
    """Whether plus is on the left of a line that begins at an end."""
    (ax, ay), (bx, by) = line[0], line[min(1, len(line) - 1)]
    px, py = mm(end.plus.x_nm - end.minus.x_nm), mm(end.plus.y_nm - end.minus.y_nm)
    return (bx - ax) * py - (by - ay) * px > 0


def _beside(line: Line, off: float) -> Line:
    """Return a line beside another, to the left for a positive distance, its corners mitred."""
    ways = [_unit(p, q) for p, q in pairwise(line)]
    if not ways:
        return []
    found = []
    for k, (x, y) in enumerate(line):
        before, after = ways[max(0, k - 1)], ways[min(k, len(ways) - 1)]
        nx, ny = -(before[1] + after[1]), before[0] + after[0]
        scale = off * 2 / max(nx * nx + ny * ny, 0.5)  # of the sum of two unit normals: a mitre keeps the distance
        found.append((x + nx * scale, y + ny * scale))
    return found


def _unit(a: tuple[float, float], b: tuple[float, float]) -> tuple[float, float]:
    long = math.dist(a, b)
    return (b[0] - a[0]) / long, (b[1] - a[1]) / long


def _track(net: str, layer: LayerName, width_nm: int, a: BoardPad, line: Line, b: BoardPad) -> Track:
    inner = [Point(round(x * 1e6), round(y * 1e6)) for x, y in line]
    points = [Point(a.x_nm, a.y_nm), *inner, Point(b.x_nm, b.y_nm)]
    kept = [p for k, p in enumerate(points) if k == 0 or p != points[k - 1]]
    return Track(net=net, layer=layer, width_nm=width_nm, points=tuple(kept))
