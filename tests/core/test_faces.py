"""What one face takes, and what a second heating costs."""

from __future__ import annotations

import pytest

from tests.corpus import cases
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.faces import faces_of, grams_per_in2
from zesty_trace.core.board.one_face import try_one_face
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits

pytestmark = pytest.mark.campaign


@pytest.fixture(scope="module")
def placed() -> Wired:
    wired = cases.faultless(next(iter(cases.prototypes())))
    return wired.with_design(place_rest(wired))


def flipped(wired: Wired, count: int) -> tuple[Wired, list[str]]:
    surface = list(faces_of(wired).on_first)[:count]
    design = wired.design
    for ref in surface:
        design = edits.nudge(design, ref, flip=True)
    return wired.with_design(design), surface


def test_parts_of_the_second_face_find_room_on_the_first(placed: Wired) -> None:
    assert not faces_of(placed).both
    both, moved = flipped(placed, 2)
    faces = faces_of(both)
    assert set(faces.on_second) == set(moved)
    plan = try_one_face(both)
    assert plan.design is not None
    after = both.with_design(plan.design)
    assert not faces_of(after).both
    assert not [f for f in check_board(after) if f.rule in ("overlap", "outside")]
    stayed = set(both.design.board.placements) - set(moved)
    assert all(plan.design.board.placements[r] == both.design.board.placements[r] for r in stayed)
    assert any("All fit on the top" in line for line in plan.lines())


def test_a_board_that_is_full_says_what_is_missing(placed: Wired) -> None:
    both, moved = flipped(placed, 2)
    xs = [p[0] for p in both.design.board.outline]
    ys = [p[1] for p in both.design.board.outline]
    spot = both.design.board.placements[faces_of(both).on_first[0]]
    tight = edits.set_outline(
        both.design,
        [
            (spot.x_nm + dx, spot.y_nm + dy)
            for dx, dy in (
                (-2_000_000, -2_000_000),
                (2_000_000, -2_000_000),
                (2_000_000, 2_000_000),
                (-2_000_000, 2_000_000),
            )
        ],
    )
    assert max(xs) > 4_000_000
    assert max(ys) > 4_000_000
    plan = try_one_face(both.with_design(tight))
    assert plan.design is None
    assert "do not all fit" in plan.lines()[-1]
    assert set(plan.faces.on_second) == set(moved)


def test_the_second_heating_names_what_is_too_heavy_for_its_pads(placed: Wired) -> None:
    # 30 g for each square inch of pads: common practice. An 0603 chip is 1.6 x 0.8 x 0.5 mm and some 2 mg.
    chip = next(r for r in faces_of(placed).on_first if placed.footprints[r] in ("R0603", "C0603"))
    assert grams_per_in2(placed, chip) < 5.0
    heavy = {r: grams_per_in2(placed, r) for r in placed.design.board.placements}
    both, _ = flipped(placed, 3)
    assert set(faces_of(both).may_fall) == {r for r in faces_of(both).on_second if heavy[r] > 30.0}
    said = next(f for f in check_board(both) if f.rule == "sides")
    assert "second stencil" in said.detail
    assert said.value == len(faces_of(both).on_second)
