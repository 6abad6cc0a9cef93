"""Land patterns against published figures; packages of the user's own; does the part in the hand fit."""

from __future__ import annotations

import math
from io import StringIO
from pathlib import Path

import pytest
from shapely.geometry import LineString, Point, box

from zesty_trace.core.board.copper import board_pads, hole_items, hole_shape, joined_pads, paste_windows
from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.kinds import Catalogue, packages_of, shipped
from zesty_trace.core.catalogue.land_patterns import FAMILIES, land_pattern
from zesty_trace.core.catalogue.lands.check import check_package
from zesty_trace.core.catalogue.lands.fit import Measured, check_fit
from zesty_trace.core.catalogue.lands.holes import hole_for, pad_for
from zesty_trace.core.catalogue.lands.ipc7351 import GOALS, Span, ball_land, lands
from zesty_trace.core.catalogue.lands.own import spec_from_table, spec_from_words, write_package
from zesty_trace.core.catalogue.lands.own_dxf import spec_from_dxf
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Board, Design, Part, Pin, Placement
from zesty_trace.core.fabrication.layers import drill_file, paste_pads
from zesty_trace.core.geometry import Point as Spot
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.errors import InputError

# name, pad along the part, pad across it, middle to middle: nominal patterns of IPC-7351B as published in its naming
# scheme (RESC1608, RESC3216, SOIC127P600-8, QFP80P900-32, QFN50P400-24, SOT95P280-6, CAPMP3216, MELF 3516), from memory
PUBLISHED = [
    ("R0603", 0.80, 0.95, 1.60),
    ("R1206", 1.10, 1.75, 3.00),
    ("SOIC-8", 1.95, 0.60, 4.95),
    ("LQFP-32", 1.50, 0.55, 8.40),
    ("QFN-24", 0.80, 0.28, 3.90),
    ("SOT-23-6", 1.35, 0.60, 2.35),
    ("CT-3216", 1.80, 1.20, 2.60),
]


@pytest.mark.parametrize(("name", "along", "across", "apart"), PUBLISHED)
def test_nominal_patterns_are_the_published_ones(name: str, along: float, across: float, apart: float) -> None:
    first = land_pattern(shipped().package(name)).pads[0]
    assert first.width_nm / 1e6 == pytest.approx(along, abs=0.1)
    assert first.height_nm / 1e6 == pytest.approx(across, abs=0.05)
    assert -2 * first.x_nm / 1e6 == pytest.approx(apart, abs=0.1)


def test_the_formula_by_hand() -> None:
    """SOIC-8 by MS-012: L 5.80 to 6.20, T 0.40 to 1.27, W 0.31 to 0.51; F = P = 0.05 mm (IPC-7351B 3.1.4).

    Z = 5.80 + 2 x 0.35 + sqrt(0.40² + 2 x 0.05²) = 6.906. S = 3.26 to 5.40, its likely tolerance
    sqrt(0.40² + 2 x 0.87²) = 1.294, so S up to 5.40 - (2.14 - 1.294) / 2 = 4.977;
    G = 4.977 - 0.70 - sqrt(1.294² + 0.005) = 2.981. X = 0.31 + 0.06 + sqrt(0.20² + 0.005) = 0.582.
    """
    fine = GOALS["gull wing"]["nominal"]._replace(step=0.001)
    land = lands(Span(5.8, 6.2), Span(0.4, 1.27), Span(0.31, 0.51), fine)
    assert land.over == pytest.approx(6.906, abs=0.002)
    assert land.between == pytest.approx(2.981, abs=0.002)
    assert land.width == pytest.approx(0.582, abs=0.001)


@pytest.mark.parametrize("name", ["R0603", "SOIC-8", "LQFP-48", "QFN-32", "D-SMA", "MELF-3516", "PLCC-44", "CP-smd-8"])
def test_more_solder_wants_larger_lands_and_more_room(name: str) -> None:
    made = [
        land_pattern(spec_from_words(name, [f"density={d}"], shipped().package(name)))
        for d in ("least", "nominal", "most")
    ]
    areas = [p.pads[0].width_nm * p.pads[0].height_nm for p in made]
    rooms = [p.courtyard.area for p in made]
    assert areas == sorted(set(areas))
    assert rooms == sorted(set(rooms))


