"""Wires: orthogonal paths along the grid that never run through a part, a text or a flag, nor along another net's wire.

Nets cross only at right angles, straight through. What has no path, would cross too many others, or has too many pins
becomes named flags instead; a drop to a supply or to ground that crosses others becomes a local mark.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.schematic.bundle_wires import Bundler
from zesty_trace.core.schematic.labels import bundle_boxes
from zesty_trace.core.schematic.paths import cells_of, corners, find_path
from zesty_trace.core.schematic.sheet import Bundle, PlacedSymbol, Rail, Spot, Tag, Wire
from zesty_trace.core.schematic.surface import OUTWARD, Routed, Surface, tag_cells
from zesty_trace.core.schematic.symbols import Side
from zesty_trace.errors import Cancelled

MANY_PINS = 7
FAR_APART = 70  # grid units between the pins of a net; farther ones are named
DETOUR, DETOUR_FREE, MOST_BENDS = 1.5, 16, 4
MOST_CROSSINGS = 2  # of one connection; one with more is named
MOST_RAILS_CROSSED = 1  # of a drop to a supply line
PATIENCE = 800  # cells looked at for a wire of an edit; a farther way is left to the full arrangement
PRICES = 35.0  # what bends, crossings and nearness may add to the length of a way that is taken
FLAG_TRIES, FLAG_WAY = 16, 24


class _Router(Surface):
    def run(self, keep: Kept | None, report: Report) -> None:
        self.prepare()
        again = None
        if keep:
            again = keep.again
            self.grid.patience = PATIENCE
            self._keep(keep)
        stay = keep.pins if keep else frozenset()
        rail_nets = {r.net for r in self.rails}
        bundler = Bundler(self, self.groups)
        bundles = bundler.bars() if keep is None else []
        self.tapped = bundler.tapped
        for pin in self.pins:
            net = self.net_of.get(pin, "")
            if (
                pin in self.fixed
                and pin not in self.tapped
                and net
                and pin not in stay
                and (again is None or net in again)
            ):
                self._fix(net, pin, net in rail_nets)
        for bars in bundles:
            bundler.join(bars)
        late = self._straight_drops(again, stay)
        groups = sorted(self._signal_groups(rail_nets), key=lambda g: self._span(g[1]))
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
        self.out.crossed = self._crossed_drops()
        self.out.junctions = _junctions(self, keep)

    def _keep(self, keep: Kept) -> None:
        leads = {(t.net, t.at) for t in keep.tags if keep.stays(t.net, t.pin)}
        for wire in keep.wires:
            lead = wire.pin is None and (wire.net, wire.points[0]) in leads
            if wire.net in self.number and (lead or keep.stays(wire.net, wire.pin)):
                self.grid.lay(self.number[wire.net], wire.points)
                if wire.net in keep.again:
                    self.paths.append((wire.net, cells_of(wire.points)))
                self.out.wires.append(wire)
        for bundle in keep.bundles:
            for box in bundle_boxes(bundle):
                self.rooms.add(box)
                self.close(box)
        for tag in keep.tags:
            if tag.net in self.number and keep.stays(tag.net, tag.pin):
                self.flag(tag)

    # Supplies -----------------------------------------------------------------------------------------------------

    def _straight_drops(self, again: frozenset[str] | None, stay: frozenset[Pin]) -> list[Pin]:
        """Lay supply connections that go straight up or down; return the pins whose connection does not."""
        nets = {r.net for r in self.rails if again is None or r.net in again}
        late = []
        for pin, (spot, side, symbol) in self.pins.items():
            net = self.net_of.get(pin)
            if net not in nets or pin in stay or pin in self.fixed:
                continue
            rail = self.rail(net, symbol.band)
            path = self._plumb(spot, side, rail, self.number[net]) if rail else None
            if path:
                self.lay(net, path, pin)
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
            if not self.grid.passes(x, y, net, upright=True):
                return None
            path.append((x, y))
        return path

    def _drop(self, pin: Pin) -> None:
        """Join a pin to its supply line by any way, or mark it where it stands."""
        spot, side, symbol = self.pins[pin]
        net = self.net_of[pin]
        if side in ("top", "bottom") and self._mark(net, pin):
            return
        rail = self.rail(net, symbol.band)
        path = None
        if rail:
            w = self.grid.width
            goals = {
                (x, rail.y)
                for x in range(max(rail.left, spot[0] - 30), min(rail.right, spot[0] + 30) + 1)
                if self.grid.owner[rail.y * w + x] == self.number[net] and not self.grid.body[rail.y * w + x]
            }
            goals |= {c for n, p in self.paths if n == net for c in p if self.own(c, net)}
            path = find_path(self.grid, self.number[net], spot, OUTWARD[side], goals) if goals else None
        if path and self.crossed(path, net) <= MOST_CROSSINGS:
            self.lay(net, path, pin)
        else:
            self._tag(net, pin)

    def _mark(self, net: str, pin: Pin, must: bool = False) -> bool:
        """Put a local mark at a pin that looks up or down; whether there was room."""
        spot, side, _ = self.pins[pin]
        tag = Tag(net, spot, side, pin, "", net != self.wired.ground)
        if must or self.fits(tag):
            self.flag(tag)
            return True
        return False

    def _crossed_drops(self) -> list[Pin]:
        """Return the pins whose straight drop to a supply line crosses others, and so would better be a mark."""
        rail_nets = {r.net for r in self.rails}
        found = []
        for wire in self.out.wires:
            if wire.net not in rail_nets or wire.pin is None or self.pins[wire.pin][1] not in ("top", "bottom"):
                continue
            crossed = self.crossed(cells_of(wire.points), wire.net)
            if crossed or self._rails_crossed(wire) > MOST_RAILS_CROSSED:
                found.append(wire.pin)
        return found

    def _rails_crossed(self, wire: Wire) -> int:
        _, y0, _, y1 = wire.bounds
        x = wire.points[0][0]
        return sum(r.net != wire.net and y0 < r.y < y1 and r.left <= x <= r.right for r in self.rails)

    # Signals ------------------------------------------------------------------------------------------------------

    def _signal_groups(self, rail_nets: set[str]) -> list[tuple[str, list[Pin]]]:
        groups = []
        for net, pins in self.design.nets.items():
            if net in rail_nets:
                continue
            by_block: dict[tuple[int, str], list[Pin]] = {}
            for pin in pins:
                if pin in self.pins and pin not in self.fixed and pin not in self.tapped:
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
        if len(pins) == 1 or len(pins) > MANY_PINS or self._span(pins) > FAR_APART:
            for pin in pins:
                self._tag(net, pin)
            return
        tree: set[Spot] = {self.pins[pins[0]][0]}
        lost = self._join(net, pins[1:], tree)
        if len(lost) == len(pins) - 1:
            lost = pins
        for pin in lost:
            self._tag(net, pin)
        if len(lost) < len(pins) and (lost or shared):
            self._tag_group(net, [p for p in pins if p not in lost], tree)

    def _join(self, net: str, pins: list[Pin], tree: set[Spot]) -> list[Pin]:
        """Wire pins to a tree of cells, the nearest first, growing it; return those that have no good way."""
        lost: list[Pin] = []
        left = list(pins)
        while left:
            left.sort(key=lambda p: min(abs(self.pins[p][0][0] - x) + abs(self.pins[p][0][1] - y) for x, y in tree))
            pin = left.pop(0)
            spot, side, _ = self.pins[pin]
            goals = {c for c in tree if self.own(c, net)}
            near = min((abs(spot[0] - x) + abs(spot[1] - y) for x, y in goals), default=0)
            most = DETOUR * near + DETOUR_FREE + PRICES
            path = find_path(self.grid, self.number[net], spot, OUTWARD[side], goals, most)
            if path and self.crossed(path, net) <= MOST_CROSSINGS and not _roundabout(path):
                self.lay(net, path, pin)
                tree |= set(path)
            else:
                lost.append(pin)
        return lost

    def _grow(self, net: str, pins: list[Pin], old: list[Pin]) -> None:
        """Join the new pins of a group to what is drawn of it, and see that it is tagged if it goes on elsewhere."""
        tagged = {t.pin for t in self.out.tags if t.net == net}
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

    # Flags --------------------------------------------------------------------------------------------------------

    def _tag_group(self, net: str, pins: list[Pin], tree: set[Spot]) -> None:
        """Give a wired group one flag."""
        if not self._tag_apart(net, pins, tree):
            self.out.homeless.append(pins[0])
            spot, side, _ = self.pins[pins[0]]
            self.flag(Tag(net, spot, side if side in ("left", "right") else "right", pins[0], self.marks.get(net, "")))

    def _tag_apart(self, net: str, pins: list[Pin], tree: set[Spot]) -> bool:
        """Put a flag at the end of a short wire of its own, near one of the pins; whether there was room for it."""
        choices: list[tuple[float, Spot, Side, int, Pin]] = []
        ways: tuple[tuple[int, Side], ...] = ((-1, "left"), (1, "right"))
        for pin in pins:
            (x, y), side, _ = self.pins[pin]
            for way, name in ways:
                for far in range(1, 11):
                    for dy in (0, -1, 1, -2, 2, -3, 3):
                        price = far + 2.5 * abs(dy) + (4 if side not in (name, "top", "bottom") else 0) + (way > 0)
                        choices.append((price, (x + way * far, y + dy), name, way, pin))
        choices.sort(key=lambda c: (c[0], c[1]))
        goals = {c for c in tree if self.own(c, net)}
        tries = 0
        for _, spot, name, way, pin in choices:
            if tries > FLAG_TRIES:
                break
            tag = Tag(net, spot, name, pin, self.marks.get(net, ""))
            if not self.fits(tag, tip=0.0) or not self.grid.free_strip([spot]):
                continue
            tries += 1
            cells = tag_cells(tag)
            for cell in cells:
                self.grid.close(*cell)
            path = find_path(self.grid, self.number[net], spot, (-way, 0), goals, FLAG_WAY + PRICES)
            if path and len(path) < FLAG_WAY and self.crossed(path, net) <= 1:
                self.lay(net, path)
                self.flag(tag)
                return True
            for cell in cells:
                self.grid.open(*cell)
        return False

    def _tag(self, net: str, pin: Pin) -> None:
        """Put a flag at a pin, or at the end of a short wire."""
        spot, side, _ = self.pins[pin]
        tag = Tag(net, spot, side, pin, self.marks.get(net, ""))
        if side in ("left", "right") and self.fits(tag):
            self.flag(tag)
        elif side in ("top", "bottom") and self.rail(net, self.pins[pin][2].band) and self._mark(net, pin):
            return
        elif not self._tag_apart(net, [pin], {spot}):
            self.out.homeless.append(pin)
            self.flag(tag if side in ("left", "right") else Tag(net, spot, "right", pin, self.marks.get(net, "")))

    def _fix(self, net: str, pin: Pin, is_rail: bool) -> None:
        """Put the flag or mark of a pin for which the arrangement has kept room."""
        spot, side, _ = self.pins[pin]
        if side in ("left", "right"):
            self.flag(Tag(net, spot, side, pin, self.marks.get(net, "")))
        elif is_rail:
            self._mark(net, pin, must=True)
        else:
            at = (spot[0], spot[1] + 2 * OUTWARD[side][1])
            self.lay(net, [spot, (spot[0], spot[1] + OUTWARD[side][1]), at], pin)
            self.flag(Tag(net, at, "right", pin, self.marks.get(net, "")))


def _roundabout(path: list[Spot]) -> bool:
    """Whether a way is much longer than its ends are apart, or winds: a name is then easier to follow."""
    (x0, y0), (x1, y1) = path[0], path[-1]
    return len(path) > DETOUR * (abs(x1 - x0) + abs(y1 - y0)) + DETOUR_FREE or len(corners(path)) - 2 > MOST_BENDS


def route_wires(
    wired: Wired,
    placed: list[PlacedSymbol],
    rails: list[Rail],
    width: int,
    height: int,
    marks: Mapping[str, str] | None = None,
    keep: Kept | None = None,
    report: Report = quiet,
    fixed: frozenset[Pin] = frozenset(),
    groups: Mapping[str, str] | None = None,
) -> Routed:
    """Return wires, flags and junction dots for the placed symbols.

    `marks` is added to the flags of a net (where it goes on). With `keep`, the nets outside `keep.again` stay as drawn.
    Pins in `fixed` have a flag or a mark of their own from the start; nets in `groups` (net -> group) go into bundles
    where their pins stand in a row. Cancelled if `report` says stop.
    """
    router = _Router(wired, placed, rails, (width, height), marks or {}, fixed, groups or {})
    router.run(keep, report)
    return router.out


@dataclass(frozen=True)
class Kept:
    """What is drawn already, the nets to draw again, and the pins of those whose connection stays."""

    wires: tuple[Wire, ...]
    tags: tuple[Tag, ...]
    junctions: tuple[Spot, ...]
    again: frozenset[str]
    pins: frozenset[Pin] = frozenset()
    bundles: tuple[Bundle, ...] = ()

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
