"""Spacing for voltage: copper of nets that stand far apart in volts needs more than the clearance of the house."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from zesty_trace.core.board.copper import copper_items
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LAYERS
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import say
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import SolveError

# IPC-2221, table 6-1, column B2: outer conductors, uncoated, up to 3050 m; most volts and mm. From memory.
TABLE_B2 = ((15, 0.1), (30, 0.1), (50, 0.6), (100, 0.6), (150, 0.6), (170, 1.25), (250, 1.25), (300, 1.25), (500, 2.5))
PER_VOLT_MM = 0.005
MAINS_MM = 6.0
LEAST_V = 30.0
AC_LIMIT_V = 50.0  # IEC 60364-4-41

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


def spacing_mm(volts: float) -> float:
    """Return the least spacing of uncoated outer conductors for a peak voltage between them, mm (IPC-2221, B2)."""
    for most, gap in TABLE_B2:
        if abs(volts) <= most:
            return gap
    return TABLE_B2[-1][1] + (abs(volts) - TABLE_B2[-1][0]) * PER_VOLT_MM


def check_spacing(wired: Wired) -> Iterator[Finding]:
    """Yield pairs of nets that are nearer than their voltage allows, the nearest place of each pair."""
    mains = mains_nets(wired)
    try:
        states = [op.net_voltages() for op in analyse(wired).all()]
    except SolveError:
        states = []
    high = {net for s in states for net, v in s.items() if abs(v) > LEAST_V} | mains
    if not high:
        return
    for layer in LAYERS:
        items = copper_items(wired, layer)
        hot = [i for i in items if i.net in high]
        nearest: dict[tuple[str, str], tuple[float, float, Any, Any]] = {}
        for a in hot:
            for b in items:
                if not b.net or b.net == a.net or (a.net in mains and b.net in mains):
                    continue
                is_mains = a.net in mains or b.net in mains
                need = MAINS_MM if is_mains else spacing_mm(_apart(states, a.net, b.net))
                gap = a.shape.distance(b.shape)
                key = (min(a.net, b.net), max(a.net, b.net))
                if gap < need - 0.002 and gap < nearest.get(key, (1e9,))[0]:
                    nearest[key] = (gap, need, a, b)
        for (one, two), (gap, need, a, _) in nearest.items():
            found = MAINS_GAP if {one, two} & mains else VOLTAGE
            p = a.shape.representative_point()
            volts = "" if {one, two} & mains else f", {say(_apart(states, one, two), 'V')} apart,"
            yield found.found(
                Subject(nets=(one, two), which=layer),
                f"{one} and {two}{volts} are {gap:.2f} mm from each other on {layer}",
                f"They need {need:g} mm. Move one of them, or cut a slot between.",
                at=(Point(round(p.x * 1e6), round(p.y * 1e6)),),
                value=gap,
                limit=need,
                unit="mm",
            )


def _apart(states: list[Mapping[str, float]], a: str, b: str) -> float:
    return max((abs(s.get(a, 0.0) - s.get(b, 0.0)) for s in states), default=0.0)


def mains_nets(wired: Wired) -> set[str]:
    """Return the nets of pins that carry the mains."""
    found = set()
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        if not kind.facts.ac or (leading_value(part.value) or 230.0) <= AC_LIMIT_V:
            continue
        pins = [p for p in wired.pins_of(ref) if not kind.mains or wired.spec(p).name in kind.mains]
        found |= {wired.net_of.get(pin, "") for pin in pins}
    return found - {""}
