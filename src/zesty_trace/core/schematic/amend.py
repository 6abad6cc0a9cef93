"""An edit on the drawing at once.

What did not change stays, changed nets are drawn again, new parts stand beside the rest.

The full arrangement follows in its own time; this is what is shown until then.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from zesty_trace.core.catalogue.kinds import PinSpec
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic import symbols
from zesty_trace.core.schematic.apart import put_apart
from zesty_trace.core.schematic.labels import drawn_boxes, labels_on, lines_of, tag_box
from zesty_trace.core.schematic.paths import cells_of
from zesty_trace.core.schematic.sheet import PlacedSymbol, Sheet
from zesty_trace.core.schematic.symbols import Side, Symbol
from zesty_trace.core.schematic.wires import Kept, route_wires

ROOM = 4
REACH, CLEAR, LABEL = 44, 2.5, 6.0  # how far a new part is looked for room, and the room it wants, grid units
HALF_PINS = 2


def amend(sheet: Sheet, before: Design, wired: Wired, marks: Mapping[str, str] | None = None) -> Sheet:
    """Return `sheet`, drawn for `before`, as a drawing of `wired`. `marks` as in route_wires.

    Nets whose pins are the same, at the same places, keep their wires.
    """
    after = wired.design
    if before.parts.keys() == after.parts.keys() and before.nets == after.nets and before.sheet == after.sheet:
        return sheet
    kept = {
        s.ref: s for s in sheet.symbols if s.ref in after.parts and after.parts[s.ref].kind == before.parts[s.ref].kind
    }
    placed = [_moved(s, before, after) for s in kept.values()]
    moved = {s.ref for s in placed if s is not kept[s.ref]}
    flags = (tag_box(t) for t in sheet.tags if t.pin.ref not in moved)
    placed = put_apart(placed, moved, partial(_rooms_of, wired), flags)
    fresh = [r for r, p in after.parts.items() if r not in before.parts or before.parts[r].kind != p.kind]
    placed += _fresh(replace(sheet, symbols=tuple(placed)), wired, fresh)
    touched = {s.ref for s in placed if s is not kept.get(s.ref)} | (before.parts.keys() - after.parts.keys())
    again = frozenset(
        net
        for net in after.nets.keys() | before.nets.keys()
        if before.nets.get(net) != after.nets.get(net) or any(p.ref in touched for p in after.nets.get(net, ()))
    )
    bundles = tuple(b for b in sheet.bundles if not any(t.net in again for t in b.taps))
    unbundled = {t.net for b in sheet.bundles if b not in bundles for t in b.taps}
    again |= unbundled & after.nets.keys()
    stay = frozenset(
        pin
        for net in (again - unbundled) & before.nets.keys() & after.nets.keys()
        for pin in _staying(sheet, net, before.nets[net], after.nets[net], touched)
    )
    width = max([sheet.width, *(int(s.body()[2]) + 2 for s in placed)])
    rails = [r for r in sheet.rails if r.net in after.nets]
    routed = route_wires(
        wired,
        placed,
        rails,
        width,
        sheet.height + 2,
        marks,
        keep=Kept(sheet.wires, sheet.tags, sheet.junctions, again, stay, bundles),
    )
    return replace(
        sheet,
        symbols=tuple(placed),
        rails=tuple(rails),
        wires=tuple(routed.wires),
        tags=tuple(routed.tags),
        junctions=routed.junctions,
        width=width,
        bundles=bundles,
    )


def _staying(sheet: Sheet, net: str, old: Sequence[Pin], new: Sequence[Pin], touched: set[str]) -> list[Pin]:
    """Return the pins of a net whose wires and tags can stay as they are drawn, though others come or go."""
    there = set(new)
    gone = {p for p in old if p not in there or p.ref in touched}
    return [p for p in old if p not in gone] if not gone or _ends_free(sheet, net, gone) else []


def _ends_free(sheet: Sheet, net: str, gone: set[Pin]) -> bool:
    """Whether pins can be taken off a drawn net one by one: each is the start of one wire, on which no other ends."""
    wires = [w for w in sheet.wires if w.net == net]
    own = [w for w in wires if w.pin in gone]
    drawn = {s.ref for s in sheet.symbols}
    if len(own) != sum(p.ref in drawn for p in gone) or any(t.pin in gone for t in sheet.tags if t.net == net):
        return False
    cells = {c for w in own for c in cells_of(w.points)}
    return not any(end in cells for w in wires if w not in own for end in (w.points[0], w.points[-1]))


def _rooms_of(wired: Wired, s: PlacedSymbol) -> list[Box]:
    """Return the room of a part's body, of its leads, and of what is written at it."""
    spots = [Box(*s.pin_at(p), *s.pin_at(p)) for p in s.symbol.pins]
    labels = (label.box() for _, labels in labels_on([s], wired, wired.net_of) for label in labels)
    return [s.body().grown(0.5), *(b.grown(0.5) for b in spots), *(b.grown(0.2) for b in labels)]


