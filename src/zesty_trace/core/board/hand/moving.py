"""Moving parts of a routed board: only the copper that touched them is dropped, or that is in their way now."""

from __future__ import annotations

from collections.abc import Collection

from zesty_trace.core.board.copper import board_pads, hole_shape, laid_copper, pad_hole, pad_shape
from zesty_trace.core.board.cores import TOUCH_MM
from zesty_trace.core.board.hand.pieces import Key, taken, with_what_hangs_on
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.quantities import mm


def loosened(before: Wired, after: Design, refs: Collection[str]) -> tuple[Design, int]:
    """Return a design in which parts have moved without the copper that this breaks, and how many pieces that is.

    Dropped are the connections of their pads that do not reach them any more, and tracks and vias of other nets that
    the pads are too near to now. What is locked stays, and is for the review.
    """
    now = before.with_design(after)
    board = before.design.board
    gone = _torn(before, now, refs) | _in_the_way(now, refs)
    gone = {k for k in gone if not (board.tracks[k[1]] if k[0] == "track" else board.vias[k[1]]).locked}
    lost = with_what_hangs_on(before, gone)
    return (taken(after, lost), len(lost)) if lost else (after, 0)


def _pieces_touching(wired: Wired, refs: Collection[str], own: bool, within_mm: float) -> set[Key]:
    """Return tracks and vias, of the pads' own nets or of others, that are so near to pads of some parts."""
    from shapely import STRtree

    found: set[Key] = set()
    pads = [p for p in board_pads(wired, refs) if p.layers]
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


def _torn(before: Wired, now: Wired, refs: Collection[str]) -> set[Key]:
    """Return the pieces that touched a pad and do not touch one of the net's pads of these parts any more."""
    return _pieces_touching(before, refs, True, TOUCH_MM) - _pieces_touching(now, refs, True, TOUCH_MM)


def _in_the_way(now: Wired, refs: Collection[str]) -> set[Key]:
    clearance = mm(now.design.board.rules.clearance_nm) - 1e-3
    found = _pieces_touching(now, refs, False, clearance)
    holes = [hole_shape(pad_hole(p), clearance) for p in board_pads(now, refs) if p.drill_nm and not p.plated]
    for layer in now.design.board.stack if holes else ():
        found |= {
            (str(i.node[0]), int(str(i.node[1])))
            for i in laid_copper(now, layer).items
            if i.node[0] in ("track", "via") and any(i.shape.intersects(h) for h in holes)
        }
    return found
