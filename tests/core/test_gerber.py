# ruff: noqa: E501
"""Odd but legal image files, each with the area that its figures give by hand; broken ones with their line.

Constructs of the Gerber layer format specification (revision 2023.08) and its withdrawn ones, written afresh.
"""

from __future__ import annotations

import io
import math

import numpy as np
import pytest
from shapely import box

from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.errors import InputError

MM = "%FSLAX46Y46*%%MOMM*%"
PI = math.pi


def at(x: float, y: float, code: str = "D03") -> str:
    """A coordinate of a 4.6 file in mm."""
    return f"X{round(x * 1e6)}Y{round(y * 1e6)}{code}*"


def flashed(definition: str, before: str = "", where: str = at(10, 20)) -> str:
    return f"{MM}{definition}D10*{before}{where}M02*"


def ring(*points: tuple[float, float]) -> str:
    first, *rest = points
    return at(*first, "D02") + "".join(at(*p, "D01") for p in (*rest, first))


def strip(r: float) -> float:
    """The area of a strip 0.5 mm wide from the middle of a circle to its edge."""
    return 0.25 * math.sqrt(r * r - 0.0625) + r * r * math.asin(0.25 / r)


SQUARE = ring((0, 0), (4, 0), (4, 4), (0, 4))
# name: text, area in mm², box round it in mm
AREAS: dict[str, tuple[str, float, tuple[float, float, float, float]]] = {
    "round": (flashed("%ADD10C,2*%"), PI, (9, 19, 11, 21)),
    "round with a hole": (flashed("%ADD10C,2X1*%"), PI * 0.75, (9, 19, 11, 21)),
    "rectangle with a hole": (flashed("%ADD10R,3X2X1*%"), 6 - PI / 4, (8.5, 19, 11.5, 21)),
    "rectangle with an old hole": (flashed("%ADD10R,3X2X1X0.5*%"), 5.5, (8.5, 19, 11.5, 21)),
    "oblong": (flashed("%ADD10O,1X3*%"), 2 + PI / 4, (9.5, 18.5, 10.5, 21.5)),
    "oblong with a hole": (flashed("%ADD10O,3X1X0.4*%"), 2 + PI / 4 - PI * 0.04, (8.5, 19.5, 11.5, 20.5)),
    "hexagon": (flashed("%ADD10P,2X6*%"), 6 * math.sqrt(3) / 4, (9, 20 - math.sqrt(3) / 2, 11, 20 + math.sqrt(3) / 2)),
    "square on its corner": (flashed("%ADD10P,2X4*%"), 2.0, (9, 19, 11, 21)),
    "square turned to its side": (flashed("%ADD10P,2X4X45*%"), 2.0, tuple(c + s / math.sqrt(2) for c, s in ((10, -1), (20, -1), (10, 1), (20, 1)))),
    "polygon with a hole": (flashed("%ADD10P,2X4X0X1*%"), 2 - PI / 4, (9, 19, 11, 21)),
    "line": (f"{MM}%ADD10C,1*%D10*{at(0, 0, 'D02')}{at(5, 0, 'D01')}M02*", 5 + PI / 4, (-0.5, -0.5, 5.5, 0.5)),
    "line of a rectangle": (f"{MM}%ADD10R,2X1*%D10*{at(0, 0, 'D02')}{at(5, 0, 'D01')}M02*", 7.0, (-1, -0.5, 6, 0.5)),
    "slanting line of a rectangle": (f"{MM}%ADD10R,1X1*%D10*{at(0, 0, 'D02')}{at(3, 3, 'D01')}M02*", 7.0, (-0.5, -0.5, 3.5, 3.5)),
    "whole circle": (f"{MM}%ADD10C,1*%D10*G75*{at(5, 0, 'D02')}G03X5000000Y0I-5000000J0D01*M02*", PI * (5.5**2 - 4.5**2), (-5.5, -5.5, 5.5, 5.5)),
    "quarter, G74": (f"{MM}%ADD10C,1*%D10*G74*{at(5, 0, 'D02')}G03X0Y5000000I5000000J0D01*M02*", PI / 4 * (5.5**2 - 4.5**2) + PI / 4, (-0.5, -0.5, 5.5, 5.5)),
    "quarter, clockwise": (f"{MM}%ADD10C,1*%D10*G75*{at(0, 5, 'D02')}G02X5000000Y0I0J-5000000D01*M02*", PI / 4 * (5.5**2 - 4.5**2) + PI / 4, (-0.5, -0.5, 5.5, 5.5)),
    "three quarters": (f"{MM}%ADD10C,1*%D10*G75*{at(0, 5, 'D02')}G03X5000000Y0I0J-5000000D01*M02*", 3 * PI / 4 * (5.5**2 - 4.5**2) + PI / 4, (-5.5, -5.5, 5.5, 5.5)),
    "region": (f"{MM}G36*{SQUARE}G37*M02*", 16.0, (0, 0, 4, 4)),
    "two contours of one region": (f"{MM}G36*{SQUARE}{ring((10, 0), (12, 0), (12, 1), (10, 1))}G37*M02*", 18.0, (0, 0, 12, 4)),
    "two contours that overlap": (f"{MM}G36*{SQUARE}{ring((2, 0), (6, 0), (6, 4), (2, 4))}G37*M02*", 24.0, (0, 0, 6, 4)),
    "region with a cut-in": (f"{MM}G36*{ring((0, 0), (4, 0), (4, 4), (2, 4), (2, 3), (3, 3), (3, 1), (1, 1), (1, 3), (2, 3), (2, 4), (0, 4))}G37*M02*", 12.0, (0, 0, 4, 4)),
    "region with arcs": (f"{MM}G75*G36*{at(2, 0, 'D02')}G03X-2000000Y0I-2000000J0D01*G01X2000000Y0D01*G37*M02*", 2 * PI, (-2, 0, 2, 2)),
    "cleared": (f"{MM}%ADD10R,4X4*%%ADD11C,2*%D10*{at(0, 0)}%LPC*%D11*{at(0, 0)}M02*", 16 - PI, (-2, -2, 2, 2)),
    "cleared, then drawn again": (f"{MM}%ADD10R,4X4*%%ADD11R,2X2*%%ADD12R,1X1*%D10*{at(0, 0)}%LPC*%D11*{at(0, 0)}%LPD*%D12*{at(0, 0)}M02*", 13.0, (-2, -2, 2, 2)),
    "step and repeat": (f"{MM}%ADD10C,2*%%SRX3Y2I5J4*%D10*{at(0, 0)}%SR*%M02*", 6 * PI, (-1, -1, 11, 5)),
    "step and repeat to the end": (f"{MM}%ADD10C,2*%%SRX3Y1I5J0*%D10*{at(0, 0)}M02*", 3 * PI, (-1, -1, 11, 1)),
    "steps that clear each other": (f"{MM}%ADD10R,2X2*%%ADD11R,1X1*%%SRX2Y1I1.5J0*%D10*{at(0, 0)}%LPC*%D11*{at(0.5, 0)}%LPD*%%SR*%M02*", 7 - 0.5 - 1, (-1, -1, 2.5, 1)),
    "mirrored": (flashed("%AMM*4,1,3,0,0,2,0,0,1,0,0,0*%%ADD10M*%", "%LMX*%"), 1.0, (8, 20, 10, 21)),
    "turned": (flashed("%AMM*4,1,3,0,0,2,0,0,1,0,0,0*%%ADD10M*%", "%LR90*%"), 1.0, (9, 20, 10, 22)),
    "mirrored, then turned": (flashed("%AMM*4,1,3,0,0,2,0,0,1,0,0,0*%%ADD10M*%", "%LMX*%%LR90*%"), 1.0, (9, 18, 10, 20)),
    "scaled": (flashed("%ADD10C,2*%", "%LS0.5*%"), PI / 4, (9.5, 19.5, 10.5, 20.5)),
    "a scaled line": (f"{MM}%ADD10C,2*%D10*%LS0.5*%{at(0, 0, 'D02')}{at(5, 0, 'D01')}M02*", 5 + PI / 4, (-0.5, -0.5, 5.5, 0.5)),
    "block": (f"{MM}%ADD10R,2X1*%%ABD12*%D10*{at(0, 0)}{at(5, 0)}%AB*%D12*{at(10, 0)}{at(10, 5)}M02*", 8.0, (9, -0.5, 16, 5.5)),
    "block, turned": (f"{MM}%ADD10R,2X1*%%ABD12*%D10*{at(0, 0)}{at(5, 0)}%AB*%D12*%LR90*%{at(10, 0)}M02*", 4.0, (9.5, -1, 10.5, 6)),
    "block with clear, flashed clear": (f"{MM}%ADD10R,4X4*%%ADD11R,2X2*%%ADD13R,10X10*%%ABD12*%D10*{at(0, 0)}%LPC*%D11*{at(0, 0)}%LPD*%%AB*%D13*{at(0, 0)}%LPC*%D12*{at(0, 0)}M02*", 88.0, (-5, -5, 5, 5)),
    "macro: ring with variables": (flashed("%AMRING*1,1,$1,0,0*$3=$1-2x$2*1,0,$3,0,0*%%ADD10RING,4X0.5*%"), PI * (4 - 2.25), (8, 18, 12, 22)),
    "macro: on several lines": (flashed("%AMB*\n0 a comment, 1,1,9*\n21,1,3,2,0,0,90*\n%\n%ADD10B*%"), 6.0, (9, 18.5, 11, 21.5)),
    "macro: vector line turned": (flashed("%AMV*20,1,1,0,0,3,0,90*%%ADD10V*%"), 3.0, (9.5, 20, 10.5, 23)),
    "macro: thermal": (flashed("%AMT*7,0,0,4,2,0.5,0*%%ADD10T*%"), PI * 3 - 4 * (strip(2) - strip(1)), (10 - math.sqrt(3.9375), 20 - math.sqrt(3.9375), 10 + math.sqrt(3.9375), 20 + math.sqrt(3.9375))),
    "macro: exposure off takes from the macro alone": (f"{MM}%AMH*21,1,4,4,0,0,0*1,0,2,0,0*%%ADD10H*%%ADD11R,6X6*%D11*{at(0, 0)}D10*{at(0, 0)}M02*", 36.0, (-3, -3, 3, 3)),
    "macro: polygon and expressions": (flashed("%AMP*5,1,2+2,0,0,(1+1)x$1/2,45*%%ADD10P1,2*%".replace("AMP*", "AMP1*")), 2.0, tuple(c + s / math.sqrt(2) for c, s in ((10, -1), (20, -1), (10, 1), (20, 1)))),
    "inches": ("%FSLAX24Y24*%%MOIN*%%ADD10C,0.1*%D10*X10000Y20000D03*M02*", PI * 1.27**2, (25.4 - 1.27, 50.8 - 1.27, 25.4 + 1.27, 50.8 + 1.27)),
    "zeros behind left out": ("%FSTAX24Y24*%%MOIN*%%ADD10C,0.1*%D10*X01Y02D03*M02*", PI * 1.27**2, (25.4 - 1.27, 50.8 - 1.27, 25.4 + 1.27, 50.8 + 1.27)),
    "incremental": ("%FSLIX24Y24*%%MOMM*%%ADD10C,2*%D10*X50000D03*X50000D03*M02*", 2 * PI, (4, -1, 11, 1)),
    "one axis stays": (f"{MM}%ADD10C,2*%D10*{at(5, 5, 'D02')}Y9000000D03*X1000000D03*M02*", 2 * PI, (0, 8, 6, 10)),
    "operation stays": (f"{MM}%ADD10C,2*%D10*X0Y0D03*X5000000*X10000000*M02*", 3 * PI, (-1, -1, 11, 1)),
    "old words": ("G04 old*\nG90*\nG70*\n%FSLAX24Y24*%\n%ADD10C,0.1*%\nN10G54D10*\nN20G01X0Y0D02*\nN30X10000D01*\nM02*", 25.4 * 2.54 + PI * 1.27**2, (-1.27, -1.27, 26.67, 1.27)),
    "two parameters in one": ("%FSLAX24Y24*MOIN*%%ADD10C,0.1*\nADD11C,0.2*%D11*X0Y0D03*M02*", PI * 2.54**2, (-2.54, -2.54, 2.54, 2.54)),
    "shifted": (f"{MM}%OFA1B2*%%ADD10C,2*%D10*{at(0, 0)}M02*", PI, (0, 1, 2, 3)),
    "coordinates scaled": (f"{MM}%SFA2B3*%%ADD10C,2*%D10*{at(1, 1)}M02*", PI, (1, 2, 3, 4)),
    "coordinates mirrored": (f"{MM}%MIA1B0*%%ADD10C,2*%D10*{at(5, 1)}M02*", PI, (-6, 0, -4, 2)),
    "a mirrored arc": (f"{MM}%MIA1B0*%%ADD10C,1*%D10*G75*{at(5, 0, 'D02')}G03X0Y5000000I-5000000J0D01*M02*", PI / 4 * (5.5**2 - 4.5**2) + PI / 4, (-5.5, -0.5, 0.5, 5.5)),
    "axes exchanged": (f"{MM}%ASAYBX*%%ADD10R,2X1*%D10*{at(5, 1)}M02*", 2.0, (0, 4.5, 2, 5.5)),
    "image turned": (f"{MM}%IR90*%%ADD10R,2X1*%D10*{at(5, 1)}M02*", 2.0, (-1.5, 4, -0.5, 6)),
    "pen without width": (f"{MM}%ADD10C,0*%D10*{SQUARE}M02*", 0.0, (math.nan,) * 4),
}  # fmt: skip


