"""Panels: every copy is where it should be, whole and by itself, by what the panel's own files say."""

from __future__ import annotations

from dataclasses import replace

import pytest
from shapely import Point, affinity, box, union_all

from tests.core.test_intake import foreign
from tests.corpus import cases
from zesty_trace.core.board.placing.arrange import arrange_parts
from zesty_trace.core.board.router import route
from zesty_trace.core.fabrication.finished import BoardSet, read_set
from zesty_trace.core.fabrication.looking.intake import intake
from zesty_trace.core.fabrication.looking.tracing import said_by_files, trace
from zesty_trace.core.fabrication.package import fabrication_files
from zesty_trace.core.fabrication.panel import PanelPlan, panel_of
from zesty_trace.core.fabrication.panel_files import panel_files, without_holes
from zesty_trace.errors import EditError

Files = dict[str, str]


@pytest.fixture(scope="module")
def files() -> Files:
    wired = cases.faultless(list(cases.prototypes())[20])
    wired = wired.with_design(arrange_parts(wired))
    return fabrication_files(wired.with_design(route(wired).design))


@pytest.fixture(scope="module")
def board(files: Files) -> BoardSet:
    return read_set(files)


@pytest.mark.campaign
@pytest.mark.parametrize("cut", ["tabs", "score"])
def test_each_copy_is_the_board_again_and_joined_to_no_other(board: BoardSet, cut: str) -> None:
    panel = panel_of([("a", board, 4)], PanelPlan(cut=cut, columns=2))  # type: ignore[arg-type]
    assert len(panel.placed) == 4
    back = read_set(panel_files(panel))
    assert not back.broken
    assert back.edges.size_mm == pytest.approx((panel.width, panel.height), abs=0.01)
    for layer in board.layers:
        want = union_all([affinity.translate(board.copper(layer), p.dx, p.dy) for p in panel.placed])
        extra = union_all([Point(at).buffer(0.5) for at in panel.fiducials])
        assert back.copper(layer).symmetric_difference(want.union(extra)).buffer(-0.004).is_empty
    own = [c for c in said_by_files(back) if not c.net.startswith("FID")]
    traced = trace(back, own, "its names")
    assert traced.same, (traced.opens[:2], traced.shorts[:2])
    assert traced.nets == 4 * len({c.net for c in said_by_files(board)})
    plated = sum(h.plated is True for h in board.holes)
    assert sum(h.plated is True for h in back.holes) == 4 * plated
    areas = [p.shape for p in panel.placed]
    assert not any(a.intersection(b).area > 1e-6 for k, a in enumerate(areas) for b in areas[:k])


@pytest.mark.campaign
def test_a_milled_panel_hangs_together_and_its_boards_break_off_at_the_tabs(board: BoardSet) -> None:
    plan = PanelPlan(cut="tabs", columns=2, gap=2.0, tab=4.0)
    panel = panel_of([("a", board, 4)], plan)
    assert not panel.faults
    whole = box(0, 0, panel.width, panel.height).difference(union_all(list(panel.channels)))
    assert whole.geom_type == "Polygon"  # one piece until it is broken
    for placed in panel.placed:
        ring = placed.shape.exterior
        held = ring.difference(union_all([c.buffer(1e-6) for c in panel.channels]))
        assert held.length == pytest.approx(2 * plan.tab, abs=0.2)
        near = [at for at in panel.bites if ring.distance(Point(at)) < 0.01]
        assert len(near) == 2 * (int((plan.tab - 0.5) / 0.8) + 1)
    alone = panel_of([("a", board, 2)], replace(plan, rail=0.0))
    assert any("pieces" in f for f in alone.faults) or alone.height > 0


def test_scores_part_rectangles_only_and_never_run_through_a_board(board: BoardSet) -> None:
    panel = panel_of([("a", board, 4)], PanelPlan(cut="score", columns=2))
    x1 = panel.placed[0].shape.bounds[2]
    assert {round(a[0], 3) for a, b in panel.scores if a[0] == b[0]} >= {round(x1, 3)}
    for a, b in panel.scores:
        assert a[0] == b[0] or a[1] == b[1]
    square = box(0, 0, 10, 10).union(box(0, 0, 20, 5))
    angled = replace(board, _kept={**board._kept, "edges": replace(board.edges, board=square)})
    assert any("no rectangle" in f for f in panel_of([("b", angled, 2)], PanelPlan(cut="score")).faults)


@pytest.mark.campaign
def test_two_designs_of_two_tools_on_one_panel(files: Files, board: BoardSet) -> None:
    old = read_set(foreign(files))
    panel = panel_of([("new", board, 2), ("old", old, 1)])
    back = read_set(panel_files(panel))
    answer = intake(back)
    assert not [q for q in answer.queries if q.rule in ("open", "short", "misregistered", "ring", "gap")], (
        answer.queries
    )
    assert sum(h.plated is not False for h in back.holes) == 3 * sum(h.plated is not False for h in board.holes)
    third = next(p for p in panel.placed if p.name == "old")
    part = back.copper("top").intersection(third.shape)
    assert part.area == pytest.approx(old.copper("top").area, rel=2e-3)


def test_what_cannot_be_a_panel_is_refused(board: BoardSet) -> None:
    for boards, plan in (
        ([("a", board, 0)], PanelPlan()),
        ([("a", board, 9999)], PanelPlan()),
        ([("a", board, 300)], PanelPlan()),
        ([("a", board, 1)], PanelPlan(rail=99)),
        ([("a", replace(board, images={}, _kept={}), 1)], PanelPlan()),
    ):
        with pytest.raises(EditError):
            panel_of(boards, plan)


def test_a_ring_is_cut_into_parts_without_holes() -> None:
    ring = Point(0, 0).buffer(5).difference(Point(1, 0).buffer(1)).difference(Point(-2, 0).buffer(1))
    parts = without_holes(ring)
    assert not any(p.interiors for p in parts)
    assert union_all(parts).symmetric_difference(ring).area < 1e-9