@pytest.mark.parametrize("name", sorted(shipped().packages))
def test_terminals_lie_on_their_lands(name: str) -> None:
    """The nominal terminal of a surface part lies on copper, and its toe does not reach the end of it."""
    spec = shipped().package(name)
    pattern = check_package(spec, name)
    if not spec.length[1] or spec.family not in ("chip", "gull"):
        return
    over, foot = sum(spec.length) / 2, sum(spec.foot) / 2
    first = pattern.pads[0]
    end, inner = (first.x_nm - first.width_nm / 2) / 1e6, (first.x_nm + first.width_nm / 2) / 1e6
    assert end < -over / 2
    assert inner > -over / 2 + foot * 0.7


def test_marks_stay_visible_and_clear_of_copper() -> None:
    for spec in shipped().packages.values():
        pattern = land_pattern(spec)
        if pattern.mark is None:
            assert not spec.polar, spec.id
            continue
        mark = Point(pattern.mark)
        if pattern.round_body:
            assert mark.distance(Point(0, 0)) > spec.diameter / 2 * 1e6, spec.id
        else:
            assert mark.distance(box(*pattern.body)) > 100_000, spec.id
        for p in pattern.pads:
            pad = box(
                p.x_nm - p.width_nm / 2, p.y_nm - p.height_nm / 2, p.x_nm + p.width_nm / 2, p.y_nm + p.height_nm / 2
            )
            assert mark.distance(pad) > 150_000, (spec.id, p.number)


def test_notes_about_a_centre_pad_are_true() -> None:
    catalogue = shipped()
    speaking = [k for k in catalogue.kinds.values() if "centre pad" in k.assembly.lower()]
    assert speaking
    for kind in speaking:
        for name in kind.packages:
            assert land_pattern(catalogue.package(name)).centre_pad, (kind.id, name)


def test_holes_and_rings_by_fit() -> None:
    """Lead plus 0.25, 0.20 or 0.15 mm, and 0.3 mm of ring: IPC-7251 levels A to C, from memory."""
    assert [hole_for(0.6, fit) for fit in ("loose", "normal", "snug")] == [0.85, 0.8, 0.75]
    assert pad_for(1.0) == 1.6
    assert ball_land(0.5) == 0.4  # table 14-5 of IPC-7351B, from memory


def test_quad_terminals_run_counter_clockwise() -> None:
    for name in ("LQFP-48", "QFN-20", "PLCC-32"):
        spec = shipped().package(name)
        ring = [p for p in land_pattern(spec).pads if p.paste]
        turns = [math.atan2(p.y_nm, p.x_nm) for p in ring]
        steps = [(b - a) % (2 * math.pi) for a, b in zip(turns, turns[1:] + turns[:1], strict=True)]
        assert [int(p.number) for p in ring] == list(range(1, spec.count + 1))
        assert sum(steps) == pytest.approx(2 * math.pi)
        assert max(steps) < 1.0
    first = land_pattern(shipped().package("PLCC-32")).pads[0]
    assert first.x_nm == 0
    assert first.y_nm > 0


def _board(kind: str, package: str, *nets: tuple[str, str], side: str = "top", turn: int = 0) -> Wired:
    part = Part(ref="U1", kind=kind, package=package)
    board = Board(
        outline=(Spot(0, 0), Spot(40_000_000, 0), Spot(40_000_000, 40_000_000), Spot(0, 40_000_000)),
        placements={"U1": Placement(x_nm=20_000_000, y_nm=20_000_000, side=side, angle_mdeg=turn)},  # type: ignore[arg-type]
    )
    design = Design(parts={"U1": part}, nets={n: (Pin("U1", p),) for n, p in nets}, board=board)
    return Wired(design, shipped())


def test_the_pad_below_a_chip_is_its_ground_and_gets_paste_in_windows() -> None:
    wired = _board("controller_32_qfn", "QFN-24", ("GND", "8"), ("3V3", "7"))
    assert joined_pads(wired, "U1") == {"25": "8"}
    below = [p for p in board_pads(wired) if p.pin == Pin("U1", "8")]
    assert {p.net for p in below} == {"GND"}
    assert len(below) == 2
    large = max(below, key=lambda p: p.width_nm * p.height_nm)
    windows = paste_windows(wired, "U1")
    share = sum(w.width_nm * w.height_nm for w in windows) / (large.width_nm * large.height_nm)
    assert 0.5 <= share <= 0.8  # common practice
    pasted = paste_pads(wired, "top")
    assert large not in pasted
    assert len(pasted) == 24 + len(windows)


