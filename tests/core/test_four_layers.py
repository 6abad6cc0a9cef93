"""Boards of four layers: routed, reviewed, and traced from their files alone."""

from __future__ import annotations

import re
from decimal import Decimal

import networkx as nx
import pytest
from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board
from msgspec.structs import replace
from shapely import STRtree, box
from shapely.geometry import Point as Spot

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.fields.conduction import RESISTIVITY_OHM_M, barrel_ohm, depths_mm, resistance, sheet_ohm
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import route
from zesty_trace.core.board.rule_sets import set_rules
from zesty_trace.core.board.rules.currents import check_currents
from zesty_trace.core.board.rules.leftovers import NO_LAYER
from zesty_trace.core.board.stitch import stitch
from zesty_trace.core.board.voltages import spacing_mm
from zesty_trace.core.board.widths import needed_width_nm
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, KeepOut, Pour, Rules, Track, Via
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.layers import all_files
from zesty_trace.core.fabrication.looking.intake import intake
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.fabrication.package import fabrication_files
from zesty_trace.core.findings import Severity
from zesty_trace.core.geometry import Point
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.gerber.writing import GerberWriter
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.quote import board_price, order_of
from zesty_trace.errors import InputError

FOUR = ("top", "inner1", "inner2", "bottom")


@pytest.fixture(scope="module")
def four(mended: Design, catalogue: Catalogue) -> Wired:
    """The demo, placed and routed on four layers."""
    wired = Wired(set_rules(mended, "four-layers"), catalogue)
    wired = wired.with_design(place_rest(wired))
    result = route(wired)
    assert result.missing == 0
    return wired.with_design(result.design)


def pieces_in_files(files: dict[str, str]) -> tuple[nx.Graph, dict[str, list]]:
    """Return what the images and drills join, from their text alone: polygons of each layer, barrels between them."""
    areas = {layer: list(getattr(read_gerber(files[f"copper-{layer}.gbr"]).shape, "geoms", [])) for layer in FOUR}
    graph = nx.Graph()
    graph.add_nodes_from((layer, k) for layer, found in areas.items() for k in range(len(found)))
    trees = {layer: STRtree(found) for layer, found in areas.items()}
    for hole in read_drill(files["drill-plated.xnc"]).holes:
        barrel = Spot(*hole.points[0]).buffer(hole.diameter / 2 + 0.01)
        met = [(layer, k) for layer in FOUR for k in trees[layer].query(barrel, predicate="intersects").tolist()]
        graph.add_edges_from((met[0], other) for other in met[1:])
    return graph, areas


@pytest.mark.campaign
def test_the_files_of_four_layers_join_each_net_and_no_two(four: Wired) -> None:
    files = all_files(four)
    assert {n for n in files if n.startswith("copper")} == {f"copper-{layer}.gbr" for layer in FOUR}
    functions = [read_gerber(files[f"copper-{layer}.gbr"]).function for layer in FOUR]
    assert functions == ["Copper,L1,Top", "Copper,L2,Inr", "Copper,L3,Inr", "Copper,L4,Bot"]
    assert "Plated,1,4,PTH" in files["drill-plated.xnc"]
    graph, areas = pieces_in_files(files)
    piece_of = {node: k for k, found in enumerate(nx.connected_components(graph)) for node in found}
    trees = {layer: STRtree(found) for layer, found in areas.items()}
    of_net: dict[str, set[int]] = {}
    for pad in board_pads(four):
        if pad.net and pad.layers:
            layer = pad.layers[0]
            ring = Spot(pad.x_nm / 1e6, pad.y_nm / 1e6).buffer(min(pad.width_nm, pad.height_nm) / 2e6)
            under = trees[layer].query(ring, predicate="intersects").tolist()
            assert under, pad.pin
            of_net.setdefault(pad.net, set()).update(piece_of[layer, k] for k in under)
    assert all(len(found) == 1 for found in of_net.values()), {n: f for n, f in of_net.items() if len(f) > 1}
    assert len(set.union(*of_net.values())) == len(of_net)  # no two nets are one piece


@pytest.mark.campaign
def test_intake_looks_at_rings_and_walls_on_inner_layers(four: Wired) -> None:
    files = fabrication_files(four)
    whole = intake(read_set(files))
    assert whole.passed, whole.queries
    wide = re.sub(r"^(T\d+C)0\.250$", r"\g<1>0.640", files["drill-plated.xnc"], flags=re.M)
    found = intake(read_set({**files, "drill-plated.xnc": wide}))
    assert [q for q in found.queries if q.rule == "ring"]
    broken = Measures(read_set({**files, "drill-plated.xnc": wide}))
    assert {"inner1", "inner2"} & {r.layer for r, _ in broken.rings if r.mm < 0}


