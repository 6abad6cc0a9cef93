"""An edit on the drawing at once: what did not change stays, changed nets are drawn again, new parts stand beside the rest.

The full arrangement follows in its own time; this is what is shown until then.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from zesty_trace.core.catalogue.kinds import Catalogue, PinSpec
from zesty_trace.core.circuit.topology import kind_of
from zesty_trace.core.design.model import Design
from zesty_trace.core.schematic import symbols
from zesty_trace.core.schematic.sheet import PlacedSymbol, Sheet
from zesty_trace.core.schematic.symbols import Side, Symbol
from zesty_trace.core.schematic.wires import Kept, route_wires

ROOM = 4
HALF_PINS = 2


def amend(
    sheet: Sheet, before: Design, after: Design, catalogue: Catalogue, marks: Mapping[str, str] | None = None
) -> Sheet:
    """Return `sheet`, drawn for `before`, as a drawing of `after`. `marks` as in route_wires.

    Nets whose pins are the same, at the same places, keep their wires.
    """
    if before.parts.keys() == after.parts.keys() and before.nets == after.nets and before.sheet == after.sheet:
        return sheet
    kept = {
        s.ref: s for s in sheet.symbols if s.ref in after.parts and after.parts[s.ref].kind == before.parts[s.ref].kind
    }
    placed = [_moved(s, before, after) for s in kept.values()]
    fresh = [r for r, p in after.parts.items() if r not in before.parts or before.parts[r].kind != p.kind]
    placed += _fresh(sheet, after, catalogue, fresh)
    touched = {s.ref for s in placed if s is not kept.get(s.ref)} | (before.parts.keys() - after.parts.keys())
    again = frozenset(
        net for net in after.nets.keys() | before.nets.keys()
        if before.nets.get(net) != after.nets.get(net) or any(p.ref in touched for p in after.nets.get(net, ()))
    )  # fmt: skip
    lines = {r.net for r in sheet.rails}
    stay = frozenset(
        pin for net in again & lines & before.nets.keys() & after.nets.keys()
        if set(before.nets[net]) <= set(after.nets[net]) and not any(p.ref in touched for p in before.nets[net])
        for pin in before.nets[net]
    )  # fmt: skip
    width = max([sheet.width, *(int(s.body()[2]) + 2 for s in placed)])
    rails = [r for r in sheet.rails if r.net in after.nets]
    wires, tags, junctions = route_wires(
        after,
        placed,
        rails,
        width,
        sheet.height + 2,
        marks,
        keep=Kept(sheet.wires, sheet.tags, sheet.junctions, again, stay),
    )
    return replace(
        sheet, symbols=tuple(placed), rails=tuple(rails), wires=wires, tags=tags, junctions=junctions, width=width
    )


def _moved(symbol: PlacedSymbol, before: Design, after: Design) -> PlacedSymbol:
    spot = after.sheet.get(symbol.ref)
    if spot is None or spot == before.sheet.get(symbol.ref):
        return symbol
    return replace(symbol, x=spot.x, y=spot.y)


def _fresh(sheet: Sheet, design: Design, catalogue: Catalogue, refs: list[str]) -> list[PlacedSymbol]:
    """Return new parts in columns right of the sheet."""
    found: list[PlacedSymbol] = []
    x, y, wide = sheet.width + ROOM, 6, 0
    band = sheet.symbols[0].band if sheet.symbols else 0
    for ref in refs:
        kind = kind_of(design, catalogue, ref)
        if not kind.pins:
            continue
        symbol = plain_symbol(design, catalogue, ref)
        tall = int(symbol.bottom - symbol.top) + 4
        if y + tall > max(sheet.height, 40):
            x, y, wide = x + wide + ROOM, 6, 0
        wide = max(wide, int(symbol.right - symbol.left) + 10)
        found.append(
            PlacedSymbol(ref, symbol, x - int(symbol.left) + 3, y - int(symbol.top), band, design.parts[ref].block)
        )
        y += tall
    return found


def plain_symbol(design: Design, catalogue: Catalogue, ref: str) -> Symbol:
    """Return a part's symbol without regard to where its nets go: the pins of a box half left, half right."""
    kind = kind_of(design, catalogue, ref)
    if len(kind.pins) == 1:
        return symbols.point(kind, hangs=True)
    if len(kind.pins) == HALF_PINS and not kind.connector:
        return symbols.lying(kind, kind.pins[0].number)
    if symbols.look_of(kind) == "switch":
        return symbols.low_side_switch(kind)
    half = (len(kind.pins) + 1) // 2
    sides: dict[Side, list[tuple[PinSpec, int]]] = {
        "left": [(p, 2) for p in kind.pins[:half]], "right": [(p, 2) for p in kind.pins[half:]], "top": [], "bottom": []
    }  # fmt: skip
    return symbols.box(sides, len(ref) + 1)
