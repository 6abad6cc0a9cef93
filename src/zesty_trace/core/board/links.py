"""What the copper really connects, and the links that are still to route."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import BoardPad, board_pads, on_board, pad_node
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import Pin

WITHIN_NM = 0.5  # pads of one piece count as nearer than any two others


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
    """Return the missing links of all nets, the shortest that join their pieces, and how many are wanted in all.

    A board with given copper has none here: what is joined is traced in its files.
    """
    if wired.design.board.given:
        return Connectivity((), 0)
    found = copper_pieces(wired)
    links = [link for net, pieces in found.items() for link in shortest_links(net, pieces)]
    return Connectivity(tuple(links), sum(sum(map(len, pieces)) - 1 for pieces in found.values()))


@worked_out_from(on_board)
def copper_pieces(wired: Wired) -> dict[str, list[list[BoardPad]]]:
    """Return for each net its pads, in groups that copper joins."""
    import networkx as nx

    graph = nx.Graph()
    by_net: dict[str, list[BoardPad]] = {}
    for pad in board_pads(wired):
        if pad.net and pad.layers:
            graph.add_node(pad_node(pad))
            by_net.setdefault(pad.net, []).append(pad)
    _join_copper(graph, wired)
    return {net: _pieces(graph, pads) for net, pads in by_net.items()}


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
    import numpy as np
    from scipy.sparse.csgraph import minimum_spanning_tree

    if len(pieces) < 2:
        return []
    pads = [p for piece in pieces for p in piece]
    owner = np.repeat(np.arange(len(pieces)), [len(piece) for piece in pieces])
    x, y = np.array([(p.x_nm, p.y_nm) for p in pads], dtype=float).T
    away = np.abs(x[:, None] - x) + np.abs(y[:, None] - y)
    away = np.where(owner[:, None] == owner, WITHIN_NM, np.maximum(away, 1.0))
    tree = minimum_spanning_tree(np.triu(away, 1)).tocoo()
    ends = [(k, i, j) for k, i, j in zip(tree.data.tolist(), tree.row.tolist(), tree.col.tolist(), strict=True)]
    return [
        Link(net, pads[i].pin, pads[j].pin, pads[i].x_nm, pads[i].y_nm, pads[j].x_nm, pads[j].y_nm)
        for _, i, j in sorted(end for end in ends if owner[end[1]] != owner[end[2]])
    ]
