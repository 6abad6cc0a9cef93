"""The two tables of the prototype: all or nothing, each problem with file, line and column."""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.tables.importing import ImportFailed, export_parts, export_wiring, import_prototype

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
        pytest.param(PARTS.replace("330", "0"), WIRING, "not above zero", id="zero ohm"),
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
