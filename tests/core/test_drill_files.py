# ruff: noqa: E501
"""Drill files of every kind, each with the holes that its figures give by hand; broken ones with their line.

The words are those of the XNC format (2021.11) and of the older drill language that it comes from, written afresh.
"""

from __future__ import annotations

import math

import pytest

from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.drill_image import DrillFormat
from zesty_trace.errors import InputError

INCH = 25.4
# name: text, [(x, y, diameter)] in mm, words of a remark ("" for none)
HOLES: dict[str, tuple[str, list[tuple[float, float, float]], str]] = {
    "points": ("M48\nMETRIC\nT1C0.8\n%\nT1\nX1.5Y2.25\nM30\n", [(1.5, 2.25, 0.8)], ""),
    "inch, LZ": ("M48\nINCH,LZ\nT01C0.035\n%\nT01\nX01Y0235\nM30\n", [(INCH, 2.35 * INCH, 0.889)], ""),
    "inch, TZ": ("M48\nINCH,TZ\nT01C0.035\n%\nT01\nX10000Y23500\nM30\n", [(INCH, 2.35 * INCH, 0.889)], ""),
    "metric, TZ": ("M48\nMETRIC,TZ\nT01C0.9\n%\nT01\nX12345Y-500\nM30\n", [(12.345, -0.5, 0.9)], ""),
    "metric, LZ": ("M48\nMETRIC,LZ\nT01C0.9\n%\nT01\nX012345Y-0005\nM30\n", [(12.345, -0.5, 0.9)], ""),
    "metric, digits said": ("M48\nMETRIC,LZ,0000.00\nT01C0.9\n%\nT01\nX0012Y01\nM30\n", [(12.0, 100.0, 0.9)], ""),
    "digits in a comment": ("M48\n;FILE_FORMAT=2:5\nINCH,TZ\nT01C0.035\n%\nT01\nX100000Y0\nM30\n", [(INCH, 0, 0.889)], ""),
    "M71": ("M48\nM71\nT1C0.8\n%\nT1\nX1.5Y2.0\nM30\n", [(1.5, 2.0, 0.8)], ""),
    "M72": ("M48\nM72\nT1C0.03\n%\nT1\nX1.5Y2.0\nM30\n", [(1.5 * INCH, 2 * INCH, 0.762)], ""),
    "unit after the drills": ("M48\nT1C0.03\nINCH\n%\nT1\nX1.0Y1.0\nM30\n", [(INCH, INCH, 0.762)], ""),
    "one axis stays": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y2.0\nX3.0\nY5.0\nM30\n", [(1, 2, 1), (3, 2, 1), (3, 5, 1)], ""),
    "no zeros said": ("M48\nMETRIC\nT1C1\n%\nT1\nX1000Y2000\nM30\n", [(1, 2, 1)], "does not say which zeros"),
    "no unit, small drills": ("M48\nT1C0.035\n%\nT1\nX1.0Y1.0\nM30\n", [(INCH, INCH, 0.889)], "names no unit: inches"),
    "no unit, large drills": ("M48\nT1C0.8\n%\nT1\nX1.0Y1.0\nM30\n", [(1, 1, 0.8)], "names no unit: millimetres"),
    "incremental": ("M48\nMETRIC\nICI,ON\nT1C1\n%\nT1\nX1.0Y1.0\nX1.0Y1.0\nM30\n", [(1, 1, 1), (2, 2, 1)], "incremental"),
    "G91": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0\nG91\nX1.0Y1.0\nM30\n", [(1, 1, 1), (2, 2, 1)], "incremental"),
    "repeated": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0\nR3X2.0\nM30\n", [(1, 1, 1), (3, 1, 1), (5, 1, 1), (7, 1, 1)], ""),
    "a pattern again": ("M48\nMETRIC\nT1C1\n%\nT1\nM25\nX1.0Y1.0\nX2.0\nM01\nM02X10.0\nM02Y5.0\nM08\nM30\n", [(1, 1, 1), (2, 1, 1), (11, 1, 1), (12, 1, 1), (11, 6, 1), (12, 6, 1)], ""),
    "zero moved": ("M48\nMETRIC\nT1C1\n%\nG93X10.0Y5.0\nT1\nX1.0Y1.0\nM30\n", [(11, 6, 1)], "zero of the coordinates"),
    "feeds and speeds": ("M48\nMETRIC,TZ\nVER,1\nFMAT,2\nT01F200S65C0.8\nDETECT,ON\n%\nG90\nG05\nM06\nT01\nX1000Y1000\nT0\nM30\n", [(1, 1, 0.8)], ""),
    "numbered lines": ("M48\nMETRIC\nT1C1\n%\nT1\nN10X1.0Y1.0\nM30\n", [(1, 1, 1)], ""),
    "no head": ("%\nM71\nT1C1.0\nX1.0Y1.0\nM30\n", [(1, 1, 1)], ""),
    "drill and place in one line": ("M48\nMETRIC\nT1C1\n%\nT1X1.0Y1.0\nM30\n", [(1, 1, 1)], ""),
    "place in the rack": ("M48\nMETRIC\nT01C1\n%\nT0101\nX1.0Y1.0\nM30\n", [(1, 1, 1)], "place in the rack"),
    "windows lines, small letters": ("m48\r\nmetric\r\nt1c0.8\r\n%\r\nt1\r\nx1.5y2.25\r\nm30\r\n", [(1.5, 2.25, 0.8)], ""),
    "routed in the air": ("M48\nMETRIC\nT1C1\n%\nT1\nG00X1.0Y1.0\nG01X5.0\nG05\nX1.0Y1.0\nM30\n", [(1, 1, 1)], "while it is up"),
    "ends with M00": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0\nM00\n", [(1, 1, 1)], "taken as the end"),
}  # fmt: skip


