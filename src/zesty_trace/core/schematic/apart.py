"""Parts that the user has put somewhere do not lie over others: they go to the nearest spot that is free."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import replace

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.sheet import PlacedSymbol

FARTHEST, PIN, EDGE = 60, 0.3, 0.4
Rooms = Callable[[PlacedSymbol], list[Box]]


def put_apart(
    placed: list[PlacedSymbol], moved: Collection[str], rooms_of: Rooms, others: Iterable[Box] = ()
) -> list[PlacedSymbol]:
    """Return the symbols with those of `moved` whose body or pins lie over another's shifted.

    They go where their rooms meet no other rooms, and none of `others`.
    """
    if not moved:
        return placed
    solid = [box for s in placed if s.ref not in moved for box in _solid(s)]
    taken = [room for s in placed if s.ref not in moved for room in rooms_of(s)] + list(others)
    found = []
    for symbol in placed:
        lies_over = symbol.ref in moved and any(a.meets(b) for a in _solid(symbol) for b in solid)
        found.append(_nearest(symbol, rooms_of(symbol), taken) if lies_over else symbol)
        if symbol.ref in moved:
            taken += rooms_of(found[-1])
            solid += _solid(found[-1])
    return found


def _solid(s: PlacedSymbol) -> list[Box]:
    """Return what may never lie over another part: the body and the spots of the pins."""
    return [s.body().grown(-EDGE), *(Box(*s.pin_at(p), *s.pin_at(p)).grown(PIN) for p in s.symbol.pins)]


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
