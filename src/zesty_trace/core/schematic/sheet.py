"""The sheet as a value: placed symbols, supply lines, wires, named tags. Grid units, y down."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

from zesty_trace.core.design.model import Pin
from zesty_trace.core.geometry import Box, box_of
from zesty_trace.core.schematic.symbols import Side, Symbol, SymbolPin

Spot = tuple[int, int]


@dataclass(frozen=True)
class PlacedSymbol:
    """A symbol at its spot, in a band."""

    ref: str
    symbol: Symbol
    x: int
    y: int
    band: int
    block: str

    def pin_at(self, pin: SymbolPin) -> Spot:
        """Return where a pin's wire ends."""
        return self.x + pin.x, self.y + pin.y

    def body(self) -> Box:
        """Return left, top, right, bottom."""
        s = self.symbol
        return Box(self.x + s.left, self.y + s.top, self.x + s.right, self.y + s.bottom)


@dataclass(frozen=True)
class Rail:
    """A supply or ground line across one band."""

    net: str
    band: int
    y: int
    left: int
    right: int


@dataclass(frozen=True)
class Wire:
    """A polyline that joins two pins of a net, or a pin and a supply line or another wire.

    `pin` is the pin that it starts from; taking that pin off its net deletes the wire.
    """

    net: str
    points: tuple[Spot, ...]
    pin: Pin | None = None

    @cached_property
    def pieces(self) -> tuple[Box, ...]:
        """Left, top, right, bottom of each straight piece."""
        return tuple(
            Box(min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)) for (x0, y0), (x1, y1) in pairwise(self.points)
        )

    @cached_property
    def bounds(self) -> Box:
        """Left, top, right, bottom."""
        return box_of(self.points)


@dataclass(frozen=True)
class Tag:
    """A named flag on a pin: the net goes on elsewhere under this name, on the pages that `mark` tells.

    One that looks up or down is a local mark of a supply line or of ground; ground is not `named`.
    """

    net: str
    at: Spot
    side: Side
    pin: Pin
    mark: str = ""
    named: bool = True


@dataclass(frozen=True)
class Tap:
    """Where a signal leaves a bundle: the end of its wire and the spot on the bundle; its name is over the wire."""

    net: str
    end: Spot
    on: Spot
    name_at: tuple[float, float]


@dataclass(frozen=True)
class Bundle:
    """A numbered group of signals as one thick line, with its name at one end."""

    name: str
    lines: tuple[tuple[Spot, ...], ...]
    taps: tuple[Tap, ...]
    names_at: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Title:
    """A block's name above its parts."""

    text: str
    x: int
    y: int


@dataclass(frozen=True)
class Sheet:
    """All that is drawn."""

    symbols: tuple[PlacedSymbol, ...]
    rails: tuple[Rail, ...]
    wires: tuple[Wire, ...]
    tags: tuple[Tag, ...]
    junctions: tuple[Spot, ...]
    titles: tuple[Title, ...]
    width: int
    height: int
    bundles: tuple[Bundle, ...] = ()

    def spots(self) -> dict[Pin, Spot]:
        """Return where each pin is."""
        return {Pin(s.ref, p.number): s.pin_at(p) for s in self.symbols for p in s.symbol.pins}


def reading_order(sheet: Sheet) -> list[str]:
    """Return the references as one reads the sheet: bands from the top, each from left to right, then downwards."""
    return [s.ref for s in sorted(sheet.symbols, key=lambda s: (s.band, s.x, s.y, s.ref))]
