"""Placement, routing, pours and the board review; geometry checked by shapely alone."""

from __future__ import annotations

from itertools import combinations

import pytest
from shapely import unary_union

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads, copper_items, courtyard_shape, outline_shape
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.outline import rounded_rectangle
from zesty_trace.core.board.place import place_rest, start_board
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import RouteResult, route
from zesty_trace.core.board.widths import ipc2221_width_nm, net_currents, width_for
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import FACES, Design, Placement, Rules
from zesty_trace.core.findings import Severity
from zesty_trace.errors import Cancelled, EditError, InputError


@pytest.mark.parametrize(
    ("amp", "rise", "copper_um"),
    [
        pytest.param(1.0, 10.0, 35.0, id="1A"),
        pytest.param(2.0, 10.0, 35.0, id="2A"),
        pytest.param(3.0, 20.0, 70.0, id="3A"),
    ],
)
def test_track_width_solves_the_formula_of_ipc_2221(amp: float, rise: float, copper_um: float) -> None:
    """IPC-2221, 6.2: I = 0.048 dT^0.44 A^0.725 with A in square mils: put the width back in, the current comes out."""
    width_mil = ipc2221_width_nm(amp, rise, copper_um) / 25_400
    area = width_mil * copper_um / 25.4
    assert 0.048 * rise**0.44 * area**0.725 == pytest.approx(amp, rel=1e-9)


def test_one_ampere_ten_degrees_needs_about_12_mil() -> None:
    """The usual chart reading for 1 A, 10 °C, 1 oz outside: 0.3 mm (common practice)."""
    assert ipc2221_width_nm(1.0, 10.0, 34.8) / 25_400 == pytest.approx(11.8, abs=0.3)
    assert ipc2221_width_nm(1.0, 10.0, 34.8, outer=False) > 2 * ipc2221_width_nm(1.0, 10.0, 34.8)


def test_width_keeps_to_the_rule_and_to_steps() -> None:
    assert width_for(0.0, Rules()) == 250_000
    assert width_for(2.0, Rules()) == 800_000
    with pytest.raises(ValueError, match="above zero"):
        ipc2221_width_nm(1.0, 0.0, 35.0)


def test_the_router_draws_power_wide_and_signals_not(routed: Design, catalogue: Catalogue) -> None:
    """By the tracks that were drawn: a heater of 2 A needs 0.8 mm (IPC-2221, worked above), a bus the least width."""
    drawn = {net: {t.width_nm for t in routed.board.tracks if t.net == net} for net in ("HEATER", "SDA")}
    assert 1.9 < net_currents(Wired(routed, catalogue))["HEATER"] < 2.1
    assert min(drawn["HEATER"]) >= 800_000
    assert drawn["SDA"] == {routed.board.rules.track_nm}


def test_every_package_has_a_sound_land_pattern(catalogue: Catalogue) -> None:
    for spec in catalogue.packages.values():
        pattern = land_pattern(spec)
        x0, _y0, _x1, y1 = pattern.courtyard
        for pad in pattern.pads:
            assert x0 < pad.x_nm - pad.width_nm / 2
            assert pad.y_nm + pad.height_nm / 2 < y1
            assert pad.drill_nm == 0 or not pad.plated or min(pad.width_nm, pad.height_nm) - pad.drill_nm >= 300_000
        assert pattern.height_nm == round(spec.height * 1e6)
        for a, b in combinations([p for p in pattern.pads if p.number], 2):
            apart = max(
                abs(a.x_nm - b.x_nm) - (a.width_nm + b.width_nm) / 2,
                abs(a.y_nm - b.y_nm) - (a.height_nm + b.height_nm) / 2,
            )
            assert a.number == b.number or apart >= 200_000, spec.id


def test_every_pin_of_every_kind_has_a_pad(catalogue: Catalogue) -> None:
    for kind in catalogue.kinds.values():
        for package in kind.packages:
            pads = {p.number for p in land_pattern(catalogue.package(package)).pads}
            assert {p.number for p in kind.pins} <= pads, (kind.id, package)


