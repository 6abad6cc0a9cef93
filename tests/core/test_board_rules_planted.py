"""Each blind spot planted in a clean board, and found; the clean board itself has none of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import replace
from shapely import box, unary_union

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads, copper_items, pad_shape
from zesty_trace.core.board.gate import accept_stops, refuse_stopped, stopping
from zesty_trace.core.board.router import route
from zesty_trace.core.board.rules.currents import via_capacity_a
from zesty_trace.core.board.rules.spacing import spacing_mm
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, KeepOut, NetClass, Placement, Pour, Track, Via
from zesty_trace.core.fabrication.package import write_package
from zesty_trace.core.geometry import Point
from zesty_trace.errors import EditError

Plant = Callable[[Wired], Design]


def with_track(design: Design, **said: object) -> Design:
    board = design.board
    track = Track(**{"net": "GND", "layer": "top", "width_nm": 300_000, **said})  # type: ignore[arg-type]
    return edits.set_copper(design, [*board.tracks, track], board.vias, board.pours)


def with_via(design: Design, **said: object) -> Design:
    board = design.board
    via = Via(**{"net": "GND", "x_nm": 0, "y_nm": 0, **said})  # type: ignore[arg-type]
    return edits.set_copper(design, board.tracks, [*board.vias, via], board.pours)


def moved(design: Design, ref: str, **said: int) -> Design:
    return edits.place(design, ref, replace(design.board.placements[ref], **said))


def mm(*values: float) -> Point:
    return Point(*(round(v * 1e6) for v in values))


def spot(wired: Wired, ref: str) -> Placement:
    return wired.design.board.placements[ref]


def through_a_hole(wired: Wired) -> Design:
    hole = next(p for p in board_pads(wired) if p.drill_nm and not p.plated)
    ends = (Point(hole.x_nm - 3_000_000, hole.y_nm), Point(hole.x_nm + 3_000_000, hole.y_nm))
    return with_track(wired.design, net="12V", points=ends)


def under_a_head(wired: Wired) -> Design:
    hole = next(p for p in board_pads(wired) if p.drill_nm and not p.plated)
    y = hole.y_nm + 2_400_000
    return with_track(
        wired.design, net="12V", points=(Point(hole.x_nm - 1_000_000, y), Point(hole.x_nm + 1_000_000, y))
    )


def via_in_a_pad(wired: Wired) -> Design:
    pad = next(p for p in board_pads(wired) if p.layers == ("top",) and p.net)
    return with_via(wired.design, net=pad.net, x_nm=pad.x_nm, y_nm=pad.y_nm)


def thin_heavy_piece(wired: Wired) -> Design:
    """Every wide track of the 12 V net made thin: the widest no longer hides the narrowest."""
    board = wired.design.board
    wide = [k for k, t in enumerate(board.tracks) if t.net == "12V" and t.width_nm > 700_000]
    tracks = [replace(t, width_nm=200_000) if k in wide else t for k, t in enumerate(board.tracks)]
    return edits.set_copper(wired.design, tracks, board.vias, board.pours)


def turned_inwards(wired: Wired) -> Design:
    ref = next(r for r in wired.design.board.placements if wired.package(r).facing)
    return moved(wired.design, ref, angle_mdeg=(spot(wired, ref).angle_mdeg + 180_000) % 360_000)


def blocked(wired: Wired) -> Design:
    """A connector one row back from another part."""
    ref = next(r for r in wired.design.board.placements if wired.package(r).facing)
    at = spot(wired, ref)
    design = moved(wired.design, ref, x_nm=at.x_nm + (-8_000_000 if at.x_nm > 40_000_000 else 8_000_000))
    small = next(r for r in design.parts if wired.package(r).id == "R0603")
    return edits.place(design, small, Placement(x_nm=at.x_nm, y_nm=at.y_nm))


def far_capacitor(wired: Wired) -> Design:
    from zesty_trace.core.board.rules.distances import distances

    near = next(d for d in distances(wired) if d.what == "bypass")
    at = spot(wired, near.to)
    return moved(wired.design, near.ref, x_nm=at.x_nm - 30_000_000 if at.x_nm > 40_000_000 else at.x_nm + 30_000_000)


def of_a_removed_part(wired: Wired) -> Design:
    design = wired.design
    net = next(
        n
        for n, pins in design.nets.items()
        if len({p.ref for p in pins}) == 2 and any(t.net == n for t in design.board.tracks)
    )
    places = {r: p for r, p in design.board.placements.items() if r not in {p.ref for p in design.nets[net]}}
    return edits.set_board(design, placements=places)


FREE = {"x_nm": 1_000_000, "y_nm": 20_000_000}
PLANTED: dict[str, tuple[str, Plant]] = {
    "a supply track through a mounting hole": ("hole and copper", through_a_hole),
    "a track below a screw head": ("screw head", under_a_head),
    "a via in a pad": ("via in pad", via_in_a_pad),
    "a heavy track narrowed": ("track width", thin_heavy_piece),
    "a track thinner than the house etches": (
        "least width",
        lambda w: with_track(w.design, width_nm=100_000, points=(mm(40, 2), mm(41, 2))),
    ),
    "a connector that looks inwards": ("connector facing", turned_inwards),
    "a part in front of a connector": ("connector blocked", blocked),
    "a capacitor far from its chip": ("bypass distance", far_capacitor),
    "copper of a net that is gone": (
        "copper of nothing",
        lambda w: with_track(w.design, net="GONE", points=(mm(40, 2), mm(44, 2))),
    ),
    "copper of a part that is gone": ("copper of nothing", of_a_removed_part),
    "a track that ends in the air": (
        "dangling end",
        lambda w: edits.set_board(with_track(w.design, points=(mm(40, 1), mm(44, 1))), pours=()),
    ),
    "a via that joins nothing": (
        "loose via",
        lambda w: edits.set_board(with_via(w.design, x_nm=1_000_000, y_nm=20_000_000), pours=()),
    ),
    "a via with a thin ring": (
        "annular ring",
        lambda w: with_via(w.design, x_nm=1_000_000, y_nm=20_000_000, diameter_nm=400_000),
    ),
    "a via with a thin drill": (
        "least drill",
        lambda w: with_via(w.design, x_nm=1_000_000, y_nm=20_000_000, drill_nm=150_000),
    ),
    "a hole at the edge": ("hole and edge", lambda w: with_via(w.design, x_nm=300_000, y_nm=20_000_000)),
    "a width below zero": (
        "impossible value",
        lambda w: with_track(w.design, width_nm=-250_000, points=(mm(40, 2), mm(44, 2))),
    ),
    "a rule below zero": (
        "impossible value",
        lambda w: edits.set_board(w.design, rules=replace(w.design.board.rules, track_nm=-1)),
    ),
    "a drill as large as its via": ("impossible value", lambda w: with_via(w.design, diameter_nm=300_000)),
    "an outline of two points": (
        "impossible value",
        lambda w: edits.set_board(w.design, outline=(Point(0, 0), Point(1, 1))),
    ),
    "an outline that crosses itself": (
        "impossible value",
        lambda w: edits.set_board(w.design, outline=(mm(0, 0), mm(80, 56), mm(80, 0), mm(0, 50))),
    ),
}


def rules_found(wired: Wired) -> set[str]:
    return {f.rule for f in check_board(wired)}


def test_the_clean_board_has_none_of_them(routed: Design, catalogue: Catalogue) -> None:
    """One capacitor on 5 V stands at the regulator that gives it, far from the one that takes it: that is true."""
    assert rules_found(Wired(routed, catalogue)) <= {"sides", "reference left out", "regulator capacitor"}


@pytest.mark.campaign
@pytest.mark.parametrize("what", PLANTED)
def test_what_is_planted_is_found(what: str, routed: Design, catalogue: Catalogue) -> None:
    name, plant = PLANTED[what]
    wired = Wired(plant(Wired(routed, catalogue)), catalogue)
    assert name in rules_found(wired)
    for finding in check_board(wired):
        assert finding.title
        assert finding.detail


HALF = KeepOut(name="the label", outline=(mm(0, 0), mm(40, 0), mm(40, 56), mm(0, 56)))


@pytest.mark.campaign
def test_the_router_keeps_out_of_what_is_closed_and_the_review_sees_what_is_not(
    routed: Design, catalogue: Catalogue
) -> None:
    wired = Wired(routed, catalogue)
    pads = unary_union([pad_shape(p, 1.0) for p in board_pads(wired)])
    tracks = unary_union([i.shape for i in copper_items(wired, "top") if i.what == "track"])
    spots = [(x, y) for x in range(4, 72, 2) for y in range(4, 48, 2)]
    free = [(x, y) for x, y in spots if not box(x, y, x + 3, y + 3).intersects(pads)]
    x, y = next((x, y) for x, y in free if box(x, y, x + 3, y + 3).intersects(tracks))
    zone = KeepOut(name="the label", outline=(mm(x, y), mm(x + 3, y), mm(x + 3, y + 3), mm(x, y + 3)))
    closed = edits.set_board(routed, keepouts=(zone,))
    assert "keep-out" in rules_found(Wired(closed, catalogue))
    again = route(Wired(edits.rip_up(closed), catalogue))
    assert [f.title for f in check_board(Wired(again.design, catalogue)) if f.rule == "keep-out"] == []
    assert again.missing == 0
    low = edits.set_board(routed, keepouts=(replace(HALF, tracks=False, vias=False, pours=False, height_nm=100_000),))
    assert any("mm tall in the label" in f.title for f in check_board(Wired(low, catalogue)))


def test_a_net_class_asks_for_its_width(catalogue: Catalogue) -> None:
    from tests.core.test_router import board

    design = board({"R1": (5, 10, 0), "R2": (15, 10, 0)}, {"A": ["R1.2", "R2.1"]})
    wide = edits.set_board(design, classes=(NetClass(name="power", nets=("A",), width_nm=800_000),))
    assert max(t.width_nm for t in route(Wired(wide, catalogue)).design.board.tracks) == 800_000


@pytest.mark.campaign
def test_no_order_leaves_with_a_stop_and_a_reason_is_kept(routed: Design, catalogue: Catalogue) -> None:
    refuse_stopped(Wired(routed, catalogue))
    broken = Wired(through_a_hole(Wired(routed, catalogue)), catalogue)
    with pytest.raises(EditError, match="No files are written"):
        refuse_stopped(broken)
    stops = stopping(broken)
    accepted = accept_stops(broken, "a fly-by-wire mock-up", "2026-11-26")
    refuse_stopped(broken.with_design(accepted))
    assert {a.reason for a in accepted.accepted} == {"a fly-by-wire mock-up"}
    assert len(accepted.accepted) == len(stops)
    with pytest.raises(EditError, match="reason"):
        accept_stops(broken, "  ", "2026-11-26")


def test_mends_take_left_over_copper_off(routed: Design, catalogue: Catalogue) -> None:
    design = with_track(routed, net="GONE", points=(mm(40, 2), mm(44, 2)))
    finding = next(f for f in check_board(Wired(design, catalogue)) if f.rule == "copper of nothing")
    assert finding.mend is not None
    assert finding.mend.apply(design).board.tracks == routed.board.tracks


@pytest.mark.parametrize(
    ("volts", "gap"), [(12, 0.1), (31, 0.6), (100, 0.6), (160, 1.25), (230, 1.25), (325, 2.5), (600, 3.0)]
)
def test_spacing_by_voltage(volts: float, gap: float) -> None:
    """IPC-2221, table 6-1, column B2 (from memory), and 0.005 mm for each volt above 500."""
    assert spacing_mm(volts) == pytest.approx(gap)


def test_what_a_barrel_carries() -> None:
    """0.3 mm, 25 um of plating, 10 K: pi x 11.8 x 0.98 = 36.5 square mils, 0.024 x 10^0.44 x 36.5^0.725 (by hand)."""
    assert via_capacity_a(300_000, 10.0) == pytest.approx(0.024 * 2.754 * 13.56, rel=0.02)


def test_a_pour_that_is_gone_leaves_no_error(routed: Design, catalogue: Catalogue) -> None:
    design = edits.set_board(routed, pours=(Pour(net="NOBODY", layer="top"),))
    assert "unrouted" in rules_found(Wired(design, catalogue))


def test_values_that_cannot_be_are_refused_before_a_file_is_drawn_whoever_accepted_them(
    routed: Design, catalogue: Catalogue, tmp_path: Path
) -> None:
    for what in ("a width below zero", "an outline of two points"):
        broken = Wired(PLANTED[what][1](Wired(routed, catalogue)), catalogue)
        accepted = broken.with_design(accept_stops(broken, "it will do", "2026-11-26"))
        for wired in (broken, accepted):
            with pytest.raises(EditError):
                write_package(wired, tmp_path)
    assert not list(tmp_path.iterdir())
