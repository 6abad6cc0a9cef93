"""Paths on the grid as tracks and vias of the design."""

from __future__ import annotations

from zesty_trace.core.board.routing.grid import CELL_BITS, CELL_MASK
from zesty_trace.core.board.routing.problem import CELL_MM, Board
from zesty_trace.core.design.model import LayerName, Track, Via
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import nm


def copper_of(board: Board, stack: tuple[LayerName, ...]) -> tuple[list[Track], list[Via]]:
    """Return the tracks and vias of all paths."""
    at, problem = board.net_groups(), board.problem
    tracks: list[Track] = []
    vias: dict[tuple[int, int], Via] = {}
    for net, name in enumerate(problem.nets):
        for group in range(at[net], at[net + 1]):
            path_copper(board, stack, name, board.path(group).tolist(), tracks, vias)
    return tracks, list(vias.values())


def path_copper(
    board: Board,
    stack: tuple[LayerName, ...],
    net: str,
    codes: list[int],
    tracks: list[Track],
    vias: dict[tuple[int, int], Via],
) -> None:
    """Add the tracks and vias of one path."""
    grid, problem = board.grid, board.problem
    run: list[tuple[int, int]] = []
    layer_before = kind_before = -1

    def close() -> None:
        line = _straight(run)
        if len(line) > 1:
            width = nm(problem.widths_mm[kind_before])
            points = tuple(Point(*_nm(board, r, c)) for r, c in line)
            tracks.append(Track(net=net, layer=stack[layer_before], width_nm=width, points=points))

    for code in codes:
        cell, kind = code & CELL_MASK, code >> CELL_BITS
        layer, flat = divmod(cell, grid.plane)
        spot = divmod(flat, grid.columns)
        if layer_before >= 0 and layer != layer_before:
            close()
            run = []
            x, y = _nm(board, *spot)
            vias[x, y] = Via(net=net, x_nm=x, y_nm=y, diameter_nm=nm(problem.via_mm), drill_nm=nm(problem.drill_mm))
        elif kind_before >= 0 and kind != kind_before and run:
            # The step between two widths is as narrow as the narrower of them.
            if kind < kind_before:
                last = run[-1]
                close()
                run = [last]
            else:
                run.append(spot)
                close()
                run = []
        run.append(spot)
        layer_before, kind_before = layer, kind
    if run:
        close()


def _nm(board: Board, row: int, column: int) -> tuple[int, int]:
    return nm(board.x0 + column * CELL_MM), nm(board.y0 + row * CELL_MM)


def _straight(cells: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Return the corners of a run of cells."""
    kept: list[tuple[int, int]] = []
    for cell in cells:
        if kept and kept[-1] == cell:
            continue
        if len(kept) >= 2:
            (ar, ac), (br, bc) = kept[-2], kept[-1]
            if (br - ar) * (cell[1] - bc) == (bc - ac) * (cell[0] - br) and (
                (br - ar) * (cell[0] - br) + (bc - ac) * (cell[1] - bc) > 0
            ):
                kept[-1] = cell
                continue
        kept.append(cell)
    return kept
