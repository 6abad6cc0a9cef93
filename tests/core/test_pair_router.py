"""Pairs of lines: laid side by side where that can be had, and left to the router where it cannot."""

from __future__ import annotations

import pytest
from benchmarks.board_judge import judge
from shapely.geometry import LineString, Point

from tests.core.test_board_rules_more import board, found
from zesty_trace.core.board.pair_router import with_pairs
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Track

pytestmark = pytest.mark.campaign
SPOTS = {
    "J1": ("header_2", 10.0, 10.0),
    "J2": ("header_2", 50.0, 30.0),
    "R1": ("resistor", 30.0, 20.0),
    "R2": ("resistor", 30.0, 14.0),
}
OTHER = {"A": ("R1.1", "R2.1"), "GND": ("R1.2", "R2.2")}


def lines(design: Design) -> dict[str, list[Track]]:
    return {n: [t for t in design.board.tracks if t.net == n] for n in ("USB_DP", "USB_DM")}


def millimetres(track: Track) -> LineString:
    return LineString([(x / 1e6, y / 1e6) for x, y in track.points])


def pair_board(crossed: bool) -> Wired:
    ends = ("J1.1", "J2.2"), ("J1.2", "J2.1")
    straight = ("J1.1", "J2.1"), ("J1.2", "J2.2")
    plus, minus = ends if crossed else straight
    return board(SPOTS, {"USB_DP": plus, "USB_DM": minus, **OTHER})


def test_a_pair_runs_side_by_side_and_is_as_long_as_each_other() -> None:
    wired = pair_board(crossed=False)
    result = route(wired)
    assert result.missing == 0
    (plus,), (minus,) = lines(result.design).values()
    assert plus.layer == minus.layer
    a, b = millimetres(plus), millimetres(minus)
    assert abs(a.length - b.length) < 0.5
    rules = wired.design.board.rules
    apart = (rules.track_nm + rules.clearance_nm) / 1e6
    beside = [Point(a.interpolate(k / 100, normalized=True)).distance(b) for k in range(5, 96)]
    assert sum(abs(d - apart) < 0.02 for d in beside) > 80  # of 91: all but the ends
    assert min(beside) > apart - 0.001
    after = wired.with_design(result.design)
    assert not judge(after).too_near
    assert judge(after).open == 0
    assert found(after, "pair length") == []
    assert found(after, "pair apart") == []


def test_a_pair_that_would_cross_itself_is_routed_line_by_line() -> None:
    wired = pair_board(crossed=True)
    assert with_pairs(wired, {"USB_DP", "USB_DM"}) is wired.design
    result = route(wired)
    assert result.missing == 0
    assert not judge(wired.with_design(result.design)).too_near


def test_what_is_there_already_is_left_alone() -> None:
    wired = pair_board(crossed=False)
    once = wired.with_design(with_pairs(wired, {"USB_DP", "USB_DM"}))
    assert len(once.design.board.tracks) == 2
    assert with_pairs(once, {"USB_DP", "USB_DM"}) is once.design
    assert with_pairs(wired, {"USB_DP"}) is wired.design  # the other line was not asked for
