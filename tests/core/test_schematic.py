"""The sheet: nothing overlaps, wires say what the nets say; sentences do what they say."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations, pairwise

import networkx as nx
import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.blocks import propose_blocks
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.core.schematic.sheet import Sheet, Wire
from zesty_trace.core.wording.completing import completions
from zesty_trace.core.wording.sentences import understand
from zesty_trace.errors import EditError, InputError


@pytest.fixture(scope="module")
def sheet(mended: Design, catalogue: Catalogue) -> Sheet:
    return arrange(Wired(mended, catalogue))


def test_every_part_but_holes_is_drawn_once(sheet: Sheet, mended: Design) -> None:
    drawn = [s.ref for s in sheet.symbols]
    assert sorted(drawn) == sorted(r for r in mended.parts if not r.startswith("H"))


def test_no_two_parts_overlap(sheet: Sheet) -> None:
    for a, b in combinations(sheet.symbols, 2):
        l0, t0, r0, b0 = a.body()
        l1, t1, r1, b1 = b.body()
        assert not (l0 < r1 and l1 < r0 and t0 < b1 and t1 < b0), (a.ref, b.ref)


def test_wires_never_overlap_nor_run_through_parts(sheet: Sheet) -> None:
    quality = wire_quality(sheet.wires, sheet.symbols)
    assert quality["overlaps"] == 0
    assert quality["through parts"] == 0
    assert quality["crossings"] <= 20  # measured 8; a readable sheet has few


def test_supplies_are_on_top_and_ground_at_the_bottom_of_each_band(sheet: Sheet) -> None:
    for band in {r.band for r in sheet.rails}:
        rails = [r for r in sheet.rails if r.band == band]
        ground = next(r for r in rails if r.net == "GND")
        inside = [s for s in sheet.symbols if s.band == band]
        assert all(r.y < s.y for r in rails if r is not ground for s in inside)
        assert all(s.y < ground.y for s in inside)


def drawn_connections(sheet: Sheet) -> nx.Graph:
    """The connections that the drawing shows: wires by their points and crossings on rails, tags by their name."""
    graph = nx.Graph()
    for wire in sheet.wires:
        cells = []
        for (x0, y0), (x1, y1) in zip(wire.points, wire.points[1:], strict=False):
            xs = range(min(x0, x1), max(x0, x1) + 1)
            ys = range(min(y0, y1), max(y0, y1) + 1)
            cells += [(x, y) for x in xs for y in ys]
        nx.add_path(graph, [(wire.net, c) for c in (cells or wire.points)])
        for c in cells:
            graph.add_edge((wire.net, c), (wire.net, cells[0]))
    for rail in sheet.rails:
        for x in range(rail.left, rail.right + 1):
            if (rail.net, (x, rail.y)) in graph:
                graph.add_edge((rail.net, (x, rail.y)), ("name", rail.net))
    for tag in sheet.tags:
        graph.add_edge((tag.net, tag.at), ("name", tag.net))
    return graph


def false_joins(sheet: Sheet, design: Design) -> list[str]:
    """What a reader would take for a connection between two nets, by the cells alone.

    Two straight wires that cross are none; an end, a bend, a dot or a pin on another net's wire is.
    """
    wires: dict[tuple[int, int], set[str]] = {}
    marks: dict[tuple[int, int], set[str]] = {}
    for wire in sheet.wires:
        for (x0, y0), (x1, y1) in pairwise(wire.points):
            for x in range(min(x0, x1), max(x0, x1) + 1):
                for y in range(min(y0, y1), max(y0, y1) + 1):
                    wires.setdefault((x, y), set()).add(wire.net)
        for at in wire.points:
            marks.setdefault(at, set()).add(wire.net)
    for rail in sheet.rails:
        for x in range(rail.left, rail.right + 1):
            wires.setdefault((x, rail.y), set()).add(rail.net)
    for net, pins in design.nets.items():
        for at in (spot for pin, spot in sheet.spots().items() if pin in pins):
            marks.setdefault(at, set()).add(net)
    for tag in sheet.tags:
        marks.setdefault(tag.at, set()).add(tag.net)
    joins = [f"{at}: {sorted(wires[at] | nets)}" for at, nets in marks.items() if len(wires.get(at, set()) | nets) > 1]
    return joins + [f"dot {at}: {sorted(wires[at])}" for at in sheet.junctions if len(wires.get(at, {""})) > 1]


def test_the_drawing_connects_exactly_what_the_nets_connect(sheet: Sheet, mended: Design) -> None:
    check_connections(sheet, mended)
    assert false_joins(sheet, mended) == []


def test_a_false_join_would_be_seen(sheet: Sheet, mended: Design) -> None:
    """The check itself: a wire that is led to another net's wire, and a dot on a crossing, are both reported."""
    first = sheet.wires[0]
    other = next(w for w in sheet.wires if w.net != first.net)
    led = replace(first, points=(*first.points, other.points[0]))
    assert false_joins(replace(sheet, wires=(led, *sheet.wires[1:])), mended)
    across = Wire(other.net, ((first.points[0][0], first.points[0][1]), (first.points[-1])))
    assert false_joins(replace(sheet, wires=(*sheet.wires, across)), mended)


