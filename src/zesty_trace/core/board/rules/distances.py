"""Distances that the circuit asks of the placing: bypass capacitors, crystals, clamps, what a regulator needs."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import BoardPad, board_pads, pad_polygons, pad_shapes
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.decoupling import decoupled_part
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point

BYPASS_MM, CRYSTAL_MM, CLAMP_MM, REGULATOR_MM = 3.0, 6.0, 15.0, 6.0

BYPASS = rule(
    "bypass distance",
    Severity.FIX,
    "A bypass capacitor that stands far off cannot feed the chip's steps of current: the supply dips, the chip resets.",
    "common practice: within 3 mm of the supply pin",
    limits=f"{BYPASS_MM:g} mm from pad to pad",
    station="layout",
)
CRYSTAL = rule(
    "crystal distance",
    Severity.FIX,
    "Long leads of a crystal pick up noise and may keep it from starting.",
    "common practice: within 6 mm of its pins",
    limits=f"{CRYSTAL_MM:g} mm from pad to pad",
    station="layout",
)
CLAMP = rule(
    "clamp distance",
    Severity.FIX,
    "A surge reaches the rest of the board before a clamp that stands far from the inlet takes it.",
    "common practice: protection stands where the wire comes in",
    limits=f"{CLAMP_MM:g} mm from the inlet's pad",
    station="layout",
)
REGULATOR = rule(
    "regulator capacitor",
    Severity.FIX,
    "A regulator whose capacitors are far off may oscillate.",
    "common practice: input and output capacitors right at the regulator",
    limits=f"{REGULATOR_MM:g} mm from pad to pad",
    station="layout",
)


@dataclass(frozen=True)
class Distance:
    """How far two pads are that should be near: the rule it belongs to, the limit, mm."""

    what: str
    ref: str
    to: str
    net: str
    mm: float
    limit_mm: float
    at: Point


def check_distances(wired: Wired, only: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield what stands too far from what it serves; with `only`, where one of those parts is concerned."""
    rules = {"bypass": BYPASS, "crystal": CRYSTAL, "clamp": CLAMP, "regulator": REGULATOR}
    for d in distances(wired, only):
        if d.mm > d.limit_mm:
            yield rules[d.what].found(
                Subject(refs=(d.ref, d.to), which=d.net),
                f"{d.ref} stands {d.mm:.1f} mm from {d.to} on {d.net}",
                f"It should be within {d.limit_mm:g} mm. Move it nearer, or add another.",
                nets=(d.net,),
                at=(d.at,),
                value=d.mm,
                limit=d.limit_mm,
                unit="mm",
            )


def distances(wired: Wired, only: Collection[str] | None = None) -> list[Distance]:
    """Return every distance that the circuit asks for, as it is on the board; with `only`, those of some parts."""
    pads = _Pads(wired, only)
    found = [*_bypass(wired, pads), *_crystals(wired, pads), *_clamps(wired, pads), *_regulators(wired, pads)]
    return found if only is None else [d for d in found if d.ref in only or d.to in only]


class _Pads:
    """The pads of parts with their polygons, of all or of those that are asked for."""

    def __init__(self, wired: Wired, only: Collection[str] | None) -> None:
        self._wired, self._only = wired, only
        self._by_part: dict[str, list[tuple[BoardPad, Any]]] = {}
        for pad, shape in zip(board_pads(wired), pad_polygons(wired), strict=True) if only is None else ():
            if pad.net and pad.layers:
                self._by_part.setdefault(pad.pin.ref, []).append((pad, shape))

    def of(self, ref: str) -> list[tuple[BoardPad, Any]]:
        """Return the pads of a part that are on nets."""
        if self._only is not None and ref not in self._by_part:
            pads = [p for p in board_pads(self._wired, (ref,)) if p.net and p.layers]
            self._by_part[ref] = list(zip(pads, pad_shapes(pads), strict=True))
        return self._by_part.get(ref, [])

    def concern(self, refs: Collection[str]) -> bool:
        """Whether one of these parts is asked for."""
        return self._only is None or any(r in self._only for r in refs)

    def between(self, a: str, b: str, net: str) -> tuple[float, Point] | None:
        """Return how far the nearest pads of two parts on a net are, mm, and where."""
        found = [
            (sa.distance(sb), Point(pa.x_nm, pa.y_nm))
            for pa, sa in self.of(a)
            if pa.net == net
            for pb, sb in self.of(b)
            if pb.net == net
        ]
        return min(found) if found else None

    def from_pin(self, pin: Pin, others: list[str]) -> tuple[float, str, Point] | None:
        """Return the part of `others` whose pad on the pin's net is nearest to the pin."""
        own = [(p, s) for p, s in self.of(pin.ref) if p.pin == pin]
        found = [
            (s.distance(so), ref, Point(po.x_nm, po.y_nm))
            for p, s in own
            for ref in others
            for po, so in self.of(ref)
            if po.net == p.net
        ]
        return min(found) if found else None


