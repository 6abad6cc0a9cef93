"""Moving parts of a routed board: only the copper that touched them is dropped, or that is in their way now."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from zesty_trace.core.board.copper import BoardPad, board_pads, hole_shape, laid_copper, pad_hole, pad_shape
from zesty_trace.core.board.cores import TOUCH_MM
from zesty_trace.core.board.hand.pieces import Key, taken, with_what_hangs_on
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Board, Design, Track, Via
from zesty_trace.core.quantities import mm


def loosened(before: Wired, after: Design, refs: Collection[str]) -> tuple[Design, int]:
    """Return a design in which parts have moved without the copper that this breaks, and how many pieces that is.

    Dropped are the connections of their pads that do not reach them any more, and tracks and vias of other nets that
    the pads are too near to now. What is locked stays, and is for the review.
    """
    board = before.design.board
    old = [p for p in board_pads(before, refs) if p.layers]
    new = board_pads(before.with_design(after), refs)
    torn = _touching(before, old, True, TOUCH_MM) - _touching(before, [p for p in new if p.layers], True, TOUCH_MM)
    gone = {k for k in torn | _in_the_way(before, new) if not _piece(board, k).locked}
    lost = with_what_hangs_on(before, gone, fills=False)
    return (taken(after, lost), len(lost)) if lost else (after, 0)


def _piece(board: Board, key: Key) -> Track | Via:
    return board.tracks[key[1]] if key[0] == "track" else board.vias[key[1]]


def _touching(wired: Wired, pads: Sequence[BoardPad], own: bool, within_mm: float) -> set[Key]:
    """Return tracks and vias, of the pads' own nets or of others, that are so near to pads."""
    from shapely import STRtree

    found: set[Key] = set()
    for layer in wired.design.board.stack:
        here = [(p, pad_shape(p)) for p in pads if layer in p.layers]
        items = laid_copper(wired, layer).items
        if not here or not items:
            continue
        tree = STRtree([i.shape for i in items])
        left, right = tree.query([s for _, s in here], predicate="dwithin", distance=within_mm)
        for k, n in zip(left.tolist(), right.tolist(), strict=True):
            item = items[n]
            if item.node[0] in ("track", "via") and (item.net == here[k][0].net) == own:
                found.add((str(item.node[0]), int(str(item.node[1]))))
    return found


def _in_the_way(wired: Wired, pads: Sequence[BoardPad]) -> set[Key]:
    """Return tracks and vias that pads, or bare holes of their parts, are too near to."""
    clearance = mm(wired.design.board.rules.clearance_nm) - 1e-3
    found = _touching(wired, [p for p in pads if p.layers], False, clearance)
    holes = [hole_shape(pad_hole(p), clearance) for p in pads if p.drill_nm and not p.plated]
    for layer in wired.design.board.stack if holes else ():
        found |= {
            (str(i.node[0]), int(str(i.node[1])))
            for i in laid_copper(wired, layer).items
            if i.node[0] in ("track", "via") and any(i.shape.intersects(h) for h in holes)
        }
    return found
