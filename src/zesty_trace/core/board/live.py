"""The review while a part is moved: what the move runs into, at once; the whole review follows when it is put down.

Asked are copper that comes too near, room, edge, case, keep-outs, mouths and the distances that the circuit wants.
Pours are as they were filled last, and what needs them is left to the whole review.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from zesty_trace.core.board.graph import CopperGraph
from zesty_trace.core.board.links import Connectivity
from zesty_trace.core.board.rules.clearances import near_finding
from zesty_trace.core.board.rules.distances import check_distances
from zesty_trace.core.board.rules.fit import check_heights, check_room, check_template
from zesty_trace.core.board.rules.impossible import check_values
from zesty_trace.core.board.rules.keepouts import parts_in_keepouts
from zesty_trace.core.board.rules.mouths import check_mouths
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, worst_first

MOST_PIECES = 300


class LiveReview:
    """A board that is followed edit by edit."""

    def __init__(self, wired: Wired) -> None:
        self._graph = CopperGraph(wired)

    def follow(self, wired: Wired) -> bool:
        """Follow an edit that touches at most MOST_PIECES; False, and nothing is done, for more: build it anew."""
        if self._graph.changes(wired) > MOST_PIECES:
            return False
        self._graph.update(wired)
        return True

    def fill(self, wired: Wired) -> None:
        """Take the pours of the board that is followed, once they are filled."""
        if wired is self._graph.wired and self._graph.stale:
            self._graph.fill(wired)

    def moved(self, wired: Wired, refs: Collection[str]) -> list[Finding]:
        """Follow an edit and return the findings that concern these parts, worst first."""
        if wrong := list(check_values(wired.design)):
            return worst_first(wrong)
        self._graph.update(wired)
        placed = [r for r in refs if r in wired.design.board.placements and r in wired.design.parts]
        found = [
            *self._near(wired, placed),
            *check_room(wired, placed),
            *check_template(wired.design, placed),
            *check_heights(wired, placed),
            *parts_in_keepouts(wired, placed),
            *check_mouths(wired, placed),
            *check_distances(wired, placed),
        ]
        return worst_first(found)

    def _near(self, wired: Wired, refs: Collection[str]) -> Iterator[Finding]:
        for pair in self._graph.near_parts(refs):
            yield near_finding(wired, pair)

    def links(self) -> Connectivity:
        """Return what is still to route, as of the last edit."""
        return self._graph.connectivity()
