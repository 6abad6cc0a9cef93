"""Rules of the review on small boards made for them: each finds what is planted, and is silent on what is right."""

from __future__ import annotations

import math

import pytest
from msgspec.structs import replace

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads, body_shape, copper_items, height_nm
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import route
from zesty_trace.core.board.rule_sets import set_rules
from zesty_trace.core.board.rules.access import probe_faces
from zesty_trace.core.board.rules.pairs import pairs_of
from zesty_trace.core.board.rules.spreading import copper_at
from zesty_trace.core.board.words.say_outline import change_board
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import FACES, Design, Part, Pin, Placement, Pour, Track, Via
from zesty_trace.core.findings import Finding
from zesty_trace.core.geometry import Point
from zesty_trace.errors import InputError

MM = 1_000_000


def board(spots: dict[str, tuple[str, float, float]], nets: dict[str, tuple[str, ...]], **notes: str) -> Wired:
    """Return a board of 60 x 40 mm with parts (kind, x, y); nets name pins as `U1.3`."""
    parts = {r: Part(ref=r, kind=k, value=_value(k), notes=notes.get(r, "")) for r, (k, _, _) in spots.items()}
    pins = {n: tuple(Pin(*p.split(".")) for p in names) for n, names in nets.items()}
    design = understand_placing("outline 60 x 40", Design(parts=parts, nets=pins)).design
    placed = {r: Placement(x_nm=round(x * MM), y_nm=round(y * MM)) for r, (_, x, y) in spots.items()}
    return Wired(edits.set_board(design, placements=placed), shipped())


def _value(kind: str) -> str:
    return {"resistor": "1k", "ceramic_capacitor": "100n", "led": "red", "electrolytic_capacitor": "100u"}.get(kind, "")


def found(wired: Wired, rule: str) -> list[Finding]:
    return [f for f in check_board(wired) if f.rule == rule]


def laid(wired: Wired, *tracks: Track, vias: tuple[Via, ...] = (), pours: tuple[Pour, ...] = ()) -> Wired:
    return wired.with_design(edits.set_copper(wired.design, tracks, vias, pours))


def track(net: str, *points: tuple[float, float], width: float = 0.25) -> Track:
    at = tuple(Point(round(x * MM), round(y * MM)) for x, y in points)
    return Track(net=net, layer="top", width_nm=round(width * MM), points=at)


def test_a_thin_web_of_mask() -> None:
    """At the corners pads are 0.2 mm apart each way: openings 0.075 mm larger leave 0.05 mm each way, 0.071 across."""
    fine = board({"U1": ("controller_32_qfn", 30, 20)}, {"A": ("U1.1",), "B": ("U1.2",)})
    assert found(fine, "mask web") == []
    wide = set_rules(fine.design, "comfortable")
    wide = edits.set_board(wide, rules=replace(wide.board.rules, mask_margin_nm=75_000))
    webs = found(fine.with_design(wide), "mask web")
    assert [round(f.value or 0, 3) for f in webs] == [0.071]


def test_copper_in_a_foreign_opening() -> None:
    wired = board({"R1": ("resistor", 30, 20)}, {"A": ("R1.1",), "B": ("R1.2",)})
    pad = board_pads(wired)[0]
    edge = (pad.y_nm + pad.height_nm / 2) / MM
    near = laid(wired, track("B", (25, edge + 0.155), (35, edge + 0.155)))  # 0.03 mm beside the pad
    assert found(near, "bare beside a pad")
    assert found(laid(wired, track("B", (25, edge + 0.4), (35, edge + 0.4))), "bare beside a pad") == []


def test_copper_for_heat_is_measured_where_it_is_joined() -> None:
    spots = {"U1": ("regulator_3v3", 30, 20)}
    wired = board(spots, {"GND": ("U1.2",), "5V": ("U1.1",)}, U1="300 mm2 copper")
    pins = {p.number: p.name for p in wired.kind("U1").pins}
    tab = max(board_pads(wired), key=lambda p: p.width_nm * p.height_nm)
    net = tab.net
    assert net, pins
    bare = found(wired, "copper for heat")
    assert [f.value for f in bare] == [0.0]
    square = tuple(Point(round(x * MM), round(y * MM)) for x, y in ((22, 10), (45, 10), (45, 30), (22, 30)))
    poured = laid(wired, pours=(Pour(net=net, layer="top", outline=square),))
    assert copper_at(poured, tab) > 300
    assert found(poured, "copper for heat") == []
    island = tuple(Point(round(x * MM), round(y * MM)) for x, y in ((1, 1), (20, 1), (20, 38), (1, 38)))
    assert found(laid(wired, pours=(Pour(net=net, layer="top", outline=island),)), "copper for heat")