def _moved(symbol: PlacedSymbol, before: Design, after: Design) -> PlacedSymbol:
    spot = after.sheet.get(symbol.ref)
    if spot is None or spot == before.sheet.get(symbol.ref):
        return symbol
    return replace(symbol, x=spot.x, y=spot.y)


def _fresh(sheet: Sheet, wired: Wired, refs: list[str]) -> list[PlacedSymbol]:
    """Return new parts: near what they join where there is room, else in columns right of the sheet."""
    design = wired.design
    found: list[PlacedSymbol] = []
    boxes = drawn_boxes(sheet, wired)
    homes = {s.ref: s for s in sheet.symbols}
    rails = {r.net for r in sheet.rails}
    x, y, wide = sheet.width + ROOM, 6, 0
    for ref in refs:
        if not wired.kind(ref).pins:
            continue
        symbol = plain_symbol(wired, ref)
        home = _home(design, ref, homes, rails)
        near = _spot_near(symbol, home, sheet, boxes) if home else None
        if near is None:
            tall = int(symbol.bottom - symbol.top) + 4
            if y + tall > max(sheet.height, 40):
                x, y, wide = x + wide + ROOM, 6, 0
            wide = max(wide, int(symbol.right - symbol.left) + 10)
            near = (x - int(symbol.left) + 3, y - int(symbol.top))
            y += tall
        band = home.band if home else sheet.symbols[0].band if sheet.symbols else 0
        placed = PlacedSymbol(ref, symbol, *near, band, design.parts[ref].block or (home.block if home else ""))
        boxes.append(placed.body())
        homes[ref] = placed
        found.append(placed)
    return found


def _home(design: Design, ref: str, homes: Mapping[str, PlacedSymbol], rails: set[str]) -> PlacedSymbol | None:
    """Return a drawn part that a new one shares a signal with, of the nets with fewest pins."""
    nets = [pins for net, pins in design.nets.items() if net not in rails and any(p.ref == ref for p in pins)]
    for pins in sorted(nets, key=len):
        for pin in pins:
            if pin.ref != ref and pin.ref in homes:
                return homes[pin.ref]
    return None


def _spot_near(symbol: Symbol, home: PlacedSymbol, sheet: Sheet, boxes: list[Box]) -> tuple[int, int] | None:
    """Return the free spot nearest to `home` with room for the body, its pins and its label, on the sheet.

    None if none.
    """
    left, top, right, bottom = np.array(boxes, dtype=float).T
    dx, dy = (
        a.ravel() for a in np.meshgrid(np.arange(-REACH, REACH + 1, 2), np.arange(-REACH // 2, REACH // 2 + 1, 2))
    )
    order = np.argsort(np.abs(dx) + 1.5 * np.abs(dy), kind="stable")
    x, y = home.x + dx[order], home.y + dy[order]
    fits = (x + symbol.left > 4) & (x + symbol.right + LABEL < sheet.width) & (y + symbol.top > 4)
    fits &= y + symbol.bottom < sheet.height
    for k in np.flatnonzero(fits):
        a, b = x[k] + symbol.left - CLEAR, x[k] + symbol.right + LABEL
        c, d = y[k] + symbol.top - CLEAR, y[k] + symbol.bottom + CLEAR
        if not ((left < b) & (right > a) & (top < d) & (bottom > c)).any():
            return int(x[k]), int(y[k])
    return None


def plain_symbol(wired: Wired, ref: str) -> Symbol:
    """Return a part's symbol without regard to where its nets go: the pins of a box half left, half right."""
    kind = wired.kind(ref)
    if len(kind.pins) == 1:
        return symbols.point(kind, hangs=True)
    if len(kind.pins) == HALF_PINS and not kind.connector:
        return symbols.lying(kind, kind.pins[0].number)
    if symbols.look_of(kind) == "switch":
        return symbols.low_side_switch(kind)
    half = (len(kind.pins) + 1) // 2
    sides: dict[Side, list[tuple[PinSpec, int]]] = {
        "left": [(p, 2) for p in kind.pins[:half]],
        "right": [(p, 2) for p in kind.pins[half:]],
        "top": [],
        "bottom": [],
    }
    return symbols.box(sides, (ref, *lines_of(wired.design.parts[ref], kind, True)))