@pytest.mark.parametrize(("gap", "found"), [(0.3, False), (0.15, True), (0.02, True)])
def test_a_hole_that_passes_an_inner_plane_too_near_is_found(gap: float, found: bool) -> None:
    writers = {}
    for name, function in (("copper-top", "Copper,L1,Top"), ("copper-bottom", "Copper,L4,Bot")):
        writers[name] = GerberWriter(function)
        writers[name].flash("round", 5, 5, 0.7, 0.7)
    for k in (1, 2):
        writers[f"copper-inner{k}"] = GerberWriter(f"Copper,L{k + 1},Inr")
        writers[f"copper-inner{k}"].fill([box(0.5, 0.5, 19.5, 9.5).difference(Spot(5, 5).buffer(0.2 + gap))])
    drill = "M48\n; #@! TF.FileFunction,Plated,1,4,PTH\nMETRIC\nT01C0.400\n%\nG05\nT01\nX5.0Y5.0\nM30\n"
    files = {**{f"{n}.gbr": w.text() for n, w in writers.items()}, "d.xnc": drill}
    queries = [q for q in intake(read_set(files)).queries if q.rule == "hole and copper"]
    assert bool(queries) == found
    if queries:
        assert f"{gap:.3f} mm from copper of inner1" in queries[0].title
        assert queries[0].at[0] == (5.0, 5.0)


@pytest.mark.campaign
def test_planes_lie_inside_and_nothing_stops_the_board(four: Wired) -> None:
    assert [(p.net, p.layer) for p in four.design.board.pours if "inner" in p.layer] == [
        ("GND", "inner1"),
        ("3V3", "inner2"),
    ]
    assert not [f.title for f in check_board(four) if f.severity is Severity.STOP]
    verdict = judge(four)
    assert (verdict.open, verdict.too_near, verdict.islands) == (0, (), 0)
    assert not [t for t in four.design.board.tracks if "inner" in t.layer]  # no track cuts a plane


@pytest.mark.campaign
@pytest.mark.parametrize("planes", [True, False])
def test_a_made_up_board_is_routed_on_four_layers(planes: bool) -> None:
    wired = random_board(25, 5)
    board = wired.design.board
    pours = board.pours if planes else (*board.pours, Pour(net=wired.ground, layer="inner1", priority=1))
    rules = replace(board.rules, layers=4)
    wired = wired.with_design(edits.set_board(wired.design, rules=rules, pours=pours))
    result = route(wired)
    verdict = judge(wired.with_design(result.design))
    assert (result.missing, verdict.open, verdict.too_near, verdict.islands) == (0, 0, (), 0)
    assert verdict.signal_vias < 60


@pytest.mark.campaign
def test_stitching_ties_three_fills_and_stays_off_what_runs_between(four: Wired) -> None:
    before = len(four.design.board.vias)
    after = four.with_design(stitch(four, "GND", 6_000_000))
    assert len(after.design.board.vias) > before
    verdict = judge(after)
    assert (verdict.open, verdict.too_near, verdict.islands) == (0, (), 0)
    assert not [f.title for f in check_board(after) if f.severity is Severity.STOP]


def bar(layer: str) -> Wired:
    """Return a board of four layers with R1's and R2's pads joined by vias and a bar 20 mm long on one layer."""
    from zesty_trace.core.catalogue.kinds import shipped
    from zesty_trace.core.design.model import Part, Pin, Placement

    design = Design(parts={r: Part(ref=r, kind="resistor", value="1k", package="R0603") for r in ("R1", "R2")})
    for ref in ("R1", "R2"):
        design = edits.connect(design, Pin(ref, "1"), "A")
    outline = (Point(0, 0), Point(40_000_000, 0), Point(40_000_000, 20_000_000), Point(0, 20_000_000))
    design = edits.set_board(design, outline=outline, rules=Rules(layers=4))
    for k, ref in enumerate(("R1", "R2")):
        design = edits.place(design, ref, Placement(x_nm=10_000_000 + 20_000_000 * k, y_nm=10_000_000, fixed=True))
    wired = Wired(design, shipped())
    spots = [(p.x_nm, p.y_nm) for p in board_pads(wired) if p.net == "A"]
    vias = [Via(net="A", x_nm=x, y_nm=y, diameter_nm=900_000, drill_nm=500_000) for x, y in spots]
    tracks = [Track(net="A", layer=layer, width_nm=500_000, points=tuple(Point(*s) for s in spots))]
    return wired.edited(edits.set_copper, tracks, vias, [])


