"""How much room the labels of a sheet have: what is written beside a part must not run into what stands next to it."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.sheet import Sheet, Tag, Title, Wire
from zesty_trace.core.schematic.symbols import SymbolPin

HALF_HIGH = 1.3  # of one or two lines beside a part, grid units
LETTER = 0.66  # width of a bold letter as a share of its size
WIDE_LETTER = 0.72  # of names in capitals, as pins have
TAG_UNITS = 0.95  # what is kept free for a letter of a tag
FAR = 99.0
TITLE_LETTER, TITLE_REACH = 1.25, 24


def tag_box(tag: Tag) -> Box:
    """Return the rectangle of a tag."""
    long = (len(tag.net + tag.mark) * TAG_UNITS + 1.5) * (-1 if tag.side == "left" else 1)
    near, far = sorted((float(tag.at[0]), tag.at[0] + long))
    return Box(near, tag.at[1] - 0.9, far, tag.at[1] + 0.9)


def drawn_boxes(sheet: Sheet) -> list[Box]:
    """Return the rectangles of all that is drawn: bodies, pieces of wire, tags."""
    boxes: list[Box] = [s.body() for s in sheet.symbols]
    for wire in sheet.wires:
        boxes += wire.pieces
    boxes += map(tag_box, sheet.tags)
    return boxes


class LabelRooms:
    """The free width right of each part of a sheet, worked out when asked for."""

    def __init__(self, sheet: Sheet) -> None:
        self._symbols = {s.ref: s for s in sheet.symbols}
        self._left, self._top, _, self._bottom = np.array(drawn_boxes(sheet) or [Box(0, 0, 0, 0)], dtype=float).T

    def right_of(self, ref: str) -> float:
        """Return how much is free right of a part's body at its own height, grid units; 99 if nothing stands there."""
        symbol = self._symbols[ref]
        edge = symbol.body()[2]
        near = (self._left > edge) & (self._top < symbol.y + HALF_HIGH) & (self._bottom > symbol.y - HALF_HIGH)
        ahead = self._left[near]
        return float(ahead.min() - edge) if len(ahead) else FAR


def size_in_room(room: float, text: str, wanted: float, least: float) -> float:
    """Return the size at which `text` fits into `room`: what is wanted if it does, never under `least`."""
    return max(least, min(wanted, room / (LETTER * max(len(text), 1))))


def row_size(pins: list[SymbolPin], wanted: float) -> float:
    """Return the largest size up to `wanted` at which the names of pins in a row do not touch."""
    size = wanted
    ordered = sorted(pins, key=lambda p: p.x)
    for a, b in itertools.pairwise(ordered):
        size = min(size, (b.x - a.x) / (WIDE_LETTER * (len(a.name) + len(b.name)) / 2 + 0.4))
    return size


def clear_title(title: Title, wires: Iterable[Wire]) -> Title:
    """Return a title moved right, as far as needed for no wire to run through it."""
    long = len(title.text) * TITLE_LETTER
    near = [w.bounds for w in wires if w.bounds[1] <= title.y + 1 and w.bounds[3] >= title.y - 1]
    for shift in range(TITLE_REACH):
        x = title.x + shift
        if not any(left <= x + long and right >= x - 1 for left, _, right, _ in near):
            return replace(title, x=x)
    return title
