"""Wires: orthogonal paths along the grid that never run through a part, nor along another net's wire.

Nets cross only at right angles, straight through. What has no path, or too many pins, becomes named tags instead.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.schematic.labels import TAG_UNITS
from zesty_trace.core.schematic.paths import ACROSS, CLOSED, TEXT, Grid, cells_of, corners, find_path
from zesty_trace.core.schematic.sheet import PlacedSymbol, Rail, Spot, Tag, Wire
from zesty_trace.core.schematic.symbols import Side
from zesty_trace.errors import Cancelled

NEAR = 0.6
MANY_PINS = 7
OUTWARD = {"left": (-1, 0), "right": (1, 0), "top": (0, -1), "bottom": (0, 1)}
PATIENCE = 800  # cells looked at for a wire of an edit; a farther way is left to the full arrangement


class _Router:
    def __init__(
        self,
        design: Design,
        placed: list[PlacedSymbol],
        rails: list[Rail],
        width: int,
        height: int,
        marks: Mapping[str, str],
    ) -> None:
        self.design, self.placed, self.rails, self.marks = design, placed, rails, marks
        self.net_of = design.net_of()
        names = sorted(design.nets)
        self.number = {name: k + 1 for k, name in enumerate(names)}
        right = max([width, *(int(s.body()[2]) + 14 for s in placed)])
        low = max([height, *(int(s.body()[3]) + 10 for s in placed)])
        self.grid = Grid(right, low)
        self.wires: list[Wire] = []
        self.tags: list[Tag] = []
        self.paths: list[tuple[str, list[Spot]]] = []
        self.pins: dict[Pin, tuple[Spot, Side, PlacedSymbol]] = {
            Pin(s.ref, p.number): (s.pin_at(p), p.side, s) for s in placed for p in s.symbol.pins
        }

    def run(self, keep: Kept | None, report: Report) -> None:
        self._prepare()
        again = None
        if keep:
            again = keep.again
            self.grid.patience = PATIENCE
            self._keep(keep)
        late = self._straight_drops(again, keep.pins if keep else frozenset())
        groups = sorted(self._signal_groups(), key=lambda g: self._span(g[1]))
        for done, (net, pins) in enumerate(groups):
            if not report(done / len(groups), f"wiring {net}"):
                raise Cancelled
            old = [p for p in pins if keep and p in keep.pins]
            if old:
                self._grow(net, pins, old)
            elif again is None or net in again:
                self._group(net, pins)
        for pin in late:
            self._drop(pin)

    def _keep(self, keep: Kept) -> None:
        leads = {(t.net, t.at) for t in keep.tags if keep.stays(t.net, t.pin)}
        for wire in keep.wires:
            lead = wire.pin is None and (wire.net, wire.points[0]) in leads
            if wire.net in self.number and (lead or keep.stays(wire.net, wire.pin)):
                self.grid.lay(self.number[wire.net], wire.points)
                if wire.net in keep.again:
                    self.paths.append((wire.net, cells_of(wire.points)))
                self.wires.append(wire)
        for tag in keep.tags:
            if tag.net in self.number and keep.stays(tag.net, tag.pin):
                way = -1 if tag.side == "left" else 1
                length = int(len(tag.net + tag.mark) * TAG_UNITS) + 2
                self._reserve(tag.net, [(tag.at[0] + way * k, tag.at[1]) for k in range(1, length)])
                self.tags.append(tag)

    def _prepare(self) -> None:
        prices: list[tuple[Box, float]] = []
        for symbol in self.placed:
            _, top, right, bottom = symbol.body()
            prices.append((symbol.body().grown(1), NEAR))
            text = max(len(symbol.ref), len(self.design.parts[symbol.ref].value.split(" ")[0])) * TAG_UNITS
            if symbol.symbol.look == "box":
                continue
            if symbol.symbol.turned:
                prices.append((Box(symbol.x - text / 2, top - 1, symbol.x + text / 2, top - 1), TEXT))
                prices.append((Box(symbol.x - text / 2, bottom + 1, symbol.x + text / 2, bottom + 1), TEXT))
            else:
                prices.append((Box(right + 0.5, symbol.y - 1, right + text + 0.5, symbol.y + 1), TEXT))
        self.grid.lay_ground((s.body() for s in self.placed), prices)
        for pin, (spot, side, _) in self.pins.items():
            cell = spot[1] * self.grid.width + spot[0]
            if self.grid.inside(*spot):
                net = self.net_of.get(pin)
                self.grid.owner[cell] = self.number[net] if net else -1
                self.grid.use[cell] = CLOSED
                dx, dy = OUTWARD[side]
                if self.grid.inside(spot[0] + dx, spot[1] + dy):
                    self.grid.price[cell + dx + dy * self.grid.width] += 1.0
        for rail in self.rails:
            self.grid.lay(self.number[rail.net], [(rail.left, rail.y), (rail.right, rail.y)])

    def _rail(self, net: str, band: int) -> Rail | None:
        return next((r for r in self.rails if r.net == net and r.band == band), None)

    def _straight_drops(self, again: frozenset[str] | None, stay: frozenset[Pin]) -> list[Pin]:
        """Lay supply connections that go straight up or down; return the pins whose connection does not."""
        nets = {r.net for r in self.rails if again is None or r.net in again}
        late = []
        for pin, (spot, side, symbol) in self.pins.items():
            net = self.net_of.get(pin)
            if net not in nets or pin in stay:
                continue
            rail = self._rail(net, symbol.band)
            path = self._plumb(spot, side, rail, self.number[net]) if rail else None
            if path:
                self._lay(net, path, pin)
            else:
                late.append(pin)
        return late

    def _plumb(self, spot: Spot, side: str, rail: Rail, net: int) -> list[Spot] | None:
        x, y = spot
        step = 1 if rail.y > y else -1
        if (side == "top" and step > 0) or (side == "bottom" and step < 0) or side in ("left", "right"):
            return None
        path = [(x, y)]
        while y != rail.y:
            y += step
            cell = y * self.grid.width + x
            if not self.grid.inside(x, y) or self.grid.body[cell] or self.grid.price[cell] >= TEXT:
                return None
            if self.grid.owner[cell] not in (0, net) and self.grid.use[cell] != ACROSS:
                return None
            path.append((x, y))
        return path

    def _drop(self, pin: Pin) -> None:
        spot, side, symbol = self.pins[pin]
        net = self.net_of[pin]
        rail = self._rail(net, symbol.band)
        path = None
        if rail:
            w = self.grid.width
            goals = {
                (x, rail.y)
                for x in range(max(rail.left, spot[0] - 30), min(rail.right, spot[0] + 30) + 1)
                if self.grid.owner[rail.y * w + x] == self.number[net] and not self.grid.body[rail.y * w + x]
            }
            goals |= {c for n, p in self.paths if n == net for c in p if self._own(c, net)}
            path = find_path(self.grid, self.number[net], spot, OUTWARD[side], goals) if goals else None
        if path:
            self._lay(net, path, pin)
        else:
            self._tag(net, pin)

    def _own(self, spot: Spot, net: str) -> bool:
        return self.grid.owner[spot[1] * self.grid.width + spot[0]] == self.number[net]

    def _signal_groups(self) -> list[tuple[str, list[Pin]]]:
        rail_nets = {r.net for r in self.rails}
        groups = []
        for net, pins in self.design.nets.items():
            if net in rail_nets:
                continue
            by_block: dict[tuple[int, str], list[Pin]] = {}
            for pin in pins:
                if pin in self.pins:
                    symbol = self.pins[pin][2]
                    by_block.setdefault((symbol.band, symbol.block), []).append(pin)
            groups += [(net, group) for group in by_block.values()]
        return groups

    def _span(self, pins: list[Pin]) -> int:
        xs = [self.pins[p][0][0] for p in pins]
        ys = [self.pins[p][0][1] for p in pins]
        return max(xs) - min(xs) + max(ys) - min(ys)

    def _group(self, net: str, pins: list[Pin]) -> None:
        shared = len(pins) < len(self.design.nets[net])
        if len(pins) == 1 and shared and self.pins[pins[0]][1] in ("top", "bottom"):
            self._tag_group(net, pins, {self.pins[pins[0]][0]})
            return
        if len(pins) == 1 or len(pins) > MANY_PINS or self._span(pins) > 90:
            for pin in pins:
                if shared or len(pins) > 1:
                    self._tag(net, pin)
            return
        tree: set[Spot] = {self.pins[pins[0]][0]}
        lost = self._join(net, pins[1:], tree)
        for pin in lost:
            self._tag(net, pin)
        if lost or shared:
            self._tag_group(net, pins, tree)

    def _join(self, net: str, pins: list[Pin], tree: set[Spot]) -> list[Pin]:
        """Wire pins to a tree of cells, the nearest first, growing it; return those that have no way."""
        lost: list[Pin] = []
        left = list(pins)
        while left:
            left.sort(key=lambda p: min(abs(self.pins[p][0][0] - x) + abs(self.pins[p][0][1] - y) for x, y in tree))
            pin = left.pop(0)
            spot, side, _ = self.pins[pin]
            goals = {c for c in tree if self._own(c, net)}
            path = find_path(self.grid, self.number[net], spot, OUTWARD[side], goals)
            if path:
                self._lay(net, path, pin)
                tree |= set(path)
            else:
                lost.append(pin)
        return lost

    def _grow(self, net: str, pins: list[Pin], old: list[Pin]) -> None:
        """Join the new pins of a group to what is drawn of it, and see that it is tagged if it goes on elsewhere."""
        tagged = {t.pin for t in self.tags if t.net == net}
        drawn = {c for n, p in self.paths if n == net for c in p}
        if not drawn and not tagged.intersection(old):
            self._group(net, pins)
            return
        fresh = [p for p in pins if p not in old]
        if not drawn:
            for pin in fresh:
                self._tag(net, pin)
            return
        tree = drawn | {self.pins[p][0] for p in old}
        lost = self._join(net, fresh, tree)
        for pin in lost:
            self._tag(net, pin)
        if (lost or len(pins) < len(self.design.nets[net])) and not tagged.intersection(old):
            self._tag_group(net, pins, tree)

    def _tag_group(self, net: str, pins: list[Pin], tree: set[Spot]) -> None:
        """Give a wired group one tag."""
        if not self._tag_apart(net, pins, tree):
            self._tag(net, pins[0])

    def _tag_apart(self, net: str, pins: list[Pin], tree: set[Spot]) -> bool:
        """Put a tag at the end of a short wire of its own, near one of the pins; whether there was room for it."""
        length = int(len(net + self.marks.get(net, "")) * TAG_UNITS) + 2
        choices: list[tuple[float, Spot, Side, int, Pin]] = []
        ways: tuple[tuple[int, Side], ...] = ((-1, "left"), (1, "right"))
        for pin in pins:
            (x, y), side, _ = self.pins[pin]
            for way, name in ways:
                for far in range(2, 11):
                    for dy in (0, -1, 1, -2, 2, -3, 3):
                        price = far + 2.5 * abs(dy) + (4 if side not in (name, "top", "bottom") else 0) + (way > 0)
                        choices.append((price, (x + way * far, y + dy), name, way, pin))
        choices.sort(key=lambda c: (c[0], c[1]))
        goals = {c for c in tree if self._own(c, net)}
        tries = 0
        for _, spot, name, way, pin in choices:
            strip = [(spot[0] + way * k, spot[1] + dy) for k in range(length) for dy in (0,)]
            if tries > 12:
                break
            if not self.grid.free_strip(strip):
                continue
            tries += 1
            path = find_path(self.grid, self.number[net], spot, (-way, 0), goals)
            if path and len(path) < 24:
                self._lay(net, path)
                self._reserve(net, strip[1:])
                self.tags.append(Tag(net, spot, name, pin, self.marks.get(net, "")))
                return True
        return False

    def _reserve(self, net: str, cells: list[Spot]) -> None:
        for x, y in cells:
            if self.grid.inside(x, y):
                self.grid.body[y * self.grid.width + x] = 1

    def _tag(self, net: str, pin: Pin) -> None:
        """Put a tag at a pin, or where its name would run into something, at the end of a short wire."""
        (x, y), side, _ = self.pins[pin]
        dx, dy = OUTWARD[side]
        length = int(len(net + self.marks.get(net, "")) * TAG_UNITS) + 2 if dx else 2
        free = self.grid.free_strip([(x + dx * k, y + dy * k) for k in range(1, length)])
        if not free and self._tag_apart(net, [pin], {(x, y)}):
            return
        self._reserve(net, [(x + dx * k, y + dy * k) for k in range(1, length)])
        self.tags.append(Tag(net, (x, y), side, pin, self.marks.get(net, "")))

    def _lay(self, net: str, path: list[Spot], pin: Pin | None = None) -> None:
        self.grid.lay(self.number[net], path)
        self.paths.append((net, path))
        self.wires.append(Wire(net, corners(path), pin))


def route_wires(
    design: Design,
    placed: list[PlacedSymbol],
    rails: list[Rail],
    width: int,
    height: int,
    marks: Mapping[str, str] | None = None,
    keep: Kept | None = None,
    report: Report = quiet,
) -> tuple[tuple[Wire, ...], tuple[Tag, ...], tuple[Spot, ...]]:
    """Return wires, tags and junction dots for the placed symbols.

    `marks` is added to the tags of a net (where it goes on). With `keep`, the nets outside `keep.again` stay as drawn.
    Cancelled if `report` says stop.
    """
    router = _Router(design, placed, rails, width, height, marks or {})
    router.run(keep, report)
    return tuple(router.wires), tuple(router.tags), _junctions(router, keep)


@dataclass(frozen=True)
class Kept:
    """What is drawn already, the nets to draw again, and the pins of those whose connection stays."""

    wires: tuple[Wire, ...]
    tags: tuple[Tag, ...]
    junctions: tuple[Spot, ...]
    again: frozenset[str]
    pins: frozenset[Pin] = frozenset()

    def stays(self, net: str, pin: Pin | None) -> bool:
        """Whether a wire or tag is kept."""
        return net not in self.again or pin in self.pins


def _junctions(router: _Router, keep: Kept | None) -> tuple[Spot, ...]:
    """Return cells where three or more pieces of one net meet, or one meets its supply line."""
    width, dots = router.grid.width, set[Spot]()
    if keep:
        same = {number for net, number in router.number.items() if net not in keep.again}
        dots = {spot for spot in keep.junctions if router.grid.owner[spot[1] * width + spot[0]] in same}
    by_net: dict[str, list[list[Spot]]] = {}
    for net, path in router.paths:
        if not keep or net in keep.again:
            by_net.setdefault(net, []).append(path)
    for net, paths in by_net.items():
        steps = []  # one number for each piece from a cell to the next, whichever way it was laid
        for path in paths:
            cells = np.array([y * width + x for x, y in path])
            steps.append(np.minimum(cells[:-1], cells[1:]) * 2 + (np.abs(np.diff(cells)) != 1))
        pieces = np.unique(np.concatenate(steps))
        start = pieces // 2
        cells, count = np.unique(np.concatenate([start, start + np.where(pieces % 2, width, 1)]), return_counts=True)
        dot = count >= 3
        for rail in router.rails:
            if rail.net == net:
                dot |= (cells // width == rail.y) & (cells % width >= rail.left) & (cells % width <= rail.right)
        dots |= {(int(c % width), int(c // width)) for c in cells[dot]}
    return tuple(sorted(dots))


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