@pytest.mark.parametrize("layer", ["inner1", "bottom"])
def test_a_bar_on_an_inner_layer_has_the_resistance_of_its_thinner_copper(layer: str) -> None:
    from zesty_trace.core.design.model import Pin

    wired = bar(layer)
    found = resistance(wired, Pin("R1", "1"), Pin("R2", "1")).resistance_ohm
    micron = {"inner1": 17.5, "bottom": 35.0}[layer]
    squares = (20.0 - 0.9) / 0.5  # between the rims of the vias' rings
    strip = squares * RESISTIVITY_OHM_M / (micron * 1e-6)
    depth = {"inner1": 0.2, "bottom": 1.6}[layer]
    assert found == pytest.approx(strip + 2 * barrel_ohm(0.5, depth), rel=0.03)
    assert depths_mm(4, 1.6) == pytest.approx([0.0, 0.2, 1.4, 1.6])
    assert sheet_ohm(17.5) == pytest.approx(2 * sheet_ohm(35.0))


def test_copper_on_a_layer_that_is_not_there_stops_and_is_taken_off() -> None:
    wired = bar("inner2")
    two = wired.edited(edits.set_board, rules=Rules(layers=2), pours=(Pour(net="A", layer="inner1"),))
    (found,) = [f for f in check_board(two) if f.rule == NO_LAYER.id]
    assert found.severity is Severity.STOP
    assert found.value == 2
    assert found.mend is not None
    mended = found.mend.apply(two.design)
    assert not mended.board.tracks
    assert not mended.board.pours
    assert not [f for f in check_board(two.with_design(mended)) if f.rule == NO_LAYER.id]
    assert not [f for f in check_board(wired) if f.rule == NO_LAYER.id]


def test_fewer_layers_take_the_machines_inner_copper_along_but_not_what_is_made_by_hand() -> None:
    design = bar("inner1").edited(edits.set_board, pours=(Pour(net="A", layer="inner2"),)).design
    hand = replace(design.board.tracks[0], made="hand")
    both = edits.set_board(design, tracks=(*design.board.tracks, hand))
    assert set_rules(both, "fine").board.tracks == (hand,)
    assert not set_rules(both, "fine").board.pours
    assert set_rules(both, "four-layers").board.tracks == both.board.tracks


def test_a_heavy_track_inside_is_judged_by_the_inner_figure() -> None:
    rules = Rules(layers=4)
    outer, inner = (needed_width_nm(2.0, rules, layer) for layer in ("top", "inner1"))
    assert inner / outer == pytest.approx(2 * 2 ** (1 / 0.725))  # half the copper, and half the constant (IPC-2221)
    assert spacing_mm(48, inner=True) == 0.1  # IPC-2221, table 6-1, B1 and B2; from memory
    assert spacing_mm(48) == 0.6
    assert spacing_mm(600, inner=True) == pytest.approx(0.5)
    assert list(check_currents(bar("inner1"))) == []


def test_pours_are_said_in_a_sentence_and_a_keep_out_is_for_all_layers_unless_it_names_some() -> None:
    wired = bar("top")
    said = understand_placing("pour a on inner 2 in 10 x 8 at 12, 10 gap 0.4 priority 3", wired.design)
    (pour,) = said.design.board.pours
    assert (pour.net, pour.layer, pour.clearance_nm, pour.priority) == ("A", "inner2", 400_000, 3)
    assert {p.x_nm for p in pour.outline} == {7_000_000, 17_000_000}
    closed = KeepOut(outline=(Point(0, 0), Point(40_000_000, 0), Point(40_000_000, 20_000_000)))
    whole = understand_placing("pour A on inner2", wired.design).design
    area = [sum(a.area for _, a in pour_shapes(wired.with_design(d), "inner2")) for d in (whole, said.design)]
    assert area[0] > 600 > area[1] > 0
    kept = wired.with_design(edits.set_board(whole, keepouts=(closed,)))
    left = sum(a.area for _, a in pour_shapes(kept, "inner2"))
    assert left < area[0] / 1.8
    assert not understand_placing("no pour on inner2", whole).design.board.pours
    with pytest.raises(InputError, match="no layer inner1"):
        understand_placing("pour A on inner1", edits.set_board(whole, rules=Rules()))
    with pytest.raises(InputError, match="no net B"):
        understand_placing("pour B on top", whole)


def test_four_layers_are_ordered_and_paid_as_such() -> None:
    design = bar("top").design
    two = edits.set_board(design, rules=Rules())
    house = next(h for h in load_houses() if h.name == "Quay Circuits")
    dear, cheap = (board_price(house, order_of(d)) for d in (design, two))
    assert dear is not None
    assert cheap is not None
    assert dear[1].amount > cheap[1].amount * Decimal("1.3")
