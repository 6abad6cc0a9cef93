"""Outlines from numbers and drawings: areas by formula, round trips through DXF."""

from __future__ import annotations

import itertools
import math
from io import StringIO

import ezdxf
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.core.board.copper import outline_shape
from zesty_trace.core.board.outline import dxf_of, outline_of, rings_from_dxf, set_form, set_rings
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Form
from zesty_trace.core.geometry import Point
from zesty_trace.errors import EditError, InputError


def area_mm2(form: Form) -> float:
    return float(outline_shape(set_form(Design(), form)).area)


def test_areas_are_those_of_the_formulas() -> None:
    mm = 1_000_000
    assert area_mm2(Form(shape="circle", width_nm=90 * mm)) == pytest.approx(math.pi * 45**2, rel=1e-3)
    ring = Form(shape="ring", width_nm=90 * mm, inside_nm=70 * mm)
    assert area_mm2(ring) == pytest.approx(math.pi * (45**2 - 35**2), rel=2e-3)
    hexagon = Form(shape="polygon", width_nm=80 * mm, sides=6)
    assert area_mm2(hexagon) == pytest.approx(3 * math.sqrt(3) / 2 * 40**2, rel=1e-6)
    rounded = Form(shape="rectangle", width_nm=80 * mm, height_nm=56 * mm, corner_nm=3 * mm)
    assert area_mm2(rounded) == pytest.approx(80 * 56 - (4 - math.pi) * 9, rel=1e-4)


@given(st.integers(min_value=5, max_value=200))
def test_chords_leave_the_circle_by_at_most_five_micrometres(across: int) -> None:
    outline, _ = outline_of(Form(shape="circle", width_nm=across * 1_000_000))
    middle = across * 500_000
    for a, b in itertools.pairwise(outline):
        half = math.hypot((a[0] + b[0]) / 2 - middle, (a[1] + b[1]) / 2 - middle)
        assert middle - half <= 5_100


@pytest.mark.parametrize(
    "form",
    [
        Form(shape="circle", width_nm=0),
        Form(shape="rectangle", width_nm=10_000_000, height_nm=-1),
        Form(shape="ring", width_nm=10_000_000, inside_nm=10_000_000),
        Form(shape="polygon", width_nm=10_000_000, sides=2),
    ],
)
def test_a_form_that_cannot_be_is_refused(form: Form) -> None:
    with pytest.raises(EditError):
        outline_of(form)


def test_a_drawing_comes_back_as_it_was_written() -> None:
    design = set_form(Design(), Form(shape="ring", width_nm=60_000_000, inside_nm=20_000_000))
    back = set_rings(Design(), rings_from_dxf(dxf_of(design)))
    assert len(back.board.cutouts) == 1
    assert outline_shape(back).symmetric_difference(outline_shape(design)).area < 0.05


def test_lines_arcs_and_inches_of_another_program() -> None:
    """A stadium of two lines and two arcs drawn in inches, with a round hole; areas by formula."""
    drawing = ezdxf.new(units=ezdxf.units.IN)
    space = drawing.modelspace()
    space.add_line((0, 0), (2, 0))
    space.add_line((0, 1), (2, 1))
    space.add_arc((0, 0.5), 0.5, 90, 270)
    space.add_arc((2, 0.5), 0.5, 270, 90)
    space.add_circle((1, 0.5), 0.2)
    space.add_text("rim")
    out = StringIO()
    drawing.write(out)
    shape = outline_shape(set_rings(Design(), rings_from_dxf(out.getvalue())))
    expected = (2 * 1 + math.pi * 0.25 - math.pi * 0.04) * 25.4**2
    assert shape.area == pytest.approx(expected, rel=2e-3)


@pytest.mark.parametrize("text", ["", "no drawing at all", "0\nSECTION\n"])
def test_what_is_no_drawing_is_said(text: str) -> None:
    with pytest.raises(InputError):
        rings_from_dxf(text)


def test_open_lines_and_two_boards_are_refused() -> None:
    drawing = ezdxf.new()
    drawing.modelspace().add_line((0, 0), (50, 0))
    out = StringIO()
    drawing.write(out)
    with pytest.raises(InputError, match="closes"):
        rings_from_dxf(out.getvalue())
    square = tuple(Point(x * 1_000_000, y * 1_000_000) for x, y in ((0, 0), (20, 0), (20, 20), (0, 20)))
    beside = tuple(Point(x + 40_000_000, y) for x, y in square)
    with pytest.raises(EditError, match="outside"):
        set_rings(Design(), [square, beside])


def test_a_new_outline_takes_the_numbers_of_the_old_one_away() -> None:
    design = set_form(Design(), Form(shape="ring", width_nm=60_000_000, inside_nm=20_000_000))
    free = edits.set_outline(design, [(0, 0), (10_000_000, 0), (0, 10_000_000)])
    assert free.board.form is None
    assert free.board.cutouts == ()


class OnceEmpty:
    """A square of 10 mm that grows to nothing for one distance, as GEOS does now and then."""

    area, length = 100.0, 40.0

    def __init__(self, bad: float) -> None:
        self.bad, self.asked = bad, []

    def buffer(self, by: float, **_how: object) -> object:
        from shapely import Polygon, box

        self.asked.append(by)
        return Polygon() if by == self.bad else box(-by, -by, 10 + by, 10 + by)


def test_a_distance_for_which_the_library_gives_nothing_is_asked_again_a_little_beside_it() -> None:
    from shapely import LineString, box

    from zesty_trace.core.geometry import buffered

    square = OnceEmpty(-0.197)
    assert buffered(square, -0.197).area == pytest.approx(9.606**2, rel=1e-3)
    assert len(square.asked) == 2
    assert buffered(OnceEmpty(1.0), -0.197).area == pytest.approx(9.606**2)
    assert buffered(box(0, 0, 1, 1), -2).is_empty  # it may well come to nothing
    assert buffered(LineString([(0, 0), (50, 0)]), 1.0).area == pytest.approx(100 + 3.14, rel=0.01)