def test_outline_is_counter_clockwise_and_of_the_asked_size() -> None:
    from shapely import Polygon

    shape = Polygon(rounded_rectangle(80_000_000, 56_000_000))
    assert shape.exterior.is_ccw
    assert shape.bounds == (0, 0, 80_000_000, 56_000_000)
    assert shape.area == pytest.approx(80e6 * 56e6 - (4 - 3.14159) * 3e6**2, rel=1e-3)


def test_placing_puts_every_part_on_the_board_and_keeps_the_template(routed: Design, catalogue: Catalogue) -> None:
    assert set(routed.board.placements) == set(routed.parts)
    for hole in routed.brief.template:
        spot = routed.board.placements[hole.ref]
        assert (spot.x_nm, spot.y_nm, spot.angle_mdeg) == (hole.x_nm, hole.y_nm, hole.angle_mdeg)
    yards = {r: courtyard_shape(Wired(routed, catalogue), r) for r in routed.parts}
    fixed = {h.ref for h in routed.brief.template}
    for a, b in combinations(yards, 2):
        if not {a, b} <= fixed:
            assert yards[a].intersection(yards[b]).area < 0.02, (a, b)


def test_bypass_capacitors_sit_beside_what_they_serve(routed: Design) -> None:
    spots = routed.board.placements
    for cap, chip in (("C8", "U4"), ("C9", "U5"), ("C5", "U3"), ("C6", "U3")):
        a, b = spots[cap], spots[chip]
        assert abs(a.x_nm - b.x_nm) + abs(a.y_nm - b.y_nm) < 12_000_000, cap


def test_no_room_is_told_and_cancel_is_heard(mended: Design, catalogue: Catalogue) -> None:
    tiny = edits.set_brief(mended, case_width_nm=20_000_000, case_height_nm=20_000_000, template=())
    with pytest.raises(EditError, match="no room"):
        place_rest(Wired(tiny, catalogue))
    with pytest.raises(Cancelled):
        place_rest(Wired(mended, catalogue), lambda share, text: False)


def test_demo_routes_completely(route_result: RouteResult, routed: Design, catalogue: Catalogue) -> None:
    assert route_result.missing == route_result.conflicts == 0
    state = connectivity(Wired(routed, catalogue))
    assert state.links == ()
    assert state.routed == state.wanted == route_result.connections


def test_copper_of_different_nets_keeps_its_distance(routed: Design, catalogue: Catalogue) -> None:
    """The rule by brute force: union of each net's copper, pours included, against every other net's."""
    for layer in FACES:
        by_net: dict[str, list] = {}
        for item in copper_items(Wired(routed, catalogue), layer):
            by_net.setdefault(item.net or item.what, []).append(item.shape)
        for net, area in pour_shapes(Wired(routed, catalogue), layer):
            by_net[net].append(area)
        shapes = {n: unary_union(s) for n, s in by_net.items()}
        for a, b in combinations(shapes, 2):
            assert shapes[a].distance(shapes[b]) > 0.198, (layer, a, b)


def test_copper_keeps_off_the_edge(routed: Design, catalogue: Catalogue) -> None:
    inside = outline_shape(routed).buffer(-0.299)
    assert all(inside.covers(i.shape) for layer in FACES for i in copper_items(Wired(routed, catalogue), layer))


def test_heavy_nets_have_a_track_as_wide_as_their_current_asks(routed: Design, catalogue: Catalogue) -> None:
    amps = net_currents(Wired(routed, catalogue))
    for net in ("12V", "12V_IN", "HEATER"):
        needed_nm = ipc2221_width_nm(amps[net], routed.board.rules.temperature_rise_c, routed.board.rules.copper_um)
        assert max(t.width_nm for t in routed.board.tracks if t.net == net) >= needed_nm


def test_a_clean_board_has_no_finding_but_notes_and_the_one_that_is_true(routed: Design, catalogue: Catalogue) -> None:
    """A single capacitor on 5 V cannot stand at both regulators."""
    found = check_board(Wired(routed, catalogue))
    assert {f.rule for f in found if f.severity is not Severity.NOTE} <= {"regulator capacitor"}


@pytest.mark.campaign
def test_routing_is_the_same_each_time(routed: Design, catalogue: Catalogue) -> None:
    bare = Wired(edits.rip_up(routed), catalogue)
    assert route(bare).design.board == routed.board
    assert route(Wired(routed, catalogue)).design == routed, "what is joined stays"


