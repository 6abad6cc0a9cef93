"""The netlist that is in the copper: islands of copper on every layer, joined by plated holes, and whose they are."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, NamedTuple

import networkx as nx

from zesty_trace.core.fabrication.contacts import Contact, contacts_of_netlist
from zesty_trace.core.fabrication.finished import BoardSet, Hole
from zesty_trace.core.gerber.image import Mark, Spot

NO_NET = "N/C"  # a pad of no net, in the words of the format
WALL_MM = 0.02  # copper that is left out for its drill ends so near to the wall
CRUMB_MM2 = 1e-4  # less copper than that is a rounding of shapes


class Open(NamedTuple):
    """A net that is in several pieces: the pins of each."""

    net: str
    pieces: tuple[tuple[str, ...], ...]


class Short(NamedTuple):
    """Nets that are one piece of copper, with a pin of each."""

    nets: tuple[str, ...]
    pins: tuple[str, ...]


@dataclass(frozen=True)
class Traced:
    """What copper joins. `pieces` are groups of islands; `missing` are contacts with no copper where they should be."""

    pieces: int
    opens: tuple[Open, ...]
    shorts: tuple[Short, ...]
    missing: tuple[Contact, ...]
    contacts: int
    nets: int
    source: str

    @property
    def same(self) -> bool:
        """Whether the copper has just the nets that it should have."""
        return bool(self.contacts) and not (self.opens or self.shorts or self.missing)


class Copper:
    """The islands of all layers of a set, and what joins them."""

    def __init__(self, board: BoardSet) -> None:
        from shapely import STRtree, get_parts, prepare

        self.islands: list[tuple[str, Any]] = []
        for layer in board.layers:
            parts = [p for p in get_parts(board.copper(layer)).tolist() if p.area > CRUMB_MM2]
            self.islands += [(layer, part) for part in parts]
        for _, shape in self.islands:
            prepare(shape)
        self.tree = STRtree([shape for _, shape in self.islands])
        graph = nx.Graph()
        graph.add_nodes_from(range(len(self.islands)))
        for hole in board.holes:
            if hole.plated is not False:
                met = self.around(hole)
                graph.add_edges_from((met[0], k) for k in met[1:])
        self.group = {k: n for n, piece in enumerate(nx.connected_components(graph)) for k in piece}
        self.groups = len(set(self.group.values()))

    def around(self, hole: Hole) -> list[int]:
        """Return the islands that a plated hole joins: those that its wall meets, but for rounding."""
        return sorted(self.tree.query(hole.shape, predicate="dwithin", distance=WALL_MM).tolist())

    def at(self, contact: Contact) -> int | None:
        """Return the piece of copper at a contact; None if there is none."""
        from shapely import Point

        spot = Point(contact.x, contact.y)
        for reach in (spot, spot.buffer(WALL_MM)):
            for k in sorted(self.tree.query(reach, predicate="intersects").tolist()):
                if self.islands[k][0] in contact.layers:
                    return self.group[k]
        return None


def what_should_be(board: BoardSet) -> tuple[list[Contact], str]:
    """Return where nets must have copper by the set itself, and who says so: a netlist in it, else its attributes."""
    for name, records in sorted(board.netlists.items()):
        return contacts_of_netlist(records, board.layers), name
    return said_by_files(board), "the attributes in the copper files"


def said_by_files(board: BoardSet) -> list[Contact]:
    """Return the contacts that the copper files name with their attributes: flashes and contours with a pin or net."""
    found = []
    for layer in board.layers:
        image = board.images["copper", layer]
        for mark, shape in zip(image.marks, image.shapes, strict=True):
            named = mark.net and mark.net.upper() != NO_NET
            spot = _inside(mark, shape) if named and mark.dark else None
            if mark.net and spot is not None:
                pin = ".".join(mark.pin) if mark.pin else f"{layer} line {mark.line}"
                found.append(Contact(pin, mark.net, *spot, (layer,)))
    return found


def _inside(mark: Mark, shape: Any) -> Spot | None:
    """Return a point on what a mark leaves; None for a filled area that is no pad: it may be cleared anywhere again."""
    if mark.kind != "region":
        return mark.points[0]
    if mark.pin is None or shape.is_empty:
        return None
    middle = shape.representative_point()
    return middle.x, middle.y


def in_holes(contacts: Iterable[Contact], board: BoardSet) -> list[Contact]:
    """Return contacts with those over a hole moved to the rim of it, where copper is."""
    from shapely import Point, STRtree

    holes = [h for h in board.holes if not h.slot]
    tree = STRtree([h.shape for h in holes])
    found = []
    for c in contacts:
        hit = tree.query(Point(c.x, c.y), predicate="intersects").tolist()
        found.append(c._replace(x=c.x + holes[hit[0]].diameter / 2) if hit and board_is_cut(board, c) else c)
    return found


def board_is_cut(board: BoardSet, contact: Contact) -> bool:
    """Whether the copper at a contact is left out for its drill, as some files have it."""
    from shapely import Point

    spot = Point(contact.x, contact.y)
    return not any(board.copper(layer).intersects(spot) for layer in contact.layers if layer in board.layers)


def trace(board: BoardSet, contacts: Iterable[Contact], source: str, copper: Copper | None = None) -> Traced:
    """Compare what the copper joins with what it should: opens and shorts by net."""
    copper = copper or Copper(board)
    wanted = in_holes(contacts, board)
    pieces_of: dict[str, dict[int, list[str]]] = {}
    nets_of: dict[int, dict[str, str]] = {}
    missing = []
    for c in wanted:
        piece = copper.at(c)
        if piece is None:
            missing.append(c)
            continue
        pieces_of.setdefault(c.net, {}).setdefault(piece, []).append(c.pin)
        nets_of.setdefault(piece, {}).setdefault(c.net, c.pin)
    opens = tuple(
        Open(net, tuple(tuple(dict.fromkeys(pins)) for pins in pieces.values()))
        for net, pieces in sorted(pieces_of.items())
        if len(pieces) > 1
    )
    shorts = tuple(
        Short(tuple(sorted(nets)), tuple(nets[n] for n in sorted(nets))) for nets in nets_of.values() if len(nets) > 1
    )
    nets = len({c.net for c in wanted})
    return Traced(copper.groups, opens, tuple(sorted(shorts)), tuple(missing), len(wanted), nets, source)