@pytest.mark.parametrize("name", AREAS)
def test_what_is_legal_is_read_as_its_figures_say(name: str) -> None:
    text, area, edges = AREAS[name]
    image = read_gerber(text, name)
    assert image.shape.area == pytest.approx(area, abs=2e-3 * max(1.0, area) + 1e-9)
    assert np.allclose(image.shape.bounds, edges, atol=2e-3, equal_nan=True)


REMARKED = {
    "rectangle with an old hole": "rectangular hole",
    "zeros behind left out": "zeros behind",
    "incremental": "incremental",
    "operation stays": "without D01",
    "old words": "G70 sets the unit",
    "shifted": "shifted",
    "coordinates scaled": "scaled",
    "coordinates mirrored": "mirrored",
    "axes exchanged": "change places",
    "image turned": "turned by 90",
    "pen without width": "no size",
}


@pytest.mark.parametrize("name", AREAS)
def test_what_is_odd_is_named_and_nothing_else_is(name: str) -> None:
    remarks = "; ".join(str(r) for r in read_gerber(AREAS[name][0], name).remarks)
    assert REMARKED.get(name, "") in remarks
    old = ("cut-in", "mirrored arc", "quarter", "clear each other")
    assert bool(remarks) == (name in REMARKED or any(word in name for word in old if remarks)), remarks