def test_a_pair_of_lines() -> None:
    spots = {"J1": ("header_2", 10, 20), "J2": ("header_2", 50, 20)}
    kinds = {k for k in shipped().kinds if k.startswith(("header", "pin_header"))}
    two = next(k for k in sorted(kinds) if len(shipped().kinds[k].pins) == 2)
    spots = {r: (two, x, y) for r, (_, x, y) in spots.items()}
    wired = board(spots, {"USB_DP": ("J1.1", "J2.1"), "USB_DM": ("J1.2", "J2.2")})
    assert [tuple(p) for p in pairs_of(wired)] == [("USB_DP", "USB_DM")]
    straight = laid(wired, track("USB_DP", (10, 21.27), (50, 21.27)), track("USB_DM", (10, 18.73), (50, 18.73)))
    assert found(straight, "pair length") == []
    assert found(straight, "pair apart") == []
    detour = track("USB_DM", (10, 18.73), (10, 8), (50, 8), (50, 18.73))
    crooked = laid(wired, track("USB_DP", (10, 21.27), (50, 21.27)), detour)
    assert found(crooked, "pair length")[0].value == pytest.approx(2 * 10.73)
    assert found(crooked, "pair apart")


def test_corners_and_sides() -> None:
    wired = board({"R1": ("resistor", 30, 20)}, {"A": ("R1.1",)})
    sharp = laid(wired, track("A", (10, 10), (20, 10), (12, 14)))
    assert found(sharp, "acute corner")[0].value == pytest.approx(26.57, abs=0.01)  # atan(4 / 8)
    assert found(laid(wired, track("A", (10, 10), (20, 10), (20, 20))), "acute corner") == []
    one = wired.with_design(set_rules(sharp.design, "milled"))
    wrong = found(one, "part on the bare side")
    assert wrong[0].mend is not None
    assert found(one.with_design(wrong[0].mend.apply(one.design)), "part on the bare side") == []
    assert found(one, "wire links")


def test_probes_marks_irons_and_drills() -> None:
    rail = {"R1": ("resistor", 10, 20), "R2": ("resistor", 20, 20), "R3": ("resistor", 30, 20)}
    nets = {"GND": ("R1.2", "R2.2", "R3.2"), "A": ("R1.1", "R2.1", "R3.1")}
    wired = board(rail, nets)
    assert found(wired, "no probe on a rail")
    tested = board({**rail, "TP1": ("test_point", 40, 10)}, {**nets, "GND": (*nets["GND"], "TP1.1")})
    assert [f for f in found(tested, "no probe on a rail") if "GND" in f.nets] == []
    led = board({"D1": ("led", 30, 20), "R1": ("resistor", 30 - 1.0, 20 + 1.4)}, {})
    assert found(led, "mark hidden")
    assert found(board({"D1": ("led", 30, 20), "R1": ("resistor", 30, 30)}, {}), "mark hidden") == []


def test_irons_big_joints_and_drills() -> None:
    """A button 6.2 mm wide between sounders 12 mm wide and 9.5 mm tall: walled in 7 mm away, free 12 mm away."""
    walled = {"SW1": ("button", 30, 20), "BZ1": ("buzzer", 20.5, 20), "BZ2": ("buzzer", 39.5, 20)}
    more = {"BZ3": ("buzzer", 30, 29.5), "BZ4": ("buzzer", 30, 10.5)}
    assert found(board({**walled, **more}, {}), "no room for the iron")
    free = {"SW1": ("button", 30, 20), "BZ1": ("buzzer", 15, 20), "BZ2": ("buzzer", 45, 20)}
    assert found(board(free, {}), "no room for the iron") == []
    jack = {"J1": ("barrel_jack", 12, 20), "BZ1": ("buzzer", 27, 20)}
    close = board(jack, {})
    assert found(close, "heat-sensitive part near a big joint") == []  # its pads of 9 mm² are no big joints
    many = laid(
        close,
        vias=tuple(
            Via(net="X", x_nm=(5 + k) * MM, y_nm=5 * MM, diameter_nm=900_000, drill_nm=300_000 + 50_000 * k)
            for k in range(8)
        ),
    )
    assert found(many, "many drills")[0].value == 8 + 2
    assert found(close, "many drills") == []