@pytest.mark.parametrize("turn", [0, 90_000, 30_000])
def test_slots_are_drilled_along_their_pads(turn: int) -> None:
    wired = _board("usb_c_inlet", "USB-C-6", ("GND", "1"), turn=turn)
    slots = [h for h in hole_items(wired) if h.slot]
    assert len(slots) == 4
    text = drill_file(hole_items(wired), plated=True)
    cut = [h for h in read_drill(text).holes if h.slot]
    assert len(cut) == 4
    drawn = [LineString(h.points).buffer(h.diameter / 2) for h in cut]
    for slot in slots:
        along = hole_shape(slot)
        assert sum(along.symmetric_difference(d).area < 0.005 for d in drawn) == 1
        pad = next(p for p in board_pads(wired) if along.contains(Point(p.x_nm / 1e6, p.y_nm / 1e6)))
        from zesty_trace.core.board.copper import pad_shape

        assert pad_shape(pad).buffer(-0.15).covers(along)
    with pytest.raises(InputError, match="not understood"):
        read_drill(text.replace("M16", "M97"))


TABLE = """number x y w h shape drill
1  -2.5 0 1.8 1.8 round 0.9   # the left leg
2   2.5 0 1.8 1.8 round 0.9
-   0   3 1.2 1.2 round 1.2
"""


def test_a_package_from_a_table_survives_its_file() -> None:
    spec = spec_from_table("MY-RELAY", TABLE, 12.0)
    assert packages_of(write_package(spec).encode(), "x.toml") == {"MY-RELAY": spec}
    pads = land_pattern(spec).pads
    assert [(p.number, p.x_nm, p.drill_nm, p.plated) for p in pads] == [
        ("1", -2_500_000, 900_000, True),
        ("2", 2_500_000, 900_000, True),
        ("", 0, 1_200_000, False),
    ]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "no pads"),
        ("1 0 0 1", "line 1"),
        ("1 0 0 1 -1", "size above zero"),
        ("1 0 0 nan nan", "size above zero"),
        ("1 0 0 1 1 star", "no shape"),
        ("1 0 0 1 1 round 1.0", "as large as its pad"),
        ("1 0 0 1 1\n2 0.2 0 1 1", "lie on each other"),
        ("1 900 0 1 1", "lies 200 mm off"),
    ],
)
def test_tables_that_cannot_be_are_refused(text: str, says: str) -> None:
    with pytest.raises(InputError, match=says):
        spec_from_table("X", text, 1.0)


def test_a_package_from_a_drawing() -> None:
    import ezdxf
    from ezdxf import units

    drawing = ezdxf.new("R2010", units=units.IN)  # type: ignore[attr-defined]
    space = drawing.modelspace()
    for k, x in enumerate((-0.1, 0.1)):
        space.add_lwpolyline([(x - 0.03, -0.04), (x + 0.03, -0.04), (x + 0.03, 0.04), (x - 0.03, 0.04)], close=True)
        space.add_circle((x, 0), 0.02)
        space.add_text(f"A{k + 1}").set_placement((x - 0.01, -0.01))
    space.add_circle((0, 0.2), 0.05, dxfattribs={"layer": "HOLES"})
    out = StringIO()
    drawing.write(out)
    pads = land_pattern(spec_from_dxf("MINE", out.getvalue(), 3.0)).pads
    assert [(p.number, p.plated) for p in pads] == [("A1", True), ("A2", True), ("", False)]
    assert pads[0].x_nm == -2_540_000
    assert pads[0].width_nm == pytest.approx(1_524_000, abs=200)
    assert pads[0].drill_nm == pytest.approx(1_016_000, abs=200)
    with pytest.raises(InputError, match="no DXF"):
        spec_from_dxf("MINE", "hello", 3.0)


@pytest.mark.parametrize(
    "words",
    [
        ["family=quad", "count=20", "length=nan", "foot=0.3", "width=0.2", "pitch=0.5"],
        ["family=quad", "count=21", "length=4", "foot=0.3", "width=0.2", "pitch=0.5"],
        ["family=chip", "length=1..0.5", "foot=0.2", "width=0.4"],
        ["family=chip", "length=1", "foot=0.6", "width=0.4"],
        ["family=gull", "count=8", "length=6", "foot=0.6", "width=0.4"],
        ["family=balls", "pitch=0.8", "ball=0.4"],
        ["family=nothing"],
        ["family=hole"],
        ["family=strip", "lead=0.9", "fit=tight"],
        ["length=3"],
        ["family=chip", "length=abc"],
        ["family=chip", "colour=red"],
    ],
)
def test_dimensions_that_cannot_be_are_refused(words: list[str]) -> None:
    with pytest.raises(InputError):
        spec_from_words("X", words)


