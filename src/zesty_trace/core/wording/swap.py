"""Module or bare: a plug-in module replaced by the bare chip with what it needs around it, or the reverse."""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import msgspec
from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.quantities import mm
from zesty_trace.core.wording.sentences import decouple, say
from zesty_trace.errors import EditError

DEFAULT_PRICE_EUR = 0.05  # a small passive at ten pieces: common practice


class Swap(msgspec.Struct, frozen=True, kw_only=True):
    """A module kind, the chip kind that can replace it, and what goes with it."""

    module: str
    bare: str
    pins: dict[str, tuple[str, ...]]
    support: tuple[str, ...]
    gains: tuple[str, ...]
    losses: tuple[str, ...]


@dataclass(frozen=True)
class Figures:
    """What a set of parts asks of the board and the purse."""

    parts: int
    area_mm2: float
    height_mm: float
    joints: int
    cost_eur: float


@dataclass(frozen=True)
class Proposal:
    """Both sides of a swap.

    The figures now and after, what is gained and lost, pins that find no place, and the edit.
    """

    ref: str
    to_kind: str
    before: Figures
    after: Figures
    gains: tuple[str, ...]
    losses: tuple[str, ...]
    homeless: tuple[str, ...]
    design: Design


@cache
def shipped_swaps() -> tuple[Swap, ...]:
    """Return the swaps that come with the application."""
    text = (files("zesty_trace") / "data" / "swaps" / "swaps.toml").read_text("utf-8")
    return tuple(msgspec.convert(table, Swap) for table in tomllib.loads(text).values())


def swappable(design: Design) -> list[str]:
    """Return the references that have another form."""
    kinds = {k for s in shipped_swaps() for k in (s.module, s.bare)}
    return [ref for ref, part in design.parts.items() if part.kind in kinds]


def figures(wired: Wired, refs: set[str]) -> Figures:
    """Return what these parts take together. Areas are courtyards; prices generic for the kind."""
    design = wired.design
    area = height = cost = 0.0
    joints = 0
    for ref in refs:
        _part, kind = design.parts[ref], wired.kind(ref)
        pattern = land_pattern(wired.package(ref))
        x0, y0, x1, y1 = pattern.courtyard
        area += mm(x1 - x0) * mm(y1 - y0)
        height = max(height, mm(pattern.height_nm))
        joints += len(pattern.pads)
        cost += stated(kind.facts.price_eur, DEFAULT_PRICE_EUR)
    return Figures(len(refs), area, height, joints, cost)


def propose(wired: Wired, ref: str) -> Proposal:
    """Return the swap of a part, worked out in full. EditError if it has no other form."""
    design = wired.design
    part = design.parts.get(ref)
    for swap in shipped_swaps():
        if part is not None and part.kind == swap.module:
            after, homeless = _to_bare(wired, part, swap)
            return _proposal(wired, after, ref, swap.bare, swap.gains, swap.losses, homeless)
        if part is not None and part.kind == swap.bare:
            after, homeless = _to_module(wired, part, swap)
            return _proposal(wired, after, ref, swap.module, swap.losses, swap.gains, homeless)
    raise EditError(f"{ref} has no other form", ref, "Pick a plug-in module or a chip that comes as one")


def _proposal(
    wired: Wired,
    after: Design,
    ref: str,
    to_kind: str,
    gains: tuple[str, ...],
    losses: tuple[str, ...],
    homeless: list[str],
) -> Proposal:
    before = wired.design
    gone, come = before.parts.keys() - after.parts.keys(), after.parts.keys() - before.parts.keys()
    return Proposal(
        ref,
        to_kind,
        figures(wired, {ref, *gone}),
        figures(wired.with_design(after), {ref, *come}),
        gains,
        losses,
        tuple(homeless),
        after,
    )


def _put_kind(wired: Wired, ref: str, kind_id: str, nets: dict[str, str]) -> Design:
    """Put a part of another kind in the place of `ref`, its pins (by number) on these nets, the rest left open."""
    design = wired.design
    old, kind = design.parts[ref], wired.catalogue.kind(kind_id)
    bare = edits.remove_part(design, ref)
    part = Part(ref=ref, kind=kind_id, package=kind.packages[0], variants=old.variants, block=old.block, notes="")
    order = {r: part if r == ref else p for r, p in design.parts.items()}
    design = replace(bare, parts=order)
    for spec in kind.pins:
        net = nets.get(spec.number)
        pin = Pin(ref, spec.number)
        design = (
            edits.connect(design, pin, net)
            if net
            else edits.leave_open(design, pin)
            if spec.role != "no_connect"
            else design
        )
    return design


