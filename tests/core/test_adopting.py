"""Projects out of somebody's finished files: what the tables and the copper say, held against it."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import pytest

from tests.core.planted_files import Files
from tests.core.small_board import routed
from tests.core.test_intake import foreign
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.rules.given import TURN_UNKNOWN
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin, to_json
from zesty_trace.core.design.reading import from_json
from zesty_trace.core.fabrication.adopting.adopt import Adopted, adopt
from zesty_trace.core.fabrication.adopting.naming import packages_named
from zesty_trace.core.fabrication.adopting.tables_in import read_bom, read_centroid, references
from zesty_trace.core.fabrication.contacts import contacts_of
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.guessing import format_of
from zesty_trace.core.fabrication.looking.tracing import trace
from zesty_trace.core.fabrication.package import fabrication_files, zip_bytes
from zesty_trace.errors import EditError, InputError
from zesty_trace.journey.adopting import adopt_zip
from zesty_trace.store.project import ProjectFolder

Rows = list[dict[str, str]]


@pytest.fixture(scope="module")
def board() -> Wired:
    return routed()


@pytest.fixture(scope="module")
def files(board: Wired) -> Files:
    return fabrication_files(board)


def rows_of(text: str) -> Rows:
    return list(csv.DictReader(io.StringIO(text)))


def adopted(fab: Files, bom: str, places: str) -> Adopted:
    return adopt(read_set(fab), {"": read_bom(bom, "b.csv")}, read_centroid(places, "c.csv"), shipped(), "x", "g.zip")


def tables(fab: Files) -> tuple[Rows, Rows]:
    return rows_of(fab["bom.csv"]), rows_of(fab["centroid.csv"])


def groups(design: Design, refs: set[str]) -> set[frozenset[Pin]]:
    """Return which pins of `refs` are joined, whatever the nets are called; pins alone left out."""
    found = (frozenset(p for p in pins if p.ref in refs) for pins in design.nets.values())
    return {g for g in found if len(g) > 1}


def same_board(found: Adopted, own: Design) -> None:
    """Hold parts, kinds, places and nets against the board that the files came from."""
    made = found.design
    refs = {r for r in own.parts if r in made.parts}
    bought = {r for r, p in own.parts.items() if p.kind not in ("mounting_hole", "test_point", "fiducial")}
    assert refs >= bought
    assert {r: made.parts[r].kind for r in bought} == {r: own.parts[r].kind for r in bought}
    for ref in bought:
        there, here = own.board.placements[ref], made.board.placements[ref]
        assert (here.x_nm, here.y_nm) == pytest.approx((there.x_nm, there.y_nm), abs=30_000)
        assert (here.angle_mdeg - there.angle_mdeg) % 360_000 == 0
        assert here.side == there.side
    assert groups(made, bought) == groups(own, bought)


@pytest.mark.campaign
def test_the_own_files_become_the_board_that_they_came_from(board: Wired, files: Files) -> None:
    found = adopted(files, files["bom.csv"], files["centroid.csv"])
    same_board(found, board.design)
    assert set(found.design.nets) <= set(board.design.nets)  # the files name the nets
    assert from_json(to_json(found.design)) == found.design


@pytest.mark.campaign
def test_an_older_set_becomes_it_too_and_its_nets_are_traced(board: Wired, files: Files) -> None:
    found = adopted(foreign(files), files["bom.csv"], files["centroid.csv"])
    same_board(found, board.design)
    assert "GND" in found.design.nets  # by the ground pins of known kinds
    wired = Wired(found.design, found.known(shipped()))
    read = read_set(foreign(files))
    assert trace(read, contacts_of(wired), "the project").same
    net = next(n for n, pins in found.design.nets.items() if len(pins) > 2)
    cut = edits.disconnect(found.design, found.design.nets[net][0])
    joined = edits.connect(cut, found.design.nets[net][0], next(n for n in cut.nets if n != net))
    assert not trace(read, contacts_of(wired.with_design(joined)), "the project").same


@pytest.mark.campaign
def test_tables_in_other_words_units_and_origins_say_the_same(board: Wired, files: Files) -> None:
    bom, places = tables(files)
    x0 = min(p.x_nm for p in board.design.board.outline) / 1e6
    y0 = min(p.y_nm for p in board.design.board.outline) / 1e6
    other_bom = "Bill of materials;job 7\n\nQty;Designator;Comment;Footprint;Description\n" + "".join(
        f"{r['count']};{', '.join(r['refs'].split())};{r['value'] or '-'};{r['package']};{r['part']}\n" for r in bom
    )
    in_mil = "Designator,Mid X,Mid Y,Layer,Rotation\n" + "".join(
        f"{r['ref']},{(float(r['x_mm']) - x0) / 0.0254:.2f}mil,{(float(r['y_mm']) - y0) / 0.0254:.2f}mil,"
        f"{r['side'].capitalize()}Layer,{r['rotation_deg']}\n"
        for r in places
    )
    in_inches = "# Ref Val Package PosX PosY Rot Side\n" + "".join(
        f"{r['ref']}  -  {r['package'] or '-'}  {float(r['x_mm']) / 25.4:.5f} {float(r['y_mm']) / 25.4:.5f} "
        f"{r['rotation_deg']} {r['side'][0].upper()}\n"
        for r in places
    )
    for other in (in_mil, in_inches):
        found = adopted(foreign(files), other_bom, other)
        same_board(found, board.design)
    assert any("does not say its unit: it fits the board in inch" in n for n in found.notes)


@pytest.mark.campaign
def test_turns_of_another_habit_are_corrected_or_said_to_be_unknown(board: Wired, files: Files) -> None:
    _, places = tables(files)
    turned = "ref,x,y,rotation,side\n" + "".join(
        f"{r['ref']},{r['x_mm']}mm,{r['y_mm']}mm,"
        f"{(float(r['rotation_deg']) + (90 if r['ref'][0] in 'UQ' else 0)) % 360},{r['side']}\n"
        for r in places
    )
    found = adopted(foreign(files), files["bom.csv"], turned)
    own, made = board.design, found.design
    wrong = [
        r
        for r, spot in made.board.placements.items()
        if r in own.board.placements and (spot.angle_mdeg - own.board.placements[r].angle_mdeg) % 360_000
        and r[0] in "UQ"
    ]  # fmt: skip
    assert set(wrong) <= set(found.unknown_turn)
    assert found.turned
    wired = Wired(made, found.known(shipped()))
    for ref in found.unknown_turn:
        assert TURN_UNKNOWN in made.parts[ref].notes
    if found.unknown_turn:
        assert any(set(f.refs) == set(found.unknown_turn) for f in check_board(wired))


@pytest.mark.campaign
def test_parts_that_no_table_places_are_found_by_their_pads_or_left_open(board: Wired, files: Files) -> None:
    _, places = tables(files)
    kept = [r for r in places if re.match(r"[RCLDUQ]\d", r["ref"])]
    few = "ref,x_mm,y_mm,rotation_deg,side\n" + "".join(
        f"{r['ref']},{r['x_mm']},{r['y_mm']},{r['rotation_deg']},{r['side']}\n" for r in kept
    )
    found = adopted(foreign(files), files["bom.csv"], few)
    own = board.design.board.placements
    said = " ".join(found.notes)
    for ref in {r["ref"] for r in places} - {r["ref"] for r in kept}:
        spot = found.design.board.placements.get(ref)
        if spot is None:
            assert ref in said or "more" in said
        else:  # found: at its own place, or at that of an equal part, and in either case said
            same = [p for r, p in own.items() if abs(p.x_nm - spot.x_nm) < 1e5 and abs(p.y_nm - spot.y_nm) < 1e5]
            assert same, ref
            assert ref in found.sought


@pytest.mark.campaign
def test_unknown_packages_are_told_from_pads_and_unknown_kinds_stay_undescribed(files: Files) -> None:
    bom, places = tables(files)
    coded = "ref,value,footprint\n" + "".join(f'"{r["refs"]}",{r["value"]},ZZ{k}\n' for k, r in enumerate(bom))
    plain = "ref,x,y,rotation,side\n" + "".join(
        f"{r['ref']},{r['x_mm']}mm,{r['y_mm']}mm,{r['rotation_deg']},{r['side']}\n" for r in places
    )
    found = adopted(foreign(files), coded, plain)
    assert found.guessed
    chips = [r for r in found.design.parts if r.startswith("U")]
    assert chips
    assert set(chips) <= set(found.undescribed)
    assert all(found.kinds[found.design.parts[r].kind].model.__class__.__name__ == "Open" for r in chips)


def test_a_given_board_is_neither_drawn_nor_written_here() -> None:
    square = ((0, 0), (10_000_000, 0), (10_000_000, 10_000_000))
    design = edits.set_board(Design(), outline=square, given="g.zip")
    wired = Wired(design, shipped())
    with pytest.raises(EditError, match=r"given: fabrication/g\.zip"):
        fabrication_files(wired)
    from zesty_trace.core.board.place import place_rest
    from zesty_trace.core.board.router import route
    from zesty_trace.core.fabrication.milling import mill

    for refused in (place_rest, route, mill):
        with pytest.raises(EditError, match=r"g\.zip"):
            refused(wired)
    assert edits.let_go_of_files(design).board.given == ""
    with pytest.raises(EditError):
        edits.let_go_of_files(Design())
    with pytest.raises(EditError, match=r"g\.zip"):
        edits.set_copper(design, [], [], [object()])  # type: ignore[list-item]


def test_references_as_people_list_them() -> None:
    assert references("R1, R2 R5-R8;C1 .. C3", "x") == ["R1", "R2", "R5", "R6", "R7", "R8", "C1", "C2", "C3"]
    assert references("", "x") == []
    for wrong in ("R9-R2", "R1-R99999"):
        with pytest.raises(InputError, match="no range"):
            references(wrong, "x")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no head"),
        ("a,b,c\n1,2,3\n", "no head"),
        ("ref,x,y\nR1,1,2\n", "no column for the rotation"),
        ("ref,x,y,rot,side\nR1,one,2,0,top\n", "line 2.*“one” is no number"),
        ("ref,x,y,rot,side\nR1,1,2,0,left\n", "line 2.*“left” is no side"),
        ("ref,x,y,rot,side\nR1,1,2,0,top\nR1,1,2,0,top\n", "line 3.*line 2 already"),
        ("ref,x,y,rot,side\nR1,1mm,2mm,0,top\nR2,1mil,2mil,0,top\n", "some in another"),
        ("ref,x,y,rot,side\nR1,1\n", "shorter than the head"),
        ("ref,x,y,rot,side\n", "no places"),
    ],
)
def test_tables_of_places_that_are_wrong_are_refused_with_their_line(text: str, words: str) -> None:
    with pytest.raises(InputError) as error:
        read_centroid(text, "c.csv")
    assert re.search(words, f"{error.value.where} {error.value.message}")


def test_bills_of_materials_in_several_forms() -> None:
    found = read_bom("Part;Refs;DNP\nResistor;R1-R3;\nChip;U1;DNP\n", "b.csv")
    assert [(b.ref, b.words, b.fitted) for b in found] == [
        ("R1", "Resistor", True), ("R2", "Resistor", True), ("R3", "Resistor", True), ("U1", "Chip", False),
    ]  # fmt: skip
    for text, words in (("ref,value\nR1,1\nR1,2\n", "line 2 already"), ("ref\nR1\n", "no head|says nothing")):
        with pytest.raises(InputError, match=words):
            read_bom(text, "b.csv")
    assert format_of("list.csv", "Title of it\n\nQty;Designator;Comment\n1;R1;1k\n") == "bom"
    assert format_of("places.csv", "# Ref Val Package PosX PosY Rot Side\n") == "centroid"
    assert format_of("readme.txt", "Dear board house,\nplease make it green.\n") == "other"


def test_package_names_of_other_tools_are_understood() -> None:
    known = shipped()
    for said, ref, wanted in (
        ("R_0603_1608", "R1", "R0603"), ("CAPC2012X100N", "C4", "C0805"), ("LED-0805", "D1", "LED0805"),
        ("SOIC8_150mil", "U1", "SOIC-8"), ("pkg sot-23", "Q1", "SOT-23"), ("SOT23-5", "U2", "SOT-23-5"),
    ):  # fmt: skip
        assert packages_named(said, ref, known)[:1] == [wanted], said
    assert packages_named("ZZ-TOP-9", "U1", known) == []
    assert "SOIC-8" not in packages_named("SOIC-80", "U1", known)[:1]


@pytest.mark.campaign
def test_a_zip_becomes_a_project_whole_or_not_at_all(files: Files, tmp_path: Path) -> None:
    path = tmp_path / "theirs.zip"
    with_tables = {**foreign(files), "Parts list.csv": files["bom.csv"], "places.csv": files["centroid.csv"]}
    path.write_bytes(zip_bytes(with_tables))
    found = adopt_zip(path, tmp_path / "new")
    folder, opened = ProjectFolder.open(tmp_path / "new")
    folder.close()
    assert opened.design == found.design
    assert (tmp_path / "new" / "fabrication" / "given-theirs.zip").read_bytes() == path.read_bytes()
    assert sorted(p.stem for p in (tmp_path / "new" / "packages").glob("*.toml")) == sorted(found.packages)
    path.write_bytes(zip_bytes(foreign(files)))
    with pytest.raises(InputError, match="no tables"):
        adopt_zip(path, tmp_path / "none")
    broken = {n: t.replace("%ADD", "%ADX") if n.endswith("GTL") else t for n, t in with_tables.items()}
    path.write_bytes(zip_bytes(broken))
    with pytest.raises(InputError):
        adopt_zip(path, tmp_path / "none")
    assert not (tmp_path / "none").exists()


def test_places_of_another_board_are_refused(files: Files) -> None:
    wild = "ref,x_mm,y_mm,rotation_deg,side\n" + "".join(
        f"R{k},{500 + 40 * k},{900 - 7 * k},0,top\n" for k in range(1, 9)
    )
    with pytest.raises(InputError, match="of the places lie where"):
        adopted(foreign(files), files["bom.csv"], wild)
