"""Tidying and stitching routed copper."""

from __future__ import annotations

import math

import pytest
from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board

from tests.core.test_pair_router import pair_board
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.parallel import with_parallel_vias
from zesty_trace.core.board.router import route
from zesty_trace.core.board.stitch import stitch
from zesty_trace.core.board.tidy import length_mm, straightened, tidy
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin, Placement, Pour, Track, Via
from zesty_trace.core.geometry import Point
from zesty_trace.errors import Cancelled, EditError

pytestmark = pytest.mark.campaign
MM = 1_000_000
ROLES = ("supply_out", "ground")


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
    with pytest.raises(EditError, match="not poured on two layers"):
        stitch(routed, "SUPPLY")
    with pytest.raises(EditError, match="no pitch"):
        stitch(routed, pitch_nm=500_000)


def heavy(vias: int) -> Wired:
    """A load of 6 ohm on 12 V: 2 A go down through vias on the way from the inlet, and up again on the way back."""
    load = Part(ref="R1", kind="resistor", value="6")
    inlet = Part(ref="J1", kind="barrel_jack")
    plus, minus = (next(p.number for p in shipped().kinds["barrel_jack"].pins if p.role == r) for r in ROLES)
    nets = {"12V": (Pin("J1", plus), Pin("R1", "1")), "GND": (Pin("J1", minus), Pin("R1", "2"))}
    design = understand_placing("outline 60 x 40", Design(parts={"J1": inlet, "R1": load}, nets=nets)).design
    design = edits.set_brief(design, supply_v=12.0)
    spots = {"J1": Placement(x_nm=12 * MM, y_nm=20 * MM), "R1": Placement(x_nm=48 * MM, y_nm=20 * MM)}
    wired = Wired(edits.set_board(design, placements=spots), shipped())
    pad = {p.net: Point(p.x_nm, p.y_nm) for p in board_pads(wired) if p.pin.ref == "R1"}["12V"]
    start = next(Point(p.x_nm, p.y_nm) for p in board_pads(wired) if p.pin == Pin("J1", plus))
    turn = Point(40 * MM, 30 * MM)
    wide = 3 * MM // 2
    tracks = [
        Track(net="12V", layer="bottom", width_nm=wide, points=(start, Point(start.x_nm, 30 * MM), turn)),
        Track(net="12V", layer="top", width_nm=wide, points=(turn, Point(pad.x_nm, 30 * MM), pad)),
    ]
    down = [Via(net="12V", x_nm=turn.x_nm, y_nm=turn.y_nm + k * 700_000) for k in range(vias)]
    return wired.edited(edits.set_copper, tracks, down, ())


def test_vias_that_carry_too_much_get_others_beside_them() -> None:
    # IPC-2221, 6.2, inner conductor: a barrel of 0.3 mm with 25 um of plating is 36.5 mil2 and carries 0.9 A at 10 K.
    amps = 0.024 * 10**0.44 * (math.pi * 0.3 / 0.0254 * 25 / 25.4) ** 0.725
    for count in (1, 2, 3):
        said = [f for f in check_board(heavy(count)) if f.rule == "via current"]
        assert bool(said) == (2.0 / count > amps)
        assert [f.value for f in said] == [pytest.approx(2.0 / count, rel=0.02)] * len(said)
    one = heavy(1)
    more = one.with_design(with_parallel_vias(one, {"12V"}))
    assert len(more.design.board.vias) == math.ceil(2.0 / amps)
    assert not [f for f in check_board(more) if f.rule in ("via current", "clearance", "holes", "via in pad", "edge")]
    assert not judge(more).too_near
    assert with_parallel_vias(one, {"GND"}) is one.design


def test_vias_at_the_edge_and_round_bare_holes_are_not_crowded() -> None:
    one = heavy(1)
    turn = one.design.board.vias[0]
    tight = 0.90 * MM + turn.drill_nm // 2  # one more at 45 degrees would have its hole 0.47 mm from the edge, not 0.5
    xs = [p[0] for p in one.design.board.outline]
    low = [(min(xs), 0), (max(xs), 0), (max(xs), round(turn.y_nm + tight)), (min(xs), round(turn.y_nm + tight))]
    narrow = one.with_design(edits.set_outline(one.design, low))
    before = {f.identity for f in check_board(narrow) if f.severity.name != "NOTE"}
    after = narrow.with_design(with_parallel_vias(narrow, {"12V"}))
    assert {f.identity for f in check_board(after) if f.severity.name != "NOTE"} <= before


def test_a_pair_is_not_pulled_apart_by_tidying() -> None:
    wired = pair_board(crossed=False)
    routed = wired.with_design(route(wired).design)
    assert not {"USB_DP", "USB_DM"} & set(tidy(routed).nets)
