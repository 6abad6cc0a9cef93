"""Tidying and stitching routed copper."""

from __future__ import annotations

import math

import pytest
from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.router import route
from zesty_trace.core.board.stitch import stitch
from zesty_trace.core.board.tidy import length_mm, straightened, tidy
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Pour, Track
from zesty_trace.core.geometry import Point
from zesty_trace.errors import Cancelled, EditError

pytestmark = pytest.mark.campaign


@pytest.fixture(scope="module")
def routed() -> Wired:
    wired = random_board(10, 2)
    both = (*wired.design.board.pours, Pour(net="GND", layer="top"))
    wired = wired.edited(edits.set_board, pours=both)
    return wired.with_design(route(wired).design)


def detour(wired: Wired) -> tuple[Wired, str]:
    """Send one net the long way round: its first track goes out to a far point and back."""
    board = wired.design.board
    track = next(t for t in board.tracks if t.net not in {p.net for p in board.pours} and len(t.points) > 1)
    (ax, ay), *rest = track.points
    long = Track(net=track.net, layer=track.layer, width_nm=track.width_nm,
                 points=(Point(ax, ay), Point(ax + 400_000, ay), Point(ax, ay), *rest))  # fmt: skip
    tracks = [long if t is track else t for t in board.tracks]
    return wired.edited(edits.set_copper, tracks, board.vias, board.pours), track.net


def test_a_detour_is_taken_out_and_nothing_else_becomes_worse(routed: Wired) -> None:
    longer, net = detour(routed)
    result = tidy(longer)
    after = longer.with_design(result.design)
    assert result.after_mm < result.before_mm
    assert result.vias_after <= result.vias_before
    verdict = judge(after)
    assert verdict.open == judge(routed).open
    assert not verdict.too_near
    assert length_mm([t for t in result.design.board.tracks if t.net == net]) < length_mm(
        [t for t in longer.design.board.tracks if t.net == net]
    )
    assert tidy(after).after_mm <= result.after_mm  # a second time does no harm


def test_what_is_made_by_hand_stays(routed: Wired) -> None:
    longer, net = detour(routed)
    board = longer.design.board
    hand = [
        Track(net=t.net, layer=t.layer, width_nm=t.width_nm, points=t.points, made="hand") if t.net == net else t
        for t in board.tracks
    ]
    kept = longer.edited(edits.set_copper, hand, board.vias, board.pours)
    after = tidy(kept).design.board.tracks
    assert [t for t in after if t.made == "hand"] == [t for t in hand if t.made == "hand"]


def test_points_in_line_go_and_the_shape_stays() -> None:
    wired = random_board(6, 1)
    points = tuple(Point(x, y) for x, y in ((0, 0), (1, 0), (2, 0), (2, 0), (3, 1), (4, 2), (4, 9)))
    track = Track(net="N0", layer="top", width_nm=200_000, points=points)
    tidied = straightened(edits.set_copper(wired.design, [track, track], (), ())).board.tracks
    assert [t.points for t in tidied] == [((0, 0), (2, 0), (4, 2), (4, 9))]


def test_tidying_can_be_stopped(routed: Wired) -> None:
    with pytest.raises(Cancelled):
        tidy(detour(routed)[0], lambda share, text: False)


def test_stitching_ties_both_faces_and_harms_nothing(routed: Wired) -> None:
    before = {f.identity for f in check_board(routed)}
    pitch = 6_000_000
    after = routed.with_design(stitch(routed, pitch_nm=pitch))
    new = after.design.board.vias[len(routed.design.board.vias) :]
    assert len(new) >= 2
    assert {v.net for v in new} == {"GND"}
    own = [v for v in after.design.board.vias if v.net == "GND"]
    gaps = [math.dist((a.x_nm, a.y_nm), (b.x_nm, b.y_nm)) for a in new for b in own if a is not b]
    assert min(gaps) >= 0.98 * pitch
    assert {f.identity for f in check_board(after)} <= before
    assert not judge(after).too_near
    assert len(stitch(after, pitch_nm=pitch).board.vias) == len(after.design.board.vias)


def test_stitching_refuses_what_it_cannot_do(routed: Wired) -> None:
    with pytest.raises(EditError, match="not poured on both"):
        stitch(routed, "SUPPLY")
    with pytest.raises(EditError, match="no pitch"):
        stitch(routed, pitch_nm=500_000)
