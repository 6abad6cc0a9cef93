"""Spacing for voltage: copper of nets that stand far apart in volts needs more than the clearance of the house."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from zesty_trace.core.board.copper import copper_items, same_part
from zesty_trace.core.board.shorts import ROUNDING_MM
from zesty_trace.core.board.voltages import LINES_MM, MAINS_MM, Spacings, mains_nets, spacing_mm, spacings
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, LayerName
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import say

VOLTAGE = rule(
    "voltage spacing",
    Severity.FIX,
    "Between conductors that are too near for their voltage a spark may creep over dust and damp.",
    "IPC-2221, table 6-1, columns B2 (outer conductors, uncoated) and B1 (inner ones); from memory",
    limits="0.6 mm from 31 V, 1.25 mm from 151 V, 2.5 mm from 301 V; inside 0.1, 0.2 and 0.25 mm",
    station="layout",
)
MAINS_GAP = rule(
    "mains spacing",
    Severity.STOP,
    "Mains that creep onto the low-voltage side kill people.",
    "common practice: 6 mm; your local code and licensed practice decide",
    limits=f"{MAINS_MM:g} mm of board between mains and everything else",
    station="layout",
)

CLASS_GAP = rule(
    "class clearance",
    Severity.FIX,
    "A net was put into a class to keep others off: noise, heat or voltage was the reason.",
    "net classes of the project",
    limits="the distance of the net's class",
    station="layout",
)


def check_spacing(wired: Wired) -> Iterator[Finding]:
    """Yield pairs of nets that are nearer than their voltage or their class allows, the nearest place of each pair."""
    spaced = spacings(wired)
    for layer in wired.design.board.stack if spaced.high else ():
        for near in _nearest(wired, spaced, layer):
            if near.gap_mm < spaced.voltage_mm(near.one, near.two, layer not in FACES) - ROUNDING_MM:
                yield _for_voltage(spaced, near, layer)
            else:
                yield CLASS_GAP.found(
                    Subject(nets=(near.one, near.two), which=layer),
                    f"{near.one} and {near.two} are {near.gap_mm:.2f} mm from each other on {layer}",
                    f"A class of theirs keeps {near.need_mm:g} mm. Route them again, or lower what the class asks.",
                    at=(near.at,),
                    value=near.gap_mm,
                    limit=near.need_mm,
                    unit="mm",
                )


class Near(NamedTuple):
    """Two nets that are nearer than they should be: the gap, what they need, mm, and where."""

    one: str
    two: str
    gap_mm: float
    need_mm: float
    at: Point


def _nearest(wired: Wired, spaced: Spacings, layer: LayerName) -> Iterator[Near]:
    from shapely import STRtree, distance

    items = [i for i in copper_items(wired, layer) if i.net]
    hot = [i for i in items if i.net in spaced.high]
    if not hot:
        return
    shapes = np.array([i.shape for i in items], dtype=object)
    own = np.array([i.shape for i in hot], dtype=object)
    nets, inner = wired.design.nets, layer not in FACES
    most = max(spaced.need_mm(a, b) for a in {i.net for i in hot} for b in nets)
    left, right = STRtree(shapes).query(own, predicate="dwithin", distance=most)
    gaps = distance(own[left], shapes[right])
    nearest: dict[tuple[str, str], Near] = {}
    for k, m, gap in zip(left.tolist(), right.tolist(), gaps.tolist(), strict=True):
        a, b = hot[k], items[m]
        pair, one_part = {a.net, b.net}, same_part(a, b)
        if a.net == b.net or (one_part and pair <= spaced.mains):
            continue  # what lies across a part is for its maker to say
        need = spaced.voltage_mm(a.net, b.net, inner) if one_part else spaced.need_mm(a.net, b.net, inner)
        key = (min(pair), max(pair))
        if gap < need - ROUNDING_MM and (key not in nearest or gap < nearest[key].gap_mm):
            at = a.shape.representative_point()
            nearest[key] = Near(*key, gap, need, Point(round(at.x * 1e6), round(at.y * 1e6)))
    yield from nearest.values()


def _for_voltage(spaced: Spacings, near: Near, layer: LayerName) -> Finding:
    one, two, mains = near.one, near.two, spaced.mains
    need = spaced.voltage_mm(one, two, layer not in FACES)
    both = one in mains and two in mains
    found = VOLTAGE if both or not {one, two} & mains else MAINS_GAP
    volts = "" if {one, two} & mains else f", {say(spaced.apart_v(one, two), 'V')} apart,"
    return found.found(
        Subject(nets=(one, two), which=layer),
        f"{one} and {two}{volts} are {near.gap_mm:.2f} mm from each other on {layer}",
        f"They need {need:g} mm. Move one of them, or cut a slot between.",
        at=(near.at,),
        value=near.gap_mm,
        limit=need,
        unit="mm",
    )


__all__ = ["LINES_MM", "MAINS_MM", "check_spacing", "mains_nets", "spacing_mm"]
