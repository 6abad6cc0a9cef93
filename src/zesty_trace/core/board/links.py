"""What the copper really connects, and the links that are still to route."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.board.copper import LAYERS, board_pads, copper_items
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design, Pin


@dataclass(frozen=True)
class Link:
    """Two pads of one net with no copper between them yet, at their centres, nanometres."""

    net: str
    a: Pin
    b: Pin
    ax_nm: int
    ay_nm: int
    bx_nm: int
    by_nm: int


@dataclass(frozen=True)
class Connectivity:
    """How far the routing has come."""

    links: tuple[Link, ...]
    wanted: int

    @property
    def routed(self) -> int:
        """How many of the wanted connections have copper."""
        return self.wanted - len(self.links)


def connectivity(design: Design, catalogue: Catalogue) -> Connectivity:
    """Return the missing links of all nets, the shortest that join their pieces, and how many are wanted in all."""
    import networkx as nx

    graph = nx.Graph()
    pads = [p for p in board_pads(design, catalogue) if p.net and p.layers]
    names: dict[str, list[int]] = {}
    for k, pad in enumerate(pads):
        graph.add_node(("pad", k))
        names.setdefault(pad.net, []).append(k)
    _join_copper(graph, design, catalogue)
    links: list[Link] = []
    wanted = 0
    for net, members in names.items():
        wanted += len(members) - 1
        pieces = _pieces(graph, members)
        links += _shortest(net, pieces, pads)
    return Connectivity(tuple(links), wanted)


def _join_copper(graph: object, design: Design, catalogue: Catalogue) -> None:
    from shapely import STRtree

    g: nx.Graph = graph  # type: ignore[name-defined]  # noqa: F821
    pads = [p for p in board_pads(design, catalogue) if p.net and p.layers]
    index = {(p.pin, p.x_nm, p.y_nm): k for k, p in enumerate(pads)}
    for layer in LAYERS:
        shapes, nodes, nets = [], [], []
        on_layer = [p for p in board_pads(design, catalogue) if layer in p.layers]
        items = copper_items(design, catalogue, layer)
        track_number = via_number = 0
        for k, item in enumerate(items):
            if k < len(on_layer):
                pad = on_layer[k]
                node: tuple[object, ...] = ("pad", index.get((pad.pin, pad.x_nm, pad.y_nm), -1 - k))
            elif item.what == "via":
                node, via_number = ("via", via_number), via_number + 1
            else:
                node, track_number = ("track", layer, track_number), track_number + 1
            shapes.append(item.shape)
            nodes.append(node)
            nets.append(item.net)
        for net, area in pour_shapes(design, catalogue, layer):
            for k, piece in enumerate(getattr(area, "geoms", [])):
                shapes.append(piece)
                nodes.append(("pour", layer, net, k))
                nets.append(net)
        if not shapes:
            continue
        left, right = STRtree(shapes).query(shapes, predicate="intersects")
        for a, b in zip(left.tolist(), right.tolist(), strict=True):
            if a < b and nets[a] == nets[b] and nets[a]:
                g.add_edge(nodes[a], nodes[b])


def _pieces(graph: object, members: list[int]) -> list[list[int]]:
    import networkx as nx

    left = set(members)
    pieces = []
    while left:
        first = min(left)
        reached = nx.node_connected_component(graph, ("pad", first))
        piece = sorted(k for k in left if ("pad", k) in reached)
        pieces.append(piece)
        left -= set(piece)
    return pieces


def _shortest(net: str, pieces: list[list[int]], pads: list) -> list[Link]:  # type: ignore[type-arg]
    """Return the links of the least spanning tree over the pieces."""
    import networkx as nx
    import numpy as np

    if len(pieces) < 2:
        return []
    spots = [np.array([(pads[k].x_nm, pads[k].y_nm) for k in piece], dtype=float) for piece in pieces]
    tree = nx.Graph()
    for i in range(len(pieces)):
        for j in range(i + 1, len(pieces)):
            away = np.abs(spots[i][:, None, :] - spots[j][None, :, :]).sum(axis=-1)
            a, b = np.unravel_index(int(away.argmin()), away.shape)
            tree.add_edge(i, j, weight=float(away[a, b]), ends=(pieces[i][int(a)], pieces[j][int(b)]))
    found = []
    for _, _, data in nx.minimum_spanning_edges(tree, data=True):
        p, q = (pads[k] for k in data["ends"])
        found.append(Link(net, p.pin, q.pin, p.x_nm, p.y_nm, q.x_nm, q.y_nm))
    return found
