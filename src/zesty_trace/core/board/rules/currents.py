"""Current, piece by piece: what each track and each via carries, and whether its width is enough for it.

The copper of a net is a graph. A piece whose loss parts the graph carries what the pins on its lighter side take;
pieces that run side by side are not judged. Widths by IPC-2221, 6.2; a barrel counts with
its circumference and 25 um of plating.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import board_pads, copper_items, pad_node
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.rules.holes import RULES_SOURCE
from zesty_trace.core.board.widths import needed_width_nm
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired, worked_out
from zesty_trace.core.design.model import Pin, Via
from zesty_trace.core.findings import Finding, Severity, of_net, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, say, say_mm
from zesty_trace.errors import SolveError

PLATING_UM = 25.0
NECK_MM = 3.0
NECK_SHARE = 0.4
SMALL_A = 0.1
BESIDE_MM = 3.0  # vias of a net so near to each other share what they carry
SOURCE = "IPC-2221, 6.2: I = 0.048 dT^0.44 A^0.725"

TRACK_WIDTH = rule(
    "track width",
    Severity.FIX,
    "A thin track warms up, and may lift.",
    SOURCE,
    limits="the width that the temperature rise of the board rules asks for",
    station="layout",
)
VIA_CURRENT = rule(
    "via current",
    Severity.FIX,
    "The barrel of a via is thin copper: with too much current it opens.",
    f"{SOURCE}, the barrel as a conductor of {PLATING_UM:g} um plating",
    limits="what the barrel carries at the temperature rise of the board rules",
    station="layout",
)
LEAST_WIDTH = rule(
    "least width",
    Severity.FIX,
    "What is thinner than the house can etch comes back broken, or not at all.",
    RULES_SOURCE,
    limits="least track of the board rules",
    station="layout",
)


@dataclass(frozen=True)
class Piece:
    """A track or via of a net: the current through it, A, its length and width, mm, and where it is.

    Of vias side by side, `beside` in all, each is said to carry its share.
    """

    net: str
    what: str
    index: int
    current_a: float
    length_mm: float
    width_mm: float
    at: Point
    beside: int = 1


def via_capacity_a(drill_nm: int, rise_c: float) -> float:
    """Return the current that a via's barrel carries with this temperature rise, A (IPC-2221, 6.2, inner conductor)."""
    area_mil2 = math.pi * (drill_nm / 25_400) * (PLATING_UM / 25.4)
    return float(0.024 * rise_c**0.44 * area_mil2**0.725)


def check_currents(wired: Wired) -> Iterator[Finding]:
    """Yield tracks and vias that are too thin, the worst of each net."""
    yield from _least(wired)
    yield from _via_currents(wired)
    rules = wired.design.board.rules
    worst: dict[tuple[str, str], tuple[float, Piece, float]] = {}
    for piece in pieces(wired):
        if piece.current_a < SMALL_A or piece.what == "via":
            continue
        can = needed_width_nm(piece.current_a, rules, wired.design.board.tracks[piece.index].layer) / 1e6
        load = can / piece.width_mm
        if piece.length_mm < NECK_MM and load < 1 / NECK_SHARE:
            continue  # a short neck is cooled by the wide copper at its ends (common practice)
        if load > 1.01 and load > worst.get((piece.net, piece.what), (0.0,))[0]:
            worst[piece.net, piece.what] = (load, piece, can)
    for (net, _), (_, piece, can) in worst.items():
        current = say(piece.current_a, "A")
        yield TRACK_WIDTH.found(
            of_net(net),
            f"{net} carries {current} on {piece.width_mm:.2f} mm",
            f"{rules.temperature_rise_c:.0f} °C of rise asks for {say_mm(round(can * 1e6))} on these "
            f"{piece.length_mm:.1f} mm. Route again, or widen it.",
            at=(piece.at,),
            value=piece.width_mm,
            limit=can,
            unit="mm",
        )


def overloaded_vias(wired: Wired) -> list[tuple[Piece, int]]:
    """Return vias that carry more than their barrel does, the worst of each place, and how many it takes there."""
    rise = wired.design.board.rules.temperature_rise_c
    found = []
    for piece in pieces(wired):
        if piece.what == "via" and piece.current_a * piece.beside >= SMALL_A:
            can = via_capacity_a(wired.design.board.vias[piece.index].drill_nm, rise)
            if piece.current_a > 1.01 * can:
                found.append((piece, math.ceil(piece.current_a * piece.beside / can)))
    return found


def _via_currents(wired: Wired) -> Iterator[Finding]:
    """Yield the worst via of each net, or the worst vias side by side."""
    rise = wired.design.board.rules.temperature_rise_c
    worst: dict[str, tuple[Piece, int]] = {}
    for piece, wanted in overloaded_vias(wired):
        if piece.net not in worst or piece.current_a > worst[piece.net][0].current_a:
            worst[piece.net] = (piece, wanted)
    for net, (piece, wanted) in worst.items():
        can = via_capacity_a(wired.design.board.vias[piece.index].drill_nm, rise)
        through = "one via" if piece.beside == 1 else f"{piece.beside} vias side by side"
        yield VIA_CURRENT.found(
            of_net(net, "via"),
            f"{net} carries {say(piece.current_a * piece.beside, 'A')} through {through}",
            f"A barrel carries {say(can, 'A')}. Put {wanted} side by side.",
            at=(piece.at,),
            value=piece.current_a,
            limit=can,
            unit="A",
        )