def test_a_big_joint_near_what_stands_no_heat() -> None:
    wide = {"J1": ("chip_socket_8", 20, 20), "BZ1": ("buzzer", 35, 20)}
    wired = board(wide, {})
    pads = wired.catalogue.packages["DIP-8"]
    big = wired.catalogue.__class__(
        wired.catalogue.kinds, {**wired.catalogue.packages, "DIP-8": replace(pads, pad=(5.0, 2.5))}
    )
    near = Wired(wired.design, big)
    gap = (35 - 6) - (20 + 3.81 + 2.5)  # from the sounder's body to the pads on the right, by hand
    assert found(near, "heat-sensitive part near a big joint")[0].value == pytest.approx(gap, abs=0.01)
    assert found(wired, "heat-sensitive part near a big joint") == []


def test_fine_pitches_want_fiducials() -> None:
    fine = {"U1": ("controller_32_qfn", 30, 20)}
    assert found(board(fine, {}), "no fiducials")
    assert found(board({**fine, "FD1": ("fiducial", 5, 5)}, {}), "no fiducials") == []
    assert found(board({"R1": ("resistor", 30, 20)}, {}), "no fiducials") == []


def test_an_antenna_belongs_at_the_edge_and_alone() -> None:
    inside = board({"U1": ("radio_module", 30, 20)}, {})
    far = found(inside, "antenna place")
    assert far[0].value == pytest.approx(40 - 20 - 12)
    edge = board({"U1": ("radio_module", 30, 28)}, {})
    assert found(edge, "antenna place") == []
    crowded = board({"U1": ("radio_module", 30, 28), "R1": ("resistor", 40, 37)}, {})
    assert found(crowded, "antenna place")
    over = laid(edge, track("X", (25, 37), (35, 37)))
    assert found(over, "keep-out")


def test_a_hole_at_a_pad_takes_the_solder() -> None:
    wired = board({"R1": ("resistor", 30, 20)}, {"A": ("R1.1",), "B": ("R1.2",)})
    pad = board_pads(wired)[0]
    edge = pad.y_nm + pad.height_nm // 2

    def via(net: str, off_mm: float) -> Via:  # the hole's edge this far from the pad's
        return Via(net=net, x_nm=pad.x_nm, y_nm=edge + round((off_mm + 0.15) * MM))

    said = found(laid(wired, vias=(via("A", 0.1),)), "via beside a pad")
    assert [round(f.value or 0, 2) for f in said] == [0.05]  # 0.1 mm less the 0.05 mm of the opening
    assert found(laid(wired, vias=(via("A", 0.16),)), "via beside a pad") == []
    assert found(laid(wired, vias=(via("B", 0.1),)), "via beside a pad") == []  # a short, which another rule says
    assert found(laid(wired, vias=(via("A", -0.1),)), "via in pad")


def test_chips_at_the_edge() -> None:
    nets = {"A": ("R1.1",), "B": ("R1.2",)}
    body = 0.8  # half the length of a 1.6 mm chip
    near = found(board({"R1": ("resistor", body + 0.7, 20)}, nets), "part at the edge")
    assert [round(f.value or 0, 1) for f in near] == [0.7]
    assert found(board({"R1": ("resistor", body + 1.1, 20)}, nets), "part at the edge") == []


def test_a_header_needs_room_for_its_plug() -> None:
    stock = shipped()
    kinds = [k for k in stock.kinds.values() if k.connector and k.id.startswith(("header", "pin_header"))]
    two = next(k.id for k in kinds if len(k.pins) == 2)
    nets = {"A": ("J1.1", "C1.1"), "B": ("J1.2", "C1.2")}
    close = board({"J1": (two, 30, 20), "C1": ("electrolytic_capacitor", 30, 20)}, nets)
    half = sum(s / 2 for s in (body_shape(close, "J1").bounds[2] - body_shape(close, "J1").bounds[0],
                               body_shape(close, "C1").bounds[2] - body_shape(close, "C1").bounds[0]))  # fmt: skip
    taller = (height_nm(close, "C1") - height_nm(close, "J1")) / MM
    for gap in (0.5, 1.5):
        spots = {"J1": (two, 30.0, 20.0), "C1": ("electrolytic_capacitor", 30 + half + gap, 20.0)}
        said = found(board(spots, nets), "no room for a plug")
        assert [round(f.value or 0, 1) for f in said] == ([0.5] if gap < 1 and taller > 2 else [])
    assert taller > 2


