"""The two tables of the prototype: all or nothing, each problem with file, line and column."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.build import build_network
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.tables.importing import export_parts, export_wiring, import_prototype
from zesty_trace.core.tables.rows import ImportFailed

PARTS = "ref,kind,value,package,variants,notes\nR1,resistor,330,,,\nD1,led,red,,,\n"
WIRING = "net,ref,pin\nA,R1,2\nA,D1,A\nGND,D1,K\n"


def problems(parts: str, wiring: str, catalogue: Catalogue) -> list[str]:
    with pytest.raises(ImportFailed) as caught:
        import_prototype(parts, wiring, catalogue)
    return [str(p) for p in caught.value.problems]


def test_pins_by_number_and_by_name(catalogue: Catalogue) -> None:
    design = import_prototype(PARTS, WIRING, catalogue)
    assert design.nets == {"A": (Pin("D1", "2"), Pin("R1", "2")), "GND": (Pin("D1", "1"),)}


def test_demo_has_the_size_that_the_bakery_needs(demo: Design) -> None:
    assert 40 <= len(demo.parts) <= 60
    assert demo.brief.quantity == 12
    assert demo.variants == ("Basic", "Full")
    smaller = demo.fitted("Basic")
    assert "U5" not in smaller.parts
    assert "J4" not in smaller.parts


def test_exporting_and_importing_again_gives_the_same_design(demo: Design, catalogue: Catalogue) -> None:
    again = import_prototype(export_parts(demo), export_wiring(demo), catalogue, demo)
    assert again.parts == demo.parts
    assert again.nets == demo.nets
    assert again.not_connected == demo.not_connected


@pytest.mark.parametrize(
    ("parts", "wiring", "expected"),
    [
        pytest.param(PARTS.replace("kind", "kynd"), WIRING, "parts.csv line 1, column kynd", id="wrong column"),
        pytest.param(PARTS.replace("resistor", "resister"), WIRING, "Did you mean resistor", id="unknown kind"),
        pytest.param(PARTS.replace("330", "lots"), WIRING, "parts.csv line 2, column value", id="bad value"),
        pytest.param(PARTS.replace("330", "-5"), WIRING, "not above zero", id="below zero"),
        pytest.param(PARTS.replace("red", "ultraviolet"), WIRING, "line 3, column value", id="unknown colour"),
        pytest.param(PARTS + "R1,resistor,1k,,,\n", WIRING, "R1 stands there twice", id="reference twice"),
        pytest.param(
            PARTS,
            WIRING + "B,R1,2\n",
            "wiring.csv line 5, column pin: R1.2 is on B here and on A in line 2",
            id="pin twice",
        ),
        pytest.param(PARTS, WIRING + "B,R9,1\n", "R9 is not in the parts table", id="unknown part"),
        pytest.param(PARTS, WIRING + "B,R1,3\n", "has no single pin “3”", id="unknown pin"),
        pytest.param(PARTS, WIRING + "my net,R1,1\n", "cannot name a net", id="bad net"),
        pytest.param("", WIRING, "the file is empty", id="empty file"),
        pytest.param(PARTS, WIRING + "A,R1,1,extra\n", "more cells", id="too many cells"),
        pytest.param(
            PARTS.replace("R1,resistor,330,,", "R1,resistor,330,R9999,"), WIRING, "does not come in", id="package"
        ),
    ],
)
def test_bad_tables_say_where(parts: str, wiring: str, expected: str, catalogue: Catalogue) -> None:
    assert any(expected in p for p in problems(parts, wiring, catalogue))


def test_every_problem_is_reported_at_once(catalogue: Catalogue) -> None:
    found = problems(PARTS.replace("330", "lots").replace("red", "pink"), WIRING, catalogue)
    assert sum("column value" in p for p in found) == 2


def test_byte_order_mark_and_blank_lines_are_harmless(catalogue: Catalogue) -> None:
    assert import_prototype("\ufeff" + PARTS + "\n\n", WIRING, catalogue).parts.keys() == {"R1", "D1"}


def test_importing_anew_keeps_the_board_of_what_is_still_there(routed: Design, catalogue: Catalogue) -> None:
    fewer = "\n".join(r for r in export_parts(routed).splitlines() if not r.startswith(("R14,", "D4,")))
    wiring = "\n".join(r for r in export_wiring(routed).splitlines() if ",R14," not in r and ",D4," not in r)
    after = import_prototype(fewer, wiring, catalogue, routed)
    assert after.board.placements.keys() == routed.board.placements.keys() - {"R14", "D4"}
    assert "LED_HEAT_A" not in {t.net for t in after.board.tracks}
    assert {t.net for t in after.board.tracks} <= after.nets.keys()


TABLE = "ref,kind,value\nR1,resistor,{}\nR2,resistor,1k\n"
WIRES = "net,ref,pin\nA,R1,1\nA,R2,1\nGND,R1,2\nGND,R2,2\n"


def test_a_link_of_no_ohms_is_a_link(catalogue: Catalogue) -> None:
    for text in ("0", "0R", "0 Ω", "0 ohm"):
        design = import_prototype(TABLE.format(text), WIRES, catalogue)
        assert build_network(Wired(design, catalogue)).elements[0].values["ohm"] < 0.05


@pytest.mark.parametrize(
    ("parts", "wiring", "said"),
    [
        pytest.param("# supply: five\n" + TABLE.format("1k"), WIRES, "line 1, column supply", id="supply"),
        pytest.param("ref,kind,value,value\nR1,resistor,1k,2k\n", WIRES, "“value” is there twice", id="column twice"),
        pytest.param(TABLE.format("1" * 5000), WIRES, "a cell of 5,000 letters", id="long"),
        pytest.param(TABLE.format("1" * 200_000), WIRES, "a cell is too long", id="longer"),
        pytest.param(TABLE.format("1e999"), WIRES, "out of range", id="huge"),
        pytest.param(TABLE.format("1k"), WIRES.replace("GND,R2", "Gnd,R2"), "Gnd is written GND in line 4", id="case"),
        pytest.param("ref,kind,value,supply\nR1,resistor,1k,5 V\n", WIRES, "brings no supply", id="no inlet"),
    ],
)
def test_odd_tables_are_told_with_their_place(catalogue: Catalogue, parts: str, wiring: str, said: str) -> None:
    assert any(said in p for p in problems(parts, wiring, catalogue))


@pytest.mark.campaign  # a load, not a case
def test_ninety_thousand_problems_are_counted_and_twenty_told(catalogue: Catalogue) -> None:
    with pytest.raises(ImportFailed) as caught:
        import_prototype(TABLE.format("1k"), "net,ref,pin\n" + "A,Q1,1\n" * 90_000, catalogue)
    told = caught.value.told()
    assert len(told) == 21
    assert told[-1] == "and 89,980 more"


def test_what_people_write_of_supply_references_and_open_pins(catalogue: Catalogue) -> None:
    parts = "# supply: 5 V 2 A\nref;kind;value;;\nR1;resistor;4,7k;;\nr2;resistor;1k;;\n"
    design = import_prototype(parts, "net;ref;pin\nA;r1;1\nA;R2;1\nnc;R2;2\n", catalogue)
    assert (design.brief.supply_v, design.brief.supply_limit_a) == (5.0, 2.0)
    assert design.not_connected == (Pin("r2", "2"),)
    assert design.nets["A"] == (Pin("R1", "1"), Pin("r2", "1"))


def test_an_inlet_says_what_it_brings_in_its_value_or_its_column(catalogue: Catalogue) -> None:
    for table in ("ref,kind,value\nJ1,barrel_jack,12 V 2 A\n", "ref,kind,supply\nJ1,barrel_jack,12 V 2 A\n"):
        assert import_prototype(table, "net,ref,pin\nA,J1,TIP\n", catalogue).parts["J1"].value == "12 V 2 A"


def test_nothing_is_lost_on_a_round_trip(catalogue: Catalogue) -> None:
    """A variant that no part is limited to, and a note of several lines, one of which looks like a remark."""
    base = replace(import_prototype(TABLE.format("1k"), WIRES, catalogue), variants=("Full", "Plain"))
    base = edits.change_part(base, "R1", notes='two\n# lines, "quoted"')
    again = import_prototype(export_parts(base), export_wiring(base), catalogue)
    assert (again.parts, again.nets, again.variants) == (base.parts, base.nets, base.variants)
