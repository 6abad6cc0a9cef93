"""Placing for the user: everything on the board, apart, near what it serves, and shorter than without annealing."""

from __future__ import annotations

from itertools import combinations

import pytest
from msgspec.structs import replace

from tests.corpus import cases
from zesty_trace.core.board.copper import antenna_zone, courtyard_shape, outline_shape
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.placing.arrange import arrange_parts
from zesty_trace.core.board.placing.measure import measure_placing
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import route
from zesty_trace.core.board.rules.keepouts import check_keepouts
from zesty_trace.core.board.rules.spacing import check_spacing
from zesty_trace.core.board.voltages import mains_nets, spacings
from zesty_trace.core.board.words.say_outline import change_board
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.progress import quiet
from zesty_trace.errors import Cancelled, InputError

pytestmark = pytest.mark.campaign


def _prototype(name: str) -> Wired:
    return cases.faultless(next(p for p in cases.prototypes() if p.name == name))


@pytest.mark.parametrize("name", ["base", "soil logger", "two fuses"])
def test_a_placing_is_legal_and_shorter(name: str) -> None:
    wired = _prototype(name)
    plain = wired.with_design(place_rest(wired))
    better = wired.with_design(arrange_parts(wired))
    assert set(better.design.board.placements) == set(wired.design.parts)
    rooms = {r: courtyard_shape(better, r) for r in better.design.board.placements}
    assert not [(a, b) for a, b in combinations(rooms, 2) if rooms[a].intersection(rooms[b]).area > 0.02]
    board = outline_shape(better.design).buffer(0.01)
    loose = [r for r, room in rooms.items() if not better.kind(r).connector and not board.covers(room)]
    assert loose == []
    one, two = measure_placing(plain), measure_placing(better)
    assert two.links_mm < one.links_mm
    assert two.findings <= one.findings


def test_the_same_seed_gives_the_same_placing() -> None:
    wired = _prototype("base")
    assert arrange_parts(wired, seed=3) == arrange_parts(wired, seed=3)


def test_held_and_placed_parts_stay() -> None:
    wired = _prototype("base")
    ref = next(r for r in wired.design.parts if r.startswith("R"))
    some = understand_placing(f"{ref} at 20, 20", edits.set_board(place_rest(wired), placements={})).design
    after = arrange_parts(wired.with_design(some))
    assert after.board.placements[ref] == some.board.placements[ref]


def test_placing_anew_takes_the_machines_copper_off() -> None:
    wired = _prototype("base")
    routed = route(wired.with_design(place_rest(wired))).design
    hand = (replace(routed.board.tracks[0], made="hand"),)
    mixed = edits.set_board(routed, tracks=(*hand, *routed.board.tracks[1:]))
    after = arrange_parts(wired.with_design(mixed), everything=True, moves_a_part=200)
    assert after.board.tracks == hand
    assert not after.board.vias


def test_placing_can_be_watched_and_stopped() -> None:
    wired = _prototype("base")
    seen: list[Design] = []
    arrange_parts(wired, quiet, seen.append, moves_a_part=500)
    assert len(seen) > 5
    with pytest.raises(Cancelled):
        arrange_parts(wired, lambda share, _: share < 0.5)


def test_routing_that_is_stopped_keeps_what_is_joined() -> None:
    wired = _prototype("base")
    placed = wired.with_design(place_rest(wired))
    told: list[float] = []

    def stop_soon(share: float, _text: str) -> bool:
        told.append(share)
        return len(told) < 3

    with pytest.raises(Cancelled):
        route(placed, stop_soon)
    told.clear()
    result = route(placed, stop_soon, keep=True)
    assert result.stopped
    assert result.conflicts == 0
    drawn: list[Design] = []
    whole = route(placed, draw=drawn.append)
    assert not whole.stopped
    assert whole.missing == 0


