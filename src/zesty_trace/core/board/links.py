"""What the copper really connects, and the links that are still to route."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import BoardPad, board_pads, on_board, pad_node
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import Pin


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


@worked_out_from(on_board)
def connectivity(wired: Wired) -> Connectivity:
    """Return the missing links of all nets, the shortest that join their pieces, and how many are wanted in all."""
    import networkx as nx

    graph = nx.Graph()
    by_net: dict[str, list[BoardPad]] = {}
    for pad in board_pads(wired):
        if pad.net and pad.layers:
            graph.add_node(pad_node(pad))
            by_net.setdefault(pad.net, []).append(pad)
    _join_copper(graph, wired)
    links = [link for net, pads in by_net.items() for link in shortest_links(net, _pieces(graph, pads))]
    return Connectivity(tuple(links), sum(len(pads) - 1 for pads in by_net.values()))


def _join_copper(graph: Any, wired: Wired) -> None:
    """Add an edge for each two pieces of copper of one net that touch."""
    for layer in wired.design.board.stack:
        copper = layer_copper(wired, layer)
        nodes = [i.node for i in copper.items]
        left, right = copper.touching()
        graph.add_edges_from((nodes[a], nodes[b]) for a, b in zip(left.tolist(), right.tolist(), strict=True))
        for k, piece in enumerate(copper.pours):
            graph.add_edges_from((piece.node, nodes[item]) for item in copper.on_pour(k).tolist())


def _pieces(graph: Any, pads: list[BoardPad]) -> list[list[BoardPad]]:
    """Return the pads in groups that copper joins."""
    import networkx as nx

    left = list(pads)
    pieces = []
    while left:
        reached = nx.node_connected_component(graph, pad_node(left[0]))
        pieces.append([p for p in left if pad_node(p) in reached])
        left = [p for p in left if pad_node(p) not in reached]
    return pieces


def shortest_links(net: str, pieces: list[list[BoardPad]]) -> list[Link]:
    """Return the links of the least spanning tree over the pieces."""
    import networkx as nx
    import numpy as np

    if len(pieces) < 2:
        return []
    spots = [np.array([(p.x_nm, p.y_nm) for p in piece], dtype=float) for piece in pieces]
    tree = nx.Graph()
    for i in range(len(pieces)):
        for j in range(i + 1, len(pieces)):
            away = np.abs(spots[i][:, None, :] - spots[j][None, :, :]).sum(axis=-1)
            a, b = np.unravel_index(int(away.argmin()), away.shape)
            tree.add_edge(i, j, weight=float(away[a, b]), ends=(pieces[i][int(a)], pieces[j][int(b)]))
    found = []
    for _, _, data in nx.minimum_spanning_edges(tree, data=True):
        p, q = data["ends"]
        found.append(Link(net, p.pin, q.pin, p.x_nm, p.y_nm, q.x_nm, q.y_nm))
    return found
