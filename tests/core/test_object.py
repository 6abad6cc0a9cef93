"""The board against the object: template, heights, cut-outs said in words, rule sets, the side view."""

from __future__ import annotations

import math
from io import StringIO

import ezdxf
import pytest
from ezdxf import units

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import outline_shape
from zesty_trace.core.board.elevation import elevation
from zesty_trace.core.board.object import misfits, move_to_template, read_object, set_object
from zesty_trace.core.board.outline import rings_from_svg, set_rings
from zesty_trace.core.board.rule_sets import rules_of, set_rules, shipped_sets
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Placement, TemplateHole
from zesty_trace.errors import EditError, InputError
from zesty_trace.journey.limits import rule_sets_for

MM = 1_000_000


def said(design: Design, *sentences: str) -> Design:
    for sentence in sentences:
        design = understand_placing(sentence, design).design
    return design


def test_cut_outs_and_slots_have_the_areas_of_the_formulas() -> None:
    design = said(Design(), "outline 80 x 56 corner 3", "cut-out 10 x 5 at 20, 20", "cut-out circle 8 at 40, 30")
    design = said(design, "slot 60, 10 to 60, 20 wide 2")
    want = 80 * 56 - (4 - math.pi) * 9 - 50 - math.pi * 16 - (20 + math.pi)
    assert outline_shape(design).area == pytest.approx(want, abs=0.2)
    wider = said(design, "outline 90 x 60")
    assert len(wider.board.cutouts) == 3
    small = said(design, "outline 30 x 30")
    assert len(small.board.cutouts) == 1  # the others do not lie inside it any more


@pytest.mark.parametrize(
    "sentence",
    [
        "cut-out 10 x 5 at 79, 20",
        "cut-out 0 x 5 at 20, 20",
        "cut-out 10 x 5 at 12, 12",
        "slot 20, 20 to 30, 20 wide -1",
        "keep-out 10 x 5 at 20, 20 height -2",
        "outline 0 x 0",
        "outline polygon 2 80",
        "outline ring 30 40",
        "outline star",
        "raise X1 4",
        "rules nobody",
    ],
)
def test_boards_that_cannot_be_are_refused(sentence: str) -> None:
    design = said(Design(), "outline 80 x 56", "cut-out 4 x 4 at 10, 10")
    with pytest.raises((InputError, EditError)):
        said(design, sentence)


def test_an_svg_outline_has_its_true_size() -> None:
    """A view box of 800 x 600 units on 80 x 60 mm: a tenth of a millimetre each; area by hand."""
    text = (
        '<svg xmlns="http://www.w3.org/2000/svg" width="80mm" height="60mm" viewBox="0 0 800 600">'
        '<path d="M 50 50 L 750 50 A 40 40 0 0 1 790 90 L 790 550 L 50 550 Z"/><circle cx="200" cy="200" r="16"/></svg>'
    )
    shape = outline_shape(set_rings(Design(), rings_from_svg(text)))
    assert shape.bounds == pytest.approx((0, 0, 74, 50))
    assert shape.area == pytest.approx(74 * 50 - (4 - math.pi) * 4 - math.pi * 1.6**2, abs=0.02)
    # y points down in SVG and up on a board: the arc is at the upper right
    assert not shape.contains_properly(shape.__class__([(73.5, 49.5), (74, 49.5), (74, 50)]))
    for wrong in ("", "hello", "<svg/>", "<svg xmlns='http://www.w3.org/2000/svg'><path d='M0 0 L10'/></svg>"):
        with pytest.raises(InputError):
            rings_from_svg(wrong)


def _design() -> Design:
    parts = {
        "J1": Part(ref="J1", kind="barrel_jack"),
        "D1": Part(ref="D1", kind="led", value="green"),
        "U1": Part(ref="U1", kind="chip_socket_8"),
    }
    spots = {
        "J1": Placement(x_nm=10 * MM, y_nm=20 * MM),
        "D1": Placement(x_nm=30 * MM, y_nm=20 * MM, angle_mdeg=90_000),
        "U1": Placement(x_nm=50 * MM, y_nm=20 * MM),
    }
    design = said(Design(parts=parts), "outline 80 x 40")
    return edits.set_board(design, placements=spots)


