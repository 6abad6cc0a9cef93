"""Fabrication files as our reader has them, against the board's geometry; test_rendered holds it to pygerber."""

from __future__ import annotations

import io
import re
import zipfile

import numpy as np
import pytest
from shapely import unary_union

from zesty_trace.core.board.copper import board_pads, copper_items, hole_items, outline_shape, pad_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import silk_screen
from zesty_trace.core.board.strokes import text_strokes
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Design
from zesty_trace.core.fabrication.layers import all_files, paste_pads
from zesty_trace.core.fabrication.package import fabrication_files, write_package, zip_bytes
from zesty_trace.core.fabrication.tables import bill_of_materials, centroid_csv
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.gerber.writing import GerberWriter
from zesty_trace.errors import EditError, InputError


@pytest.fixture(scope="module")
def files(routed: Design, catalogue: Catalogue) -> dict[str, str]:
    return all_files(Wired(routed, catalogue))


def own_copper(design: Design, catalogue: Catalogue, layer: str):
    shapes = [i.shape for i in copper_items(Wired(design, catalogue), layer)]
    return unary_union([*shapes, *(s for _, s in pour_shapes(Wired(design, catalogue), layer))])


@pytest.mark.parametrize("layer", FACES)
def test_read_back_is_the_same_shape(files, routed, catalogue, layer) -> None:
    image = read_gerber(files[f"copper-{layer}.gbr"])
    own = own_copper(routed, catalogue, layer)
    assert image.shape.symmetric_difference(own).buffer(-0.002).area < 0.001  # chords of circles differ by 1.5 um
    assert image.shape.area == pytest.approx(own.area, rel=1e-4)
    assert image.function == f"Copper,{'L1,Top' if layer == 'top' else 'L2,Bot'}"


def second_drill_parser(text: str) -> list[tuple[float, float, float]]:
    """An independent reading of the drill file: sizes by tool, then coordinates by regular expression."""
    sizes = dict(re.findall(r"^T(\d+)C([\d.]+)$", text, re.M))
    blocks = re.split(r"^T(\d+)$", text.split("%", 1)[1], flags=re.M)[1:]
    return [
        (float(x), float(y), float(sizes[tool]))
        for tool, body in zip(blocks[::2], blocks[1::2], strict=True)
        for x, y in re.findall(r"^X([-\d.]+)Y([-\d.]+)$", body, re.M)
    ]


@pytest.mark.parametrize(("name", "plated"), [("drill-plated.xnc", True), ("drill-bare.xnc", False)])
def test_drills_read_back_twice_are_the_holes_of_the_board(files, routed, catalogue, name, plated) -> None:
    wanted = sorted(
        (x / 1e6, y / 1e6, d / 1e6) for x, y, d, p, *_ in hole_items(Wired(routed, catalogue)) if p == plated
    )
    read = [(*h.points[0], h.diameter) for h in read_drill(files[name]).holes]
    for found in (read, second_drill_parser(files[name])):
        assert np.allclose(sorted(found), wanted, atol=1e-4)
    through = sum(bool(p.drill_nm) and p.plated for p in board_pads(Wired(routed, catalogue)))
    assert len(wanted) == (through + len(routed.board.vias) if plated else 4)  # four mounting holes


def test_x2_attributes_name_function_nets_and_pins(files) -> None:
    top = files["copper-top.gbr"]
    assert "%TF.FileFunction,Copper,L1,Top*%" in top
    assert "%TO.N,HEATER*%" in top
    assert "%TO.P,U3,29*%" in top
    assert "%TF.FileFunction,Profile,NP*%" in files["outline.gbr"]
    assert "%TF.FilePolarity,Negative*%" in files["mask-top.gbr"]


def test_outline_encloses_the_board(files, routed) -> None:
    ring = read_gerber(files["outline.gbr"]).shape
    assert ring.bounds == pytest.approx(outline_shape(routed).buffer(0.05).bounds, abs=1e-3)


def test_paste_only_where_surface_parts_are_fitted(routed, catalogue) -> None:
    refs = {p.pin.ref for p in paste_pads(Wired(routed, catalogue), "top", "Basic")}
    assert "U4" in refs
    assert not refs & {"U5", "J4", "TP1", "J2"}
    assert paste_pads(Wired(routed, catalogue), "bottom") == []