@pytest.mark.parametrize("name", HOLES)
def test_holes_are_read_as_their_figures_say_and_what_is_odd_is_named(name: str) -> None:
    text, wanted, words = HOLES[name]
    found = read_drill(text, name)
    assert [(*h.points[0], h.diameter) for h in found.holes] == [pytest.approx(h, abs=1e-9) for h in wanted]
    said = "; ".join(map(str, found.remarks))
    assert (words in said) if words else not said, said


SLOTS = {
    "G85": ("X1.0Y1.0G85X4.0Y1.0\n", [((1, 1), (4, 1))]),
    "G85 from where it is": ("X1.0Y1.0\nG85X4.0\n", [((1, 1),), ((1, 1), (4, 1))]),
    "routed": ("G00X1.0Y1.0\nM15\nG01X4.0\nG01Y3.0\nM16\nG05\nX9.0Y9.0\n", [((1, 1), (4, 1), (4, 3)), ((9, 9),)]),
    "routed, cutter up by M17": ("G00X1.0Y1.0\nM15\nG01X4.0\nM17\nG05\n", [((1, 1), (4, 1))]),
    "two routed": ("G00X1.0Y1.0\nM15\nG01X4.0\nM16\nG00X1.0Y5.0\nM15\nG01X4.0\nM16\nG05\n", [((1, 1), (4, 1)), ((1, 5), (4, 5))]),
    "coordinates alone": ("G00X1.0Y1.0\nM15\nX4.0\nM16\nG05\n", [((1, 1), (4, 1))]),
}  # fmt: skip


@pytest.mark.parametrize("name", SLOTS)
def test_slots_keep_their_course(name: str) -> None:
    body, wanted = SLOTS[name]
    found = read_drill(f"M48\nMETRIC\nT1C1.0\n%\nT1\n{body}M30\n")
    assert [h.points for h in found.holes] == [tuple(map(pytest.approx, w)) for w in wanted]
    assert [h.slot for h in found.holes] == [len(w) > 1 for w in wanted]


