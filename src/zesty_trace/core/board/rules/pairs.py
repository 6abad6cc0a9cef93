"""Pairs of lines that carry one signal, such as those of USB: as long as each other, and side by side."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from itertools import pairwise
from typing import NamedTuple

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point

UNEQUAL_MM = 3.8  # 150 mil: the figure of USB 2.0 layout guides, from memory
FAR_MM = 3.0  # farther apart than this for much of their way, they are no pair: common practice
FAR_SHARE = 0.4
STEP_MM = 0.5
SHORT_MM = 10.0  # shorter pairs need no care: common practice

LENGTHS = rule(
    "pair length",
    Severity.FIX,
    "The two halves of the signal arrive apart: edges soften, and a fast link drops out.",
    "layout guides of USB 2.0, 150 mil (from memory)",
    limits=f"{UNEQUAL_MM:g} mm of difference",
    station="layout",
)
APART = rule(
    "pair apart",
    Severity.NOTE,
    "Two lines that run apart pick up different noise, and send it out again.",
    "common practice: side by side for most of the way",
    limits=f"within {FAR_MM:g} mm of each other for {1 - FAR_SHARE:.0%} of the way",
    station="layout",
)
_PLUS = re.compile(r"^(.*?)(D|DATA|USB_?D|USBD)(\+|P|_P)(\d*)$", re.I)


class Pair(NamedTuple):
    """Two nets that carry one signal."""

    plus: str
    minus: str


def pairs_of(wired: Wired) -> list[Pair]:
    """Return the pairs among the nets: by their names, or by pins called D+ and D- that they are on."""
    nets = set(wired.design.nets)
    found = []
    for name in wired.design.nets:
        if match := _PLUS.match(name):
            minus = {"+": "-", "P": "M", "_P": "_N", "p": "m", "_p": "_n"}[match[3]]
            for other in (minus, {"M": "N", "m": "n"}.get(minus, minus)):
                twin = f"{match[1]}{match[2]}{other}{match[4]}"
                if twin in nets:
                    found.append(Pair(name, twin))
                    break
    named = {n for pair in found for n in pair}
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        plus = wired.net_at(ref, "D+") if kind.pin("D+") else ""
        minus = wired.net_at(ref, "D-") if kind.pin("D-") else ""
        if plus and minus and plus != minus and not {plus, minus} & named:
            found.append(Pair(plus, minus))
            named |= {plus, minus}
    return found


def check_pairs(wired: Wired) -> Iterator[Finding]:
    """Yield pairs whose tracks differ in length, or run apart."""
    for pair in pairs_of(wired):
        tracks = {n: [t for t in wired.design.board.tracks if t.net == n] for n in pair}
        lengths = {n: sum(_long(t.points) for t in found) for n, found in tracks.items()}
        if not all(lengths.values()) or max(lengths.values()) < SHORT_MM:
            continue
        off = abs(lengths[pair.plus] - lengths[pair.minus])
        at = tuple(Point(*tracks[n][0].points[0]) for n in pair)
        if off > UNEQUAL_MM:
            longer = max(pair, key=lambda n: lengths[n])
            yield LENGTHS.found(
                Subject(nets=tuple(pair)),
                f"{longer} is {off:.1f} mm longer than the other line of its pair",
                f"{pair.plus} is {lengths[pair.plus]:.1f} mm, {pair.minus} {lengths[pair.minus]:.1f} mm. "
                "Place the chip nearer the connector, or route both anew.",
                at=at,
                value=off,
                limit=UNEQUAL_MM,
                unit="mm",
            )
        share = _apart([t.points for t in tracks[pair.plus]], [t.points for t in tracks[pair.minus]])
        if share > FAR_SHARE:
            yield APART.found(
                Subject(nets=tuple(pair)),
                f"{pair.plus} and {pair.minus} run apart for {share:.0%} of their way",
                f"Lead them side by side, within {FAR_MM:g} mm.",
                at=at,
                value=share * 100,
                limit=FAR_SHARE * 100,
                unit="%",
            )


def _long(points: tuple[Point, ...]) -> float:
    return sum(math.dist(a, b) for a, b in pairwise(points)) / 1e6


def _apart(one: list[tuple[Point, ...]], two: list[tuple[Point, ...]]) -> float:
    """Return the share of the one line that is farther than FAR_MM from the other."""
    from shapely import LineString, unary_union

    first, second = (
        unary_union([LineString([(x / 1e6, y / 1e6) for x, y in p]) for p in lines]) for lines in (one, two)
    )
    near = second.buffer(FAR_MM)
    return float(first.difference(near).length / first.length) if first.length else 0.0
