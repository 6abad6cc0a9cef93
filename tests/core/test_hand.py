"""Copper by hand: ways that follow the pointer, pieces dragged and taken off, parts moved, gaps closed."""

from __future__ import annotations

import math
from random import Random

import pytest
from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.hand.dragging import Room, changed, dogleg, dragged
from zesty_trace.core.board.hand.guide import Guide
from zesty_trace.core.board.hand.moving import loosened
from zesty_trace.core.board.hand.pieces import (
    NetCopper,
    Picked,
    net_of_piece,
    piece_at,
    take_connection,
    take_piece,
    taken,
    with_what_hangs_on,
)
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.repair import repair, windows
from zesty_trace.core.board.router import route
from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Track, Via
from zesty_trace.core.geometry import Point


@pytest.fixture(scope="module")
def routed() -> Wired:
    """A made-up board of 25 parts, routed."""
    wired = random_board(25, 4)
    return wired.with_design(route(wired).design)


def without(wired: Wired, net: str) -> Wired:
    """Take the copper of a net off."""
    board = wired.design.board
    tracks = [t for t in board.tracks if t.net != net]
    return wired.edited(edits.set_copper, tracks, [v for v in board.vias if v.net != net], board.pours)


def signals(wired: Wired) -> list[str]:
    """Return the nets that are not poured, with at least two pads."""
    poured = {p.net for p in wired.design.board.pours}
    return [n for n, pins in wired.design.nets.items() if n not in poured and len(pins) > 1]


@pytest.mark.campaign
def test_a_way_by_hand_joins_its_pads_and_is_clear_of_all_else(routed: Wired) -> None:
    joined = 0
    for net in signals(routed)[:7]:
        wired = without(routed, net)
        before = len([k for k in connectivity(wired).links if k.net == net])
        guide = Guide(wired)
        pads = [p for p in board_pads(wired) if p.net == net]
        a, b = pads[:2]
        way = guide.follow(net, a, a.layers[0], b.x_nm / 1e6, b.y_nm / 1e6, guide.width_nm(a), vias=True)
        if way is None:
            continue
        assert way.reaches == b.pin
        assert {t.made for t in way.tracks} == {"hand"}
        for track in way.tracks:
            for p, q in zip(track.points, track.points[1:], strict=False):
                dx, dy = abs(q[0] - p[0]), abs(q[1] - p[1])
                assert min(dx, dy) == 0 or dx == dy  # straight or at 45 degrees
        board = wired.design.board
        after = wired.edited(edits.set_copper, [*board.tracks, *way.tracks], [*board.vias, *way.vias], board.pours)
        assert len([k for k in connectivity(after).links if k.net == net]) == before - 1
        assert not judge(after).too_near
        joined += 1
    assert joined >= 5


@pytest.mark.campaign
def test_a_way_stays_on_its_layer_unless_vias_are_allowed_and_ends_near_what_is_taken(routed: Wired) -> None:
    net = signals(routed)[0]
    wired = without(routed, net)
    guide = Guide(wired)
    pad = next(p for p in board_pads(wired) if p.net == net)
    others = [p for p in board_pads(wired) if p.net != net and p.layers][:30]
    for other in others:
        way = guide.follow(net, pad, pad.layers[0], other.x_nm / 1e6, other.y_nm / 1e6, guide.width_nm(pad))
        if way is None:
            continue
        assert not way.vias
        assert way.reaches is None
        assert way.end is not None
        assert way.layer == pad.layers[0]
        room = Room(wired, net)
        assert room.in_the_way(way.tracks, ()) == ""
        assert math.dist(way.end, (other.x_nm, other.y_nm)) < 1.6e6
    assert guide.follow(net, pad, pad.layers[0], -50.0, -50.0, 200_000) is None  # far outside


