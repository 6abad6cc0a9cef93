"""Spacing for voltage: copper of nets that stand far apart in volts needs more than the clearance of the house."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zesty_trace.core.board.copper import copper_items, same_part
from zesty_trace.core.board.voltages import LINES_MM, MAINS_MM, mains_nets, spacing_mm, spacings
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LAYERS
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import say

VOLTAGE = rule(
    "voltage spacing",
    Severity.FIX,
    "Between conductors that are too near for their voltage a spark may creep over dust and damp.",
    "IPC-2221, table 6-1, column B2 (outer conductors, uncoated; from memory)",
    limits="0.6 mm from 31 V, 1.25 mm from 151 V, 2.5 mm from 301 V",
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


def check_spacing(wired: Wired) -> Iterator[Finding]:
    """Yield pairs of nets that are nearer than their voltage allows, the nearest place of each pair."""
    spaced = spacings(wired)
    mains, high = spaced.mains, spaced.high
    if not high:
        return
    for layer in LAYERS:
        items = copper_items(wired, layer)
        hot = [i for i in items if i.net in high]
        nearest: dict[tuple[str, str], tuple[float, float, Any, Any]] = {}
        for a in hot:
            for b in items:
                if not b.net or b.net == a.net or (same_part(a, b) and {a.net, b.net} <= mains):
                    continue  # what lies across a part is for its maker to say
                need = spaced.need_mm(a.net, b.net)
                gap = a.shape.distance(b.shape)
                key = (min(a.net, b.net), max(a.net, b.net))
                if gap < need - 0.002 and gap < nearest.get(key, (1e9,))[0]:
                    nearest[key] = (gap, need, a, b)
        for (one, two), (gap, need, a, _) in nearest.items():
            both = one in mains and two in mains
            found = VOLTAGE if both or not {one, two} & mains else MAINS_GAP
            p = a.shape.representative_point()
            volts = "" if {one, two} & mains else f", {say(spaced.apart_v(one, two), 'V')} apart,"
            yield found.found(
                Subject(nets=(one, two), which=layer),
                f"{one} and {two}{volts} are {gap:.2f} mm from each other on {layer}",
                f"They need {need:g} mm. Move one of them, or cut a slot between.",
                at=(Point(round(p.x * 1e6), round(p.y * 1e6)),),
                value=gap,
                limit=need,
                unit="mm",
            )


__all__ = ["LINES_MM", "MAINS_MM", "check_spacing", "mains_nets", "spacing_mm"]
