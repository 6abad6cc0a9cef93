"""Tool paths of a mill: what is written is read by a small reader of its own, swept, and held against the copper."""

from __future__ import annotations

import math
import re

import pytest
from shapely import LineString, Point, box, get_parts, union_all

from tests.core.test_four_layers import bar
from zesty_trace.core.board.copper import hole_items, outline_shape
from zesty_trace.core.board.fields.conduction import net_area
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pour, Rules, Track
from zesty_trace.core.fabrication.milling import MillTools, mill
from zesty_trace.core.geometry import Point as Spot
from zesty_trace.errors import EditError

Move = tuple[tuple[float, float, float], tuple[float, float, float], bool]  # from, to, whether it is a rapid one


def moves(gcode: str) -> list[Move]:
    """Read straight moves in millimetres, word by word."""
    at, found = (0.0, 0.0, 2.0), []
    for line in gcode.splitlines():
        body = re.sub(r"\(.*?\)", "", line)
        words = dict(re.findall(r"([GXYZ])(-?[\d.]+)", body))
        if words.get("G") in ("0", "1"):
            to = tuple(float(words.get(k, at[n])) for n, k in enumerate("XYZ"))
            found.append((at, to, words["G"] == "0"))
            at = to
    return found


def cut(gcode: str, width: float):
    """Return what a tool of this width takes away."""
    down = [LineString([a[:2], b[:2]]) for a, b, _ in moves(gcode) if b[2] < 0 and a[:2] != b[:2]]
    return union_all([line.buffer(width / 2, quad_segs=16) for line in down])


def two_tracks(gap_nm: int) -> Wired:
    """A board of one face with two tracks side by side."""
    wired = bar("bottom")
    design: Design = edits.set_board(wired.design, rules=Rules(layers=2))
    tracks = [
        Track(net=net, layer="bottom", width_nm=1_000_000, points=(Spot(5_000_000, y), Spot(35_000_000, y)))
        for net, y in (("A", 5_000_000), ("B", 6_000_000 + gap_nm))
    ]
    design = edits.connect(design, next(p for pins in [[*_pins()]] for p in pins), "B")
    return wired.with_design(edits.set_copper(design, tracks, [], []))


def _pins():
    from zesty_trace.core.design.model import Pin

    yield Pin("R1", "2")


def test_the_cut_leaves_each_net_whole_and_apart_from_the_others() -> None:
    wired = two_tracks(400_000)
    found = mill(wired, "bottom", MillTools(cutter=0.2, passes=3))
    assert not [f for f in found.faults if "joined" in f or "loses" in f], found.faults
    (job,) = [j for j in found.jobs if j.name == "isolation"]
    swept = cut(job.gcode, 0.2)
    board = outline_shape(wired.design)
    wide = board.bounds[2]
    for net in ("A", "B"):
        area = net_area(wired, net, "bottom")
        mirrored = box(*area.bounds)  # both are straight bars with round ends: their boxes are enough
        x0, y0, x1, y1 = mirrored.bounds
        mirrored = box(wide - x1 + 0.5, y0, wide - x0 - 0.5, y1)
        assert swept.intersection(mirrored).area < 0.3  # 4 um along two edges of 30 mm
    left = box(0, 0, wide, board.bounds[3]).difference(swept)
    y = 5.0
    pieces = [p for p in get_parts(left).tolist() if p.area > 0.1]
    one = next(p for p in pieces if p.contains(Point(wide - 20, y)))
    other = next(p for p in pieces if p.contains(Point(wide - 20, y + 1.4)))
    assert one is not other
    assert one.area == pytest.approx(30 + math.pi / 4, rel=0.02)


def test_a_gap_that_is_narrower_than_the_tool_is_said() -> None:
    found = mill(two_tracks(150_000), "bottom", MillTools(cutter=0.3))
    assert any("A, B stay joined" in f for f in found.faults), found.faults
    assert not any("stay joined" in f for f in mill(two_tracks(400_000), "bottom", MillTools(cutter=0.3)).faults)


def test_nothing_moves_sideways_fast_within_the_blank_and_all_ends_above_it() -> None:
    found = mill(two_tracks(400_000), "bottom")
    assert {j.name for j in found.jobs} >= {"isolation", "edge"}
    for job in found.jobs:
        assert "G21" in job.gcode
        assert "eye protection" in job.gcode
        assert job.minutes > 0
        steps = moves(job.gcode)
        assert all(a[2] > 0 and b[2] > 0 for a, b, rapid in steps if rapid and a[:2] != b[:2]), job.name
        assert steps[-1][1][2] > 0


