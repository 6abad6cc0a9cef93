"""A judge of routed boards that shares no code with the router: shapely and networkx on the shapes of the design.

Pads come from the land patterns by their own arithmetic; pours are taken as they are written to the files.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import networkx as nx
import numpy as np
import shapely
from shapely import affinity
from shapely.geometry import LineString, Point, box

from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.wired import Wired

TOLERANCE_MM = 0.002
STACKS = {2: ("top", "bottom"), 4: ("top", "inner1", "inner2", "bottom")}


@dataclass(frozen=True)
class Verdict:
    """What was found: connections wanted and open, pairs too near, pads of poured nets that are cut off, lengths."""

    wanted: int
    open: int
    too_near: tuple[str, ...]
    islands: int
    length_mm: float
    bound_mm: float
    vias: int
    signal_vias: int
    signal_connections: int

    @property
    def ratio(self) -> float:
        """Length over bound."""
        return self.length_mm / self.bound_mm if self.bound_mm else 0.0

    @property
    def vias_each(self) -> float:
        """Vias of signals for each of their connections."""
        return self.signal_vias / max(1, self.signal_connections)


def _pads(wired: Wired) -> list[tuple]:
    found = []
    net_of = wired.design.net_of()
    from zesty_trace.core.design.model import Pin

    for ref, place in wired.design.board.placements.items():
        part = wired.design.parts[ref]
        spec = wired.catalogue.package(part.package or wired.kind(ref).packages[0])
        turn = place.angle_mdeg / 1000
        for k, pad in enumerate(land_pattern(spec).pads):
            w, h = pad.width_nm / 1e6, pad.height_nm / 1e6
            if pad.shape == "rect":
                shape = box(-w / 2, -h / 2, w / 2, h / 2)
            else:
                r = min(w, h) / 2
                shape = LineString([(-(w / 2 - r), -(h / 2 - r)), (w / 2 - r, h / 2 - r)]).buffer(r, quad_segs=32)
            sign = -1 if place.side == "bottom" else 1
            x, y = sign * pad.x_nm / 1e6, pad.y_nm / 1e6
            a = math.radians(turn)
            cx = place.x_nm / 1e6 + x * math.cos(a) - y * math.sin(a)
            cy = place.y_nm / 1e6 + x * math.sin(a) + y * math.cos(a)
            shape = affinity.translate(affinity.rotate(shape, turn, origin=(0, 0)), cx, cy)
            through = pad.drill_nm > 0
            layers = STACKS[wired.design.board.rules.layers] if through and pad.plated else (place.side,)
            net = net_of.get(Pin(ref, pad.number), "")
            found.append((f"{ref}.{pad.number}/{k}", net, layers, shape, (cx, cy), through, pad.plated))
    return found


def _tree(points: list[tuple[float, float]]) -> float:
    at = np.array(points)
    graph = nx.Graph()
    for i in range(len(at)):
        for j in range(i):
            graph.add_edge(i, j, weight=float(np.hypot(*(at[i] - at[j]))))
    return sum(d["weight"] for _, _, d in nx.minimum_spanning_edges(graph, data=True))


def judge(wired: Wired) -> Verdict:
    """Return what is wrong with a routed board, and how long its copper is."""
    design = wired.design
    rules = design.board.rules
    pads = _pads(wired)
    items: dict[str, list[tuple]] = {layer: [] for layer in STACKS[rules.layers]}
    for name, net, layers, shape, _, _, plated in pads:
        for layer in layers if plated else ():
            items[layer].append((net, ("pad", name), shape))
    for k, t in enumerate(design.board.tracks):
        line = LineString([(x / 1e6, y / 1e6) for x, y in t.points])
        items[t.layer].append((t.net, ("track", k), line.buffer(t.width_nm / 2e6, quad_segs=32)))
    for k, v in enumerate(design.board.vias):
        shape = Point(v.x_nm / 1e6, v.y_nm / 1e6).buffer(v.diameter_nm / 2e6, quad_segs=32)
        for both in items.values():
            both.append((v.net, ("via", k), shape))
    graph = nx.Graph()
    near: list[str] = []
    least = rules.clearance_nm / 1e6 - TOLERANCE_MM
    poured = {p.net for p in design.board.pours}
    for layer, laid in items.items():
        fills = [
            (net, ("fill", layer, net, k), g)
            for net, area in pour_shapes(wired, layer)
            for k, g in enumerate(area.geoms)
        ]
        here = laid + fills
        if not here:
            continue
        shapes = [s for _, _, s in here]
        for a, b in zip(*shapely.STRtree(shapes).query(shapes, predicate="dwithin", distance=least), strict=True):
            if a >= b:
                continue
            (na, ia, sa), (nb, ib, sb) = here[a], here[b]
            if na and na == nb:
                if sa.intersects(sb):
                    graph.add_edge(ia, ib)
            else:
                near.append(f"{layer} {na or ia} {nb or ib} {sa.distance(sb):.3f}")
    edge = shapely.Polygon([(x / 1e6, y / 1e6) for x, y in design.board.outline]).exterior
    for layer, copper in items.items():
        for net, who, shape in copper:
            if who[0] != "pad" and edge.distance(shape) < rules.edge_nm / 1e6 - TOLERANCE_MM:
                near.append(f"{layer} {net} {who} {edge.distance(shape):.3f} to the edge")
    for name, _, _, shape, _, _, plated in pads:
        if not plated:
            for layer, laid in items.items():
                near += [f"{layer} {n} at hole {name}" for n, _, s in laid if s.distance(shape) < least]
    by_net: dict[str, list[tuple]] = {}
    for pad in pads:
        if pad[1]:
            by_net.setdefault(pad[1], []).append(pad)
            graph.add_node(("pad", pad[0]))
    wanted = opened = islands = links = 0
    bound = 0.0
    for net, members in by_net.items():
        pieces = {frozenset(nx.node_connected_component(graph, ("pad", m[0]))) for m in members}
        wanted += len(members) - 1
        opened += len(pieces) - 1
        if net in poured:
            main = max(pieces, key=len)
            islands += sum(("pad", m[0]) not in main for m in members)
        else:
            links += len(members) - 1
            bound += _tree([m[4] for m in members]) * (math.sqrt(3) / 2 if len(members) > 2 else 1.0)
    length = sum(
        math.hypot(b[0] - a[0], b[1] - a[1]) / 1e6
        for t in design.board.tracks
        if t.net not in poured
        for a, b in zip(t.points, t.points[1:], strict=False)
    )
    signal = sum(v.net not in poured for v in design.board.vias)
    return Verdict(wanted, opened, tuple(near), islands, length, bound, len(design.board.vias), signal, links)
