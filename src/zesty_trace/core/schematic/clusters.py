"""Clusters: parts that hang together by signals, laid out by walking the signals from left to right.

A part to a supply stands above the signal, one to ground below it, a series part lies in line, a part with more pins
becomes a box with inputs left and outputs right.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Kind, PinSpec
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.decoupling import decoupled_part
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Page, Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic import symbols
from zesty_trace.core.schematic.blocks import block_order, propose_blocks
from zesty_trace.core.schematic.bundles import runs_of
from zesty_trace.core.schematic.labels import (
    labels_of,
    lines_of,
    mark_box,
    tag_width,
)
from zesty_trace.core.schematic.pages import page_marks
from zesty_trace.core.schematic.sheet import PlacedSymbol
from zesty_trace.core.schematic.symbols import Side, Symbol, SymbolPin
from zesty_trace.errors import SolveError

CORRIDOR = 60.0
RAIL_MIN_PINS = 4


@dataclass
class Cluster:
    """Parts laid out together; spots are relative to its own origin, rows count from the first signal."""

    block: str
    refs: list[str]
    placed: dict[str, tuple[Symbol, int, int]] = field(default_factory=dict)
    taken: list[Box] = field(default_factory=list)
    corridors: list[Box] = field(default_factory=list)

    def extent(self) -> tuple[int, int, int, int]:
        x0, y0 = min(t.x0 for t in self.taken), min(t.y0 for t in self.taken)
        x1, y1 = max(t.x1 for t in self.taken), max(t.y1 for t in self.taken)
        return int(x0 - 0.99), int(y0 - 0.99), int(x1 + 0.99), int(y1 + 0.99)


class Clusters:
    """Lays out clusters. Pins in `fixed` get room for a flag or a mark of their own."""

    def __init__(self, wired: Wired, page: Page | None = None) -> None:
        design = wired.design
        self.wired, self.design = wired, design
        self.net_of = wired.net_of
        self.ground = wired.ground
        rails = [n for n in wired.rails if len(design.nets[n]) >= RAIL_MIN_PINS]
        volts = _volts(wired)
        self.rails = sorted(rails, key=lambda n: -volts.get(n, 0.0))
        self.rail_set = {*self.rails, self.ground}
        blocks = propose_blocks(wired)
        self.block = {r: b for r, b in blocks.items() if page is None or b in page.blocks}
        self.marks = page_marks(wired, page) if page else {}
        self.fixed = frozenset(self._alone())
        self.groups: dict[str, str] = {}  # of the nets that go into bundles

    def _alone(self) -> Iterator[Pin]:
        """Yield pins whose net goes on in other blocks only."""
        for net, pins in self.design.nets.items():
            homes = Counter(self.block.get(p.ref, "") for p in pins)
            if net not in self.rail_set and len(pins) > 1:
                yield from (p for p in pins if p.ref in self.block and homes[self.block[p.ref]] == 1)

    def kind(self, ref: str) -> Kind:
        return self.wired.kind(ref)

    def net(self, ref: str, number: str) -> str:
        return self.net_of.get(Pin(ref, number), "")

    def small(self, ref: str) -> bool:
        kind = self.kind(ref)
        return len(kind.pins) == 2 and not kind.connector

    # Clusters -----------------------------------------------------------------------------------------------------

    def clusters(self) -> list[Cluster]:
        """Return the clusters in reading order: by block, then by first part."""
        found = []
        for block in block_order(set(self.block.values())):
            members = [r for r in self.design.parts if self.block.get(r) == block]
            for group in self._connected(members):
                cluster = Cluster(block, group)
                self._lay_out(cluster)
                found.append(cluster)
        return found

    def _connected(self, members: list[str]) -> list[list[str]]:
        import networkx as nx

        graph = nx.Graph()
        graph.add_nodes_from(members)
        single = [r for r in members if len(self.kind(r).pins) == 1]
        graph.add_edges_from(itertools.pairwise(single))
        for index, ref in enumerate(members):
            nets = {self.net(ref, p.number) for p in self.kind(ref).pins} - {""}
            if nets <= self.rail_set and len(self.kind(ref).pins) == 2:
                near = decoupled_part(self.wired, members, index)
                if near:
                    graph.add_edge(ref, near)
            for net in nets - self.rail_set:
                members_on = [p.ref for p in self.design.nets[net] if p.ref in graph]
                if not self._daisy_chain(members_on):
                    graph.add_edges_from((ref, other) for other in members_on)
        order = {ref: k for k, ref in enumerate(members)}
        groups = [sorted(g, key=order.__getitem__) for g in nx.connected_components(graph)]
        return sorted(groups, key=lambda g: order[g[0]])

    def _daisy_chain(self, refs: list[str]) -> bool:
        """Whether a net only hands a signal from one box to the next of its kind, as addressable lights do."""
        kinds = {self.design.parts[r].kind for r in refs}
        return len(refs) == 2 and len(kinds) == 1 and self.kind(refs[0]).bus is None and not self.small(refs[0])

    # Symbols ------------------------------------------------------------------------------------------------------

    def rank(self, net: str) -> int:
        """Return how high a net sits: supplies by order, signals between, ground last."""
        if net == self.ground:
            return 1000
        return self.rails.index(net) if net in self.rails else 500

    def stand(self, ref: str) -> Symbol:
        kind = self.kind(ref)
        first, second = kind.pins
        top = first if self.rank(self.net(ref, first.number)) <= self.rank(self.net(ref, second.number)) else second
        return symbols.upright(kind, top.number)

    def big(self, ref: str, members: Iterable[str], facing: Mapping[str, int] | None = None, way: int = 1) -> Symbol:
        """Return the symbol of a part that is no small one.

        Pins in `facing` (number -> order) look at the part on whose `way` side this one stands, row by row.
        """
        kind = self.kind(ref)
        if symbols.look_of(kind) == "switch":
            common = self.net(ref, kind.pins[[p.name in ("S", "E") for p in kind.pins].index(True)].number)
            return symbols.low_side_switch(kind) if common in self.rail_set else symbols.pass_switch(kind)
        if len(kind.pins) == 1:
            return symbols.point(kind, self.net(ref, kind.pins[0].number) != self.ground)
        inside = set(members)
        sides: dict[Side, list[tuple[PinSpec, int]]] = {"left": [], "right": [], "top": [], "bottom": []}
        spare: list[PinSpec] = []
        facing = facing or {}
        toward: Side = "left" if way > 0 else "right"
        for spec in kind.pins:
            side = toward if spec.number in facing else self._side(ref, kind, spec)
            if side is None:
                spare.append(spec)
            else:
                sides[side].append((spec, self._rows(ref, spec, inside)))
        sides[toward].sort(key=lambda p: facing.get(p[0].number, len(facing)))
        for spec in spare:
            side = "left" if sum(r for _, r in sides["left"]) <= sum(r for _, r in sides["right"]) else "right"
            sides[side].append((spec, 2))
        sides["left"], sides["right"] = self._apart(ref, sides["left"]), self._apart(ref, sides["right"])
        return symbols.box(sides, (ref, *lines_of(self.design.parts[ref], kind, True)))

    def _apart(self, ref: str, column: list[tuple[PinSpec, int]]) -> list[tuple[PinSpec, int]]:
        """Return a column of pins with room for a bundle's name between one group and what is next to it."""
        groups = [self.groups.get(self.net(ref, spec.number), "") for spec, _ in column]
        after = [*groups[1:], ""][: len(groups)]
        return [
            (spec, 4 if here != there and (here or there) else rows)
            for (spec, rows), here, there in zip(column, groups, after, strict=True)
        ]

    def _facing(self, ref: str, host: tuple[str, Symbol] | None, way: int) -> dict[str, int]:
        """Return the pins of a part that share a net with pins on the near side of its host, in the host's order."""
        if host is None:
            return {}
        near = [p for p in host[1].pins if p.side == ("right" if way > 0 else "left")]
        nets = {self.net(host[0], p.number): p.y for p in near}
        shared = {
            spec.number: nets[net]
            for spec in self.kind(ref).pins
            if (net := self.net(ref, spec.number)) and net not in self.rail_set and net in nets
        }
        return shared if len(shared) > 1 else {}

    def _side(self, ref: str, kind: Kind, spec: PinSpec) -> Side | None:
        net = self.net(ref, spec.number)
        if not net:
            return None
        if kind.is_a(m.Supply) and spec.role != "ground":
            return "left" if spec.role == "supply_in" else "right"
        if net == self.ground:
            return "bottom"
        if net in self.rail_set:
            return "top"
        if kind.is_a(m.Inlet):
            return "right"
        if kind.connector or spec.role in ("input", "open_drain"):
            return "left"
        return self._controller_side(ref, spec) if kind.is_a(m.Controller) else "right"

    def _controller_side(self, ref: str, spec: PinSpec) -> Side:
        """Inputs reach a button, a divider or a header; what drives something goes right."""
        near = {self.block.get(p.ref) for p in self.design.nets[self.net(ref, spec.number)]} - {self.block[ref]}
        prefixes = {self.kind(p.ref).prefix for p in self.design.nets[self.net(ref, spec.number)]}
        return "left" if "SW" in prefixes or not near - {"Ports", "Power"} else "right"

    def _rows(self, ref: str, spec: PinSpec, inside: set[str]) -> int:
        net = self.net(ref, spec.number)
        if net in self.rail_set:
            return 3
        if net in self.groups:
            return 2
        attached = [p.ref for p in self.design.nets.get(net, ()) if p.ref in inside and p.ref != ref]
        return 4 if attached else 2

    # Walking ------------------------------------------------------------------------------------------------------

    def _lay_out(self, cluster: Cluster) -> None:
        big = [r for r in cluster.refs if not self.small(r)]
        starts = [r for r in big if self.kind(r).is_a(m.Inlet, m.Controller)]
        entry = self._entry_net(cluster)
        if starts or not entry:
            first = (starts or big or cluster.refs)[0]
            self._put_big(cluster, first, 0, 0) if first in big else self._put_upright(cluster, first, 0, 0)
        else:
            self._walk(cluster, entry, 0, 0, 1)
        self._rest(cluster)

    def _entry_net(self, cluster: Cluster) -> str:
        """Return the signal that comes in from another block, gates and series parts first."""
        inside = set(cluster.refs)
        best: tuple[int, int, str] | None = None
        for k, ref in enumerate(cluster.refs):
            for spec in self.kind(ref).pins:
                net = self.net(ref, spec.number)
                if not net or net in self.rail_set or all(p.ref in inside for p in self.design.nets[net]):
                    continue
                score = (0 if self.small(ref) else 1, k, net)
                best = min(best, score) if best else score
        return best[2] if best else ""

    def _walk(
        self, cluster: Cluster, net: str, x: int, y: int, way: int, host: tuple[str, Symbol] | None = None
    ) -> None:
        """Place everything of the cluster that hangs on `net`, from (x, y) on, to the right (way 1) or left (-1)."""
        waiting = [p for p in self.design.nets.get(net, ()) if p.ref in cluster.refs and p.ref not in cluster.placed]
        for pin in waiting:
            if self.small(pin.ref) and self._far(pin) in self.rail_set and pin.ref not in cluster.placed:
                x = self._hang(cluster, pin, x, y, way)
        row = y
        for pin in waiting:
            if pin.ref in cluster.placed:
                continue
            if self.small(pin.ref):
                x_after = self._series(cluster, pin, x, row, way)
                self._walk(cluster, self._far(pin), x_after, row, way, host)
            else:
                self._big_at_pin(cluster, pin, x, row, way, host)
            row += 6

    def _far(self, pin: Pin) -> str:
        return self.net(pin.ref, "2" if pin.number == "1" else "1")

    def _hang(self, cluster: Cluster, pin: Pin, x: int, y: int, way: int) -> int:
        symbol = self.stand(pin.ref)
        near = symbol.pin(pin.number)
        x = self._put(cluster, pin.ref, symbol, x + 2 * way, y - near.y, way)
        return x + 2 * way

    def _series(self, cluster: Cluster, pin: Pin, x: int, y: int, way: int) -> int:
        kind = self.kind(pin.ref)
        far = "2" if pin.number == "1" else "1"
        symbol = symbols.lying(kind, pin.number if way > 0 else far)
        x = self._put(cluster, pin.ref, symbol, x + 4 * way, y, way)
        return x + 3 * way

    def _put_upright(self, cluster: Cluster, ref: str, x: int, y: int) -> None:
        self._put(cluster, ref, self.stand(ref), x, y, 1)

    def _big_at_pin(
        self, cluster: Cluster, pin: Pin, x: int, y: int, way: int, host: tuple[str, Symbol] | None
    ) -> None:
        symbol = self.big(pin.ref, cluster.refs, self._facing(pin.ref, host, way), way)
        at = symbol.pin(pin.number)
        self._put_big(cluster, pin.ref, x + 3 * way - at.x, y - at.y, symbol, way)

    def _put_big(self, cluster: Cluster, ref: str, x: int, y: int, symbol: Symbol | None = None, way: int = 1) -> None:
        symbol = symbol or self.big(ref, cluster.refs)
        x = self._put(cluster, ref, symbol, x, y, way)
        for pin in symbol.pins:
            net = self.net(ref, pin.number)
            if not net or net in self.rail_set:
                continue
            if pin.side == "left":
                self._walk(cluster, net, x + pin.x, y + pin.y, -1, (ref, symbol))
            else:
                self._walk(cluster, net, x + pin.x, y + pin.y, 1, (ref, symbol))
        for other in cluster.refs:
            if other not in cluster.placed and self.small(other) and self._bypasses(cluster, other) == ref:
                self._bypass(cluster, other, x, y, symbol)

    def _bypasses(self, cluster: Cluster, ref: str) -> str | None:
        nets = {self.net(ref, p.number) for p in self.kind(ref).pins}
        if not nets <= self.rail_set:
            return None
        return decoupled_part(self.wired, cluster.refs, cluster.refs.index(ref))

    def _bypass(self, cluster: Cluster, ref: str, x: int, y: int, symbol: Symbol) -> None:
        start = x + int(symbol.right) + 3
        if self.kind(cluster.refs[0]).is_a(m.Inlet) or symbol.right > 6:
            start = int(max(t[2] for t in cluster.taken)) + 2
        self._put(cluster, ref, self.stand(ref), start, y, 1)

    def _rest(self, cluster: Cluster) -> None:
        for ref in cluster.refs:
            if ref in cluster.placed:
                continue
            x = int(max((t[2] for t in cluster.taken), default=-4)) + 3
            if len(self.kind(ref).pins) == 1:
                self._put(cluster, ref, self.big(ref, cluster.refs), x - 1, 0, 1)
            elif self.small(ref):
                self._put_upright(cluster, ref, x, 0)
            else:
                symbol = self.big(ref, cluster.refs)
                self._put_big(cluster, ref, x + 2 - int(symbol.left), 0, symbol)

    def _put(self, cluster: Cluster, ref: str, symbol: Symbol, x: int, y: int, way: int) -> int:
        """Put a symbol at (x, y) or the next free spot along `way`; return its x."""
        while any(r.meets(t) for r in self._rooms(ref, symbol, x, y) for t in (*cluster.taken, *cluster.corridors)):
            x += way
        rooms = self._rooms(ref, symbol, x, y)
        cluster.placed[ref] = (symbol, x, y)
        corridors = self._corridors(ref, symbol, x, y)
        cluster.taken += rooms[: len(rooms) - len(corridors)]
        cluster.corridors += corridors
        return x

    def _rooms(self, ref: str, symbol: Symbol, x: int, y: int) -> list[Box]:
        """Return the part's own room and those of its flags and bundles, then the corridors of its supplies."""
        runs = runs_of(ref, symbol, partial(self.net, ref), self.groups)
        tapped = {p.number for run in runs for p in run.pins}
        rooms = [self._room(ref, symbol, x, y), *(run.room(x, y) for run in runs)]
        rooms += [
            self._flag_room(self.net(ref, p.number), p, x + p.x, y + p.y)
            for p in symbol.pins
            if Pin(ref, p.number) in self.fixed and p.number not in tapped
        ]
        return rooms + self._corridors(ref, symbol, x, y)

    def rooms_of(self, s: PlacedSymbol) -> list[Box]:
        """Return the room of a placed part and those of its flags and bundles."""
        rooms = self._rooms(s.ref, s.symbol, s.x, s.y)
        return rooms[: len(rooms) - len(self._corridors(s.ref, s.symbol, s.x, s.y))]

    def _corridors(self, ref: str, symbol: Symbol, x: int, y: int) -> list[Box]:
        """Return the columns in which a part's supply connections run up or down."""
        found = []
        for pin in symbol.pins:
            free = Pin(ref, pin.number) not in self.fixed
            if free and self.net(ref, pin.number) in self.rail_set and pin.side in ("top", "bottom"):
                far = -CORRIDOR if pin.side == "top" else CORRIDOR
                low, high = sorted((y + pin.y, y + pin.y + far))
                found.append(Box(x + pin.x - 0.4, low, x + pin.x + 0.4, high))
        return found

    def _flag_room(self, net: str, pin: SymbolPin, x: int, y: int) -> Box:
        """Return where a pin's flag or local mark will be, with the air it needs."""
        wide = tag_width(net + self.marks.get(net, "")) + 0.6
        if pin.side in ("left", "right"):
            near, far = sorted((float(x), x + (wide if pin.side == "right" else -wide)))
            return Box(near, y - 1.0, far, y + 1.0)
        up = pin.side == "top"
        if net in self.rail_set:
            return mark_box(x, y, "" if net == self.ground else net, up).grown(0.3)
        return Box(x - 0.6, y - 3.2 if up else float(y), x + wide, float(y) if up else y + 3.2)

    def _room(self, ref: str, symbol: Symbol, x: int, y: int) -> Box:
        """Return the rectangle that a symbol needs with its pins and what is written at it."""
        part, boxed = self.design.parts[ref], symbol.look == "box"
        joined = frozenset(p.number for p in symbol.pins if self.net(ref, p.number))
        lines = lines_of(part, self.kind(ref), boxed)
        placed = PlacedSymbol(ref, symbol, 0, 0, 0, "")
        out = 2.0 if boxed else 0.4  # wires turn beside a box
        ends = [
            Box(
                p.x - (out if p.side == "left" else 0.4),
                p.y - 0.4,
                p.x + (out if p.side == "right" else 0.4),
                p.y + 0.4,
            )
            for p in symbol.pins
        ]
        edge = Box(symbol.left - 0.6, symbol.top - 0.6, symbol.right + 0.6, symbol.bottom + 0.6)
        return _around([edge, *ends, *(label.box().grown(0.3) for label in labels_of(placed, lines, joined))]).moved(
            x, y
        )


def _volts(wired: Wired) -> Mapping[str, float]:
    """Return net voltages with everything on; empty where the circuit cannot be solved."""
    design = wired.design
    if not design.parts:
        return {}
    try:
        return analyse(wired).worst().net_voltages()
    except SolveError:
        return {}


def _around(boxes: Iterable[Box]) -> Box:
    """Return the rectangle around rectangles."""
    x0, y0, x1, y1 = zip(*boxes, strict=True)
    return Box(min(x0), min(y0), max(x1), max(y1))