def test_the_edge_is_cut_through_round_the_board_but_for_its_tabs() -> None:
    wired = two_tracks(400_000)
    (job,) = [j for j in mill(wired, "bottom", MillTools(end_mill=1.0, tabs=4, tab=2.0)).jobs if j.name == "edge"]
    thick = wired.design.board.rules.thickness_nm / 1e6
    through = [
        LineString([a[:2], b[:2]]) for a, b, _ in moves(job.gcode) if min(a[2], b[2]) < -thick and a[:2] != b[:2]
    ]
    path = union_all(through)
    x0, y0, x1, y1 = outline_shape(wired.design).bounds
    whole = box(0, 0, x1 - x0, y1 - y0).buffer(0.5).exterior.length
    assert path.length == pytest.approx(whole - 4 * 3.0, rel=0.01)  # a tab of 2 mm and the tool's own width
    assert not path.buffer(0.49).intersects(box(0, 0, x1 - x0, y1 - y0).buffer(-0.02))


def test_holes_are_drilled_where_they_are_seen_from_the_milled_face() -> None:
    wired = bar("bottom")
    found = mill(wired, "bottom")
    assert found.mirrored
    wide = outline_shape(wired.design).bounds[2]
    spots = {(round(wide - h.x_nm / 1e6, 3), round(h.y_nm / 1e6, 3)) for h in hole_items(wired)}
    drilled = {
        (round(b[0], 3), round(b[1], 3))
        for job in found.jobs
        if job.name.startswith("drill")
        for _, b, _ in moves(job.gcode)
        if b[2] < -1
    }
    assert drilled == spots
    assert any("other face" in f for f in found.faults)  # the resistors are on the top


def test_tracks_of_another_layer_are_wire_links_from_pad_to_pad() -> None:
    wired = bar("inner1")
    found = mill(wired, "top")
    (link,) = found.links
    assert link.net == "A"
    assert {link.a, link.b} == {(p[0] / 1e6, p[1] / 1e6) for p in wired.design.board.tracks[0].points}
    assert found.drawn.count("<line ") == 1


def test_what_only_a_pour_of_the_other_face_joins_is_a_wire_link_too() -> None:
    bare = bar("top").edited(edits.set_copper, [], bar("top").design.board.vias, [])
    poured = bare.edited(edits.set_copper, [], bare.design.board.vias, [Pour(net="A", layer="bottom")])
    assert not connectivity(poured).links  # as a board of two faces it is whole
    (link,) = mill(poured, "top").links
    assert link.net == "A"
    assert not mill(bar("top"), "top").links


def test_what_the_end_mill_does_not_go_into_is_said() -> None:
    wired = bar("top")
    hole = (
        Spot(18_000_000, 9_000_000),
        Spot(20_000_000, 9_000_000),
        Spot(20_000_000, 9_600_000),
        Spot(18_000_000, 9_600_000),
    )
    slit = wired.edited(edits.set_board, cutouts=(hole,))
    assert any("1 cut-outs are narrower" in f for f in mill(slit, "top").faults)
    assert not any("cut-outs" in f for f in mill(slit, "top", MillTools(end_mill=0.5)).faults)


def test_what_is_left_is_drawn_as_it_lies_at_the_mill() -> None:
    found = mill(two_tracks(400_000), "bottom")
    x, y, wide, high = map(float, re.search(r'viewBox="(\S+) (\S+) (\S+) (\S+)"', found.drawn).groups())  # type: ignore[union-attr]
    assert (x, y, wide, high) == (0, 0, 40, 20)
    spots = [tuple(map(float, at)) for at in re.findall(r"[ML](-?[\d.]+),(-?[\d.]+)", found.drawn)]
    assert len(spots) > 50
    assert all(-0.01 <= px <= wide + 0.01 and -0.01 <= py <= high + 0.01 for px, py in spots)


def test_tools_that_cannot_be_are_refused_and_a_shallow_cut_is_said() -> None:
    for tools in (MillTools(cutter=9), MillTools(passes=0), MillTools(end_mill=0.1), MillTools(overlap=1.0)):
        with pytest.raises(EditError):
            mill(bar("bottom"), "bottom", tools)
    assert any("not deeper" in f for f in mill(bar("bottom"), "bottom", MillTools(depth=0.02)).faults)
