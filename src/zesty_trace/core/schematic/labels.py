"""What is written on a sheet, where, and how much room it takes: so that nothing is drawn through it."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import pairwise
from typing import Literal

from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Part, Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.letters import (
    LEAST_SIZE,
    PIN_SIZE,
    RAIL_SIZE,
    REF_SIZE,
    TAG_SIZE,
    TITLE_SIZE,
    VALUE_SIZE,
    text_width,
)
from zesty_trace.core.schematic.sheet import Bundle, PlacedSymbol, Rail, Sheet, Tag, Title
from zesty_trace.core.schematic.symbols import SymbolPin

Role = Literal["ref", "value", "pin", "open", "number"]
ONE_LINE = 11.0  # a reference and a value up to so wide stand on one line above a lying part, grid units
LINE_LETTERS = 16  # of a line in a box
LONGEST = 18  # letters of a line; the rest is cut off with an ellipsis
TAG_ENDS, TAG_HALF_HIGH = 1.4, 0.85
MARK_HALF_WIDE = 0.8


@dataclass(frozen=True, slots=True)
class Label:
    """A text on the sheet, its vertical middle at y. `align` tells which end is at x."""

    text: str
    x: float
    y: float
    size: float
    role: Role
    align: Literal["left", "right", "center"] = "left"
    bold: bool = False

    @property
    def wide(self) -> float:
        """How wide it is, grid units."""
        return text_width(self.text, self.size, self.bold)

    def box(self) -> Box:
        """Return the rectangle of its letters, with their tails."""
        left = self.x - {"left": 0.0, "right": 1.0, "center": 0.5}[self.align] * self.wide
        return Box(left, self.y - 0.45 * self.size, left + self.wide, self.y + 0.5 * self.size)

    def at(self, x: float, y: float) -> Label:
        """Return it moved."""
        return replace(self, x=self.x + x, y=self.y + y)


def shortened(text: str, most: int = LONGEST) -> str:
    """Return a text, cut off with an ellipsis where it is longer than `most` letters."""
    return text if len(text) <= most else text[: most - 1].rstrip(" ,") + "…"


def lines_of(part: Part, kind: Kind, boxed: bool, variant: str = "") -> tuple[str, ...]:
    """Return what stands below a reference: the value with its ratings; in a box, what it is, and a plug's note."""
    value = part.value_in(variant)
    if not boxed:
        return (shortened(value),) if value else ()
    said = _two_lines(value or kind.title.split(",")[0].split("(")[0].strip())
    if kind.connector and part.notes:
        said += _two_lines(part.notes)
    return tuple(said)


def _two_lines(text: str) -> list[str]:
    """Return a text on one or two lines; what does not go on them is cut off."""
    lines = textwrap.wrap(text, LINE_LETTERS)
    return [*lines[:1], *([shortened(" ".join(lines[1:]), LINE_LETTERS)] if lines[1:] else [])]


@lru_cache(4096)
def labels_of(s: PlacedSymbol, lines: tuple[str, ...], joined: frozenset[str]) -> tuple[Label, ...]:
    """Return what is written at a symbol: its reference, `lines`, and its pins, of which `joined` are on a net."""
    if s.symbol.look == "box":
        found = _box_labels(s, lines, joined)
    else:
        value = lines[0] if lines else ""
        if s.symbol.look == "switch":
            found = _switch_labels(s, value)
        else:
            found = _lying_labels(s, value) if s.symbol.turned else _upright_labels(s, value)
    return tuple(label.at(s.x, s.y) for label in found)


def labels_on(
    symbols: Iterable[PlacedSymbol], wired: Wired, net_of: Mapping[Pin, str], variant: str = ""
) -> Iterator[tuple[PlacedSymbol, tuple[Label, ...]]]:
    """Yield each symbol with what is written at it."""
    for s in symbols:
        lines = lines_of(wired.design.parts[s.ref], wired.kind(s.ref), s.symbol.look == "box", variant)
        joined = frozenset(p.number for p in s.symbol.pins if Pin(s.ref, p.number) in net_of)
        yield s, labels_of(s, lines, joined)


def _two(ref: str, value: str, x: float, y: float, apart: float = 0.8) -> list[Label]:
    """Return a reference with its value below, or alone in the middle."""
    if not value:
        return [Label(ref, x, y, REF_SIZE, "ref", bold=True)]
    return [
        Label(ref, x, y - apart, REF_SIZE, "ref", bold=True),
        Label(value, x, y + apart, VALUE_SIZE, "value"),
    ]


def _upright_labels(s: PlacedSymbol, value: str) -> list[Label]:
    return _two(s.ref, value, s.symbol.right + 0.4, 0.0)


def _lying_labels(s: PlacedSymbol, value: str) -> list[Label]:
    """One line above, or where that is long, the value below."""
    above = s.symbol.top - 0.95
    ref = text_width(s.ref, REF_SIZE, True)
    both = ref + 0.6 + text_width(value, VALUE_SIZE)
    if value and both <= ONE_LINE:
        return [
            Label(s.ref, -both / 2, above, REF_SIZE, "ref", bold=True),
            Label(value, -both / 2 + ref + 0.6, above + 0.05, VALUE_SIZE, "value"),
        ]
    lines = [Label(s.ref, 0.0, above, REF_SIZE, "ref", "center", True)]
    if value:
        lines.append(Label(value, 0.0, s.symbol.bottom + 0.95, VALUE_SIZE, "value", "center"))
    return lines