@pytest.mark.campaign
def test_a_via_has_room_or_there_is_none(routed: Wired) -> None:
    net = signals(routed)[0]
    wired = without(routed, net)
    guide = Guide(wired)
    random = Random(5)
    xs, ys = zip(*wired.design.board.outline, strict=True)
    made = 0
    for _ in range(60):
        spot = Point(random.randrange(min(xs), max(xs), 100_000), random.randrange(min(ys), max(ys), 100_000))
        via = guide.via_at(net, spot)
        if via is not None:
            assert Room(wired, net).in_the_way((), [via]) == ""
            made += 1
    assert 2 < made < 58


@settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 10_000))
@pytest.mark.campaign
def test_a_dragged_piece_keeps_its_net_in_one_piece(routed: Wired, seed: int) -> None:
    random = Random(seed)
    board = routed.design.board
    own = [k for k, t in enumerate(board.tracks) if t.net in signals(routed)]
    if random.random() < 0.3 and board.vias:
        picked = Picked("via", random.randrange(len(board.vias)))
    else:
        k = random.choice(own)
        picked = Picked("track", k, random.randrange(len(board.tracks[k].points) - 1))
    dx, dy = (random.randrange(-12, 13) * 50_000 for _ in range(2))
    after = dragged(routed, picked, dx, dy)
    net = net_of_piece(routed.design, picked)
    if net in {p.net for p in board.pours}:
        return
    now = routed.with_design(after)
    assert not [k for k in connectivity(now).links if k.net == net]
    blocked = Room(routed, net, picked).in_the_way(*changed(routed.design, after))
    near = {n for pair in nets_too_near(now) for n in pair.nets}
    assert bool(blocked) or net not in near  # what is said to be clear is clear


def test_sliding_a_piece_moves_its_neighbours_along_their_own_lines() -> None:
    wired = random_board(6, 1)
    mm = 1_000_000
    line = (Point(0, 0), Point(2 * mm, 2 * mm), Point(8 * mm, 2 * mm), Point(8 * mm, 9 * mm))
    net = signals(wired)[0]
    bare = wired.edited(edits.set_copper, [Track(net=net, layer="top", width_nm=200_000, points=line)], [], [])
    (track,) = dragged(bare, Picked("track", 0, 1), 5 * mm, 1 * mm).board.tracks  # only what is across counts
    assert track.points == (Point(0, 0), Point(3 * mm, 3 * mm), Point(8 * mm, 3 * mm), Point(8 * mm, 9 * mm))
    assert track.made == "hand"
    (end,) = dragged(bare, Picked("track", 0, 2), 1 * mm, 0).board.tracks
    assert end.points[-1] == Point(8 * mm, 9 * mm)  # a free end keeps its place, by a jog of 45 degrees
    assert end.points[-2] == Point(9 * mm, 8 * mm)
    assert dogleg(Point(0, 0), Point(5, 2)) == [Point(0, 0), Point(3, 0), Point(5, 2)]
    assert dragged(bare, Picked("track", 0, 1), 3 * mm, 0) is bare.design


@pytest.mark.campaign
def test_taking_a_connection_off_opens_one_link_and_leaves_no_end_in_the_air(routed: Wired) -> None:
    random = Random(2)
    own = [k for k, t in enumerate(routed.design.board.tracks) if t.net in signals(routed)]
    for k in random.sample(own, 12):
        picked = Picked("track", k)
        net = net_of_piece(routed.design, picked)
        after = routed.with_design(take_connection(routed, picked))
        links = connectivity(after).links
        assert {x.net for x in links} <= {net}
        copper = NetCopper.of(after, net)
        assert copper.loose(()) <= NetCopper.of(routed, net).loose(())
    piece = take_piece(routed, Picked("track", own[0], 0))
    assert sum(len(t.points) - 1 for t in piece.board.tracks) == (
        sum(len(t.points) - 1 for t in routed.design.board.tracks) - 1
    )


