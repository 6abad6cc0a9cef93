"""Cutting headers and sockets from stock strips: the fewest strips, exactly, with what is left over.

A cut through a socket strip costs a position (of a double row, both holes of it); pin headers snap between positions. A
piece with its cut is `n + lost` long and a strip with the cut that it does not need at its end `length + lost`: so k
pieces fit where the sum of all n + lost is at most length + lost.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from zesty_trace.errors import InputError

MOST_LENGTH, MOST_PIECES, MOST_SORTS, MOST_PATTERNS = 1000, 5000, 40, 60_000
SECONDS = 20.0
STRIP = 40  # positions of a stock strip: common practice
LOST = {"header": 0, "socket": 1}


class Strip(NamedTuple):
    """Strips of one length that are there, and whether they are bought: leftovers are used first."""

    length: int
    there: int | None = None  # None: as many as one likes
    bought: bool = True
    whole: bool = False  # it is a piece already, and not cut


class Cut(NamedTuple):
    """One strip cut up: its length, the pieces from its end on, what is left whole, positions that are lost."""

    length: int
    pieces: tuple[int, ...]
    left: int
    lost: int
    bought: bool


@dataclass(frozen=True)
class CutList:
    """Strips to cut. `bound` is how few bought strips any plan needs: this one is best if it takes as many."""

    cuts: tuple[Cut, ...]
    bought: int
    bound: int
    best: bool

    @property
    def leftovers(self) -> list[int]:
        """The pieces that go back into the drawer, the longest first."""
        return sorted((c.left for c in self.cuts if c.left), reverse=True)


def cut_strips(wanted: Mapping[int, int], strips: Sequence[Strip] = (Strip(STRIP),), lost: int = 0) -> CutList:
    """Return how to cut `wanted` (positions -> pieces) with the fewest bought strips.

    Of plans that take as few, the one that uses the fewest positions of leftovers. InputError for pieces that fit on no
    strip, or more than can be had.
    """
    pieces = {n: c for n, c in sorted(wanted.items(), reverse=True) if c}
    _check(pieces, strips, lost)
    if not pieces:
        return CutList((), 0, 0, True)
    patterns = [(k, p) for k, s in enumerate(strips) for p in _ways_of(s, lost, pieces)]
    counts, bound, best = _solve(pieces, strips, patterns)
    cuts = []
    left = Counter(pieces)
    for (k, pattern), times in zip(patterns, counts, strict=True):
        for _ in range(times):
            taken = tuple(n for n in pattern if _take(left, n))
            if taken:
                cuts.append(_cut(strips[k], taken, lost))
    cuts.sort(key=lambda c: (c.bought, -c.length, c.pieces))
    bought = sum(c.bought for c in cuts)
    return CutList(tuple(cuts), bought, bound, best and bought <= bound)


def _take(left: Counter[int], piece: int) -> bool:
    if left[piece] <= 0:
        return False
    left[piece] -= 1
    return True


def _cut(strip: Strip, pieces: tuple[int, ...], lost: int) -> Cut:
    used = sum(pieces)
    rest = strip.length - used
    cuts = len(pieces) if rest > lost * (len(pieces) - 1) else len(pieces) - 1
    wasted = min(rest, lost * cuts)
    return Cut(strip.length, pieces, rest - wasted, wasted, strip.bought)


def _check(pieces: Mapping[int, int], strips: Sequence[Strip], lost: int) -> None:
    longest = max((s.length for s in strips if s.there != 0), default=0)
    for strip in strips:
        if not 1 <= strip.length <= MOST_LENGTH or (strip.there is not None and strip.there < 0):
            raise InputError(f"There is no strip of {strip.length}", "strips", f"From 1 to {MOST_LENGTH} positions")
    if not 0 <= lost <= 10:
        raise InputError(f"{lost} positions a cut cannot be", "lost", "From 0 to 10")
    if len(pieces) > MOST_SORTS or sum(pieces.values()) > MOST_PIECES:
        raise InputError("That is too many pieces", "pieces", f"Up to {MOST_PIECES:,} of {MOST_SORTS} lengths")
    for n, count in pieces.items():
        if n < 1 or count < 0:
            raise InputError(f"{count} pieces of {n} cannot be", "pieces", "Write lengths from 1 on")
        if n > longest:
            raise InputError(f"A piece of {n} fits on no strip", "pieces", f"The longest strip has {longest} positions")


def _ways_of(strip: Strip, lost: int, pieces: Mapping[int, int]) -> list[tuple[int, ...]]:
    return [(strip.length,)] if strip.whole else _patterns(strip.length, lost, pieces)


def _patterns(length: int, lost: int, pieces: Mapping[int, int]) -> list[tuple[int, ...]]:
    """Return every way to fill a strip to which no further piece could be added. InputError for too many."""
    sizes = list(pieces)
    found: list[tuple[int, ...]] = []

    def fill(start: int, room: int, chosen: tuple[int, ...]) -> None:
        if len(found) > MOST_PATTERNS:
            raise InputError("There are too many ways to cut that", "pieces", "Cut it in two batches")
        fitting = False
        for k in range(start, len(sizes)):
            if sizes[k] + lost <= room and chosen.count(sizes[k]) < pieces[sizes[k]]:
                fitting = True
                fill(k, room - sizes[k] - lost, (*chosen, sizes[k]))
        skipped = any(n + lost <= room and chosen.count(n) < pieces[n] for n in sizes[:start])
        if chosen and not fitting and not skipped:
            found.append(chosen)

    fill(0, length + lost, ())
    return found


def _solve(
    pieces: Mapping[int, int], strips: Sequence[Strip], patterns: list[tuple[int, tuple[int, ...]]]
) -> tuple[list[int], int, bool]:
    """Return how often each pattern is cut, how few bought strips any plan needs, and whether all is proven.

    First the bought strips are made few, then, with as few, the positions of leftovers that are used.
    """
    sizes = list(pieces)
    rows = [np.array([[p.count(n) for _, p in patterns] for n in sizes], dtype=float)]
    low, high = [float(pieces[n]) for n in sizes], [np.inf] * len(sizes)
    for k, strip in enumerate(strips):
        if strip.there is not None:
            rows.append(np.array([[float(s == k) for s, _ in patterns]]))
            low.append(0.0)
            high.append(float(strip.there))
    bought = np.array([float(strips[k].bought) for k, _ in patterns])
    first = _milp(bought, np.vstack(rows), low, high)
    fewest = math.ceil(first.mip_dual_bound - 1e-6)
    proven = bool(first.mip_gap < 1e-6)
    rows.append(bought[None, :])
    length = np.array([strips[k].length for k, _ in patterns], dtype=float)
    costs = np.where(bought > 0, 0.0, length) + 1e-3 * length
    second = _milp(costs, np.vstack(rows), [*low, 0.0], [*high, float(round(first.fun))])
    return [round(v) for v in second.x], max(0, fewest), proven


def _milp(costs: Any, matrix: Any, low: list[float], high: list[float]) -> Any:
    from scipy.optimize import Bounds, LinearConstraint, milp

    found = milp(
        costs,
        constraints=LinearConstraint(matrix, low, high),
        bounds=Bounds(0, np.inf),
        integrality=np.ones(len(costs)),
        options={"time_limit": SECONDS, "mip_rel_gap": 0.0},
    )
    if found.x is None:
        raise InputError("There are not strips enough", "strips", "Buy some, or cut fewer pieces")
    return found
