"""The nets that are in the copper, by the pins that are on it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.fabrication.adopting.coming import Adopted, One
from zesty_trace.core.fabrication.adopting.matching import is_via
from zesty_trace.core.fabrication.adopting.set_pads import SetPad, net_names
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.fabrication.looking.tracing import Copper, what_should_be
from zesty_trace.names import is_name


def nets_of(
    board: BoardSet, copper: Copper, pads: list[SetPad], parts: dict[str, One], found: Adopted,
    kinds: Mapping[str, Kind], design: Design,
) -> tuple[dict[str, tuple[Pin, ...]], tuple[Pin, ...]]:  # fmt: skip
    """Return the nets that are in the copper, by the names that the files give them, and the pins on copper alone."""
    contacts, _ = what_should_be(board)
    said = net_names(contacts, copper)
    on: dict[int, list[Pin]] = {}
    grounds: dict[int, int] = {}
    for one in parts.values():
        if one.ref not in design.parts:
            continue
        kind = kinds[design.parts[one.ref].kind]
        for number, hits in one.pins.items():
            spec = kind.pin(number)
            for piece in {pads[k].piece for k in hits}:
                if spec is not None and spec.number == number:
                    on.setdefault(piece, []).append(Pin(one.ref, number))
                    grounds[piece] = grounds.get(piece, 0) + (spec.role == "ground")
    pads_on = Counter(pad.piece for pad in pads if not is_via(pad))
    nets: dict[str, tuple[Pin, ...]] = {}
    free: list[Pin] = []
    seen: dict[Pin, str] = {}
    unnamed = [p for p in on if not said.get(p)]
    largest = max(unnamed, key=lambda p: grounds.get(p, 0), default=None)
    for piece, pins in sorted(on.items(), key=lambda item: (-len(item[1]), item[0])):
        fresh = [p for p in dict.fromkeys(sorted(pins)) if p not in seen]
        if len(pins) == 1 and pads_on[piece] <= 1 and not said.get(piece):
            free += fresh
            continue
        name = _net_name(said.get(piece, []), piece == largest and grounds.get(piece, 0) > 0, nets, found)
        for pin in fresh:
            seen[pin] = name
        if fresh:
            nets[name] = tuple(fresh)
    return nets, tuple(sorted(free))


def _net_name(said: list[str], is_ground: bool, nets: Mapping[str, object], found: Adopted) -> str:
    """Return what a piece of copper is called: as the files say, GND where most grounds are, else N and a number."""
    if len(said) > 1:
        found.notes.append(f"The copper joins {' and '.join(sorted(said))}: they are one net here, called {said[0]}")
    base = "".join(c if is_name(c, "net name") else "_" for c in said[0])[:36] if said else "GND" if is_ground else ""
    if not base:
        return next(f"N{k}" for k in range(1, 100_000) if f"N{k}" not in nets)
    if base not in nets:
        return base
    name = next(f"{base}_{k}" for k in range(2, 100_000) if f"{base}_{k}" not in nets)
    found.notes.append(f"{base} is in several pieces of copper: the further one is called {name}")
    return name