def check_connections(sheet: Sheet, design: Design) -> None:
    """networkx: all pins of a net that are on the sheet are joined on the drawing."""
    graph = drawn_connections(sheet)
    spots = sheet.spots()
    for net, pins in design.nets.items():
        shown = [(net, spots[p]) for p in pins if p in spots]
        if len(shown) < 2:
            continue
        reached = nx.node_connected_component(graph, shown[0])
        assert all(s in reached for s in shown), net


def test_a_part_that_the_user_moved_stays_where_it_was_put(mended: Design, catalogue: Catalogue) -> None:
    free = arrange(Wired(mended, catalogue)).width + 12
    moved = edits.move_on_sheet(mended, {"R14": (free, 40)})
    sheet = arrange(Wired(moved, catalogue))
    symbol = next(s for s in sheet.symbols if s.ref == "R14")
    assert (symbol.x, symbol.y) == (free, 40)
    assert wire_quality(sheet.wires, sheet.symbols)["overlaps"] == 0


def test_blocks_gather_what_works_together(mended: Design, catalogue: Catalogue) -> None:
    blocks = propose_blocks(Wired(mended, catalogue))
    assert {blocks[r] for r in ("J1", "F1", "U1", "U2", "C1")} == {"Power"}
    assert {blocks[r] for r in ("Q1", "R6", "R7", "J2", "D2", "BZ1")} == {"Outputs"}
    assert {blocks[r] for r in ("J4", "Q3", "Q4", "R4")} == {"Display"}
    assert blocks["C9"] == blocks["U5"] == "Bus"


def test_an_empty_design_has_an_empty_sheet(catalogue: Catalogue) -> None:
    assert arrange(Wired(Design(), catalogue)).symbols == ()


# Sentences ------------------------------------------------------------------------------------------------------------


def said(sentence: str, design: Design, catalogue: Catalogue) -> Design:
    return understand(sentence, Wired(design, catalogue)).design


def test_a_chain_adds_parts_and_joins_them_in_order(mended: Design, catalogue: Catalogue) -> None:
    design = said("U3.P4 - R20 330 - D7 red - GND", mended, catalogue)
    net_of = design.net_of()
    assert design.parts["R20"].value == "330"
    assert design.parts["D7"].kind == "led"
    assert net_of[Pin("U3", "4")] == net_of[Pin("R20", "1")]
    assert net_of[Pin("R20", "2")] == net_of[Pin("D7", "2")]  # the anode is pin 2
    assert net_of[Pin("D7", "1")] == "GND"
    assert Pin("U3", "4") not in design.not_connected


@pytest.mark.parametrize(
    ("sentence", "pin", "net"),
    [
        ("U5.ADR to GND", Pin("U5", "2"), "GND"),
        ("U3.P5, J5.PROG = LINE", Pin("J5", "2"), "LINE"),
        ("R14 = 470", Pin("R14", "1"), "LED_HEAT"),
        ("disconnect J6.TXD", Pin("J6", "3"), None),
        ("leave J6.RXD open", Pin("J6", "4"), None),
        ("rename SDA to DATA", Pin("U4", "1"), "DATA"),
        ("delete R17", Pin("R17", "1"), None),
        ("U3.P6 to J5.PROG", Pin("U3", "6"), "PROG"),
    ],
)
def test_sentences(sentence: str, pin: Pin, net: str | None, mended: Design, catalogue: Catalogue) -> None:
    spoken = understand(sentence, Wired(mended, catalogue))
    assert spoken.design.net_of().get(pin) == net
    assert spoken.changes


@pytest.mark.parametrize(
    ("sentence", "where", "hint"),
    [
        ("U3.P99 - GND", "U3.P99", "Did you mean"),
        ("R99 - GND", "R99", "R99 330"),
        ("ZZ9 1 - GND", "ZZ9", "No kind starts with ZZ"),
        ("R14 = lots", "lots", "4k7"),
        ("hello", "hello", "Try"),
        ("U3 - GND", "U3", "Write U3."),
        ("U4.SDA - GND", "U4.SDA", "to GND"),
        ("- GND", "-", "Try"),
        ("", "", "Try"),
        ("delete R14 X1", "X1", ""),
    ],
)
def test_what_is_not_understood_points_at_the_word(
    sentence: str, where: str, hint: str, mended: Design, catalogue: Catalogue
) -> None:
    with pytest.raises(InputError) as caught:
        understand(sentence, Wired(mended, catalogue))
    assert caught.value.where == where
    assert hint in caught.value.hint


def test_a_net_name_that_is_taken_is_refused(mended: Design, catalogue: Catalogue) -> None:
    with pytest.raises(EditError, match="another net"):
        understand("rename SDA to SCL", Wired(mended, catalogue))


def test_completion_offers_references_nets_and_pins(mended: Design, catalogue: Catalogue) -> None:
    assert "U3.P13" in completions("U3.P1", Wired(mended, catalogue))
    assert "SENSE_12V" in completions("R1 - SEN", Wired(mended, catalogue))
    assert completions("", Wired(mended, catalogue)) == []