@pytest.mark.parametrize("how", ["A5.0", "I-5.0J0", "I-5.0"])
def test_a_routed_arc_bends_the_way_it_should(how: str) -> None:
    (slot,) = read_drill(f"M48\nMETRIC\nT1C1.0\n%\nT1\nG00X5.0Y0\nM15\nG03X0Y5.0{how}\nM16\nG05\nM30\n").holes
    assert all(math.hypot(*p) == pytest.approx(5.0, abs=1e-6) for p in slot.points)
    assert slot.points[-1] == pytest.approx((0, 5))
    assert len(slot.points) > 10


def test_what_a_file_does_not_say_can_be_told() -> None:
    text = "M48\nT1C0.035\n%\nT1\nX0100Y0100\nM30\n"
    assert read_drill(text).guessed
    told = read_drill(text, as_format=DrillFormat(1.0, 3, 2, "leading"))
    assert not told.guessed
    assert told.holes[0].points[0] == (10.0, 10.0)
    assert told.tools[1] == 0.035


def test_plated_or_not_by_what_the_file_says() -> None:
    head = "M48\nMETRIC\n"
    rest = "%\nT1\nX1.0Y1.0\nT2\nX5.0Y1.0\nM30\n"
    assert read_drill(f"{head}T1C1\nT2C2\n{rest}").plated is None
    assert read_drill(f"{head}; #@! TF.FileFunction,NonPlated,1,2,NPTH\nT1C1\nT2C2\n{rest}").plated is False
    mixed = read_drill(f"{head};TYPE=PLATED\nT1C1\n;TYPE=NON_PLATED\nT2C2\n{rest}")
    assert [mixed.is_plated(h) for h in mixed.holes] == [True, False]
    x2 = read_drill(
        f"{head}; #@! TA.AperFunction,Plated,PTH,ViaDrill\nT1C1\n; #@! TA.AperFunction,NonPlated,NPTH,ComponentDrill\nT2C2\n{rest}"
    )
    assert [x2.is_plated(h) for h in x2.holes] == [True, False]


BROKEN = {
    "cut off": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0\n", "cut off"),
    "a drill that is not there": ("M48\nMETRIC\nT1C1\n%\nT2\nX1.0Y1.0\nM30\n", "line 5"),
    "a hole before any drill": ("M48\nMETRIC\nT1C1\n%\nX1.0Y1.0\nM30\n", "line 5"),
    "a word that is not known": ("M48\nMETRIC\nT1C1\n%\nT1\nG77X1.0\nM30\n", "line 6"),
    "text to be drilled": ("M48\nMETRIC\nT1C1\n%\nT1\nM97,HELLO\nM30\n", "line 6"),
    "a canned circle": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0G84X5.0\nM30\n", "line 6"),
    "far away": ("M48\nMETRIC\nT1C1\n%\nT1\nX99999.0Y1.0\nM30\n", "line 6"),
    "more digits than there are": ("M48\nINCH,LZ\nT1C.1\n%\nT1\nX01234567\nM30\n", "line 6"),
    "a slot that does not end": ("M48\nMETRIC\nT1C1\n%\nT1\nG00X1.0Y1.0\nM15\nG01X4.0\n", "line 7"),
    "the cutter down while drilling": ("M48\nMETRIC\nT1C1\n%\nT1\nM15\nM30\n", "line 6"),
    "a drill of nothing": ("M48\nMETRIC\nT1C0\n%\nM30\n", "line 3"),
    "repeats without end": ("M48\nMETRIC\nT1C1\n%\nT1\nX1.0Y1.0\nR999999X0.001\nM30\n", "line 7"),
    "a pattern that is mirrored": ("M48\nMETRIC\nT1C1\n%\nT1\nM25\nX1.0Y1.0\nM01\nM02X1.0M80\nM30\n", "line 9"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_what_is_broken_is_refused_with_its_line(name: str) -> None:
    text, words = BROKEN[name]
    with pytest.raises(InputError, match=words) as error:
        read_drill(text, "odd.drl")
    assert "odd.drl" in str(error.value)