def _to_bare(wired: Wired, part: Part, swap: Swap) -> tuple[Design, list[str]]:
    design = wired.design
    module, chip = wired.catalogue.kind(swap.module), wired.catalogue.kind(swap.bare)
    net_of = design.net_of()
    nets: dict[str, str] = {}
    by_name: dict[str, str] = {}
    homeless = []
    needed = {w[1:] for line in swap.support for w in re.findall(r"@\w+", line)}
    for spec in module.pins:
        net = net_of.get(Pin(part.ref, spec.number))
        if net is None and spec.name in needed:
            net = edits.fresh_net(design, spec.name)
        if net is None:
            continue
        by_name[spec.name] = net
        names = swap.pins.get(spec.name, ())
        if not names and spec.name not in needed and spec.role != "ground":
            homeless.append(spec.name)
        for name in names:
            nets[chip.pin_named(name).number] = net
    design = _put_kind(wired.with_design(design), part.ref, swap.bare, nets)
    fresh: dict[str, str] = {"CHIP": part.ref}
    skip_regulator = by_name.get("VIN") not in design.nets
    for line in swap.support:
        words = re.findall(r"\$(\w+)", line)
        if skip_regulator and "REG" in words:
            continue
        for name in words:
            if name not in fresh:
                kind = wired.catalogue.kind(line.split()[2])
                fresh[name] = edits.fresh_ref(design, kind.prefix)
        sentence = re.sub(r"\$(\w+)", lambda m: fresh[m.group(1)], line)
        sentence = re.sub(r"@(\w+)", lambda m: by_name[m.group(1)], sentence)
        design = say(sentence, wired.with_design(design))
    return decouple(wired.with_design(design), part.ref), homeless


def _to_module(wired: Wired, part: Part, swap: Swap) -> tuple[Design, list[str]]:
    design = wired.design
    module, chip = wired.catalogue.kind(swap.module), wired.catalogue.kind(swap.bare)
    net_of, ground = design.net_of(), wired.with_design(design).ground
    back = {name: m for m, names in swap.pins.items() for name in names}
    nets: dict[str, str] = {}
    homeless: list[str] = []
    left: set[str] = set()
    for spec in chip.pins:
        net = net_of.get(Pin(part.ref, spec.number))
        if net is None:
            continue
        name = back.get(spec.name)
        alone = _only_for_chip(wired.with_design(design), part.ref, {net})
        if name is None or (name == "NRST" and len(alone) == len({p.ref for p in design.nets[net]}) - 1):
            left.add(net)
            if spec.name not in ("BOOT", "PROG", "NRST"):
                homeless.append(spec.name)
        else:
            nets[module.pin_named(name).number] = net
    supply = nets.get(module.pin_named("3V3").number, "")
    doomed = _only_for_chip(wired.with_design(design), part.ref, left) | _bypasses(
        wired.with_design(design), part.ref, supply
    )
    regulator = _regulator_of(wired.with_design(design), supply)
    if regulator:
        kind = wired.with_design(design).kind(regulator)
        feed = next((net_of.get(Pin(regulator, s.number)) for s in kind.pins if s.role == "supply_in"), None)
        if feed:
            nets[module.pin_named("VIN").number] = feed
            doomed |= {regulator, *_bypasses(wired.with_design(design), regulator, supply)}
    second_ground = next((s.number for s in module.pins if s.name == "GND2"), None)
    if second_ground and ground:
        nets[second_ground] = ground
    design = _put_kind(wired.with_design(design), part.ref, swap.module, nets)
    for ref in sorted(doomed):
        design = edits.remove_part(design, ref)
    return design, homeless


def _only_for_chip(wired: Wired, ref: str, nets: set[str]) -> set[str]:
    """Return parts on these nets that serve nothing else.

    Passives to a supply or ground, and plugs with no other line.
    """
    design = wired.design
    rails = {*wired.rails, wired.ground}
    net_of = wired.net_of
    found = set()
    for net in nets:
        for pin in design.nets[net]:
            others = {net_of.get(Pin(pin.ref, s.number)) for s in wired.kind(pin.ref).pins} - {None}
            if pin.ref != ref and others <= rails | nets:
                found.add(pin.ref)
    return found


def _bypasses(wired: Wired, ref: str, supply: str) -> set[str]:
    """Return the bypass capacitors of the values that a part wants, off its supply."""
    design = wired.design
    _net_of, ground = wired.net_of, wired.ground
    wanted = [need.value for need in wired.kind(ref).needs]
    found = set()
    for near in wired.near(supply, m.Capacitor):
        value = design.parts[near.ref].value
        if near.beyond == ground and value in wanted:
            wanted.remove(value)
            found.add(near.ref)
    return found


def _regulator_of(wired: Wired, supply: str) -> str | None:
    """Return the linear regulator that makes a supply."""
    design = wired.design
    for pin in design.nets.get(supply, ()):
        kind = wired.kind(pin.ref)
        if kind.is_a(m.Regulator) and any(s.number == pin.number and s.role == "supply_out" for s in kind.pins):
            return pin.ref
    return None
