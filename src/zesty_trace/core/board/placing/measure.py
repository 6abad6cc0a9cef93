"""How good a placing is, in numbers: link lengths, distances that the circuit asks for, findings."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.rules.distances import check_distances
from zesty_trace.core.board.rules.mouths import check_antennas, check_mouths
from zesty_trace.core.circuit.wired import Wired


class PlacingMeasure(NamedTuple):
    """Findings about the placing, and the length of the minimum spanning trees of all nets but ground, mm."""

    findings: int
    links_mm: float


def measure_placing(wired: Wired) -> PlacingMeasure:
    """Return the measures of a placing."""
    by_net: dict[str, list[tuple[float, float]]] = {}
    for pad in board_pads(wired):
        if pad.net and pad.net != wired.ground:
            by_net.setdefault(pad.net, []).append((pad.x_nm / 1e6, pad.y_nm / 1e6))
    links = sum(tree_mm(points) for points in by_net.values())
    found = [*check_distances(wired), *check_mouths(wired), *check_antennas(wired)]
    return PlacingMeasure(len(found), links)


def tree_mm(points: list[tuple[float, float]]) -> float:
    """Return the length of the shortest tree of straight lines that joins points, in their unit."""
    from scipy.sparse.csgraph import minimum_spanning_tree
    from scipy.spatial.distance import pdist, squareform

    spots = np.unique(np.array(points), axis=0)
    return float(minimum_spanning_tree(squareform(pdist(spots))).sum()) if len(spots) > 1 else 0.0
