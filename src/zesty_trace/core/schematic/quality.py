"""How well a sheet is wired: crossings, bends, length, and what should never be."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_trace.core.schematic.sheet import PlacedSymbol, Spot, Wire


def wire_quality(wires: Iterable[Wire], symbols: Iterable[PlacedSymbol]) -> dict[str, int]:
    """Return crossings, bends, length, overlaps (two nets along one line) and wires through parts, of a sheet."""
    across: dict[Spot, set[str]] = {}
    updown: dict[Spot, set[str]] = {}
    bends = length = 0
    cells: dict[Spot, set[str]] = {}
    for wire in wires:
        bends += max(0, len(wire.points) - 2)
        for (x0, y0), (x1, y1) in zip(wire.points, wire.points[1:], strict=False):
            length += abs(x1 - x0) + abs(y1 - y0)
            if y0 == y1:
                for x in range(min(x0, x1), max(x0, x1)):
                    across.setdefault((x, y0), set()).add(wire.net)
            else:
                for y in range(min(y0, y1), max(y0, y1)):
                    updown.setdefault((x0, y), set()).add(wire.net)
            for x in range(min(x0, x1), max(x0, x1) + 1):
                for y in range(min(y0, y1), max(y0, y1) + 1):
                    cells.setdefault((x, y), set()).add(wire.net)
    overlaps = sum(len(n) > 1 for n in across.values()) + sum(len(n) > 1 for n in updown.values())
    crossings = sum(len(n) > 1 for n in cells.values())
    through = 0
    for symbol in symbols:
        left, top, right, bottom = symbol.body()
        through += sum(left < x < right and top < y < bottom for x, y in cells)
    return {"crossings": crossings, "bends": bends, "length": length, "overlaps": overlaps, "through parts": through}