BROKEN = {
    "no end": (f"{MM}%ADD10C,1*%D10*X0Y0D03*", "cut off"),
    "a parameter that is not closed": (f"{MM}\n%ADD10C,1*\nD10*X0Y0D03*\nM02*", "line 2"),
    "an unknown aperture": (f"{MM}\n\nD33*M02*", "line 3"),
    "no format": ("%MOMM*%\n%ADD10C,1*%\nD10*\nX0Y0D03*M02*", "line 4"),
    "an unknown macro": (f"{MM}\n%ADD10NOPE,1*%M02*", "line 2"),
    "an unknown parameter": (f"{MM}\n%QQ12*%M02*", "line 2"),
    "an unknown word": (f"{MM}\n%ADD10C,1*%D10*\nG99*M02*", "line 3"),
    "a region that is not closed": (f"{MM}\nG36*{SQUARE}M02*", "line 2"),
    "too far away": (f"{MM}%ADD10C,1*%D10*\nX9999999999999Y0D03*M02*", "line 2"),
    "divides by zero": (f"{MM}\n%AMX*1,1,1/0,0,0*%\n%ADD10X*%M02*", "line 3"),
    "brackets without end": (f"{MM}\n%AMX*1,1,{'(' * 90}1,0,0*%\n%ADD10X*%M02*", "line 3"),
    "half of all atoms": (f"{MM}\n%ADD10C,1*%%SRX90000Y90000I0.001J0.001*%D10*X0Y0D03*M02*", "line 2"),
    "blocks of blocks of blocks": (
        MM + "%ADD10C,1*%D10*%ABD20*%" + "X0Y0D03*" * 100 + "%AB*%"
        + "".join(f"%ABD{21 + k}*%D{20 + k}*" + "X0Y0D03*" * 100 + "%AB*%" for k in range(9)) + "D29*X0Y0D03*M02*",
        "shapes",
    ),
    "more digits than there are": ("%FSTAX24Y24*%%MOIN*%%ADD10C,0.1*%D10*\nX01234567Y0D03*M02*", "line 2"),
    "draws with nothing": (f"{MM}\nX0Y0D01*M02*", "line 2"),
    "a negative size": (f"{MM}\n%ADD10C,-1*%M02*", "line 2"),
}  # fmt: skip