def test_silk_keeps_off_solder_and_inside_the_board(routed, catalogue) -> None:
    from shapely.geometry import LineString

    silk = silk_screen(Wired(routed, catalogue), "top")
    ink = unary_union([LineString(line).buffer(0.075) for line in silk.lines])
    openings = unary_union([pad_shape(p, 0.05) for p in board_pads(Wired(routed, catalogue)) if "top" in p.layers])
    assert ink.intersection(openings).area < 1e-6
    assert outline_shape(routed).covers(ink)
    assert len(silk.left_out) <= 6


def test_every_letter_of_a_reference_has_strokes() -> None:
    for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789":
        lines, width = text_strokes(letter, 1.0)
        assert lines, letter
        assert 0 < width < 1.0
        assert all(0 <= y <= 1.0 for line in lines for _, y in line)


def test_region_with_hole_and_island_survives_the_round_trip() -> None:
    from shapely import Point

    ring = Point(0, 0).buffer(5).difference(Point(0, 0).buffer(3))
    island = Point(0, 0).buffer(1)
    writer = GerberWriter("Copper,L1,Top")
    writer.fill([island, ring])
    assert read_gerber(writer.text()).shape.area == pytest.approx(ring.area + island.area, rel=1e-4)


def test_bill_of_materials_counts_each_fitted_part_once(routed, catalogue) -> None:
    full, basic = (
        bill_of_materials(Wired(routed, catalogue), "Full"),
        bill_of_materials(Wired(routed, catalogue), "Basic"),
    )
    refs = [r for line in full for r in line.refs]
    assert len(refs) == len(set(refs))
    assert not any(r.startswith(("TP", "H")) for r in refs)
    assert sum(b.count for b in full) - sum(b.count for b in basic) == sum(
        p.variants == ("Full",) for p in routed.parts.values()
    )


def test_centroid_tells_the_place_of_each_part(routed, catalogue) -> None:
    rows = [line.split(",") for line in centroid_csv(Wired(routed, catalogue), "Full").splitlines()[1:]]
    spot = routed.board.placements["U3"]
    row = next(r for r in rows if r[0] == "U3")
    assert float(row[3]) == pytest.approx(spot.x_nm / 1e6)
    assert row[6] == spot.side


def test_zip_is_the_same_bytes_each_time_and_reads_back(routed, catalogue, tmp_path) -> None:
    files = fabrication_files(Wired(routed, catalogue))
    assert zip_bytes(files) == zip_bytes(dict(reversed(files.items())))
    path = write_package(Wired(routed, catalogue), tmp_path)
    found = read_zip(path.read_bytes())
    assert {n: found[n] for n in files} == files
    drawn = {n for n in found if n not in files}
    assert {
        "drill.pdf",
        "drill.svg",
        "assembly-full.pdf",
        "assembly-full-top.svg",
        "assembly-basic-bottom.svg",
    } <= drawn
    assert path.read_bytes() == write_package(Wired(routed, catalogue), tmp_path / "again").read_bytes()
    assert {"bom-full.csv", "bom-basic.csv", "centroid-full.csv"} <= files.keys()


def test_nothing_placed_is_told(demo, catalogue) -> None:
    with pytest.raises(EditError, match="no board to write"):
        fabrication_files(Wired(demo, catalogue))


@pytest.mark.parametrize(
    ("text", "where"),
    [
        pytest.param("%FSLAX46Y46*%\n%MOMM*%\nG36*\n", "file", id="cut off"),
        pytest.param("%FSLAX46Y46*%\nD99*\nM02*", "line 2", id="undefined aperture"),
        pytest.param("%FSLAX46Y46*%\n%AMBLOB*%\nG02X0Y0I1D01*\nM02*", "line 3", id="arc"),
        pytest.param("%ADD10C,0.1\nM02*", "line 1", id="not closed"),
        pytest.param("%FSXAX24Y24*%\nM02*", "line 1", id="number format"),
    ],
)
def test_damaged_gerber_says_where(text: str, where: str) -> None:
    with pytest.raises(InputError) as caught:
        read_gerber(text)
    assert where in caught.value.where


def test_damaged_drill_and_zip_say_so() -> None:
    with pytest.raises(InputError, match="cut off"):
        read_drill("M48\nMETRIC\nT01C0.3\n%\nT01\nX1.0Y1.0\n")
    with pytest.raises(InputError, match="not defined"):
        read_drill("M48\n%\nT02\nM30\n")
    with pytest.raises(InputError, match="not a zip file"):
        read_zip(b"nothing")


def test_zip_that_leads_outside_is_refused() -> None:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as archive:
        archive.writestr("../evil.gbr", "M02*")
    with pytest.raises(InputError, match="outside"):
        read_zip(data.getvalue())
