"""Where a connection that stays open would have to go, and what is in its way there."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from zesty_trace.core.board.routing.grid import CELL_BITS, CELL_MASK, CROWD_MASK
from zesty_trace.core.board.routing.ground import group_at
from zesty_trace.core.board.routing.growing import reach
from zesty_trace.core.board.routing.passes import stamp_nets
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import nm

if TYPE_CHECKING:
    from zesty_trace.core.board.links import Link
    from zesty_trace.core.board.routing.negotiate import Negotiation

THROUGH_OTHERS = 1_500


def where_tight(work: Negotiation, link: Link) -> Point | None:
    """Return the first place at which a link would be too near to another track; None if no way leads there at all."""
    board, grid = work.board, work.grid
    net = board.problem.nets.index(link.net)
    a, b = group_at(board, net, link.ax_nm, link.ay_nm), group_at(board, net, link.bx_nm, link.by_nm)
    slot = next((g for g in range(*board.net_groups()[net : net + 2]) if not len(board.path(g))), -1)
    if a < 0 or b < 0 or slot < 0:
        return None
    only = np.array([net], dtype=np.int32)
    stamp_nets(grid, only, -1)
    room = work.room
    starts, goals = board.group_cells(a).copy(), board.group_cells(b).copy()
    found = reach(grid, net, slot, starts, goals, 0, THROUGH_OTHERS, work.via_price, room.sources, room.window)
    codes = board.path(slot).copy() if found else np.zeros(0, dtype=np.int32)
    grid.main[grid.paths_at + 2 * slot + 1] = grid.main[grid.paths_at + 2 * slot]
    crowded = [
        int(code & CELL_MASK)
        for code in codes
        if grid.words[(code >> CELL_BITS) * grid.plane * grid.layers + (code & CELL_MASK)] & CROWD_MASK
    ]
    stamp_nets(grid, only, 1)
    if not crowded:
        return None
    _, x, y = board.spot(crowded[0])
    return Point(nm(x), nm(y))
