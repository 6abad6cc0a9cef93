"""How warm a board gets: steady conduction in its copper and laminate, and air at both faces, on a raster.

The rise over the ambient of a thin plate: what flows in from a part spreads through the sheet and leaves by convection
and radiation. The figures of air and laminate are common practice; a case that holds the air still makes all warmer.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import body_shape, copper_items, outline_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

COPPER_W_MK = 390.0
LAMINATE_W_MK = 0.8  # in the plane of woven glass and resin: common practice
AIR_W_M2K = 10.0  # still air and radiation, each face: common practice
CELL_MM = 0.5
MOST_CELLS = 90_000
F64 = npt.NDArray[np.float64]


@dataclass(frozen=True)
class PartHeat:
    """A part that heats: what it gives off, W, and how much warmer than the air the board below it gets, K."""

    ref: str
    power_w: float
    rise_k: float


@dataclass(frozen=True)
class HeatPicture:
    """The rise over ambient (rows, columns), K, nan off the board; where cell (0, 0) begins, and its size, mm."""

    rise_k: F64
    x0_mm: float
    y0_mm: float
    cell_mm: float
    parts: tuple[PartHeat, ...]

    @property
    def hottest_k(self) -> float:
        """The largest rise, K."""
        return float(np.nanmax(self.rise_k)) if np.isfinite(self.rise_k).any() else 0.0


def heat_picture(wired: Wired, cell_mm: float = CELL_MM) -> HeatPicture:
    """Return how warm a placed board gets in the state that heats each part most. EditError without an outline.

    SolveError if the circuit has no solution.
    """
    board = outline_shape(wired.design)
    if board.is_empty:
        raise EditError("The board has no outline yet", "outline", "Set its size in the brief first")
    x0, y0, x1, y1 = board.bounds
    cell_mm = max(cell_mm, float(np.sqrt((x1 - x0) * (y1 - y0) / MOST_CELLS)))
    columns, rows = int(np.ceil((x1 - x0) / cell_mm)), int(np.ceil((y1 - y0) / cell_mm))
    xs, ys = x0 + (np.arange(columns) + 0.5) * cell_mm, y0 + (np.arange(rows) + 0.5) * cell_mm
    on_board = _inside(board, xs, ys)
    watts = {h.ref: h.power_w for h in analyse(wired).heats() if h.ref in wired.design.board.placements}
    source = np.zeros((rows, columns))
    below: dict[str, npt.NDArray[np.bool_]] = {}
    for ref, power in watts.items():
        cells = _inside(body_shape(wired, ref), xs, ys) & on_board
        if not cells.any():
            near = body_shape(wired, ref).centroid
            far = np.where(on_board, (xs[None, :] - near.x) ** 2 + (ys[:, None] - near.y) ** 2, np.inf)
            cells = far == far.min()
        below[ref] = cells
        source[cells] += power / cells.sum()
    rise = solve_plate(_sheet(wired, xs, ys), source, on_board, 2 * AIR_W_M2K, cell_mm)
    parts = [PartHeat(r, watts[r], float(rise[cells].max())) for r, cells in below.items()]
    return HeatPicture(rise, x0, y0, cell_mm, tuple(sorted(parts, key=lambda p: -p.rise_k)))


def _inside(shape: Any, xs: F64, ys: F64) -> npt.NDArray[np.bool_]:
    from shapely import contains_xy, prepare

    prepare(shape)
    gx, gy = np.meshgrid(xs, ys)
    found: npt.NDArray[np.bool_] = contains_xy(shape, gx, gy)
    return found


def _sheet(wired: Wired, xs: F64, ys: F64) -> F64:
    """Return what each cell conducts along the board, W/K a square: its copper of all layers, and the laminate."""
    from shapely import union_all

    rules = wired.design.board.rules
    found = np.full((len(ys), len(xs)), LAMINATE_W_MK * mm(rules.thickness_nm) * 1e-3)
    for layer in wired.design.board.stack:
        shapes = [i.shape for i in copper_items(wired, layer)] + [area for _, area in pour_shapes(wired, layer)]
        if shapes:
            found += _inside(union_all(shapes), xs, ys) * COPPER_W_MK * rules.foil_um(layer) * 1e-6
    return found


def solve_plate(sheet_w_k: F64, source_w: F64, inside: npt.NDArray[np.bool_], air_w_m2k: float, cell_mm: float) -> F64:
    """Return the rise of each cell of a plate, K, nan outside it.

    `sheet_w_k` is what a square conducts, W/K (conductivity times thickness), `source_w` what goes in, W, `air_w_m2k`
    what leaves per area and kelvin, both faces together.
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.linalg import spsolve

    number = np.full(inside.shape, -1)
    number[inside] = np.arange(int(inside.sum()))
    count = int(inside.sum())
    rows, columns, values = [], [], []
    for ahead in ((slice(None), slice(1, None)), (slice(1, None), slice(None))):
        back = (slice(None), slice(None, -1)) if ahead[0] == slice(None) else (slice(None, -1), slice(None))
        both = inside[ahead] & inside[back]
        a, b = number[back][both], number[ahead][both]
        g = 2 * sheet_w_k[back][both] * sheet_w_k[ahead][both] / (sheet_w_k[back][both] + sheet_w_k[ahead][both])
        rows += [a, b, a, b]
        columns += [a, b, b, a]
        values += [g, g, -g, -g]
    each = np.arange(count)
    rows.append(each)
    columns.append(each)
    values.append(np.full(count, air_w_m2k * (cell_mm * 1e-3) ** 2))
    matrix = coo_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), (count, count))
    found = np.full(inside.shape, np.nan)
    found[inside] = spsolve(matrix.tocsc(), source_w[inside])
    return found
