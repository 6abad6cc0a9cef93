"""Equal things exchanged, and blocks repeated: the circuit stays, links become shorter, copper goes along."""

from __future__ import annotations

import math

import pytest
from benchmarks.board_judge import judge
from msgspec.structs import replace

from tests.corpus import cases
from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.hand.exchange import channels_of, exchange_equal
from zesty_trace.core.board.hand.repeat import repeat_block
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.router import route
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin, Placement
from zesty_trace.core.geometry import Point
from zesty_trace.core.review.rules import review
from zesty_trace.errors import InputError

MM = 1_000_000


def perimeter(wired: Wired, net: str) -> float:
    """Half the perimeter of the box round the pads of a net, mm, by the pads of the board."""
    spots = [(p.x_nm, p.y_nm) for p in board_pads(wired) if p.net == net]
    xs, ys = zip(*spots, strict=True)
    return (max(xs) - min(xs) + max(ys) - min(ys)) / 1e6


def test_two_resistors_that_stand_crosswise_change_places_and_ends() -> None:
    parts = {r: Part(ref=r, kind="resistor", value="1k", package="R0603") for r in ("R1", "R2")}
    parts |= {r: Part(ref=r, kind="header_2") for r in ("J1", "J2")}
    design = Design(parts=parts)
    for net, pins in {"A": ("J1.1", "R1.2"), "B": ("J2.1", "R2.1"), "C": ("R1.1", "R2.2")}.items():
        for pin in pins:
            design = edits.connect(design, Pin(*pin.split(".")), net)
    outline = (Point(0, 0), Point(60 * MM, 0), Point(60 * MM, 30 * MM), Point(0, 30 * MM))
    design = edits.set_board(design, outline=outline)
    for ref, x, y in (("J1", 5, 5), ("J2", 5, 25), ("R1", 20, 25), ("R2", 20, 5)):
        design = edits.place(design, ref, Placement(x_nm=x * MM, y_nm=y * MM))
    wired = Wired(design, shipped())
    result = exchange_equal(wired)
    after = wired.with_design(result.design)
    assert result.before_mm == pytest.approx(sum(perimeter(wired, n) for n in "ABC"))
    assert result.after_mm == pytest.approx(sum(perimeter(after, n) for n in "ABC"))
    assert result.after_mm < result.before_mm - 30
    assert after.design.board.placements["R1"].y_nm == 5 * MM
    assert "R1 and R2 change places" in result.words
    assert after.design.nets == design.nets
    held = edits.place(design, "R1", Placement(x_nm=20 * MM, y_nm=25 * MM, fixed=True))
    assert exchange_equal(wired.with_design(held)).design.board.placements["R1"] == held.board.placements["R1"]
    plugs = edits.place(edits.place(design, "J1", design.board.placements["J2"]), "J2", design.board.placements["J1"])
    kept = exchange_equal(wired.with_design(plugs)).design.board.placements
    assert kept["J1"] == plugs.board.placements["J1"]  # nobody finds a plug again that has moved


def test_channels_are_those_whose_pins_do_the_same() -> None:
    kinds = shipped().kinds
    quad = channels_of(kinds["gate_nand_4"])
    assert len(quad) == 4
    assert {len(pins) for pins in quad.values()} == {3}
    assert sorted(n for pins in channels_of(kinds["op_amp_dual"]).values() for n in pins) == [
        "1",
        "2",
        "3",
        "5",
        "6",
        "7",
    ]
    for kind in ("uv_memory_32k", "sram_32k", "negotiation_chip", "buffer_8", "transceiver_8", "zt32_qfn32"):
        if kind in kinds:
            assert channels_of(kinds[kind]) == {}, kind
    assert not [k.id for k in kinds.values() if k.target and channels_of(k)]


@pytest.mark.campaign
def test_the_review_of_an_exchanged_circuit_says_the_same() -> None:
    channels = 0
    for prototype in cases.prototypes()[:14]:
        wired = cases.faultless(prototype)
        design = wired.design
        for k, ref in enumerate(design.parts):
            if not wired.kind(ref).external:
                design = edits.place(design, ref, Placement(x_nm=(k * 37 % 90) * MM, y_nm=(k * 53 % 70) * MM))
        spread = wired.with_design(design)
        result = exchange_equal(spread)
        after = spread.with_design(result.design)
        assert result.after_mm <= result.before_mm
        assert sorted(f.title for f in review(after)) == sorted(f.title for f in review(spread)), prototype.name
        assert sum(map(len, after.design.nets.values())) == sum(map(len, design.nets.values()))
        channels += sum("channel" in word for word in result.words)
    assert channels > 0


