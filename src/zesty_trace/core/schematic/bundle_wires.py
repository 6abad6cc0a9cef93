"""Bundles on the surface: taps from the pins of a numbered group into a bar, and the ways between the bars."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from itertools import pairwise

from zesty_trace.core.design.model import Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.bundles import NAME_ABOVE, NAME_UP, Run, runs_of, span_name
from zesty_trace.core.schematic.flags import cover
from zesty_trace.core.schematic.labels import Label, tag_box
from zesty_trace.core.schematic.letters import TAG_SIZE
from zesty_trace.core.schematic.paths import cells_of, corners, find_path
from zesty_trace.core.schematic.sheet import Bundle, PlacedSymbol, Spot, Tap
from zesty_trace.core.schematic.surface import Surface

BUNDLE_WAY = 260.0  # cost of a way between two bundles of a group; farther ones are told by their names alone
MOST_CROSSED = 2


@dataclass
class Bars:
    """The bars of one group in one band, as cells, with their taps."""

    number: int
    taps: list[Tap] = field(default_factory=list)
    bars: list[list[Spot]] = field(default_factory=list)

    @property
    def name(self) -> str:
        return span_name({t.net for t in self.taps})

    @property
    def names_at(self) -> list[tuple[float, float]]:
        return [(float(bar[0][0]), bar[0][1] - NAME_ABOVE) for bar in self.bars]


def _pieces(cells: list[Spot]) -> Iterator[Box]:
    for (x0, y0), (x1, y1) in pairwise(corners(cells) if cells else ()):
        yield Box(min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)).grown(0.35)


class Bundler:
    """Draws the numbered groups of a surface. `tapped` are the pins that are in a bundle."""

    def __init__(self, surface: Surface, groups: Mapping[str, str]) -> None:
        self.surface, self.groups = surface, groups
        self.tapped: set[Pin] = set()

    def bars(self) -> list[Bars]:
        """Draw the runs of numbered groups as taps into bars, one bundle for each group of a band."""
        by_group: dict[tuple[str, int], Bars] = {}
        for symbol in self.surface.placed:
            for run in runs_of(symbol.ref, symbol.symbol, partial(self._net_at, symbol.ref), self.groups):
                number = len(self.surface.number) + len(by_group) + 1
                bars = by_group.setdefault((run.group, symbol.band), Bars(number))
                bars.taps += self._taps(run, symbol)
                bars.bars.append(cells_of(run.bar(symbol.x, symbol.y)))
                self.surface.grid.lay(bars.number, bars.bars[-1])
        for bars in by_group.values():
            names = [Label(bars.name, *at, TAG_SIZE, "ref", "center", True) for at in bars.names_at]
            boxes = [*(name.box() for name in names), *(box for b in bars.bars for box in _pieces(b))]
            for box in (*boxes, *(Label(t.net, *t.name_at, TAG_SIZE, "pin", "center").box() for t in bars.taps)):
                self.surface.rooms.add(box)
            for name in names:
                self.surface.close(name.box())
        return list(by_group.values())

    def join(self, bars: Bars) -> None:
        """Join the bars of a bundle where there is a way; else their names tell."""
        around = self._beside_flags()
        lines = [*bars.bars]
        tree = set(bars.bars[0])
        for bar in bars.bars[1:]:
            way = self._to_bundle(bars.number, bar, tree)
            tree |= {*bar, *(way or ())}
            lines += [way] if way else []
            for box in _pieces(way or []):
                self.surface.rooms.add(box)
        for cell in around:
            self.surface.grid.open(*cell)
        drawn = tuple(corners(cells) for cells in lines)
        self.surface.out.bundles.append(Bundle(bars.name, drawn, tuple(bars.taps), tuple(bars.names_at)))

    def _beside_flags(self) -> list[Spot]:
        """Close the cells over and under flags, where a thick line would touch them; return those that were open."""
        grid, found = self.surface.grid, []
        for tag in self.surface.out.tags:
            columns, rows = cover(tag_box(tag).grown(0.3))
            found += [(x, y) for x in columns for y in rows if grid.inside(x, y) and not grid.body[y * grid.width + x]]
        for cell in found:
            grid.close(*cell)
        return found

    def _net_at(self, ref: str, number: str) -> str:
        return self.surface.net_of.get(Pin(ref, number), "")

    def _taps(self, run: Run, symbol: PlacedSymbol) -> Iterator[Tap]:
        """Lay the wires of a run's pins up to where they bend into the bundle."""
        for spec, net in zip(run.pins, run.nets, strict=True):
            x, y = symbol.pin_at(spec)
            end = (x + run.way * run.reach, y)
            pin = Pin(run.ref, spec.number)
            self.tapped.add(pin)
            self.surface.lay(net, cells_of(((x, y), end)), pin)
            name_at = (x + run.way * run.reach / 2, y - NAME_UP)
            self.surface.close(Label(net, *name_at, TAG_SIZE, "pin", "center").box())
            self.surface.close(Box(min(end[0], end[0] + run.way), y + 0.5, max(end[0], end[0] + run.way), y + 0.5))
            yield Tap(net, end, (end[0] + run.way, y + 1), name_at)

    def _to_bundle(self, number: int, bar: list[Spot], tree: set[Spot]) -> list[Spot] | None:
        """Return the way from an end of a bar to the bundle, or None."""
        ends = ((bar[-1], (0, 1)), (bar[0], (0, -1)))
        ways = [find_path(self.surface.grid, number, end, leave, tree, BUNDLE_WAY) for end, leave in ends]
        good = [w for w in ways if w and self.surface.crossings(w, number) <= MOST_CROSSED]
        way = min(good, key=len, default=None)
        if way:
            self.surface.grid.lay(number, way)
        return way
