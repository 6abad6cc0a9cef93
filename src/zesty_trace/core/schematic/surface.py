"""The surface of a sheet while it is wired: the grid with what lies on it, and the room that is left."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.flags import Rooms, cover
from zesty_trace.core.schematic.labels import Label, labels_on, tag_box, tag_width
from zesty_trace.core.schematic.paths import CLOSED, Grid, corners
from zesty_trace.core.schematic.sheet import Bundle, PlacedSymbol, Rail, Spot, Tag, Wire
from zesty_trace.core.schematic.symbols import Side

NEAR, AMONG_RAILS = 0.6, 2.0
BETWEEN_BANDS = 5  # rows from a ground line to the next band's first supply line: the blocks' names stand there
OUTWARD = {"left": (-1, 0), "right": (1, 0), "top": (0, -1), "bottom": (0, 1)}
PIN_ROOM = 0.35


@dataclass
class Routed:
    """What was drawn.

    `homeless` are pins whose flag or mark found no room and lies over something, `crossed` those whose drop to a supply
    line crosses others.
    """

    wires: list[Wire] = field(default_factory=list)
    tags: list[Tag] = field(default_factory=list)
    junctions: tuple[Spot, ...] = ()
    bundles: list[Bundle] = field(default_factory=list)
    homeless: list[Pin] = field(default_factory=list)
    crossed: list[Pin] = field(default_factory=list)


class Surface:
    """Symbols and supply lines on a grid, the wires and flags laid so far, and what is free."""

    def __init__(
        self,
        wired: Wired,
        placed: list[PlacedSymbol],
        rails: list[Rail],
        size: tuple[int, int],
        marks: Mapping[str, str],
        fixed: frozenset[Pin],
        groups: Mapping[str, str],
    ) -> None:
        self.wired, self.design, self.placed, self.rails, self.marks = wired, wired.design, placed, rails, marks
        self.net_of = wired.net_of
        self.fixed, self.groups = fixed, groups
        self.tapped: set[Pin] = set()
        self.number = {name: k + 1 for k, name in enumerate(sorted(self.design.nets))}
        right = max([size[0], *(int(s.body()[2]) + 14 for s in placed)])
        low = max([size[1], *(int(s.body()[3]) + 10 for s in placed)])
        self.grid = Grid(right, low)
        self.rooms = Rooms()
        self.out = Routed()
        self.paths: list[tuple[str, list[Spot]]] = []
        self.pins: dict[Pin, tuple[Spot, Side, PlacedSymbol]] = {
            Pin(s.ref, p.number): (s.pin_at(p), p.side, s) for s in placed for p in s.symbol.pins
        }

    def prepare(self) -> None:
        prices = [(s.body().grown(1), NEAR) for s in self.placed]
        closed = [each for s, labels in labels_on(self.placed, self.wired, self.net_of) for each in _closed(s, labels)]
        self.grid.lay_ground((cells for _, cells in closed), prices)
        for box, _ in closed:
            self.rooms.add(box)
        for pin, (spot, side, _) in self.pins.items():
            self.rooms.add(Box(*spot, *spot).grown(PIN_ROOM - 0.05))
            if self.grid.inside(*spot):
                cell = spot[1] * self.grid.width + spot[0]
                net = self.net_of.get(pin)
                self.grid.owner[cell] = self.number[net] if net else -1
                self.grid.use[cell] = CLOSED
                self.grid.body[cell] = 0 if net else 1
                dx, dy = OUTWARD[side]
                if self.grid.inside(spot[0] + dx, spot[1] + dy):
                    self.grid.price[cell + dx + dy * self.grid.width] += 1.0
        self._close_between_bands()
        for rail in self.rails:
            self.grid.lay(self.number[rail.net], [(rail.left, rail.y), (rail.right, rail.y)])

    def _close_between_bands(self) -> None:
        """Nothing runs below a band's last line, above its first one, or for long between its supply lines."""
        if not self.rails:
            return
        if not any(x == 0 for (x, _), _, _ in self.pins.values()):
            self.grid.close_column(0)  # the names of the supply lines begin there
        bands = sorted({r.band for r in self.rails})
        lines = {b: sorted(r.y for r in self.rails if r.band == b) for b in bands}
        ground = self.wired.ground
        last = -1
        used = {s.y for s in self.placed} | {spot[1] for spot, _, _ in self.pins.values()}
        for k, band in enumerate(bands):
            supplies = [r.y for r in self.rails if r.band == band and r.net != ground]
            if supplies:
                self._close_rows(range(last + 1, min(supplies)), used)
                self.grid.add_price(range(min(supplies) + 1, max(supplies)), AMONG_RAILS)
            grounds = [r.y for r in self.rails if r.band == band and r.net == ground]
            last = max(lines[band])
            if grounds:
                following = last + BETWEEN_BANDS if k + 1 < len(bands) else self.grid.height
                self._close_rows(range(last + 1, following), used)

    def _close_rows(self, rows: range, used: set[int]) -> None:
        """Close rows in which no part was put by hand."""
        if rows and not used & set(rows):
            self.grid.close_rows(rows)

    def rail(self, net: str, band: int) -> Rail | None:
        return next((r for r in self.rails if r.net == net and r.band == band), None)

    def own(self, spot: Spot, net: str) -> bool:
        return self.grid.owner[spot[1] * self.grid.width + spot[0]] == self.number[net]

    def crossed(self, path: list[Spot], net: str) -> int:
        """Return how many wires of others a path crosses."""
        return self.crossings(path, self.number[net])

    def crossings(self, path: list[Spot], own: int) -> int:
        w, owner = self.grid.width, self.grid.owner
        rails = {r.y for r in self.rails}
        return sum(owner[y * w + x] not in (0, own) and y not in rails for x, y in path)

    def close(self, box: Box) -> None:
        columns, rows = cover(box)
        for x in columns:
            for y in rows:
                self.grid.close(x, y)

    def fits(self, tag: Tag, tip: float = PIN_ROOM) -> bool:
        """Whether nothing lies where a flag or a mark would, but for its tip at a pin."""
        box, (dx, dy) = tag_box(tag), OUTWARD[tag.side]
        clear = Box(box.x0 + tip * (dx > 0), box.y0 + tip * (dy > 0), box.x1 - tip * (dx < 0), box.y1 - tip * (dy < 0))
        return self.rooms.free(clear) and all(self.grid.free(x, y) for x, y in tag_cells(tag))

    def flag(self, tag: Tag) -> None:
        self.out.tags.append(tag)
        self.rooms.add(tag_box(tag))
        for x, y in tag_cells(tag):
            self.grid.close(x, y)

    def lay(self, net: str, path: list[Spot], pin: Pin | None = None) -> None:
        self.grid.lay(self.number[net], path)
        self.paths.append((net, path))
        self.out.wires.append(Wire(net, corners(path), pin))
        for box in self.out.wires[-1].pieces:
            self.rooms.add(box)


