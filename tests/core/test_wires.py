"""The wire router alone: random parts, and a handful of traps drawn by hand."""

from __future__ import annotations

import itertools

import networkx as nx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.schematic.paths import Grid, corners, find_path
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.core.schematic.sheet import PlacedSymbol, Wire
from zesty_trace.core.schematic.symbols import Symbol, SymbolPin
from zesty_trace.core.schematic.wires import route_wires


def block(ref: str, x: int, y: int) -> PlacedSymbol:
    pins = tuple(
        SymbolPin(str(k), str(k), px, py, side)
        for k, (px, py, side) in enumerate([(-4, 0, "left"), (4, 0, "right"), (0, -3, "top"), (0, 3, "bottom")], 1)
    )
    return PlacedSymbol(ref, Symbol("box", -3, -2, 3, 2, pins), x, y, 0, "block")


def design_of(nets: dict[str, list[tuple[str, str]]], refs: list[str]) -> Design:
    from zesty_trace.core.design.model import Part

    parts = {r: Part(ref=r, kind="resistor") for r in refs}
    return Design(parts=parts, nets={n: tuple(Pin(*p) for p in pins) for n, pins in nets.items()})


def test_straight_path_costs_no_bend() -> None:
    path = find_path(Grid(30, 30), 1, (2, 5), (1, 0), {(20, 5)})
    assert corners(path) == ((2, 5), (20, 5))


def test_a_path_leaves_its_pin_outwards() -> None:
    path = find_path(Grid(30, 30), 1, (10, 10), (-1, 0), {(20, 10)})
    assert path[1] != (11, 10)


def test_a_wall_without_a_gap_has_no_path() -> None:
    grid = Grid(20, 20)
    grid.lay_ground([(range(10, 11), range(21))], [])
    assert find_path(grid, 1, (2, 5), None, {(18, 5)}) is None
    assert find_path(grid, 1, (2, 5), None, set()) is None


def test_the_price_of_a_path_is_that_of_dijkstra() -> None:
    """On a grid with walls, against networkx over (cell, direction) states with the same prices."""
    grid = Grid(14, 12)
    walls = [(4, 0, 8), (8, 3, 11), (11, 0, 6)]
    grid.lay_ground([(range(x, x + 1), range(top, low + 1)) for x, top, low in walls], [])
    start, goal = (1, 1), (13, 1)
    graph = nx.DiGraph()
    steps = ((1, 0), (0, 1), (-1, 0), (0, -1))
    for x in range(14):
        for y in range(12):
            for d in (*range(4), -1):
                for nd, (dx, dy) in enumerate(steps):
                    nx_, ny = x + dx, y + dy
                    if not grid.inside(nx_, ny) or grid.body[ny * 14 + nx_] or (d >= 0 and nd == (d + 2) % 4):
                        continue
                    graph.add_edge((x, y, d), (nx_, ny, nd), weight=1.0 + (3.0 if d not in (-1, nd) else 0.0))
    reached = nx.single_source_dijkstra_path_length(graph, (*start, -1))
    best = min(length for (x, y, _), length in reached.items() if (x, y) == goal)
    path = find_path(grid, 1, start, None, {goal})
    assert len(path) - 1 + 3.0 * (len(corners(path)) - 2) == pytest.approx(best)


def test_nets_cross_only_at_right_angles() -> None:
    grid = Grid(20, 20)
    grid.lay(1, [(x, 10) for x in range(2, 18)])
    path = find_path(grid, 2, (10, 2), (0, 1), {(10, 18)})
    assert corners(path) == ((10, 2), (10, 18))
    along = find_path(grid, 2, (1, 10), (1, 0), {(19, 10)})
    assert not any(a[1] == b[1] == 10 and 2 <= a[0] <= 17 for a, b in itertools.pairwise(along))


@pytest.mark.campaign
@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**31))
def test_random_sheets_never_overlap_and_lose_no_pin(seed: int) -> None:
    import random

    rng = random.Random(seed)
    refs = [f"U{k}" for k in range(1, 8)]
    placed = [block(r, 10 + 16 * (k % 4), 10 + 14 * (k // 4)) for k, r in enumerate(refs)]
    pins = [(r, str(n)) for r in refs for n in range(1, 5)]
    rng.shuffle(pins)
    nets: dict[str, list[tuple[str, str]]] = {}
    while len(pins) > 1:
        nets[f"N{len(nets)}"] = [pins.pop() for _ in range(min(len(pins), rng.choice((2, 2, 3, 4))))]
    design = design_of(nets, refs)
    routed = route_wires(Wired(design, shipped()), placed, [], 80, 50)
    wires, tags = routed.wires, routed.tags
    quality = wire_quality(wires, placed)
    assert (quality["overlaps"], quality["through parts"]) == (0, 0)
    spots = {Pin(s.ref, p.number): s.pin_at(p) for s in placed for p in s.symbol.pins}
    for net, members in design.nets.items():
        shown = {point for w in wires if w.net == net for point in (w.points[0], w.points[-1])}
        cells = {c for w in wires if w.net == net for c in _cells(w)}
        named = {t.at for t in tags if t.net == net}
        for pin in members:
            assert len(members) == 1 or spots[pin] in shown | cells | named, (net, pin)


def _cells(wire: Wire) -> set[tuple[int, int]]:
    found = set()
    for (x0, y0), (x1, y1) in zip(wire.points, wire.points[1:], strict=False):
        found |= {(x, y) for x in range(min(x0, x1), max(x0, x1) + 1) for y in range(min(y0, y1), max(y0, y1) + 1)}
    return found


def test_quality_counts_what_is_drawn_wrong_on_purpose() -> None:
    wires = [Wire("A", ((0, 0), (10, 0))), Wire("B", ((5, 0), (8, 0), (8, 6))), Wire("C", ((2, -3), (2, 3)))]
    quality = wire_quality(wires, [block("U1", 8, 5)])
    assert quality["overlaps"] == 3
    assert quality["bends"] == 1
    assert quality["through parts"] > 0
    assert quality["crossings"] >= 1
