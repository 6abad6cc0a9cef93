"""Plain connectors that bring the supply: a terminal block or a header that stands where the inlet would.

A connector is only a row of contacts. One that has the ground on one contact, and on another a net that feeds the
board and that nothing on the board feeds, is the inlet, whatever its kind is called.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import Kind, PinSpec
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.stated import leading_value

PASSES_OHM = 10.0  # of a resistor in a supply line, common practice
MOST_INLETS = 4


def inlets_by_wiring(design: Design, catalogue: Catalogue) -> dict[str, Kind]:
    """Return the plain connectors that feed the board, each with its kind as that of an inlet."""
    return _Feeding(design, catalogue).find()


class _Feeding:
    def __init__(self, design: Design, catalogue: Catalogue) -> None:
        self.design = design
        self.kinds = {ref: catalogue.kind(p.kind) for ref, p in design.parts.items()}
        self.specs = {Pin(ref, s.number): s for ref, kind in self.kinds.items() for s in kind.pins}
        self.net_of = design.net_of()
        self.ground = self._ground()

    def _role(self, pin: Pin) -> str:
        spec = self.specs.get(pin)
        return spec.role if spec else ""

    def _ground(self) -> str:
        counts = {n: sum(self._role(p) == "ground" for p in pins) for n, pins in self.design.nets.items()}
        best = max(counts, key=lambda n: counts[n], default="")
        return best if counts.get(best) else ("GND" if "GND" in counts else "")

    def find(self) -> dict[str, Kind]:
        """Feed what is unfed, from the connector that reaches most of it, again and again."""
        found: dict[str, Kind] = {}
        fed = self._fed_already()
        for _ in range(MOST_INLETS):
            wanted = {
                n for n, pins in self.design.nets.items() if any(self._role(p) == "supply_in" for p in pins)
            } - fed
            choices = [(len(r & wanted), len(r), pin, r) for pin, r in self._candidates(fed) if r & wanted]
            if not wanted or not choices:
                break
            _, _, pin, reached = max(choices, key=lambda c: (c[0], c[1]))
            found[pin.ref] = self._as_inlet(pin)
            fed |= self._downstream(reached)
        return found

    def _fed_already(self) -> set[str]:
        """Return the nets that inlets, cells and supplies of the board reach."""
        sources = {
            self.net_of[p]
            for p, s in self.specs.items()
            if p in self.net_of and s.role == "supply_out" and self.kinds[p.ref].is_a(m.Inlet, m.Battery)
        }
        return self._downstream(set().union(*(self._reach(n) for n in sources))) if sources else set()

    def _downstream(self, nets: set[str]) -> set[str]:
        """Return the nets with those that supplies fed from there give out."""
        found, edge = set(nets), set(nets)
        while edge:
            given = set()
            for ref, kind in self.kinds.items():
                ins = [self.net_of.get(Pin(ref, s.number), "") for s in kind.pins if s.role == "supply_in"]
                outs = [self.net_of.get(Pin(ref, s.number), "") for s in kind.pins if s.role == "supply_out"]
                if found & set(ins):
                    given |= {n for out in outs if out for n in self._reach(out)}
            edge = given - found
            found |= edge
        return found

    def _candidates(self, fed: set[str]) -> Iterator[tuple[Pin, set[str]]]:
        """Yield (contact, nets that it reaches) of plain connectors that have the ground too."""
        given = {self.net_of.get(p, "") for p, s in self.specs.items() if s.role == "supply_out"}
        held = {header for part in self.design.parts.values() for header in part.stands_on}
        for ref, kind in self.kinds.items():
            plain = ref not in held and kind.connector and kind.is_a(m.Open) and not kind.external
            pins = [Pin(ref, s.number) for s in kind.pins]
            nets = {p: self.net_of.get(p, "") for p in pins}
            if not plain or any(s.role != "passive" for s in kind.pins) or self.ground not in nets.values():
                continue
            for pin, net in nets.items():
                if net and net not in {self.ground, *given, *fed}:
                    yield pin, self._reach(net)

    def _reach(self, start: str) -> set[str]:
        """Return the nets behind fuses, coils, diodes and switches, in the direction in which they pass."""
        found, edge = {start}, [start]
        while edge:
            for net in self._beyond(edge.pop()):
                if net not in found and net != self.ground:
                    found.add(net)
                    edge.append(net)
        return found

    def _beyond(self, net: str) -> Iterator[str]:
        for pin in self.design.nets.get(net, ()):
            kind = self.kinds.get(pin.ref)
            if kind is None:
                continue
            names = {s.name: self.net_of.get(Pin(pin.ref, s.number), "") for s in kind.pins}
            own = self.specs[pin].name if pin in self.specs else ""
            small = kind.is_a(m.Resistor) and (leading_value(self.design.parts[pin.ref].value) or 0.0) <= PASSES_OHM
            if kind.is_a(m.FixedResistor) or small or (kind.prefix == "SW" and len(kind.pins) <= 3):
                yield from names.values()
            elif kind.is_a(m.Diode) and own == "A":
                yield names["K"]
            elif kind.is_a(m.Pmos) and own in ("D", "S"):
                yield names["S" if own == "D" else "D"]

    def _as_inlet(self, pin: Pin) -> Kind:
        kind = self.kinds[pin.ref]
        grounds = [s for s in kind.pins if self.net_of.get(Pin(pin.ref, s.number), "") == self.ground]

        def fresh(spec: PinSpec) -> PinSpec:
            if spec.number == pin.number:
                return replace(spec, role="supply_out")
            return replace(spec, role="ground") if spec == grounds[0] else spec

        return replace(kind, model=m.Inlet(), pins=tuple(fresh(s) for s in kind.pins))
