"""Pages of the sheet, and edits drawn at once: nothing lost, nothing overlapping, links named on both sides."""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, group_edits
from zesty_trace.core.design.model import Design, Page
from zesty_trace.core.schematic.amend import amend
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.pages import pages_of, propose_pages
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.core.wording.sentences import say

from .test_schematic import check_connections


@pytest.fixture(scope="module")
def paged(mended: Design, catalogue: Catalogue) -> Design:
    return group_edits.set_pages(mended, propose_pages(Wired(mended, catalogue), 25))


def test_pages_hold_each_part_once(paged: Design, catalogue: Catalogue) -> None:
    pages = pages_of(Wired(paged, catalogue))
    assert len(pages) >= 2
    drawn = [s.ref for page in pages for s in arrange(Wired(paged, catalogue), page).symbols]
    assert sorted(drawn) == sorted(r for r in paged.parts if not r.startswith("H"))


def test_nets_that_go_on_elsewhere_say_on_which_page(paged: Design, catalogue: Catalogue) -> None:
    pages = pages_of(Wired(paged, catalogue))
    sheets = {p.name: arrange(Wired(paged, catalogue), p) for p in pages}
    home = {s.ref: name for name, sheet in sheets.items() for s in sheet.symbols}
    for name, sheet in sheets.items():
        rails = {r.net for r in sheet.rails}
        for net, pins in paged.nets.items():
            elsewhere = {home[p.ref] for p in pins} - {name}
            here = [p for p in pins if home[p.ref] == name]
            if not elsewhere or not here or net in rails:
                continue
            marks = {t.mark for t in sheet.tags if t.net == net}
            assert marks == {f" ›{','.join(sorted(elsewhere))}"}, net
        quality = wire_quality(sheet.wires, sheet.symbols)
        assert (quality["overlaps"], quality["through parts"]) == (0, 0)


def test_blocks_that_no_page_names_go_on_the_first(mended: Design, catalogue: Catalogue) -> None:
    design = group_edits.set_pages(
        mended, [Page(name="one", blocks=("Power",)), Page(name="two", blocks=("Bus", "Gone"))]
    )
    pages = pages_of(Wired(design, catalogue))
    assert "Controller" in pages[0].blocks
    assert pages[1].blocks == ("Bus",)
    assert pages_of(Wired(mended, catalogue)) == []


EDITS = [
    "R9 = 2k2",
    "U3.P15 - R90 330 - D90 red - GND",
    "U5.ADR to GND",
    "delete R6",
    "rename SDA to DATA",
    "add U9 line_buffer_4",
    "copy R9",
]


@pytest.mark.parametrize("sentence", EDITS)
def test_edit_is_drawn_at_once_and_says_what_the_nets_say(sentence: str, mended: Design, catalogue: Catalogue) -> None:
    before = arrange(Wired(mended, catalogue))
    after = say(sentence, Wired(mended, catalogue))
    sheet = amend(before, mended, Wired(after, catalogue))
    assert sorted(s.ref for s in sheet.symbols) == sorted(r for r in after.parts if not r.startswith("H"))
    quality = wire_quality(sheet.wires, sheet.symbols)
    assert (quality["overlaps"], quality["through parts"]) == (0, 0)
    check_connections(sheet, after)


def test_only_what_changed_is_drawn_again(mended: Design, catalogue: Catalogue) -> None:
    before = arrange(Wired(mended, catalogue))
    after = say("U3.P15 - R90 330 - GND", Wired(mended, catalogue))
    sheet = amend(before, mended, Wired(after, catalogue))
    old = {(w.net, w.points) for w in before.wires if w.net not in ("GND", "U3_22")}
    assert old - {(w.net, w.points) for w in sheet.wires} == set()
    assert amend(before, mended, Wired(edits.change_part(mended, "R9", value="1k"), catalogue)) is before


def test_moved_part_takes_its_wires_along(mended: Design, catalogue: Catalogue) -> None:
    before = arrange(Wired(mended, catalogue))
    spot = next(s for s in before.symbols if s.ref == "R9")
    after = edits.move_on_sheet(mended, {"R9": (before.width + 10, 20)})
    sheet = amend(before, mended, Wired(after, catalogue))
    moved = next(s for s in sheet.symbols if s.ref == "R9")
    assert (moved.x, moved.y) == (before.width + 10, 20) != (spot.x, spot.y)
    ends = {p for w in sheet.wires for p in (w.points[0], w.points[-1])} | {t.at for t in sheet.tags}
    assert all(moved.pin_at(p) in ends for p in moved.symbol.pins)
