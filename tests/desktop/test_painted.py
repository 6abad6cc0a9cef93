"""Sheets as they are painted: the netlist is read back from the strokes of the SVG, and nothing lies over anything."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from itertools import pairwise
from pathlib import Path

import pytest
from benchmarks.drawing import HARMLESS, faults
from benchmarks.random_designs import random_design
from benchmarks.svg_strokes import read

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.sheet import Sheet, Wire
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.schematic.paper import PrintedPage, write_svg
from zesty_trace.desktop.schematic.view import SheetView

SEEDS = (1, 3, 8, 12, 14, 16, 18, 21)
MM = 96 / 25.4


@pytest.fixture(autouse=True)
def _fonts(qapp) -> None:
    theme.load_fonts(qapp)


def found(wired: Wired, sheet: Sheet, folder: Path) -> dict[str, int]:
    reading = faults(wired, sheet, folder)
    return {what: n for what, n in reading.faults.items() if what not in HARMLESS}


@pytest.mark.parametrize("seed", SEEDS)
def test_a_made_up_design_is_painted_without_a_fault(seed: int, catalogue: Catalogue, tmp_path: Path, qapp) -> None:
    wired = Wired(random_design(seed, catalogue), catalogue)
    assert found(wired, arrange(wired), tmp_path) == {}


def test_the_demo_is_painted_without_a_fault(demo, catalogue: Catalogue, tmp_path: Path, qapp) -> None:
    wired = Wired(demo, catalogue)
    assert found(wired, arrange(wired), tmp_path) == {}


def test_the_reader_would_see_a_wrong_picture(demo, catalogue: Catalogue, tmp_path: Path, qapp) -> None:
    """A wire left out, a flag over a part, a wire that runs on into another net: each is told."""
    wired = Wired(demo, catalogue)
    sheet = arrange(wired)
    signal = next(w for w in sheet.wires if w.net not in ("GND", "3V3", "5V", "12V") and len(w.points) == 2)
    without = replace(sheet, wires=tuple(w for w in sheet.wires if w is not signal))
    assert found(wired, without, tmp_path)["nets in pieces"] == 1
    box = next(s for s in sheet.symbols if s.symbol.look == "box")
    flag = next(t for t in sheet.tags if t.side in ("left", "right"))
    over = replace(sheet, tags=(*sheet.tags, replace(flag, at=(box.x, box.y))))
    assert found(wired, over, tmp_path)["flags on parts"] >= 1
    rail = sheet.rails[0]
    other = next(r for r in sheet.rails if r.band == rail.band and r.net != rail.net)
    joined = replace(sheet, wires=(*sheet.wires, Wire(rail.net, ((5, rail.y), (5, other.y)))))
    assert found(wired, joined, tmp_path)["nets joined"] >= 1


def test_paper_has_no_letter_under_1_8_mm_and_every_part_once(demo, catalogue: Catalogue, tmp_path: Path, qapp) -> None:
    """ISO 3098: the smallest lettering has capitals of 1.8 mm. Capitals of the font are 0.73 of its size."""
    wired = Wired(demo, catalogue)
    pages = write_svg(
        tmp_path / "p.svg", [PrintedPage(SheetView(wired, arrange(wired), wired.ground), "")], date.today()
    )
    assert len(pages) > 1
    words = [w for page in pages for w in read(page).words]
    assert min(w.bottom - w.top for w in words) >= 1.8 * MM - 1e-3
    said = [w.text for w in words]
    for ref in wired.design.parts:
        assert said.count(ref) == (0 if ref.startswith("H") else 1), ref


def test_three_parts_are_not_blown_up(catalogue: Catalogue, tmp_path: Path, qapp) -> None:
    from tests.core.rule_cases import Circuit

    design = Circuit("R1 resistor 1k, R2 resistor 1k, C1 ceramic_capacitor 100n", "A=R1.2 R2.1; B=R2.2 C1.1", bare=True)
    wired = Wired(design.build(catalogue), catalogue)
    (page,) = write_svg(tmp_path / "p.svg", [PrintedPage(SheetView(wired, arrange(wired), ""), "")], date.today())
    words = [w for w in read(page).words if w.text == "R1"]
    assert [w.bottom - w.top < 3.5 * MM for w in words] == [True]


def test_strips_cut_no_wire(demo, catalogue: Catalogue) -> None:
    from zesty_trace.core.schematic.strips import strips

    sheet = arrange(Wired(demo, catalogue))
    pieces = strips(sheet, 60.0)
    assert sum(len(s.wires) for s in pieces) == len(sheet.wires)
    for upper, lower in pairwise(pieces):
        assert max(w.bounds.y1 for w in upper.wires) < min(w.bounds.y0 for w in lower.wires)


@pytest.mark.parametrize("onto", ["U3", "R1", "J6", "C5"])
def test_a_part_dragged_onto_another_is_put_beside_it(
    onto: str, demo, catalogue: Catalogue, tmp_path: Path, qapp
) -> None:
    """At once and after the arrangement: never two parts on one spot, and the picture says what the nets say."""
    from zesty_trace.core.design import edits
    from zesty_trace.core.schematic.amend import amend

    before = Wired(demo, catalogue)
    sheet = arrange(before)
    there = next(s for s in sheet.symbols if s.ref == onto)
    after = before.with_design(edits.move_on_sheet(demo, {"R9": (there.x, there.y)}))
    for drawn in (amend(sheet, demo, after), arrange(after)):
        bodies = {s.ref: s.body() for s in drawn.symbols}
        assert not any(bodies["R9"].meets(b) for ref, b in bodies.items() if ref != "R9")
        wrong = ("nets joined", "nets in pieces", "pins of different nets on one spot", "pins without a lead")
        assert not set(found(after, drawn, tmp_path)) & set(wrong)


# Bundles --------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def memory(catalogue: Catalogue) -> Wired:
    """A controller, a latch and a memory on a data bus and an address bus."""
    from tests.corpus import cases

    return cases.faultless(next(p for p in cases.prototypes() if p.name == "memory board"))


def test_numbered_groups_are_bundles_with_named_taps(memory: Wired, tmp_path: Path, qapp) -> None:
    sheet = arrange(memory)
    assert sorted(b.name for b in sheet.bundles) == ["A0…A7", "D0…D7"]
    assert sorted(t.net for b in sheet.bundles for t in b.taps if b.name == "D0…D7") == sorted(
        f"D{k}" for k in range(8) for _ in range(3)
    )
    reading = faults(memory, sheet, tmp_path)
    assert {what: n for what, n in reading.faults.items() if what not in HARMLESS} == {}
    assert reading.faults["crossings"] <= 10  # it had 77 with a line for each signal


def test_the_reader_would_see_a_tap_that_says_another_signal(memory: Wired, tmp_path: Path, qapp) -> None:
    sheet = arrange(memory)
    first = sheet.bundles[0]
    swapped = (replace(first.taps[0], net=first.taps[1].net), *first.taps[1:])
    wrong = replace(sheet, bundles=(replace(first, taps=swapped), *sheet.bundles[1:]))
    assert found(memory, wrong, tmp_path)["nets joined"] >= 1


@pytest.mark.parametrize(
    "sentence", ["delete R2", "U1.P2 to GND", "U3.D0 to SPARE", "delete U3", "R91 1k - D0", "rename D0 to DX0"]
)
def test_an_edit_of_a_bundled_sheet_is_drawn_at_once_and_right(
    sentence: str, memory: Wired, tmp_path: Path, qapp
) -> None:
    from zesty_trace.core.schematic.amend import amend
    from zesty_trace.core.wording.sentences import say

    after = memory.with_design(say(sentence, memory, asks=False))
    assert found(after, amend(arrange(memory), memory.design, after), tmp_path) == {}