def test_every_family_is_used_by_the_catalogue() -> None:
    assert {s.family for s in shipped().packages.values()} == set(FAMILIES)


def test_legs_that_are_splayed_are_bent_in() -> None:
    """A new dual-in-line chip: legs 9.1 mm apart for holes 7.62 mm apart, so 0.74 mm each (arithmetic)."""
    fit = check_fit(shipped().package("DIP-8"), Measured(lead=0.6, pitch=2.54, rows=9.1))
    assert fit.fits
    assert fit.bend_mm == pytest.approx(0.74 - (0.8 - 0.08 - 0.6) / 2, abs=0.005)
    assert "0.74 mm in" in " ".join(fit.sentences)
    unmeasured = check_fit(shipped().package("DIP-8"), Measured(lead=0.6, pitch=2.54))
    assert "bend them in by 0.69 mm each" in " ".join(unmeasured.sentences)  # (9.0 - 7.62) / 2


@pytest.mark.parametrize(
    ("package", "measured", "fits"),
    [
        ("DIP-8", Measured(lead=0.9, pitch=2.54, rows=7.62), False),  # the lead is thicker than the hole
        ("DIP-8", Measured(lead=0.6, pitch=2.54, rows=15.24), False),  # the wide one
        ("DIP-8", Measured(lead=0.6, pitch=2.54), None),
        ("DIP-8", Measured(), None),
        ("Header-1x20", Measured(lead=0.6, pitch=2.0), False),  # 2 mm pitch on holes for 2.54 mm
        ("R0603", Measured(over=1.6, foot=0.3, width=0.8), True),
        ("R0603", Measured(over=3.2, foot=0.5, width=1.6), False),
        ("R0603", Measured(over=1.6), None),
        ("SOIC-8", Measured(over=6.0, foot=0.8, width=0.4, pitch=1.27), True),
        ("SOIC-28", Measured(over=10.3, foot=0.8, width=0.4, pitch=1.0), False),
        ("SOIC-28", Measured(over=7.8, foot=0.8, width=0.4, pitch=1.27), False),  # a narrower body: on no land
    ],
)
def test_the_part_in_the_hand(package: str, measured: Measured, fits: bool | None) -> None:
    assert check_fit(shipped().package(package), measured).fits is fits


def test_loose_holes_tilt_a_part() -> None:
    """Two leads 5 mm apart with 1 mm of play (with the drill's tolerance 1.08) turn by atan(1.08 / 5) = 12.2°."""
    spec = PackageSpec(id="X", family="axial", height=2.0, span=5.0, drill=1.6, pad=(2.4, 2.4))
    fit = check_fit(spec, Measured(lead=0.6, rows=5.0))
    assert fit.turn_deg == pytest.approx(12.2, abs=0.1)
    assert "loose" in " ".join(fit.sentences)


def test_impossible_measures_are_refused() -> None:
    with pytest.raises(InputError):
        check_fit(shipped().package("DIP-8"), Measured(lead=math.nan))


def test_packages_of_ones_own_travel_with_the_project(tmp_path: Path) -> None:
    from zesty_trace.journey.kinds import carry_kinds, keep_package, project_catalogue
    from zesty_trace.store.own import own_packages_path

    spec = spec_from_words("WIDE-0603", ["density=most"], shipped().package("R0603"))
    keep_package(spec, None)
    assert own_packages_path().is_dir()
    catalogue = project_catalogue(None)
    assert "WIDE-0603" in catalogue.packages_for(catalogue.kind("resistor"))
    assert "WIDE-0603" not in catalogue.packages_for(catalogue.kind("controller_32_qfn"))
    design = Design(parts={"R1": Part(ref="R1", kind="resistor", value="1k", package="WIDE-0603")})
    carry_kinds(design, tmp_path, catalogue)
    (own_packages_path() / "WIDE-0603.toml").unlink()
    assert project_catalogue(tmp_path).package("WIDE-0603") == spec
    with pytest.raises(InputError, match="already"):
        keep_package(shipped().package("R0603"), None)


def test_a_pin_without_a_pad_stops_the_board(catalogue: Catalogue) -> None:
    from zesty_trace.core.board.check import check_board

    wired = _board("controller_32_qfn", "SOIC-8", ("GND", "8"), ("TXD", "17"))
    found = [f for f in check_board(wired) if f.rule == "pin without a pad"]
    assert [f.severity.name for f in found] == ["STOP"]
    assert "17" in found[0].title
