"""The board review against a judge of its own arithmetic (shapely and networkx) on boards scribbled at random."""

from __future__ import annotations

from random import Random

import pytest
from benchmarks.board_judge import Verdict, judge
from benchmarks.random_boards import random_board
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from zesty_trace.core.board import pour
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.graph import CopperGraph
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.live import LiveReview
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.rules.distances import distances
from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement, Pour, Track, Via

NEAR = {"clearance", "hole and copper"}


def scribbled(seed: int, tracks: int, vias: int) -> Wired:
    """Return a small board with parts at any angle on both faces and copper drawn blindly over it."""
    random = Random(seed)
    wired = random_board(random.choice((6, 8, 10)), random.randint(1, 4))
    design = wired.design
    if seed % 3 == 0:
        design = edits.set_board(design, rules=replace(design.board.rules, layers=4))
    stack = design.board.stack
    xs, ys = [p[0] for p in design.board.outline], [p[1] for p in design.board.outline]
    nets = list(design.nets)
    for ref, spot in design.board.placements.items():
        if random.random() < 0.3:
            side = random.choice(("top", "bottom"))
            angle = random.choice((0, 45_000, 22_500, 90_000, random.randrange(360_000)))
            design = edits.place(design, ref, Placement(x_nm=spot.x_nm, y_nm=spot.y_nm, angle_mdeg=angle, side=side))
    pads = [(s.x_nm, s.y_nm) for s in design.board.placements.values()]

    def point() -> tuple[int, int]:
        if random.random() < 0.4:
            x, y = random.choice(pads)
            return x + random.randrange(-2_000_000, 2_000_000), y + random.randrange(-2_000_000, 2_000_000)
        return random.randrange(min(xs), max(xs)), random.randrange(min(ys), max(ys))

    laid = [
        Track(
            net=random.choice(nets),
            layer=random.choice(stack),
            width_nm=random.choice((150_000, 200_000, 500_000, 1_200_000)),
            points=tuple(point() for _ in range(random.choice((2, 2, 3, 4)))),
        )
        for _ in range(tracks)
    ]
    drilled = [
        Via(net=random.choice(nets), x_nm=x, y_nm=y, diameter_nm=random.choice((600_000, 1_000_000)), drill_nm=300_000)
        for x, y in (point() for _ in range(vias))
    ]
    pours = random.choice(
        ((), design.board.pours, (*design.board.pours, Pour(net=nets[1], layer=stack[-2], priority=2)))
    )
    return wired.with_design(edits.set_copper(design, laid, drilled, pours))


def judged(wired: Wired) -> tuple[Verdict, set[str]]:
    """Return what the judge and what the review say."""
    return judge(wired), {f.rule for f in check_board(wired)}


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 100_000), tracks=st.integers(0, 14), vias=st.integers(0, 5))
@pytest.mark.campaign
def test_no_review_passes_a_board_that_brute_force_finds_faulty(seed: int, tracks: int, vias: int) -> None:
    wired = scribbled(seed, tracks, vias)
    verdict, said = judged(wired)
    at_edge = [line for line in verdict.too_near if " to the edge" in line]
    apart = [line for line in verdict.too_near if line not in at_edge]
    assert bool(apart) == bool(said & NEAR), (apart[:5], said)
    assert not at_edge or "edge" in said
    assert not [p for p in nets_too_near(wired) if "pour" in (p.what_a, p.what_b)]  # fills keep off by themselves
    assert len(connectivity(wired).links) == verdict.open
    assert bool(verdict.open) == ("unrouted" in said)
    pairs = {tuple(line.split()[:3]) for line in apart if " at hole" not in line}
    named = {
        frozenset((p.layer, a, b))
        for p in nets_too_near(wired)
        for a, b in ((p.net_a or p.what_a, p.net_b or p.what_b),)
    }
    with_nets = {frozenset(p) for p in pairs if "(" not in "".join(p)}
    assert with_nets <= named, with_nets - named


def edited(wired: Wired, random: Random) -> Wired:
    """Return the board after one edit of a random sort."""
    design = wired.design
    board = design.board
    what = random.randrange(6)
    ref = random.choice(list(board.placements))
    spot = board.placements[ref]
    if what == 0:
        return wired.edited(edits.nudge, ref, dx_nm=random.randrange(-20, 20) * 100_000, turn_mdeg=22_500)
    if what == 1:
        return wired.edited(edits.nudge, ref, flip=True)
    if what == 2 and board.tracks:
        kept = list(board.tracks)
        kept.pop(random.randrange(len(kept)))
        return wired.edited(edits.set_copper, kept, board.vias, board.pours)
    if what == 3 and board.tracks:
        again = random.choice(board.tracks)  # a track twice is two pieces
        return wired.edited(edits.set_copper, [*board.tracks, again], board.vias, board.pours)
    net = random.choice(list(design.nets))
    if what == 4:
        via = Via(net=net, x_nm=spot.x_nm, y_nm=spot.y_nm, diameter_nm=600_000, drill_nm=300_000)
        return wired.edited(edits.set_copper, board.tracks, [*board.vias, via], board.pours)
    other = board.placements[random.choice(list(board.placements))]
    ends = ((spot.x_nm, spot.y_nm), (spot.x_nm, other.y_nm), (other.x_nm, other.y_nm))
    track = Track(net=net, layer=random.choice(board.stack), width_nm=250_000, points=ends)
    return wired.edited(edits.set_copper, [*board.tracks, track], board.vias, board.pours)