def _least(wired: Wired) -> Iterator[Finding]:
    rules = wired.design.board.rules
    thinnest: dict[str, tuple[int, Point]] = {}
    for track in wired.design.board.tracks:
        if track.width_nm < rules.least_track_nm and track.width_nm < thinnest.get(track.net, (1 << 60,))[0]:
            thinnest[track.net] = track.width_nm, Point(*track.points[0])
    for net, (width, at) in thinnest.items():
        yield LEAST_WIDTH.found(
            of_net(net, "width"),
            f"A track of {net} is {mm(width):.2f} mm wide",
            f"The house etches from {say_mm(rules.least_track_nm)}. Widen it.",
            at=(at,),
            value=mm(width),
            limit=mm(rules.least_track_nm),
            unit="mm",
        )


@worked_out
def pieces(wired: Wired) -> tuple[Piece, ...]:
    """Return every track and via of nets that carry current, with the current through it."""
    try:
        peaks = analyse(wired).pin_peaks()
    except SolveError:
        return ()
    loaded = {net for net, pins in wired.design.nets.items() if max((peaks.get(p, 0.0) for p in pins), default=0) > 0}
    laid = {t.net for t in wired.design.board.tracks} | {v.net for v in wired.design.board.vias}
    return tuple(piece for net in sorted(loaded & laid) for piece in _of_net(wired, net, peaks))


def _of_net(wired: Wired, net: str, peaks: Any) -> Iterator[Piece]:
    graph = _graph(wired, net)
    takes: dict[Any, float] = {}
    shared: dict[Pin, int] = {}
    pads = [p for p in board_pads(wired) if p.net == net and p.layers]
    for pad in pads:
        shared[pad.pin] = shared.get(pad.pin, 0) + 1
    for pad in pads:
        takes[pad_node(pad)] = peaks.get(pad.pin, 0.0) / shared[pad.pin]
    board = wired.design.board
    for node in list(graph):
        if node[0] == "track":
            track = board.tracks[node[1]]
            ends = zip(track.points, track.points[1:], strict=False)
            length = sum(math.hypot(b[0] - a[0], b[1] - a[1]) for a, b in ends)
            middle = track.points[len(track.points) // 2]
            current = _through(graph, {node}, takes)
            yield Piece(net, "track", node[1], current, length / 1e6, mm(track.width_nm), Point(*middle))
        elif node[0] == "via":
            yield _via(wired, net, node, graph, takes)


def _via(wired: Wired, net: str, node: Any, graph: Any, takes: dict[Any, float]) -> Piece:
    """Return a via with its share of what goes through it and the vias of its net close by."""
    vias = wired.design.board.vias
    via = vias[node[1]]
    group = {node}
    current = _through(graph, group, takes)
    if current <= 0:
        group = {n for n in graph if n[0] == "via" and _off_mm(vias[n[1]], via) <= BESIDE_MM}
        current = _through(graph, group, takes) * via.drill_nm / sum(vias[n[1]].drill_nm for n in group)
    at = Point(via.x_nm, via.y_nm)
    return Piece(net, "via", node[1], current, 0.0, mm(via.drill_nm), at, len(group))


def _off_mm(a: Via, b: Via) -> float:
    return math.hypot(mm(a.x_nm - b.x_nm), mm(a.y_nm - b.y_nm))


def _through(graph: Any, gone: set[Any], takes: dict[Any, float]) -> float:
    """Return the current through pieces: what the lighter of the parts takes that their loss leaves behind.

    Pieces that have other company are not judged: 0.
    """
    import networkx as nx

    parts = []
    rest = graph.subgraph([n for n in graph if n not in gone])
    seen: set[Any] = set(gone)
    for near in (n for node in sorted(gone, key=str) for n in graph[node]):
        if near in seen:
            continue
        part = nx.node_connected_component(rest, near)
        seen |= part
        parts.append(sum(takes.get(n, 0.0) for n in part))
    if len(parts) < 2:
        return 0.0
    parts.sort()
    return min(sum(parts[:-1]), parts[-1])


def _graph(wired: Wired, net: str) -> Any:
    """Return which pieces of a net's copper touch."""
    import networkx as nx
    from shapely import STRtree

    graph = nx.Graph()
    for layer in wired.design.board.stack:
        items = [(i.node, i.shape) for i in copper_items(wired, layer) if i.net == net]
        for name, area in pour_shapes(wired, layer):
            if name == net:
                items += [(("pour", layer, k), piece) for k, piece in enumerate(area.geoms)]
        if not items:
            continue
        shapes = [shape for _, shape in items]
        graph.add_nodes_from(node for node, _ in items)
        left, right = STRtree(shapes).query(shapes, predicate="intersects")
        graph.add_edges_from(
            (items[a][0], items[b][0]) for a, b in zip(left.tolist(), right.tolist(), strict=True) if a < b
        )
    return graph