def rules_found(design: Design, catalogue: Catalogue) -> set[str]:
    return {f.rule for f in check_board(Wired(design, catalogue))}


@pytest.mark.campaign
def test_review_finds_what_is_broken_on_purpose(routed: Design, catalogue: Catalogue) -> None:
    without = edits.set_board(routed, tracks=routed.board.tracks[1:], pours=())
    assert "unrouted" in rules_found(without, catalogue)
    crossed = edits.nudge(routed, "R14", dx_nm=1_000_000)
    assert {"clearance", "overlap"} & rules_found(crossed, catalogue)
    off = edits.nudge(routed, "J2", dx_nm=400_000)
    found = next(f for f in check_board(Wired(off, catalogue)) if f.rule == "template")
    assert found.value == pytest.approx(0.4)
    assert "template" not in rules_found(found.mend.apply(off), catalogue)
    gone = edits.set_board(routed, placements={r: p for r, p in routed.board.placements.items() if r != "C7"})
    assert "unplaced" in rules_found(gone, catalogue)
    flat = edits.set_brief(routed, case_depth_nm=10_000_000)
    assert "height" in rules_found(flat, catalogue)
    edge = edits.place(routed, "R9", Placement(x_nm=300_000, y_nm=28_000_000))
    assert {"edge", "outside"} <= rules_found(edge, catalogue)
    two = edits.nudge(routed, "R9", flip=True)
    assert any("both sides" in f.title for f in check_board(Wired(two, catalogue)))


def test_a_flipped_part_is_mirrored(mended: Design, catalogue: Catalogue) -> None:
    design = edits.place(start_board(mended), "U4", Placement(x_nm=0, y_nm=0))
    top = {p.pin: p for p in board_pads(Wired(design, catalogue), ["U4"])}
    below = {p.pin: p for p in board_pads(Wired(edits.nudge(design, "U4", flip=True), catalogue), ["U4"])}
    for pin, pad in top.items():
        assert (below[pin].x_nm, below[pin].y_nm, below[pin].layers) == (-pad.x_nm, pad.y_nm, ("bottom",))


def test_pour_leaves_thermal_spokes(routed: Design, catalogue: Catalogue) -> None:
    """A through-hole ground pad is joined by four spokes, not drowned: the moat is mostly free of fill."""
    pad = next(p for p in board_pads(Wired(routed, catalogue), ["J5"]) if p.net == "GND")
    from shapely import Point

    ring = (
        Point(pad.x_nm / 1e6, pad.y_nm / 1e6).buffer(1.1).difference(Point(pad.x_nm / 1e6, pad.y_nm / 1e6).buffer(0.9))
    )
    fill = unary_union([shape for _, shape in pour_shapes(Wired(routed, catalogue), "bottom")])
    share = ring.intersection(fill).area / ring.area
    assert 0.1 < share < 0.7


@pytest.mark.parametrize(
    ("sentence", "ref", "spot"),
    [
        ("R5 at 20, 14.5", "R5", (20_000_000, 14_500_000)),
        ("R5 at 100 mil, 1 mm", "R5", (2_540_000, 1_000_000)),
        ("D4..D6 in line 42, 4 to 54, 4", "D5", (48_000_000, 4_000_000)),
        ("D4..D6 on circle 20mm", "D4", (40_000_000, 38_000_000)),
    ],
)
def test_placing_sentences(sentence: str, ref: str, spot: tuple[int, int], routed: Design) -> None:
    after = understand_placing(sentence, routed).design.board.placements[ref]
    assert (after.x_nm, after.y_nm) == spot


@pytest.mark.parametrize("sentence", ["R99 at 1, 2", "R5 at here, 2", "dance", "D4..D9 on circle 5mm"])
def test_bad_placing_sentences_point_at_the_word(sentence: str, routed: Design) -> None:
    with pytest.raises(InputError):
        understand_placing(sentence, routed)


def test_turn_and_flip_by_sentence(routed: Design) -> None:
    before = routed.board.placements["R5"]
    turned = understand_placing("turn R5 90", routed).design.board.placements["R5"]
    assert turned.angle_mdeg == (before.angle_mdeg + 90_000) % 360_000
    assert understand_placing("flip R5", routed).design.board.placements["R5"].side == "bottom"