@pytest.mark.campaign  # hundreds of thousands of shapes before one is too many
@pytest.mark.parametrize("name", BROKEN)
def test_what_is_broken_is_refused_with_its_line(name: str) -> None:
    text, words = BROKEN[name]
    with pytest.raises(InputError, match=words) as error:
        read_gerber(text, "odd.gbr")
    assert "odd.gbr" in str(error.value)


def test_attributes_go_with_what_they_are_said_of() -> None:
    text = (
        f"{MM}%TF.FileFunction,Copper,L1,Top*%%TA.AperFunction,SMDPad,CuDef*%%ADD10R,1X1*%%TD*%%ADD11C,1*%"
        f"%TO.N,A\\u002CB*%%TO.P,U1,3*%D10*{at(0, 0)}%TD.P*%{at(5, 0)}%TD*%D11*{at(9, 0)}M02*"
    )
    image = read_gerber(text)
    assert image.function == "Copper,L1,Top"
    assert [m.net for m in image.marks] == ["A,B", "A,B", None]
    assert [m.pin for m in image.marks] == [("U1", "3"), None, None]
    assert [m.aperture.function for m in image.marks if m.aperture] == ["SMDPad,CuDef", "SMDPad,CuDef", ""]
    old = read_gerber(f"{MM}G04 #@! TF.FileFunction,Profile,NP*\n%ADD10C,1*%D10*{at(0, 0)}M02*")
    assert old.function == "Profile,NP"