@pytest.mark.campaign
@pytest.mark.parametrize("turn", [0, 90_000, 180_000])
def test_a_routed_block_is_repeated_with_its_copper(turn: int) -> None:
    wired = _two_channels()
    first = [r for r in wired.design.parts if r.endswith("1")]
    second = [r[:-1] + "2" for r in first]
    result = route(wired, nets=["IN1", "MID1", "OUT1"])
    assert not [k for k in result.open if k.net in ("MID1", "OUT1")]
    design = repeat_block(result.design, first, second, 70 * MM, 35 * MM, turn)
    after = wired.with_design(design)
    assert not [k for k in connectivity(after).links if k.net in ("MID2", "OUT2")]
    assert not judge(after).too_near
    assert {t.net for t in design.board.tracks} >= {"MID2", "OUT2"}
    again = repeat_block(design, first, second, 70 * MM, 35 * MM, turn)
    assert len(again.board.tracks) == len(design.board.tracks)  # the same copper is not laid twice


@pytest.mark.campaign
@pytest.mark.parametrize(("layers", "turn"), [(2, 0), (2, 90), (4, 0)])
def test_a_routed_block_is_repeated_on_the_other_face_as_its_mirror_image(layers: int, turn: int) -> None:
    wired = _two_channels()
    wired = wired.edited(edits.set_board, rules=replace(wired.design.board.rules, layers=layers))
    design = route(wired, nets=["IN1", "MID1", "OUT1"]).design
    say = f"repeat R1, R11, C1 as R2, R12, C2 at 70, 35 turn {turn} onto the other face"
    after = wired.with_design(understand_placing(say, design).design)
    assert {after.design.board.placements[r].side for r in ("R2", "R12", "C2")} == {"bottom"}
    assert not [k for k in connectivity(after).links if k.net in ("MID2", "OUT2")]
    assert not judge(after).too_near
    lengths = {
        n: sum(math.dist(*t.points[:2]) for t in after.design.board.tracks if t.net == n) for n in ("MID1", "MID2")
    }
    assert lengths["MID1"] == pytest.approx(lengths["MID2"], rel=1e-6)
    stack = after.design.board.stack
    one, two = ([t.layer for t in after.design.board.tracks if t.net == n] for n in ("MID1", "MID2"))
    assert [stack.index(k) for k in one] == [len(stack) - 1 - stack.index(k) for k in two]


def _two_channels() -> Wired:
    parts = {}
    nets: dict[str, list[Pin]] = {}
    for k in "12":
        parts |= {f"R{k}": Part(ref=f"R{k}", kind="resistor", value="1k", package="R0603")}
        parts |= {f"R1{k}": Part(ref=f"R1{k}", kind="resistor", value="2k", package="R0603")}
        parts |= {f"C{k}": Part(ref=f"C{k}", kind="ceramic_capacitor", value="100n", package="C0603")}
        nets |= {f"IN{k}": [Pin(f"R{k}", "1")], f"MID{k}": [Pin(f"R{k}", "2"), Pin(f"R1{k}", "1")]}
        nets |= {f"OUT{k}": [Pin(f"R1{k}", "2"), Pin(f"C{k}", "1")]}
    nets["GND"] = [Pin("C1", "2"), Pin("C2", "2")]
    design = Design(parts=parts, nets={n: tuple(pins) for n, pins in nets.items()})
    outline = (Point(0, 0), Point(100 * MM, 0), Point(100 * MM, 60 * MM), Point(0, 60 * MM))
    design = edits.set_board(design, outline=outline)
    for ref, x, y, a in (("R1", 15, 15, 0), ("R11", 19, 17, 90), ("C1", 15, 20, 0)):
        design = edits.place(design, ref, Placement(x_nm=x * MM, y_nm=y * MM, angle_mdeg=a * 1000))
    return Wired(design, shipped())


def test_a_block_is_mirrored_in_place_and_what_does_not_pair_up_is_refused() -> None:
    wired = _two_channels()
    said = understand_placing("repeat R1, R11, C1 as R2, R12, C2 at 80, 15 mirrored", wired.design)
    spots = said.design.board.placements
    assert (spots["R2"].x_nm, spots["R12"].x_nm, spots["C2"].x_nm) == (80 * MM, 76 * MM, 80 * MM)
    assert (spots["R12"].angle_mdeg, spots["R2"].angle_mdeg) == (90_000, 180_000)
    again = understand_placing("repeat R1, R11, C1 as R2, R12, C2 at 80, 15 onto the other face", said.design).design
    back = understand_placing("repeat R2, R12, C2 as R1, R11, C1 at 15, 15 onto the other face", again).design
    assert {r: back.board.placements[r] for r in ("R1", "R11", "C1")} == {
        r: wired.design.board.placements[r] for r in ("R1", "R11", "C1")
    }
    for words in (
        "repeat R1, R11 as R2 at 80, 15",
        "repeat R1 as C2 at 80, 15",
        "repeat R1 as R1 at 80, 15",
        "repeat R2 as R1 at 80, 15",
        "repeat R1 as R9 at 80, 15",
    ):
        with pytest.raises(InputError):
            understand_placing(words, wired.design)
    held = edits.place(wired.design, "R2", Placement(x_nm=0, y_nm=0, fixed=True))
    with pytest.raises(InputError, match="held"):
        understand_placing("repeat R1 as R2 at 80, 15", held)
