"""The grid that is routed on, as plain arrays that compiled loops share.

A cell is `layer * plane + row * columns + column`. Classes are track widths, narrowest first; the index after the last
class stands for vias. All tables lie in three flat arrays, one after the other, because each array that a compiled
function takes costs compile time; `Grid` says where each begins.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

I16 = npt.NDArray[np.int16]
I32 = npt.NDArray[np.int32]
I64 = npt.NDArray[np.int64]
F64 = npt.NDArray[np.float64]

CELL_BITS = 27
CELL_MASK = (1 << CELL_BITS) - 1
STRAIGHT, DIAGONAL = 100, 141  # price of a step

# A word of `cells`: how many paths are too near, what the cell has cost for good, its owner, its owner for diagonals.
CROWD_MASK = 0xFFFF
HISTORY_SHIFT, HISTORY_MASK = 16, 0xFFFF
OWNER_SHIFT, SLANT_SHIFT, OWNER_MASK = 32, 48, 0xFFFF

# A word of `marks`: the search, the cost so far, whether it is final, the layer and the direction it came from.
NUMBER_SHIFT, COST_SHIFT, COST_MASK = 40, 12, (1 << 28) - 1
CLOSED, FROM_SHIFT, STEP_MASK = 1 << 8, 4, 15
SOURCE, VIA_STEP = 15, 8

# A spot in the queue: layer, row and column without a division.
LAYER_SHIFT, ROW_SHIFT, SPOT_MASK = 26, 13, (1 << 13) - 1
BUCKETS = 1 << 14
BUCKET_SHIFT = 4


class Grid(NamedTuple):
    """The board as compiled loops see it: sizes, the arrays, and where in them each table begins.

    `words`: `cells` (class, cell) as said above, the owner 0 for nobody, n + 1 for net n alone, 65535 for no net at
    all; then `marks` (cell).
    `small`: `via_fixed` (plane) the owner for vias, `via_crowd` (plane) how many paths are too near for one.
    `main`: `target` (cell) the search of which a cell is a goal; `own_via` (plane) the search for which a via of the
    same net is too near; `near_pad` (plane) the net (+ 1) whose pads are near; `disc` (k, 2) row and column offsets of
    all stamps; `disc_at` (query, painter, direction 0 to 8, 2) first and past the last of a stamp; `groups` (group + 1)
    and `ends` the cells at which a path may end; `box` (group, 4); `nets` (net + 1) the net's groups; `wanted` (group)
    track class; `plane_layer` (net) the layer of its pour, or -1; `prices` (layer) of a step; `paths` (path, 2) first
    code and past the last; `joined` (group); `pool` codes of paths, the cell in the low bits and its class above;
    `heads` of the queue's buckets.
    `state`: 0 codes used, 1 searches so far, 2 cells looked at, 3 where the room for codes ends, 4 to 7 the first and
    last row and column that may be looked at. `queue`: (next, spot). Two threads work in parts of one board, each with
    its own state, heads and queue.
    """

    rows: int
    columns: int
    plane: int
    layers: int
    classes: int
    groups: int
    nets: int
    plain_class: int  # the widest class that no current asked for
    words: I64
    small: I16
    main: I32
    state: I64
    marks_at: int
    via_crowd_at: int
    own_via_at: int
    near_pad_at: int
    disc_from: int
    disc_at_at: int
    groups_at: int
    ends_at: int
    box_at: int
    nets_at: int
    wanted_at: int
    plane_layer_at: int
    prices_at: int
    paths_at: int
    joined_at: int
    pool_at: int
    heads_at: int
    queue_at: int
    heads2_at: int
    queue2_at: int
    pool_size: int
    queue_size: int


def pack(tables: list[tuple[str, npt.NDArray[np.generic]]]) -> tuple[I32, dict[str, int]]:
    """Return tables one after the other in one flat array, and where each begins."""
    at, places = 0, {}
    for name, table in tables:
        places[name] = at
        at += table.size
    flat = np.empty(at, dtype=np.int32)
    for name, table in tables:
        flat[places[name] : places[name] + table.size] = table.ravel()
    return flat, places