SAME = ("round with a hole", "oblong", "hexagon", "region with arcs", "three quarters", "cleared, then drawn again",
        "step and repeat", "macro: ring with variables", "quarter, G74")  # fmt: skip


@pytest.mark.campaign
@pytest.mark.parametrize("name", SAME)
def test_pygerber_paints_the_same(name: str) -> None:
    from PIL import Image
    from pygerber.gerberx3.api.v2 import ColorScheme, GerberFile
    from pygerber.gerberx3.renderer2.raster import ImageFormat

    dots = 40
    out = io.BytesIO()
    text = AREAS[name][0].replace("*%", "*%\n")
    GerberFile.from_str(text).parse().render_raster(
        out, dpmm=dots, color_scheme=ColorScheme.DEFAULT_GRAYSCALE, image_format=ImageFormat.PNG
    )
    pixels = np.asarray(Image.open(io.BytesIO(out.getvalue())).convert("L"))
    assert (pixels > 0).sum() / dots**2 == pytest.approx(read_gerber(text).shape.area, rel=0.02)


def test_a_negative_image_says_so_and_what_is_drawn() -> None:
    image = read_gerber(f"{MM}%IPNEG*%%ADD10R,2X2*%D10*{at(0, 0)}M02*")
    assert image.negative
    assert image.shape.equals(box(-1, -1, 1, 1))
    assert "negative" in str(image.remarks[0])