def _drawing() -> str:
    """An object in inches, its lower left corner at (1, 1): hole of D1 0.1 mm to the right, J1 turned by 2°."""
    drawing = ezdxf.new("R2010", units=units.IN)  # type: ignore[attr-defined]
    space = drawing.modelspace()

    def at(x: float, y: float) -> tuple[float, float]:
        return 1 + x / 25.4, 1 + y / 25.4

    def ring(layer: str, *points: tuple[float, float]) -> None:
        space.add_lwpolyline([at(*p) for p in points], close=True, dxfattribs={"layer": layer})

    ring("OUTLINE", (0, 0), (80, 0), (80, 40), (0, 40))
    ring("HEIGHT 3.5", (45, 10), (60, 10), (60, 30), (45, 30))
    ring("KEEPOUT", (70, 30), (75, 30), (75, 35), (70, 35))
    space.add_circle(at(30.1, 20), 1.5 / 25.4, dxfattribs={"layer": "TEMPLATE"})
    space.add_text("D1 90").set_placement(at(30.6, 20.5))
    space.add_point(at(10, 20), dxfattribs={"layer": "TEMPLATE"})
    space.add_text("J1 2").set_placement(at(10.2, 20.2))
    space.add_point(at(5, 35), dxfattribs={"layer": "TEMPLATE"})
    out = StringIO()
    drawing.write(out)
    return out.getvalue()


def test_the_drawing_of_the_object_says_where_parts_belong() -> None:
    design = _design()
    drawing = read_object(_drawing(), design)
    assert drawing.unnamed == 1
    after = set_object(design, drawing)
    found = {m.ref: m for m in misfits(after)}
    assert found["D1"].dx_mm == pytest.approx(-0.1, abs=0.001)
    assert found["D1"].dy_mm == pytest.approx(0, abs=0.001)
    assert found["J1"].turn_deg == pytest.approx(-2)
    assert not found["D1"].fits
    assert not found["J1"].fits
    titles = [f.title for f in check_board(Wired(after, shipped())) if f.rule == "template"]
    assert any("D1 sits 0.10 mm off" in t for t in titles)
    assert any("turned by -2°" in t for t in titles)
    assert all(m.fits for m in misfits(move_to_template(after)))
    with pytest.raises(InputError, match="no DXF"):
        read_object("nothing", design)


def test_a_tolerance_of_its_own_is_kept_to() -> None:
    hole = TemplateHole(ref="D1", x_nm=30_100_000, y_nm=20 * MM, angle_mdeg=90_000, tolerance_nm=150_000)
    design = edits.set_brief(_design(), template=(hole,))
    assert misfits(design)[0].fits
    moved = said(design, "D1 at 29.9, 20")
    assert not misfits(moved)[0].fits
    around = edits.set_brief(design, template=(edits_turned(hole, 359_950),))
    turned = edits.place(around, "D1", Placement(x_nm=30_100_000, y_nm=20 * MM, angle_mdeg=50))
    assert misfits(turned)[0].turn_deg == pytest.approx(0.1)  # over the full turn


def edits_turned(hole: TemplateHole, angle_mdeg: int) -> TemplateHole:
    return TemplateHole(ref=hole.ref, x_nm=hole.x_nm, y_nm=hole.y_nm, angle_mdeg=angle_mdeg)


def test_heights_count_sockets_by_zone_and_below_the_lid() -> None:
    """A chip of 4.5 mm, raised by a socket of 4.3 mm, is 8.8 mm: over the zone's 3.5 mm and a lid at 8.4 mm."""
    design = set_object(_design(), read_object(_drawing(), _design()))
    design = edits.set_brief(design, case_depth_nm=10 * MM)
    low = {f.rule: f for f in check_board(Wired(design, shipped())) if f.refs == ("U1",)}
    assert low["keep-out"].value == pytest.approx(4.5)
    assert "height" not in low
    raised = {f.rule: f for f in check_board(Wired(said(design, "raise U1 4.3"), shipped())) if f.refs == ("U1",)}
    assert raised["keep-out"].value == pytest.approx(8.8)
    assert raised["height"].value == pytest.approx(8.8)
    assert raised["height"].limit == pytest.approx(8.4)
    side = elevation(Wired(said(design, "raise U1 4.3"), shipped()))
    box = next(s for s in side.parts if s.ref == "U1")
    assert box.too_tall
    assert box.box.y1 == pytest.approx(8.8)
    assert side.board.width == pytest.approx(80)


def test_rule_sets() -> None:
    design = set_rules(Design(), "milled")
    assert design.board.rules.layers == 1
    assert design.board.rules.clearance_nm == 400_000
    assert set_rules(design, "comfortable").board.rules.made_by == "comfortable"
    houses = rule_sets_for(None)
    assert len(houses) > len(shipped_sets())
    assert set_rules(design, "fine").board.rules.least_track_nm == 127_000
    for wrong in ({"colour": 1}, {"clearance": "x"}, {"drill": -1}, {"drill": float("nan")}):
        with pytest.raises(InputError):
            rules_of(wrong, "x")


def test_a_board_of_one_side_has_its_copper_below() -> None:
    from zesty_trace.core.board.copper import copper_items

    design = set_rules(_design(), "milled")
    wired = Wired(design, shipped())
    assert {i.what for i in copper_items(wired, "top")} == {"pad D1.1", "pad D1.2"}  # surface parts on the wrong face
    assert len(copper_items(wired, "bottom")) == 8 + 3
