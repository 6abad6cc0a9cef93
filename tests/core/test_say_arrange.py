"""Sentences about several placed parts."""

from __future__ import annotations

import math

import pytest

from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.design.model import Design, Part
from zesty_trace.errors import InputError

MM = 1_000_000
AT = ((10, 10), (14, 13), (30, 9), (22, 20))


@pytest.fixture
def design() -> Design:
    parts = {f"R{k}": Part(ref=f"R{k}", kind="resistor", value="1k") for k in range(1, 6)}
    made = understand_placing("outline 60 x 40", Design(parts=parts)).design
    for k, (x, y) in enumerate(AT, 1):
        made = understand_placing(f"R{k} at {x}, {y}", made).design
    return made


def spots(design: Design) -> list[tuple[float, float]]:
    placed = design.board.placements
    return [(placed[f"R{k}"].x_nm / MM, placed[f"R{k}"].y_nm / MM) for k in range(1, 5)]


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("align R1..R4 left", [(10, 10), (10, 13), (10, 9), (10, 20)]),
        ("align R1..R4 right", [(30, 10), (30, 13), (30, 9), (30, 20)]),
        ("align R1..R4 top", [(10, 20), (14, 20), (30, 20), (22, 20)]),
        ("align R1..R4 bottom", [(10, 9), (14, 9), (30, 9), (22, 9)]),
        ("align R2, R1 y", [(10, 13), (14, 13), (30, 9), (22, 20)]),
        ("spread R1 R2 R3 R4 across", [(10, 10), (10 + 20 / 3, 13), (30, 9), (10 + 40 / 3, 20)]),
        ("spread R1..R3 down", [(10, 11), (14, 13), (30, 9), (22, 20)]),
        ("grid R1..R4 2 at 5, 6 step 8, 100mil", [(5, 6), (13, 6), (5, 8.54), (13, 8.54)]),
        ("swap R1 R3", [(30, 9), (14, 13), (10, 10), (22, 20)]),
    ],
)
def test_where_they_stand_afterwards(design: Design, text: str, wanted: list[tuple[float, float]]) -> None:
    after = understand_placing(text, design).design
    assert spots(after) == [pytest.approx(p, abs=1e-6) for p in wanted]


def test_swapped_parts_take_the_turn_and_face_too(design: Design) -> None:
    turned = understand_placing("flip R3", understand_placing("turn R1 30", design).design).design
    a, b = turned.board.placements["R1"], turned.board.placements["R3"]
    after = understand_placing("swap R1, R3", turned).design.board.placements
    assert (after["R1"], after["R3"]) == (b, a)
    assert understand_placing("swap R1 R3", understand_placing("swap R1 R3", turned).design).design == turned


def test_what_is_locked_is_held(design: Design) -> None:
    held = understand_placing("lock R1, R2", design).design.board.placements
    assert [held[f"R{k}"].fixed for k in (1, 2, 3)] == [True, True, False]
    free = understand_placing("unlock R1..R2", understand_placing("lock R1, R2", design).design).design
    assert free == design


def test_a_circle_facing_in_is_half_a_turn_from_one_facing_out(design: Design) -> None:
    out = understand_placing("R1..R4 on circle 20mm about 30, 20 start 90 facing out", design).design.board.placements
    inside = understand_placing("R1..R4 on circle 20mm about 30, 20 start 90 facing in", design).design.board.placements
    for ref in ("R1", "R2", "R3", "R4"):
        assert (out[ref].x_nm, out[ref].y_nm) == (inside[ref].x_nm, inside[ref].y_nm)
        assert (out[ref].angle_mdeg - inside[ref].angle_mdeg) % 360_000 == 180_000
        assert math.dist((out[ref].x_nm, out[ref].y_nm), (30 * MM, 20 * MM)) == pytest.approx(10 * MM, abs=2)
    assert (out["R1"].x_nm, out["R1"].y_nm) == (30 * MM, 30 * MM)


WRONG = (
    "align R1..R4", "align R9 left", "align R5 left", "spread R1 R2 across", "grid R1..R4 0 at 1, 1 step 2, 2",
    "swap R1 R1", "swap R1", "lock", "grid R1..R4 2 at a, 1 step 2, 2",
)  # fmt: skip


@pytest.mark.parametrize("text", WRONG)
def test_what_is_not_understood_is_said(design: Design, text: str) -> None:
    with pytest.raises(InputError):
        understand_placing(text, design)