@settings(max_examples=10, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 100_000), poured=st.booleans())
@pytest.mark.campaign
def test_the_graph_is_what_brute_force_builds_after_every_edit(seed: int, poured: bool) -> None:
    random = Random(seed)
    wired = scribbled(seed, 6, 2)
    if not poured:
        wired = wired.edited(edits.set_copper, wired.design.board.tracks, wired.design.board.vias, ())
    graph, past = CopperGraph(wired), [wired]
    for _ in range(6):
        wired = past[-2] if len(past) > 1 and random.random() < 0.2 else edited(wired, random)
        past.append(wired)
        graph.update(wired)
        if graph.stale:
            graph.refill()
        verdict = judge(wired)
        assert len(graph.connectivity().links) == verdict.open
        assert graph.connectivity() == CopperGraph(wired).connectivity() or verdict.open  # links may differ in ends
        near = {p for p in nets_too_near(wired) if "pour" not in (p.what_a, p.what_b)}
        named = {(p.layer, frozenset((p.net_a or p.what_a, p.net_b or p.what_b))) for p in near}
        assert {(layer, frozenset(ends)) for layer, ends in graph.too_near_names()} == named


LIVE = {
    "overlap",
    "outside",
    "template",
    "height",
    "keep-out",
    "connector facing",
    "connector blocked",
    "bypass distance",
}


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 100_000))
@pytest.mark.campaign
def test_the_live_review_says_of_a_moved_part_what_the_whole_one_does(seed: int) -> None:
    random = Random(seed)
    wired = scribbled(seed, 5, 2)
    wired = wired.edited(edits.set_copper, wired.design.board.tracks, wired.design.board.vias, ())
    live = LiveReview(wired)
    for _ in range(4):
        ref = random.choice(list(wired.design.board.placements))
        wired = wired.edited(edits.nudge, ref, dx_nm=random.randrange(-30, 30) * 100_000, dy_nm=500_000).after(wired)
        said = {f.identity for f in live.moved(wired, [ref])}
        whole = check_board(wired)
        own = {f.identity for f in whole if f.rule in LIVE and ref in f.refs}
        assert own <= said
        assert said <= {f.identity for f in whole}
        pads = {f"pad {p.pin}" for p in board_pads(wired, [ref])}
        too_near = {frozenset(p.nets) for p in nets_too_near(wired) if {p.what_a, p.what_b} & pads}
        assert too_near <= {frozenset(f.nets) for f in live.moved(wired, [ref]) if f.rule == "clearance"}
        assert live.links().wanted == connectivity(wired).wanted
        assert len(live.links().links) == len(connectivity(wired).links)


@pytest.mark.campaign
def test_the_live_review_of_a_demo_says_how_far_a_capacitor_has_gone(mended: Design, catalogue: Catalogue) -> None:
    wired = Wired(mended, catalogue)
    wired = wired.with_design(place_rest(wired))
    live = LiveReview(wired)
    near = next(d for d in distances(wired) if d.what == "bypass" and d.mm < d.limit_mm)
    assert not [f for f in live.moved(wired, [near.ref]) if f.rule == "bypass distance"]
    gone = wired.edited(edits.nudge, near.ref, dx_nm=60_000_000)
    found = live.moved(gone, [near.ref])
    assert any(f.rule == "outside" for f in found)
    others = [d for d in distances(gone) if d.what == "bypass" and d.to == near.to]
    assert ("bypass distance" in {f.rule for f in found}) == any(
        d.mm > d.limit_mm and near.ref == d.ref for d in others
    )


@pytest.mark.campaign
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_pour_filled_in_strips_is_the_one_filled_as_a_whole(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    wired = scribbled(seed, 160, 90)
    wired = wired.edited(
        edits.set_copper, wired.design.board.tracks, wired.design.board.vias, (Pour(net="GND", layer="bottom"),)
    )
    filled = {}
    for name, many in (("strips", 1), ("whole", 10**9)):
        monkeypatch.setattr(pour, "MANY", many)
        ((_, filled[name]),) = pour.pour_shapes(Wired(wired.design, wired.catalogue), "bottom")
    strips, whole = filled["strips"], filled["whole"]
    assert whole.area > 1.0
    assert strips.symmetric_difference(whole).area < 0.005 * whole.area  # simplified by 5 um each, by other points
    assert strips.symmetric_difference(whole).buffer(-0.02).is_empty