def _switch_labels(s: PlacedSymbol, value: str) -> list[Label]:
    if s.symbol.turned:  # its control pin is on top
        found = [Label(s.ref, 0.8, s.symbol.top - 0.9, REF_SIZE, "ref", bold=True)]
        if value:
            found.append(Label(value, 0.0, s.symbol.bottom + 0.95, VALUE_SIZE, "value", "center"))
        return found
    return _two(s.ref, value, s.symbol.right + 0.4, 0.0)


def _box_labels(s: PlacedSymbol, below: tuple[str, ...], joined: frozenset[str]) -> list[Label]:
    b, found = s.symbol, list[Label]()
    for pin in b.pins:
        found += _pin_labels(pin, b.left, b.right, b.top, b.bottom, pin.number in joined)
    lines = [s.ref, *below]
    wide = {side: side_width([p for p in b.pins if p.side == side]) for side in ("left", "right")}
    middle = (b.left + wide["left"] + b.right - wide["right"]) / 2
    low = {side: any(p.side == side for p in b.pins) for side in ("top", "bottom")}
    centre = (b.top + 1.6 * low["top"] + b.bottom - 1.6 * low["bottom"]) / 2
    first = centre - 0.85 * (len(lines) - 1)
    for k, line in enumerate(lines):
        size, role = (REF_SIZE, "ref") if k == 0 else (VALUE_SIZE, "value")
        found.append(Label(line, middle, first + 1.7 * k, size, role, "center", k == 0))  # type: ignore[arg-type]
    return found


def side_width(pins: Iterable[SymbolPin]) -> float:
    """Return how far the names of the pins of a side reach into a box, grid units."""
    return max((text_width(p.name, PIN_SIZE) + 0.4 for p in pins), default=0.0)


def _pin_labels(pin: SymbolPin, left: float, right: float, top: float, bottom: float, joined: bool) -> list[Label]:
    role: Role = "pin" if joined else "open"
    if pin.side == "left":
        found = [Label(pin.name, left + 0.4, pin.y, PIN_SIZE, role)]
        found.append(Label(pin.number, left - 0.15, pin.y - 0.8, LEAST_SIZE, "number", "right"))
    elif pin.side == "right":
        found = [Label(pin.name, right - 0.4, pin.y, PIN_SIZE, role, "right")]
        found.append(Label(pin.number, right + 0.15, pin.y - 0.8, LEAST_SIZE, "number", "left"))
    else:
        edge = top + 0.9 if pin.side == "top" else bottom - 0.9
        number = top - 0.9 if pin.side == "top" else bottom + 0.9
        found = [Label(pin.name, pin.x, edge, PIN_SIZE, role, "center")]
        found.append(Label(pin.number, pin.x + 0.25, number, LEAST_SIZE, "number"))
    return found[:1] if pin.number == pin.name else found


def tag_width(text: str) -> float:
    """Return how long the flag of a text is, grid units."""
    return text_width(text, TAG_SIZE) + TAG_ENDS


def tag_box(tag: Tag) -> Box:
    """Return the rectangle of a flag, or of a local mark of a supply with its name."""
    x, y = tag.at
    if tag.side in ("left", "right"):
        near, far = sorted((float(x), x + tag_width(tag.net + tag.mark) * (-1 if tag.side == "left" else 1)))
        return Box(near, y - TAG_HALF_HIGH, far, y + TAG_HALF_HIGH)
    return mark_box(x, y, tag.net if tag.named else "", tag.side == "top")


def mark_box(x: int, y: int, name: str, up: bool) -> Box:
    """Return the rectangle of a local mark at (x, y)."""
    half = max(MARK_HALF_WIDE, text_width(name, TAG_SIZE) / 2)
    far = 2.9 if name else 1.4
    return Box(x - half, y - far if up else float(y), x + half, float(y) if up else y + far)


def title_box(title: Title) -> Box:
    """Return the rectangle of a block's name."""
    wide = text_width(title.text, TITLE_SIZE, True)
    return Box(title.x, title.y - 0.9, title.x + wide, title.y + 0.9)


def rail_name(rail: Rail) -> Label:
    """Return the name at the left end of a supply line."""
    return Label(rail.net, rail.left - 0.6, rail.y, RAIL_SIZE, "ref", "right", True)


def bundle_boxes(bundle: Bundle) -> Iterator[Box]:
    """Yield the rectangles of a bundle: its thick lines, its name, and those of its taps."""
    for points in bundle.lines:
        for (x0, y0), (x1, y1) in pairwise(points):
            yield Box(min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)).grown(0.4)
    for x, y in bundle.names_at:
        yield Label(bundle.name, x, y, TAG_SIZE, "ref", "center", True).box()
    for tap in bundle.taps:
        yield Label(tap.net, *tap.name_at, TAG_SIZE, "pin", "center").box()
        yield Box(min(tap.end[0], tap.on[0]), tap.end[1], max(tap.end[0], tap.on[0]), tap.on[1])


def drawn_boxes(sheet: Sheet, wired: Wired) -> list[Box]:
    """Return the rectangles of all that is drawn: bodies, what is written at them, pieces of wire, flags."""
    boxes: list[Box] = []
    for symbol, labels in labels_on(sheet.symbols, wired, wired.net_of):
        boxes += [symbol.body(), *(label.box() for label in labels)]
    for wire in sheet.wires:
        boxes += wire.pieces
    boxes += map(tag_box, sheet.tags)
    for bundle in sheet.bundles:
        boxes += bundle_boxes(bundle)
    return boxes