def _bypass(wired: Wired, pads: _Pads) -> Iterator[Distance]:
    """Yield, per chip that bypass capacitors belong to, the nearest one: one at its pin is what it needs."""
    members = list(wired.design.parts)
    rails = set(wired.rails)
    mine: dict[tuple[str, str], list[str]] = {}
    for index, ref in enumerate(members):
        if not wired.kind(ref).is_a(m.Capacitor):
            continue
        nets = {wired.net_of.get(p, "") for p in wired.pins_of(ref)}
        on_rail = nets & rails
        if len(on_rail) != 1 or wired.ground not in nets:
            continue
        host, rail = decoupled_part(wired, members, index), next(iter(on_rail))
        if host and not wired.kind(host).is_a(m.Supply) and not wired.kind(host).connector:
            mine.setdefault((host, rail), []).append(ref)
    for (host, rail), caps in mine.items():
        if not pads.concern((host, *caps)):
            continue
        found = [(near[0], ref, near[1]) for ref in caps if (near := pads.between(ref, host, rail))]
        if not found:
            continue
        far, ref, at = min(found)
        yield Distance("bypass", ref, host, rail, far, BYPASS_MM, at)


def _crystals(wired: Wired, pads: _Pads) -> Iterator[Distance]:
    for ref in wired.design.parts:
        if not wired.design.parts[ref].kind.startswith("crystal"):
            continue
        for net in sorted({p.net for p, _ in pads.of(ref)} - {wired.ground}):
            chips = {p.ref for p in wired.on(net) if len(wired.kind(p.ref).pins) > 4}
            for chip in sorted(chips):
                if near := pads.between(ref, chip, net):
                    yield Distance("crystal", ref, chip, net, near[0], CRYSTAL_MM, near[1])


def _clamps(wired: Wired, pads: _Pads) -> Iterator[Distance]:
    """Yield how far each clamp is from the inlet or connector whose net it guards, a fuse between them counted in."""
    for ref in wired.of_model(m.Zener):
        nets = {p.net for p, _ in pads.of(ref)}
        if wired.ground not in nets:
            continue
        for net in sorted(nets - {wired.ground}):
            beyond = {n.beyond for n in wired.near(net, m.Resistor, m.FixedResistor) if n.ref.startswith("F")} - {""}
            inlets = [
                (r, n)
                for n in (net, *sorted(beyond))
                for r in sorted({p.ref for p in wired.on(n)})
                if wired.kind(r).is_a(m.Inlet)
            ]
            for inlet, on in inlets:
                fuse = next((n.ref for n in wired.near(net) if n.beyond == on), None)
                near = pads.between(ref, inlet, net) or (pads.between(ref, fuse, net) if fuse else None)
                if near:
                    yield Distance("clamp", ref, inlet if on == net else str(fuse), net, near[0], CLAMP_MM, near[1])


def _regulators(wired: Wired, pads: _Pads) -> Iterator[Distance]:
    """Yield the nearest capacitor at each supply pin of a regulator that has one on its net."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if not kind.is_a(m.Supply) or kind.connector:
            continue
        for spec in kind.pins:
            pin = Pin(ref, spec.number)
            net = wired.net_of.get(pin, "")
            if spec.role not in ("supply_in", "supply_out") or not net:
                continue
            caps = [n.ref for n in wired.near(net, m.Capacitor) if n.beyond == wired.ground]
            if pads.concern((ref, *caps)) and (near := pads.from_pin(pin, caps)):
                yield Distance("regulator", near[1], ref, net, near[0], REGULATOR_MM, near[2])
