"""The copper graph: what copper joins, from its shapes alone, brought up to date by what an edit touches.

Built once, `update` takes away the pieces that are gone, adds those that are new and measures only those against
their neighbours. Pours are as they were filled last: `stale` says that copper has changed since, `fill` fills anew.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping
from typing import Any

from zesty_trace.core.board.copper import BoardPad, Copper, Node, board_pads, lay, pad_node, pad_shapes
from zesty_trace.core.board.cores import join, line_cores, pad_cores
from zesty_trace.core.board.links import Connectivity, Link, shortest_links
from zesty_trace.core.board.pour import Area, Room, pour_areas, refilled
from zesty_trace.core.board.sheet import Sheet
from zesty_trace.core.board.shorts import ROUNDING_MM, TooNear, nearest_place
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.circuit.wired import Wired, same
from zesty_trace.core.design.model import Board, LayerName, Track, Via
from zesty_trace.core.quantities import mm


class CopperGraph:
    """Pieces of copper and which of one net touch; of different nets, which are too near."""

    def __init__(self, wired: Wired) -> None:
        self._build(wired)

    def _build(self, wired: Wired) -> None:
        self.wired = wired
        self._sheets: dict[LayerName, Sheet] = {layer: Sheet() for layer in wired.design.board.stack}
        self._numbers: dict[Node, dict[LayerName, int]] = {}
        self.joined: dict[Node, set[Node]] = {}
        self.too_near: dict[tuple[LayerName, Node, Node], float] = {}
        self._beside: dict[Node, set[tuple[LayerName, Node, Node]]] = {}
        self._nodes: dict[str, dict[Node, None]] = {}
        self._pads: dict[str, list[BoardPad]] = {}
        self._known: dict[str, tuple[tuple[Link, ...], int]] = {}
        self._on_pour: dict[Node, set[Node]] = {}
        self._pour_shapes: dict[Node, tuple[LayerName, str, Any]] = {}
        self._areas: dict[LayerName, tuple[Area, ...]] = {}
        self._changed: dict[LayerName, list[Room]] = {layer: [] for layer in wired.design.board.stack}
        self._moved = False
        self.stale = False
        board = wired.design.board
        self._add(board_pads(wired), _numbered(board.tracks), _numbered(board.vias))
        self.fill(wired)

    def changes(self, wired: Wired) -> int:
        """Return about how many pieces `update` would take off and lay."""
        old, new = self.wired.design.board, wired.design.board
        if not same(_ground(self.wired), _ground(wired)):
            return len(self._numbers) + 1
        count = sum(
            len(self._pads.get(r, ())) for r, spot in new.placements.items() if old.placements.get(r) is not spot
        )
        for was, now in ((old.tracks, new.tracks), (old.vias, new.vias)):
            count += len(set(map(id, was)) ^ set(map(id, now))) if was is not now else 0
        return count

    def update(self, wired: Wired) -> set[str]:
        """Follow an edit; return the nets whose copper has changed. Only what is new is measured."""
        if not same(_ground(self.wired), _ground(wired)):
            self._build(wired)
            return set(wired.design.nets)
        old, new = self.wired.design.board, wired.design.board
        self.wired = wired
        moved = {
            ref
            for ref in old.placements.keys() | new.placements.keys()
            if old.placements.get(ref) is not new.placements.get(ref)
            and old.placements.get(ref) != new.placements.get(ref)
        }
        tracks, gone_tracks = _changes(old.tracks, new.tracks)
        vias, gone_vias = _changes(old.vias, new.vias)
        gone: list[Node] = [*gone_tracks, *gone_vias]
        gone += [pad_node(p) for ref in moved for p in self._pads.get(ref, ()) if p.layers]
        touched = self._take(gone)
        for ref in moved:
            self._pads.pop(ref, None)
        pads = board_pads(wired, moved) if moved else []
        touched |= self._add(pads, tracks, vias)
        self._moved = self._moved or bool(moved) or not same(_round_pours(old), _round_pours(new))
        self.stale = self.stale or (bool(gone or pads or tracks or vias) and bool(new.pours)) or old.pours != new.pours
        return touched

    def _take(self, nodes: Iterable[Node]) -> set[str]:
        nets = set()
        for node in nodes:
            numbers = self._numbers.pop(node, None)
            if numbers is None:
                continue
            for layer, number in numbers.items():
                net = self._sheets[layer].items[number].net
                self._changed[layer].append(self._sheets[layer].items[number].shape.bounds)
                self._sheets[layer].take(number)
                nets.add(net)
                self._nodes.get(net, {}).pop(node, None)
            for other in self.joined.pop(node, set()):
                self.joined.get(other, set()).discard(node)
            for key in self._beside.pop(node, set()):
                self.too_near.pop(key, None)
                for end in key[1:]:
                    self._beside.get(end, set()).discard(key)
        for net in nets:
            self._known.pop(net, None)
        return nets - {""}

    def _add(self, pads: list[BoardPad], tracks: Mapping[Node, Track], vias: Mapping[Node, Via]) -> set[str]:
        nets: set[str] = set()
        for pad in pads:
            self._pads.setdefault(pad.pin.ref, []).append(pad)
            nets.add(pad.net)
        limit = mm(self.wired.design.board.rules.clearance_nm) - ROUNDING_MM
        for layer, sheet in self._sheets.items():
            here = [p for p in pads if layer in p.layers]
            own = {k: t for k, t in tracks.items() if t.layer == layer}
            if not (here or own or vias):
                continue
            laid = lay(layer, list(zip(here, pad_shapes(here), strict=True)), own, vias)
            spots = [((v.x_nm, v.y_nm),) for v in vias.values()]
            cores = join(
                (
                    pad_cores(here),
                    line_cores([t.points for t in own.values()], [t.width_nm for t in own.values()], len(here)),
                    line_cores(spots, [v.diameter_nm for v in vias.values()], len(here) + len(own)),
                )
            )
            numbers = sheet.put(laid.items, laid.lines, laid.radii, cores)
            for number, item in zip(numbers, laid.items, strict=True):
                self._numbers.setdefault(item.node, {})[layer] = number
                self._changed[layer].append(item.shape.bounds)
                self.joined.setdefault(item.node, set())
                self._nodes.setdefault(item.net, {})[item.node] = None
                nets.add(item.net)
            for a, b, gap in sheet.near(numbers, limit):
                self._meet(layer, sheet.items[a], sheet.items[b], gap)
        self._onto_pours(pads, tracks, vias)
        for net in nets:
            self._known.pop(net, None)
        return nets - {""}

    def _meet(self, layer: LayerName, a: Copper, b: Copper, gap: float) -> None:
        if a.net == b.net and a.net:
            if gap <= 0:
                self.joined[a.node].add(b.node)
                self.joined[b.node].add(a.node)
            return
        if (not a.net and a.node == b.node) or (not a.net and not b.net and a.what == b.what):
            return  # pads of one pin that is on no net
        key = (layer, a.node, b.node)
        self.too_near[key] = gap
        self._beside.setdefault(a.node, set()).add(key)
        self._beside.setdefault(b.node, set()).add(key)

    def fill(self, wired: Wired) -> None:
        """Take the pours as they are filled now."""
        self._no_pours()
        for layer in wired.design.board.stack if wired.design.board.pours else ():
            copper = layer_copper(wired, layer)
            names = _names(wired)
            for k, piece in enumerate(copper.pours):
                self._put_piece(layer, piece.net, piece.node, piece.shape)
                for item in copper.on_pour(k).tolist():
                    self._join_pour(piece.node, names.get(copper.items[item].node, copper.items[item].node))
            self._areas[layer] = pour_areas(wired, layer)
        self._filled()

    def refill(self) -> None:
        """Fill the pours of the board that is followed anew, where copper has changed; as `fill` to some micrometres.

        All is filled anew where that is not enough: parts or rules have changed, or pours keep off each other.
        """
        if self._moved or any(len(areas) > 1 for areas in self._areas.values()) or spacings(self.wired).high:
            self.fill(self.wired)
            return
        from shapely import prepare

        old = self._areas
        self._no_pours()
        for layer, areas in old.items():
            sheet = self._sheets[layer]
            for area in areas:
                own = [item for item in sheet.items.values() if item.net == area.pour.net]
                if self._changed[layer]:
                    now = refilled(self.wired, area, sheet.within, self._changed[layer], [i.shape for i in own])
                else:
                    now = area
                self._areas[layer] = (now,)
                for k, shape in enumerate(now.shape.geoms):
                    self._put_piece(layer, area.pour.net, ("pour", layer, area.pour.net, k), shape)
                    prepare(shape)
                    for item in own:
                        if shape.intersects(item.shape):
                            self._join_pour(("pour", layer, area.pour.net, k), item.node)
        self._filled()

    def _no_pours(self) -> None:
        for piece in self._on_pour:
            for node in self.joined.pop(piece, set()):
                self.joined.get(node, set()).discard(piece)
            self._nodes.get(str(piece[2]), {}).pop(piece, None)
        self._on_pour, self._pour_shapes, self._areas = {}, {}, {}

    def _put_piece(self, layer: LayerName, net: str, node: Node, shape: Any) -> None:
        self._pour_shapes[node] = (layer, net, shape)
        self._on_pour[node] = set()
        self.joined[node] = set()
        self._nodes.setdefault(net, {})[node] = None

    def _filled(self) -> None:
        self._known = {}
        self._changed = {layer: [] for layer in self._sheets}
        self.stale = self._moved = False

    def _join_pour(self, piece: Node, node: Node) -> None:
        self.joined[piece].add(node)
        self.joined[node].add(piece)

    def _onto_pours(self, pads: list[BoardPad], tracks: Mapping[Node, Track], vias: Mapping[Node, Via]) -> None:
        """Join new pieces to the pours as they were filled last."""
        poured = {net for _, net, _ in self._pour_shapes.values()}
        new = [pad_node(p) for p in pads if p.net in poured and p.layers]
        new += [k for k, t in tracks.items() if t.net in poured] + [k for k, v in vias.items() if v.net in poured]
        for node in new:
            for layer, number in self._numbers[node].items():
                item = self._sheets[layer].items[number]
                for piece, (on, net, shape) in self._pour_shapes.items():
                    if on == layer and net == item.net and shape.intersects(item.shape):
                        self._join_pour(piece, node)

    def together(self, node: Node) -> set[Node]:
        """Return all pieces that copper joins with a piece, itself counted in."""
        seen, ahead = {node}, [node]
        while ahead:
            for other in self.joined.get(ahead.pop(), ()):
                if other not in seen:
                    seen.add(other)
                    ahead.append(other)
        return seen

    def too_near_names(self) -> Iterator[tuple[LayerName, tuple[str, str]]]:
        """Yield layer and the nets of pieces that are too near, what they are for those of no net."""
        for layer, a, b in self.too_near:
            sheet = self._sheets[layer]
            one, two = (sheet.items[self._numbers[node][layer]] for node in (a, b))
            yield layer, (one.net or one.what, two.net or two.what)

    def near_parts(self, refs: Collection[str]) -> Iterator[TooNear]:
        """Yield what is too near to pads of some parts."""
        seen = set()
        for pad in (p for ref in refs for p in self._pads.get(ref, ())):
            for key in self._beside.get(pad_node(pad), ()):
                layer, *nodes = key
                sheet = self._sheets[layer]
                one, two = (sheet.items[self._numbers[node][layer]] for node in nodes)
                ends = (layer, *sorted((one.net or one.what, two.net or two.what)))
                if ends not in seen:
                    seen.add(ends)
                    at = nearest_place(one.shape, two.shape)
                    yield TooNear(layer, one.net, two.net, one.what, two.what, self.too_near[key], at)

    def connectivity(self) -> Connectivity:
        """Return the missing links of all nets and how many are wanted, from what is known of nets that stay."""
        by_net: dict[str, list[BoardPad]] = {}
        for pads in self._pads.values():
            for pad in pads:
                if pad.net and pad.layers and pad.net not in self._known:
                    by_net.setdefault(pad.net, []).append(pad)
        for net, pads in by_net.items():
            self._known[net] = (tuple(shortest_links(net, self._pieces(pads))), len(pads) - 1)
        kept = [k for net, k in self._known.items() if net in self.wired.design.nets]
        return Connectivity(tuple(link for links, _ in kept for link in links), sum(wanted for _, wanted in kept))

    def _pieces(self, pads: list[BoardPad]) -> list[list[BoardPad]]:
        left, found = pads, []
        while left:
            reached = self.together(pad_node(left[0]))
            found.append([p for p in left if pad_node(p) in reached])
            left = [p for p in left if pad_node(p) not in reached]
        return found


def _round_pours(board: Board) -> tuple[Any, ...]:
    """Return what pours keep within or off, copper left out."""
    return board.pours, board.outline, board.rules, board.keepouts, board.cutouts


def _ground(wired: Wired) -> tuple[Any, ...]:
    """Return what a graph is built on: when it changes, all is measured anew."""
    rules = wired.design.board.rules
    return (
        wired.catalogue,
        wired.design.nets,
        wired.footprints,
        wired.raised,
        wired.standing,
        rules.clearance_nm,
        rules.layers,
    )


def _numbered(pieces: Iterable[Any]) -> dict[Node, Any]:
    """Return pieces by what they are: the second of two that are alike has another number."""
    seen: Counter[Hashable] = Counter()
    found: dict[Node, Any] = {}
    for piece in pieces:
        found["copper", piece, seen[piece]] = piece
        seen[piece] += 1
    return found


def _changes(old: tuple[Any, ...], new: tuple[Any, ...]) -> tuple[dict[Node, Any], list[Node]]:
    """Return what is new, by its node, and the nodes that are gone."""
    if old is new:
        return {}, []
    before, after = Counter(map(id, old)), Counter(map(id, new))
    changed = {p for p in (*old, *new) if before[id(p)] != after[id(p)]}
    if not changed:
        return {}, []
    was = _numbered(p for p in old if p in changed)
    now = _numbered(p for p in new if p in changed)
    return {k: p for k, p in now.items() if k not in was}, [k for k in was if k not in now]


def _names(wired: Wired) -> dict[Node, Node]:
    """Return the nodes of tracks and vias by their place in the design -> as this graph calls them."""
    board = wired.design.board
    found: dict[Node, Node] = {}
    for what, pieces in (("track", board.tracks), ("via", board.vias)):
        found |= {(what, k): node for k, node in enumerate(_numbered(pieces))}
    return found