def test_mains_stays_apart_through_placing_and_routing() -> None:
    """6 mm from all else and 2.5 mm among the lines: common practice, and IPC-2221 B2 for 325 V (from memory)."""
    wired = _prototype("pond pump")
    assert mains_nets(wired) >= {"L", "N", "SN"}  # SN hangs between two of them behind a resistor and a capacitor
    assert spacings(wired).need_mm("L", "GND") == 6.0
    assert spacings(wired).need_mm("L", "N") == 2.5
    placed = wired.with_design(arrange_parts(wired))
    result = route(placed)
    assert result.missing == 0
    assert list(check_spacing(wired.with_design(result.design))) == []


def test_below_an_antenna_there_is_no_copper() -> None:
    parts = {"U1": Part(ref="U1", kind="radio_module"), "C1": Part(ref="C1", kind="ceramic_capacitor", value="10u")}
    nets = {
        "GND": (Pin("U1", "1"), Pin("U1", "14"), Pin("U1", "16"), Pin("C1", "2")),
        "3V3": (Pin("U1", "2"), Pin("C1", "1")),
    }
    wired = Wired(Design(parts=parts, nets=nets), shipped())
    placed = wired.with_design(arrange_parts(wired))
    after = wired.with_design(route(placed).design)
    zone = antenna_zone(after, "U1")
    assert zone is not None
    from shapely import Polygon

    area = Polygon([(x / 1e6, y / 1e6) for x, y in zone.outline])
    assert area.area == pytest.approx(16 * 6)
    for layer in ("top", "bottom"):
        for _, fill in pour_shapes(after, layer):  # type: ignore[arg-type]
            assert fill.intersection(area.buffer(-0.01)).area < 0.001
    assert list(check_keepouts(after)) == []
    edge = outline_shape(after.design).boundary
    assert edge.distance(area) < 1.0  # the radiating end is at the edge


def test_any_angle_and_groups_on_a_circle() -> None:
    parts = {r: Part(ref=r, kind="resistor", value="1k") for r in ("R1", "R2", "R3", "R4", "R5", "R6")}
    design = Design(parts=parts)
    design = understand_placing("R1 at 10, 10", design).design
    design = understand_placing("turn R1 22.5", design).design
    assert design.board.placements["R1"].angle_mdeg == 22_500
    design = understand_placing("R4 at 10, 12", design).design
    design = understand_placing("turn R1 -22.5", design).design
    design = understand_placing("R1..R3 with R4..R6 on circle 40mm about 50, 50 from 90 to 0", design).design
    spots = design.board.placements
    assert (spots["R1"].x_nm, spots["R1"].y_nm) == (50_000_000, 70_000_000)
    assert (spots["R3"].x_nm, spots["R3"].y_nm) == (70_000_000, 50_000_000)
    assert (spots["R4"].x_nm, spots["R4"].y_nm) == (50_000_000, 72_000_000)
    assert (spots["R6"].x_nm, spots["R6"].y_nm) == (72_000_000, 50_000_000)
    assert spots["R6"].angle_mdeg == 270_000
    with pytest.raises(InputError):
        understand_placing("R1..R3 with R4..R5 on circle 40mm", design)


def test_a_class_does_not_silence_what_voltage_asks_within_one_part() -> None:
    """Mains and low voltage on two pads of one part are a stop, whether or not one of the nets is in a class."""
    chip = Part(ref="U1", kind="controller_32_qfn")
    inlet = Part(ref="J1", kind="mains_terminal_2", value="230 V")
    nets = {"L": (Pin("J1", "1"), Pin("U1", "1")), "A": (Pin("U1", "2"),), "N": (Pin("J1", "2"),)}
    placed = Design(parts={"U1": chip, "J1": inlet}, nets=nets)
    for words in ("outline 80 x 40", "J1 at 10, 20", "U1 at 60, 20"):
        placed = understand_placing(words, placed).design
    assert "L" in mains_nets(Wired(placed, shipped()))
    for text in ("", "class hot: L gap 0.3", "class quiet: A gap 0.3"):
        design = change_board(text, placed) if text else placed
        said = {frozenset(f.nets) for f in check_spacing(Wired(design, shipped())) if f.rule == "mains spacing"}
        assert frozenset(("A", "L")) in said
