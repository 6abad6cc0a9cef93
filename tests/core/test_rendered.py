"""Files painted by pygerber, pixel by pixel, against our own reading: they may differ in pixels of an edge only.

A pixel is on an edge where our shape, made thinner by a pixel and a half, has none and made wider has one: renderers
decide those each in their way. Of the others fewer than one in a thousand may differ.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from PIL import Image, ImageDraw
from pygerber.gerberx3.api.v2 import ColorScheme, GerberFile
from pygerber.gerberx3.renderer2.raster import ImageFormat
from shapely import LineString, affinity, box, get_parts

from tests.core.test_gerber import AREAS, SAME
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.edges import edges_of
from zesty_trace.core.fabrication.layers import all_files
from zesty_trace.core.gerber.arcs import steps_of
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.gerber.writing import GerberWriter

DOTS_PER_MM = 50
EDGE_MM = 1.5 / DOTS_PER_MM
SIXTH = ["copper-top.gbr", "copper-bottom.gbr", "mask-top.gbr", "paste-top.gbr", "silk-top.gbr", "outline.gbr"]


def painted_by_pygerber(text: str) -> np.ndarray:
    out = io.BytesIO()
    GerberFile.from_str(text).parse().render_raster(
        out, dpmm=DOTS_PER_MM, color_scheme=ColorScheme.DEFAULT_GRAYSCALE, image_format=ImageFormat.PNG
    )
    dark = np.asarray(Image.open(io.BytesIO(out.getvalue())).convert("L")) > 0
    rows, columns = (np.flatnonzero(dark.any(axis=k)) for k in (1, 0))
    return dark[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]  # its margins are those of whole circles


def painted_here(shape: Any, corner: tuple[float, float], size: tuple[int, int]) -> np.ndarray:
    """Paint a shape with another library's polygons; larger ones first, so that islands lie in holes."""
    image = Image.new("1", size)
    draw = ImageDraw.Draw(image)
    for polygon in sorted((p for p in get_parts(shape) if not p.is_empty), key=lambda p: -p.envelope.area):
        for ring, dark in ((polygon.exterior, 1), *((r, 0) for r in polygon.interiors)):
            spots = [((x - corner[0]) * DOTS_PER_MM - 0.5, (corner[1] - y) * DOTS_PER_MM - 0.5) for x, y in ring.coords]
            draw.polygon(spots, fill=dark)
    return np.asarray(image)


def differing(text: str) -> float:
    """Return which share of the painted pixels differs, those of edges left out, for the best shift of a pixel."""
    shape = read_gerber(text).shape
    theirs = painted_by_pygerber(text)
    x0, _, _, y1 = shape.bounds
    high, wide = theirs.shape
    best = 1.0
    for dx in (-1, 0, 1):
        for dy in (-1, 0, 1):
            corner = x0 + dx / DOTS_PER_MM, y1 + dy / DOTS_PER_MM
            surely, maybe = (painted_here(shape.buffer(by), corner, (wide, high)) for by in (-EDGE_MM, EDGE_MM))
            wrong = (surely & ~theirs).sum() + (theirs & ~maybe).sum()
            best = min(best, float(wrong) / float(theirs.sum()))
            if best < 0.001:
                return best
    return best


@pytest.mark.campaign
@pytest.mark.parametrize("name", SIXTH)
def test_the_demo_files_are_painted_the_same(name: str, routed, catalogue) -> None:
    text = all_files(Wired(routed, catalogue))[name]
    assert differing(text) < 0.001


# This version of the renderer sets polygons on a side where the format (2023.08, 4.4.4) has a corner on the x axis, and
# draws the arcs of areas upside down; our reading of both is held against the format's own words in test_gerber.
OWN_WAY = ("hexagon", "region with arcs")


@pytest.mark.campaign
@pytest.mark.parametrize("name", [n for n in SAME if n not in OWN_WAY])
def test_constructed_files_are_painted_the_same(name: str) -> None:
    assert differing(AREAS[name][0].replace("*%", "*%\n")) < 0.001


@pytest.mark.campaign
@pytest.mark.parametrize(("width", "height", "turn"), [(3.0, 1.0, 30.0), (1.0, 3.0, 200.5), (3.0, 1.0, -17.0)])
def test_turned_pads_are_flashed_exactly_where_they_are(width: float, height: float, turn: float) -> None:
    for shape in ("rect", "oblong"):
        writer = GerberWriter("Copper,L1,Top")
        writer.flash_turned(shape, 5.0, 7.0, width, height, turn, "SMDPad,CuDef")
        text = writer.text()
        half = abs(width - height) / 2
        ends = ((5 - half, 7), (5 + half, 7)) if width > height else ((5, 7 - half), (5, 7 + half))
        wanted = box(5 - width / 2, 7 - height / 2, 5 + width / 2, 7 + height / 2)
        if shape == "oblong":
            wanted = LineString(ends).buffer(min(width, height) / 2, quad_segs=64)
        wanted = affinity.rotate(wanted, turn, origin=(5, 7))
        assert read_gerber(text).shape.symmetric_difference(wanted).area < 0.003
        assert differing(text) < 0.002
        assert "TA.AperFunction,SMDPad,CuDef" in text


def test_corners_on_a_circle_become_an_arc_and_others_stay() -> None:
    ring = [(x, y) for x, y in box(0, 0, 20, 10).buffer(3).exterior.coords]
    steps = steps_of(ring)
    arcs = [s for s in steps if s.centre is not None]
    assert len(arcs) == 4
    assert sorted((round(s.centre[0], 6), round(s.centre[1], 6)) for s in arcs if s.centre) == [
        (0, 0), (0, 10), (20, 0), (20, 10),
    ]  # fmt: skip
    assert steps[-1].to == ring[-1]
    for sides in (6, 12, 24):  # meant as corners
        turns = [2 * np.pi * k / sides for k in range(sides + 1)]
        assert all(s.centre is None for s in steps_of([(9 * np.cos(t), 9 * np.sin(t)) for t in turns]))
    circle = [(9 * np.cos(t), 9 * np.sin(t)) for t in np.linspace(0, 2 * np.pi, 90)]
    assert {s.left for s in steps_of(circle)} == {True}
    assert {s.left for s in steps_of(circle[::-1])} == {False}
    wavy = [(k / 10, 0.001 * (k % 2)) for k in range(50)]
    assert [s.to for s in steps_of(wavy)] == wavy[1:]


def test_an_outline_with_round_corners_is_written_with_exact_arcs() -> None:
    writer = GerberWriter("Profile,NP")
    writer.draw(list(box(0, 0, 20, 10).buffer(3).exterior.coords), 0.1, "Profile")
    text = writer.text()
    assert text.count("I") >= 4
    exact = 26 * 16 - (36 - np.pi * 9)
    edges = edges_of(read_gerber(text))
    assert edges.board.area == pytest.approx(exact, abs=0.02)
    assert box(0, 0, 20, 10).buffer(3).area < exact - 0.04  # what chords would have been
    assert differing(text) < 0.001


@pytest.mark.campaign
def test_another_shape_is_found_to_differ() -> None:
    text = AREAS["hexagon"][0].replace("*%", "*%\n")
    other = AREAS["oblong"][0].replace("*%", "*%\n")
    theirs = painted_by_pygerber(other)
    shape = read_gerber(text).shape
    x0, _, _, y1 = shape.bounds
    maybe = painted_here(shape.buffer(EDGE_MM), (x0, y1), theirs.shape[::-1])
    assert (theirs & ~maybe).sum() > 0.001 * theirs.sum()