@pytest.mark.campaign
def test_moving_a_part_drops_only_what_touches_it(routed: Wired) -> None:
    refs = list(routed.design.board.placements)[:8]
    for ref in refs:
        moved = edits.nudge(routed.design, ref, 700_000, 300_000)
        after, dropped = loosened(routed, moved, {ref})
        kept = set(map(id, after.board.tracks))
        nets = {p.net for p in board_pads(routed, {ref})}
        now = routed.with_design(after)
        near = [pair for pair in nets_too_near(now) if {pair.what_a, pair.what_b} & {"track", "via"}]
        assert not near, (ref, near[:2])
        lost = [t for t in routed.design.board.tracks if id(t) not in kept]
        crossed = {n for pair in nets_too_near(routed.with_design(moved)) for n in pair.nets}
        assert {t.net for t in lost} <= nets | crossed
        assert dropped == len(lost) + len(routed.design.board.vias) - len(after.board.vias)
    still, none = loosened(routed, edits.nudge(routed.design, refs[0], 0, 0), {refs[0]})
    assert none == 0
    assert still.board.tracks == routed.design.board.tracks


@pytest.mark.campaign
def test_locked_copper_stays_whatever_is_moved(routed: Wired) -> None:
    from msgspec.structs import replace

    locked = tuple(replace(t, locked=True) for t in routed.design.board.tracks)
    held = routed.edited(edits.set_board, tracks=locked)
    ref = board_pads(held)[0].pin.ref
    after, _ = loosened(held, edits.nudge(held.design, ref, 2_000_000), {ref})
    assert after.board.tracks == locked


@pytest.mark.campaign
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_gaps_are_closed_without_touching_what_is_there(routed: Wired, seed: int) -> None:
    own = [k for k, t in enumerate(routed.design.board.tracks) if t.net in signals(routed)]
    gone = with_what_hangs_on(routed, {("track", k) for k in Random(seed).sample(own, 5)})
    torn = routed.with_design(taken(routed.design, gone))
    assert connectivity(torn).links
    done = repair(torn)
    assert set(map(id, torn.design.board.tracks)) <= set(map(id, done.design.board.tracks))
    verdict = judge(torn.with_design(done.design))
    assert verdict.open == len(done.left)
    assert verdict.too_near == ()
    assert done.joined == len(connectivity(torn).links) - len(done.left) or done.left
    assert not done.left


@pytest.mark.campaign
def test_the_router_closes_gaps_first_and_leaves_the_rest_alone(routed: Wired) -> None:
    own = [k for k, t in enumerate(routed.design.board.tracks) if t.net in signals(routed)]
    torn = routed.with_design(taken(routed.design, with_what_hangs_on(routed, {("track", own[3])})))
    result = route(torn)
    assert result.missing == 0
    assert set(map(id, torn.design.board.tracks)) <= set(map(id, result.design.board.tracks))
    assert repair(routed).joined == 0
    assert repair(routed).design is routed.design


@pytest.mark.campaign
def test_windows_that_overlap_are_one() -> None:
    wired = random_board(25, 4)
    links = list(connectivity(wired).links)
    boxes = windows(links, 1.0)
    assert sum(len(mine) for _, mine in boxes) == len(links)
    areas = [area for area, _ in boxes]
    assert not any(a.intersects(b) for i, a in enumerate(areas) for b in areas[:i])


@pytest.mark.campaign
def test_what_is_picked_is_what_is_under_the_pointer(routed: Wired) -> None:
    board = routed.design.board
    via = board.vias[0]
    assert piece_at(routed, via.x_nm / 1e6, via.y_nm / 1e6, ("top",)) == Picked("via", 0)
    track = max(board.tracks, key=lambda t: math.dist(t.points[0], t.points[1]))
    (ax, ay), (bx, by) = track.points[:2]
    found = piece_at(routed, (ax + bx) / 2e6, (ay + by) / 2e6, (track.layer,))
    assert found is not None
    assert board.tracks[found.index].net == track.net or found.what == "via"
    other = "bottom" if track.layer == "top" else "top"
    hidden = piece_at(routed, (ax + bx) / 2e6, (ay + by) / 2e6, (other,))
    assert hidden is None or hidden != found
    assert piece_at(routed, -20.0, -20.0, ("top", "bottom")) is None
    assert isinstance(via, Via)
