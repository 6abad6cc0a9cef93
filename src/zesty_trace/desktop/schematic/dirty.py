"""What part of the sheet looks different between two views, so that an edit repaints no more than that."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from PySide6.QtCore import QRectF

from zesty_trace.core.geometry import Box
from zesty_trace.desktop.schematic.view import SheetView

EVERYWHERE = ("ground", "overlay", "unknown", "lit_refs", "lit_nets", "badges", "variant", "lights", "volts", "amps")
LABEL_RIGHT, LABEL_AROUND = 14.0, 4.0  # how far what is written beside a part reaches, grid units


def changed_rect(old: SheetView, new: SheetView) -> QRectF | None:
    """Return the rectangle of the scene that looks different; None stands for all of it, an empty one for nothing."""
    if any(getattr(old, name) != getattr(new, name) for name in EVERYWHERE):
        return None
    a, b = old.sheet, new.sheet
    if (a.rails, a.titles, a.bundles, a.width, a.height) != (b.rails, b.titles, b.bundles, b.width, b.height):
        return None
    rect = QRectF()
    for left, top, right, bottom in _boxes(old, new):
        rect = rect.united(
            QRectF(
                left - LABEL_RIGHT, top - LABEL_AROUND, right - left + 2 * LABEL_RIGHT, bottom - top + 2 * LABEL_AROUND
            )
        )
    return rect


def _boxes(old: SheetView, new: SheetView) -> Iterator[Box]:
    a, b = old.sheet, new.sheet
    refs = _changed_refs(old, new)
    for symbol in {*_fresh(a.symbols, b.symbols), *(s for s in b.symbols if s.ref in refs)}:
        yield symbol.body()
    for wire in _fresh(a.wires, b.wires):
        yield wire.bounds
    for tag in _fresh(a.tags, b.tags):
        yield Box(*tag.at, *tag.at)
    for x, y in _fresh(a.junctions, b.junctions):
        yield Box(x, y, x, y)


def _changed_refs(old: SheetView, new: SheetView) -> set[str]:
    before, after = old.design, new.design
    refs = set()
    if before.parts is not after.parts:
        refs = {r for r, p in after.parts.items() if before.parts.get(r) is not p and before.parts.get(r) != p}
    if before.nets is not after.nets:
        for net in before.nets.keys() | after.nets.keys():
            was, now = before.nets.get(net, ()), after.nets.get(net, ())
            if was is not now and was != now:
                refs |= {p.ref for p in set(was) ^ set(now)}
    return refs


def _fresh(old: tuple[Any, ...], new: tuple[Any, ...]) -> set[Any]:
    """Return what only one of two tuples has."""
    if old is new:
        return set()
    kept = {id(o) for o in old} & {id(n) for n in new}
    return {o for o in old if id(o) not in kept} ^ {n for n in new if id(n) not in kept}
