"""The board router on small boards whose answer is known."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.maze import paint_discs, paint_rect, search
from zesty_trace.core.board.place import rectangle_outline
from zesty_trace.core.board.router import route
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin, Placement
from zesty_trace.errors import Cancelled, EditError


def board(spots: dict[str, tuple[float, float, int]], nets: dict[str, list[str]], size: float = 20.0) -> Design:
    design = edits.set_outline(Design(), rectangle_outline(int(size * 1e6), int(size * 1e6), 0))
    design = edits.set_brief(design, case_width_nm=int(size * 1e6), case_height_nm=int(size * 1e6))
    for ref, (x, y, turn) in spots.items():
        design = edits.add_part(design, Part(ref=ref, kind="resistor", value="1k", package="R0603"))
        design = edits.place(design, ref, Placement(x_nm=int(x * 1e6), y_nm=int(y * 1e6), angle_mdeg=turn * 1000))
    for net, pins in nets.items():
        for pin in pins:
            ref, number = pin.split(".")
            design = edits.connect(design, Pin(ref, number), net)
    return design


def test_two_pads_in_line_get_one_straight_track(catalogue: Catalogue) -> None:
    result = route(Wired(board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]}), catalogue))
    assert (result.connections, result.missing, len(result.design.board.vias)) == (1, 0, 0)
    track = result.design.board.tracks[0]
    assert track.points[0][1] == track.points[-1][1] == 10_000_000
    length = sum(np.hypot(b[0] - a[0], b[1] - a[1]) for a, b in zip(track.points, track.points[1:], strict=False))
    assert length == pytest.approx(10e6 - 1.6e6, rel=0.02)


def test_crossing_connections_use_the_other_layer(catalogue: Catalogue) -> None:
    """Four resistors, walls of pads apart: A joins left to right, B top to bottom, on one layer impossible."""
    spots = {"R1": (3, 10, 0), "R2": (17, 10, 0), "R3": (10, 3, 90), "R4": (10, 17, 90)}
    nets = {
        "A": ["R1.1", "R2.2"],
        "B": ["R3.1", "R4.2"],
        "C": ["R1.2", "R4.1"],
        "D": ["R2.1", "R3.2"],
    }
    result = route(Wired(board(spots, nets), catalogue))
    assert (result.missing, result.conflicts) == (0, 0)
    assert connectivity(Wired(result.design, catalogue)).links == ()
    assert not any(f.rule == "clearance" for f in check_board(Wired(result.design, catalogue)))


def test_a_walled_in_pad_is_reported_missing_not_faked(catalogue: Catalogue) -> None:
    design = board({"R1": (0.9, 10, 90), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    rules = design.board.rules
    from msgspec.structs import replace

    walled = edits.set_board(design, rules=replace(rules, edge_nm=3_000_000))
    result = route(Wired(walled, catalogue))
    assert result.missing == 1
    assert len(connectivity(Wired(result.design, catalogue)).links) == 1


def test_cancel_and_a_board_without_outline(catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    with pytest.raises(Cancelled):
        route(Wired(design, catalogue), lambda share, text: False)
    with pytest.raises(EditError, match="no outline"):
        route(Wired(Design(), catalogue))


def test_links_are_the_least_spanning_tree(catalogue: Catalogue) -> None:
    """Three pads on a line: the two short links, never the long one (hand-worked)."""
    spots = {"R1": (3, 10, 90), "R2": (9, 10, 90), "R3": (17, 10, 90)}
    state = connectivity(Wired(board(spots, {"A": ["R1.1", "R2.1", "R3.1"]}), catalogue))
    lengths = sorted(abs(k.ax_nm - k.bx_nm) for k in state.links)
    assert lengths == [6_000_000, 8_000_000]
    assert state.wanted == 2


def test_search_finds_the_price_that_scipy_dijkstra_finds() -> None:
    """One layer, random walls and prices, no bend price: the same least cost from an independent library."""
    rng = np.random.default_rng(5)
    rows, columns = 24, 30
    blocked = (rng.random((1, rows, columns)) < 0.25).astype(np.uint8)
    blocked[0, 0, 0] = blocked[0, -1, -1] = 0
    price = rng.uniform(1.0, 3.0, (1, rows, columns)).astype(np.float32)
    path = search(
        blocked,
        price,
        np.ones((rows, columns), np.uint8),
        np.zeros((rows, columns), np.float32),
        np.array([[0, 0, 0]], np.int32),
        np.array([[0, rows - 1, columns - 1]], np.int32),
        9.0,
        np.ones(1, np.float32),
        0.0,
    )
    a, b, w = [], [], []
    for r in range(rows):
        for c in range(columns):
            for dr, dc in ((0, 1), (1, 0), (0, -1), (-1, 0), (1, 1), (1, -1), (-1, 1), (-1, -1)):
                y, x = r + dr, c + dc
                if 0 <= y < rows and 0 <= x < columns and not blocked[0, y, x] and not blocked[0, r, c]:
                    a.append(r * columns + c)
                    b.append(y * columns + x)
                    w.append(np.hypot(dr, dc) * float(price[0, y, x]))
    exact = dijkstra(coo_matrix((w, (a, b)), shape=(rows * columns,) * 2).tocsr(), indices=0)[-1]
    assert np.isfinite(exact)
    cost = sum(np.hypot(*(q[1:] - p[1:])) * float(price[0, q[1], q[2]]) for p, q in itertools.pairwise(path))
    assert cost == pytest.approx(exact, rel=1e-4)


def test_painted_areas_are_those_of_the_shapes() -> None:
    """A turned rectangle and a disc, counted in cells, against their areas (shapely buffers are not needed)."""
    mask = np.zeros((200, 200), np.uint8)
    a = np.radians(30)
    paint_rect(mask, 100.0, 100.0, 40.0, 15.0, float(np.cos(a)), float(np.sin(a)), 0.0, 5.0)
    assert mask.sum() == pytest.approx(80 * 30 + 2 * (80 + 30) * 5 + np.pi * 25, rel=0.01)
    count = np.zeros((1, 100, 100), np.float32)
    paint_discs(count, np.array([[0, 50, 50], [0, 50, 50]], np.int32), 20.0)
    assert count.max() == 1.0
    assert count.sum() == pytest.approx(np.pi * 400, rel=0.02)
