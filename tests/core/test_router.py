"""The board router on small boards whose answer is known."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.outline import rounded_rectangle
from zesty_trace.core.board.router import route
from zesty_trace.core.board.routing.negotiate import Negotiation
from zesty_trace.core.board.routing.paint import paint_area, paint_shapes
from zesty_trace.core.board.routing.passes import stamp_nets
from zesty_trace.core.board.routing.problem import Group, Problem, Shape, lay_out, safe_reach
from zesty_trace.core.board.warm import warm_up
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin, Placement, Track
from zesty_trace.core.geometry import Point
from zesty_trace.errors import Cancelled, EditError


@pytest.fixture(scope="module", autouse=True)
def compiled() -> None:
    """Compile the loops before a test is timed."""
    warm_up()


def board(spots: dict[str, tuple[float, float, int]], nets: dict[str, list[str]], size: float = 20.0) -> Design:
    design = edits.set_outline(Design(), rounded_rectangle(int(size * 1e6), int(size * 1e6), 0))
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
    assert 10e6 - 1.6e6 - 0.8e6 <= length <= 10e6 - 1.6e6  # from inside one pad to inside the other


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


def pad(x: float, y: float, net: int, half: float = 0.3, layers: tuple[int, ...] = (0,)) -> Shape:
    return Shape(x, y, half, half, 0.0, 0.0, net, layers)


def problem(shapes: list[Shape], nets: int, size: float = 12.0, widths: tuple[float, ...] = (0.2,)) -> Problem:
    ring = np.array([(0, 0), (size, 0), (size, size), (0, size)], dtype=float)
    groups = sorted((s.net, k) for k, s in enumerate(shapes) if s.net >= 0)
    return Problem(
        rings=(ring,),
        shapes=tuple(shapes),
        groups=tuple(Group(net, (k,), widths[-1]) for net, k in groups),
        nets=tuple(f"N{k}" for k in range(nets)),
        poured_on=(-1,) * nets,
        clearance_mm=0.2,
        edge_mm=0.3,
        hole_mm=0.25,
        widths_mm=widths,
        via_mm=0.6,
        drill_mm=0.3,
    )


def test_a_path_is_as_short_as_scipy_dijkstra_finds() -> None:
    """One net among random blocks on both layers: length and vias against an independent library on the same cells."""
    rng = np.random.default_rng(5)
    blocks = [pad(*rng.uniform(1.5, 10.5, 2), -1, 0.35, (int(rng.integers(2)),)) for _ in range(60)]
    blocks = [b for b in blocks if min(np.hypot(b.x - q, b.y - q) for q in (1.0, 11.0)) > 1.5]
    board = lay_out(problem([pad(1, 1, 0), pad(11, 11, 0), *blocks], 1))
    work = Negotiation(board, lambda share, text: True)
    work.route(np.array([0], dtype=np.int32), 0, 4, 500)
    codes = board.path(1)
    assert len(codes)
    grid = board.grid
    words = grid.words[: 2 * grid.plane]
    free = (words >> 32) & 0xFFFF
    slant = (words >> 48) & 0xFFFF
    free, slant = (np.isin(m, (0, 1)).reshape(2, grid.rows, grid.columns) for m in (free, slant))
    via = np.isin(grid.small[: grid.plane], (0, 1)).reshape(grid.rows, grid.columns)
    index = np.arange(2 * grid.plane).reshape(2, grid.rows, grid.columns)
    a, b, w = [], [], []
    for dr, dc, price in ((0, 1, 100), (1, 0, 100), (1, 1, 141), (1, -1, 141)):
        ok = free if price == 100 else slant
        here = ok[:, : grid.rows - dr, max(0, -dc) : grid.columns - max(0, dc)]
        there = ok[:, dr:, max(0, dc) : grid.columns - max(0, -dc)]
        both = here & there
        one = index[:, : grid.rows - dr, max(0, -dc) : grid.columns - max(0, dc)][both]
        two = index[:, dr:, max(0, dc) : grid.columns - max(0, -dc)][both]
        factor = np.where(one < grid.plane, *board.problem.prices)
        a.append(one)
        b.append(two)
        w.append(price * factor // 100)
    ok = via & free[0] & free[1]
    a.append(index[0][ok])
    b.append(index[1][ok])
    w.append(np.full(int(ok.sum()), work.via_price))
    graph = coo_matrix((np.concatenate(w), (np.concatenate(a), np.concatenate(b))), shape=(2 * grid.plane,) * 2).tocsr()
    sources, goals = board.group_cells(0), board.group_cells(1)
    exact = dijkstra(graph, directed=False, indices=sources)[:, goals].min()
    cells = codes & ((1 << 27) - 1)
    cost = 0.0
    for p, q in itertools.pairwise(cells.tolist()):
        step = abs(p - q)
        straight = step in (1, grid.columns)
        bottom = q >= grid.plane
        cost += work.via_price if step == grid.plane else (100 if straight else 141) * (1.05 if bottom else 1)
    assert exact <= cost + 20
    assert cost <= exact * 1.02 + 200  # a bend costs a little, so a path with fewer of them may be a little longer


def test_painted_areas_are_those_of_the_shapes() -> None:
    """A turned rectangle, counted in cells, against its area grown by the reach (by hand)."""
    mask = np.zeros(200 * 200, np.int16)
    a = np.radians(30)
    row = np.array([[100.0, 100.0, 40.0, 15.0, np.cos(a), np.sin(a), 0.0, 1.0]])
    paint_shapes(mask, 200, row, 5.0)
    assert (mask == 1).sum() == pytest.approx(80 * 30 + 2 * (80 + 30) * 5 + np.pi * 25, rel=0.01)


def test_where_two_nets_block_a_cell_nobody_owns_it() -> None:
    mask = np.zeros(100 * 40, np.int16)
    rows = np.array([[30.0, 20.0, 5.0, 5.0, 1.0, 0.0, 0.0, 1.0], [50.0, 20.0, 5.0, 5.0, 1.0, 0.0, 0.0, 2.0]])
    paint_shapes(mask, 100, rows, 12.0)
    middle = mask.reshape(40, 100)[20]
    assert middle[25] == 1
    assert middle[40] == -1
    assert middle[60] == 2
    assert middle[80] == 0


def test_outside_and_cut_outs_are_closed_to_every_net() -> None:
    """A square with a square hole, by the even-odd rule: the area left, in cells."""
    points = np.array([(10, 10), (90, 10), (90, 90), (10, 90), (40, 40), (60, 40), (60, 60), (40, 60)], dtype=float)
    mask = np.zeros(100 * 100, np.int16)
    paint_area(mask, 100, points, np.array([0, 4, 8], np.int32), True)
    assert (mask == 0).sum() == 80 * 80 - 20 * 20


@given(st.floats(min_value=0.05, max_value=4.0))
def test_stamps_keep_diagonal_steps_apart_too(distance: float) -> None:
    """Two cells, and two cells with a diagonal step between them: no pair outside the disc is nearer than asked."""
    reach = safe_reach(distance)
    steps = distance / 0.1
    n = int(steps) + 3
    for r in range(-n, n + 1):
        for c in range(-n, n + 1):
            if r * r + c * c >= reach * reach - 1e-6:
                assert np.hypot(r, c) >= steps - 1e-3
                if (r - 1) ** 2 + (c - 1) ** 2 >= reach * reach - 1e-6 and 0 <= r + c <= 2:
                    assert abs(r - c) / np.sqrt(2) >= steps - 1e-3


def test_every_stamp_is_taken_back() -> None:
    """Routing, lifting and dropping leaves no count behind: with all paths lifted nobody is near anything."""
    shapes = [pad(x, y, k) for k in range(5) for x, y in ((2 + k, 2), (10 - k, 10))]
    board = lay_out(problem(shapes, 5))
    work = Negotiation(board, lambda share, text: True)
    work.run()
    work.shorten()
    stamp_nets(board.grid, np.arange(5, dtype=np.int32), -1)
    assert not (board.grid.words[: board.grid.marks_at] & 0xFFFF).any()
    assert not board.grid.small[board.grid.plane :].any()


@pytest.mark.campaign
@pytest.mark.parametrize(("parts", "seed"), [(12, 1), (12, 2), (25, 3)])
def test_made_up_boards_are_routed_as_an_independent_judge_finds(parts: int, seed: int) -> None:
    wired = random_board(parts, seed)
    result = route(wired)
    verdict = judge(wired.with_design(result.design))
    assert (result.missing, verdict.open, verdict.too_near, verdict.islands) == (0, 0, (), 0)
    assert result.design == route(random_board(parts, seed)).design, "the same board twice"


@pytest.mark.campaign
def test_what_cannot_be_joined_stays_open_and_is_said(catalogue: Catalogue) -> None:
    """Forty parts crowded onto too little room: whatever is left open is counted, and nothing is in conflict."""
    wired = random_board(25, 4, density=1.9)
    result = route(wired)
    verdict = judge(wired.with_design(result.design))
    assert verdict.too_near == ()
    assert verdict.open == result.missing == len(result.open)
    assert len(result.tight) == min(20, result.missing)


def test_copper_made_by_hand_is_kept_and_joined(catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"], "B": ["R1.1", "R2.2"]})
    points = (Point(5_800_000, 10_000_000), Point(8_000_000, 12_000_000), Point(10_000_000, 12_000_000))
    mine = Track(net="A", layer="top", width_nm=400_000, points=points, made="hand")
    design = edits.set_copper(design, [mine], [], [])
    result = route(Wired(design, catalogue), again=True)
    assert mine in result.design.board.tracks
    assert result.missing == 0
    only = route(Wired(design, catalogue), nets=["B"])
    assert [k.net for k in only.open] == ["A"]


def test_copper_of_nets_that_are_gone_and_copper_in_conflict_is_taken_off(catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    gone = Track(
        net="OLD", layer="top", width_nm=250_000, points=(Point(3_000_000, 3_000_000), Point(9_000_000, 3_000_000))
    )
    result = route(Wired(edits.set_copper(design, [gone], [], []), catalogue))
    assert gone not in result.design.board.tracks
    assert (result.missing, result.conflicts) == (0, 0)


def test_routing_again_with_all_joined_changes_nothing(catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    once = route(Wired(design, catalogue)).design
    assert route(Wired(once, catalogue)).design == once


@pytest.mark.parametrize("change", [{"track_nm": -100_000}, {"clearance_nm": -1}, {"copper_um": 0.0}])
def test_values_that_cannot_be_are_refused_by_name(change: dict[str, float], catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    wrong = edits.set_board(design, rules=replace(design.board.rules, **change))
    with pytest.raises(EditError, match="board rule"):
        route(Wired(wrong, catalogue))


def test_an_outline_of_two_points_is_refused(catalogue: Catalogue) -> None:
    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    wrong = edits.set_board(design, outline=(Point(0, 0), Point(20_000_000, 0)))
    with pytest.raises(EditError, match="2 points"):
        route(Wired(wrong, catalogue))