@lru_cache(2048)
def _closed(symbol: PlacedSymbol, labels: tuple[Label, ...]) -> list[tuple[Box, tuple[range, range]]]:
    """Return the rectangles of a symbol that nothing may enter, each with its columns and rows."""
    return [(box, cover(box)) for box in (symbol.body(), *leads(symbol), *(label.box() for label in labels))]


def leads(symbol: PlacedSymbol) -> Iterable[Box]:
    """Return the lines from a body to its pins, but for the last bit."""
    left, top, right, bottom = symbol.body()
    for pin in symbol.symbol.pins:
        x, y = symbol.pin_at(pin)
        dx, dy = OUTWARD[pin.side]
        near = Box(
            min(max(x, left), right), min(max(y, top), bottom), min(max(x, left), right), min(max(y, top), bottom)
        )
        yield Box(
            min(near.x0, x - 0.5 * dx),
            min(near.y0, y - 0.5 * dy),
            max(near.x1, x - 0.5 * dx),
            max(near.y1, y - 0.5 * dy),
        )


def tag_cells(tag: Tag) -> list[Spot]:
    """Return the cells of a flag, or of a local mark, without the one it starts from."""
    x, y = tag.at
    dx, _ = OUTWARD[tag.side]
    if dx:
        return [(x + dx * k, y) for k in range(1, int(tag_width(tag.net + tag.mark) + 1.1))]
    columns, rows = cover(tag_box(tag))
    return [(c, r) for c in columns for r in rows if r != y]