def test_silk_that_is_finer_than_the_house_prints() -> None:
    wired = board({"R1": ("resistor", 30, 20)}, {"A": ("R1.1",), "B": ("R1.2",)})
    assert found(wired, "silk size") == []
    coarse = replace(wired.design.board.rules, silk_text_nm=1_200_000, silk_pen_nm=200_000)
    said = found(wired.with_design(edits.set_board(wired.design, rules=coarse)), "silk size")
    assert {(f.value, f.limit) for f in said} == {(1.0, 1.2), (0.15, 0.2)}


def test_what_a_probe_reaches_and_from_which_face() -> None:
    nets = {"A": ("R1.1", "R2.1"), "B": ("R1.2", "R2.2")}
    wired = board({"R1": ("resistor", 20, 20), "R2": ("resistor", 40, 20)}, nets)
    assert probe_faces(wired) == {"A": {"top"}, "B": {"top"}}
    assert not found(wired, "net that no probe reaches")
    turned = wired.edited(edits.nudge, "R2", flip=True)
    assert probe_faces(turned) == {"A": {"top", "bottom"}, "B": {"top", "bottom"}}
    nets = {"A": ("R1.1", "R1.2"), "B": ("R2.1", "R2.2")}
    apart = board({"R1": ("resistor", 20, 20), "R2": ("resistor", 40, 20)}, nets).edited(edits.nudge, "R2", flip=True)
    said = found(apart, "probing takes both faces")
    assert [f.value for f in said] == [1.0]
    fine = board({"U1": ("controller_32_qfn", 30, 20), "U2": ("controller_32_qfn", 45, 20)}, {"A": ("U1.1", "U2.1")})
    assert [f.nets for f in found(fine, "net that no probe reaches")] == [("A",)]  # 0.25 mm pads
    spots = {
        "R1": ("resistor", 20.0, 20.0),
        "R2": ("resistor", 40.0, 20.0),
        "C1": ("electrolytic_capacitor", 20.0, 20.0),
    }
    below = board(spots, {"A": ("R1.1", "R1.2")})
    assert probe_faces(below) == {"A": set()}


@pytest.mark.campaign
def test_a_class_keeps_its_distance_in_routing_pours_and_review() -> None:
    spots = {f"R{k}": ("resistor", 10.0 + 8 * (k % 5), 12.0 + 8 * (k // 5)) for k in range(1, 10)}
    nets = {"CLK": ("R1.1", "R5.2"), "A": ("R2.1", "R6.2"), "B": ("R3.1", "R7.2"), "GND": ("R4.1", "R8.2", "R9.1")}
    wired = board(spots, nets)
    classed = change_board("class quiet: clk width 0.4 gap 0.7", wired.design)
    assert classed.board.classes[0].nets == ("CLK",)
    result = route(wired.with_design(classed))
    assert result.missing == 0
    after = wired.with_design(result.design)
    assert found(after, "class clearance") == []
    for layer in FACES:
        items = copper_items(after, layer)
        tracks = [i.shape for i in items if i.net == "CLK" and i.node[0] != "pad"]
        rest = [i.shape for i in items if i.net != "CLK" and i.node[0] != "pad"]
        assert all(t.distance(o) >= 0.698 for t in tracks for o in rest)
        for net, area in pour_shapes(after, layer):
            assert net == "GND"
            assert all(t.distance(area) >= 0.698 for t in tracks)
    assert all(t.width_nm >= 400_000 for t in result.design.board.tracks if t.net == "CLK")
    longest = max(
        (t for t in result.design.board.tracks if t.net == "CLK"), key=lambda t: math.dist(t.points[0], t.points[1])
    )
    (ax, ay), (bx, by) = longest.points[:2]
    off = 0.75 * MM / math.dist((ax, ay), (bx, by))  # beside it, 0.425 mm from edge to edge
    beside = tuple(Point(round(x - (by - ay) * off), round(y + (bx - ax) * off)) for x, y in ((ax, ay), (bx, by)))
    ran = Track(net="A", layer=longest.layer, width_nm=250_000, points=beside)
    near = laid(after, *result.design.board.tracks, ran, vias=result.design.board.vias)
    said = [f for f in found(near, "class clearance") if "A" in f.nets]
    assert len(said) == 1
    assert 0 < (said[0].value or 0) <= 0.426
    assert said[0].limit == 0.7


@pytest.mark.parametrize(
    "text", ["class x: NOWHERE gap 1", "class x: A gap -1", "class x: A width 40", "class : A gap 1", "class x A"]
)
def test_a_class_that_cannot_be_is_refused(text: str) -> None:
    wired = board({"R1": ("resistor", 20, 20)}, {"A": ("R1.1",)})
    with pytest.raises(InputError):
        change_board(text, wired.design)
