"""Parts that the user has put somewhere do not lie over others: they go to the nearest spot that is free."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import replace

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.sheet import PlacedSymbol

FARTHEST = 60
Rooms = Callable[[PlacedSymbol], list[Box]]


def put_apart(
    placed: list[PlacedSymbol], moved: Collection[str], rooms_of: Rooms, others: Iterable[Box] = ()
) -> list[PlacedSymbol]:
    """Return the symbols with those of `moved` that lie over another one's rooms, or over `others`, shifted."""
    if not moved:
        return placed
    taken = [room for s in placed if s.ref not in moved for room in rooms_of(s)] + list(others)
    found = []
    for symbol in placed:
        found.append(_nearest(symbol, rooms_of(symbol), taken) if symbol.ref in moved else symbol)
        if symbol.ref in moved:
            taken += rooms_of(found[-1])
    return found


def _nearest(symbol: PlacedSymbol, rooms: list[Box], taken: list[Box]) -> PlacedSymbol:
    for far in range(FARTHEST):
        for dx, dy in _ring(far):
            if not any(r.moved(dx, dy).meets(t) for r in rooms for t in taken):
                return replace(symbol, x=symbol.x + dx, y=symbol.y + dy)
    return symbol


def _ring(far: int) -> list[tuple[int, int]]:
    """Return the offsets at a distance, sideways first."""
    if far == 0:
        return [(0, 0)]
    edge = range(-far, far + 1)
    found = {(s * far, d) for s in (1, -1) for d in edge} | {(d, s * far) for s in (1, -1) for d in edge}
    return sorted(found, key=lambda o: (abs(o[0]) + 1.5 * abs(o[1]), o))
