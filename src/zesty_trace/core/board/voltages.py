"""How far copper of two nets must stand apart for the voltage between them, and which nets carry the mains."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.quantities import mm
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import SolveError

# IPC-2221, table 6-1, column B2: outer conductors, uncoated, up to 3050 m; most volts and mm. From memory.
TABLE_B2 = ((15, 0.1), (30, 0.1), (50, 0.6), (100, 0.6), (150, 0.6), (170, 1.25), (250, 1.25), (300, 1.25), (500, 2.5))
# The same table, column B1: inner conductors. From memory.
TABLE_B1 = ((15, 0.05), (30, 0.05), (50, 0.1), (100, 0.1), (150, 0.2), (170, 0.2), (250, 0.2), (300, 0.2), (500, 0.25))
PER_VOLT_MM = 0.005
PER_VOLT_INNER_MM = 0.0025
MAINS_MM = 6.0  # between mains and all else: common practice; local codes decide
LINES_MM = 2.5  # between conductors of the mains: 325 V peak in the table; IEC 60664-1 asks the same (from memory)
LEAST_V = 30.0
AC_LIMIT_V = 50.0  # IEC 60364-4-41


def spacing_mm(volts: float, inner: bool = False) -> float:
    """Return the least spacing of conductors for a peak voltage between them, mm.

    Outer ones are uncoated (IPC-2221, B2), inner ones have laminate all round (B1).
    """
    table, more = (TABLE_B1, PER_VOLT_INNER_MM) if inner else (TABLE_B2, PER_VOLT_MM)
    for most, gap in table:
        if abs(volts) <= most:
            return gap
    return table[-1][1] + (abs(volts) - table[-1][0]) * more


class Spacings:
    """What spacing pairs of nets need. `high` are the nets for which it may be more than the board house asks."""

    def __init__(
        self,
        states: list[Mapping[str, float]],
        mains: frozenset[str],
        bridged: Mapping[frozenset[str], float],
        classes: Mapping[str, float] | None = None,
    ) -> None:
        self.states, self.mains, self.bridged, self.classes = states, mains, bridged, classes or {}
        volts = {net for s in states for net, v in s.items() if abs(v) > LEAST_V}
        self.high = frozenset(volts | mains | self.classes.keys())

    def need_mm(self, a: str, b: str, inner: bool = False) -> float:
        """Return what two nets need between them, mm, for their voltage and their classes; 0 for one net."""
        if a == b:
            return 0.0
        return max(self.voltage_mm(a, b, inner), self.classes.get(a, 0.0), self.classes.get(b, 0.0))

    def voltage_mm(self, a: str, b: str, inner: bool = False) -> float:
        """Return what two nets need between them for their voltage alone, mm; mains no less on inner layers."""
        if a in self.mains and b in self.mains:
            return min(LINES_MM, self.bridged.get(frozenset((a, b)), LINES_MM))
        if a in self.mains or b in self.mains:
            return MAINS_MM
        return spacing_mm(self.apart_v(a, b), inner)

    def apart_v(self, a: str, b: str) -> float:
        """Return the most volts that the two nets stand apart in any state."""
        return max((abs(s.get(a, 0.0) - s.get(b, 0.0)) for s in self.states), default=0.0)


@worked_out_from(
    lambda wired: (
        wired.catalogue,
        wired.design.parts,
        wired.design.nets,
        wired.design.states,
        wired.design.brief,
        wired.design.board.classes,
    )
)
def spacings(wired: Wired) -> Spacings:
    """Return what spacing the nets of a design need, from all its states and from its mains parts."""
    try:
        states: list[Mapping[str, float]] = [op.net_voltages() for op in analyse(wired).all()]
    except SolveError:
        states = []
    mains = frozenset(mains_nets(wired))
    classes: dict[str, float] = {}
    for group in wired.design.board.classes:
        for net in group.nets if group.clearance_nm else ():
            classes[net] = max(classes.get(net, 0.0), mm(group.clearance_nm))
    return Spacings(states, mains, _bridged(wired, mains), classes)


def _bridged(wired: Wired, mains: frozenset[str]) -> dict[frozenset[str], float]:
    """Return for mains nets with a passive part between them how far its pads are apart, mm: no more helps there."""
    found: dict[frozenset[str], float] = {}
    for ref in wired.design.parts:
        nets = frozenset(wired.net_of.get(p, "") for p in wired.pins_of(ref))
        if len(nets) != 2 or not nets <= mains or len(wired.kind(ref).pins) != 2:
            continue
        a, b = land_pattern(wired.package(ref)).pads[:2]
        gap = max(
            abs(a.x_nm - b.x_nm) - (a.width_nm + b.width_nm) / 2, abs(a.y_nm - b.y_nm) - (a.height_nm + b.height_nm) / 2
        )
        found[nets] = min(found.get(nets, 1e9), max(gap / 1e6, 0.0))
    return found


def mains_nets(wired: Wired) -> set[str]:
    """Return the nets of pins that carry the mains, and those that lie between them behind resistors and capacitors."""
    found = set()
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        if not kind.facts.ac or (leading_value(part.value) or 230.0) <= AC_LIMIT_V:
            continue
        pins = [p for p in wired.pins_of(ref) if not kind.mains or wired.spec(p).name in kind.mains]
        found |= {wired.net_of.get(pin, "") for pin in pins}
    found -= {""}
    grown = bool(found)
    while grown:
        grown = False
        for net in wired.design.nets:
            if net not in found and _hangs_on(wired, net, found):
                found.add(net)
                grown = True
    return found


def _hangs_on(wired: Wired, net: str, mains: set[str]) -> bool:
    """Whether all that is on a net are passive parts of two pins whose other end is on the mains."""
    pins = list(wired.on(net))
    for pin in pins:
        kind = wired.kind(pin.ref)
        others = {wired.net_of.get(p, "") for p in wired.pins_of(pin.ref)} - {net, ""}
        passive = len(kind.pins) == 2 and kind.is_a(m.Resistor, m.FixedResistor, m.Capacitor)
        if not passive or not others <= mains or not others:
            return False
    return bool(pins)
