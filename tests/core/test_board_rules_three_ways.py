"""Each rule of the layout and of the brief speaks on its own mistake, on own kinds too, and not on a sound board."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import timedelta

import pytest
from msgspec.structs import replace

from zesty_trace.core.board.check import check_board
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Measured, Placement, Via
from zesty_trace.core.findings import Finding
from zesty_trace.core.review.brief import brief_findings

from ..conftest import TODAY
from .test_rules_three_ways import with_own_kinds

Break = Callable[[Design], Design]


def put(ref: str, x_mm: float, y_mm: float) -> Break:
    return lambda d: edits.place(d, ref, Placement(x_nm=round(x_mm * 1e6), y_nm=round(y_mm * 1e6)))


def thin_tracks(d: Design) -> Design:
    return edits.set_board(d, tracks=tuple(replace(t, width_nm=100_000) for t in d.board.tracks))


def with_rules(**more: int) -> Break:
    return lambda d: edits.set_board(d, rules=replace(d.board.rules, **more))


LAYOUT: dict[str, Break] = {
    "annular ring": with_rules(annular_nm=900_000),
    "clearance": lambda d: edits.nudge(d, "R14", dx_nm=1_000_000),
    "edge": put("R9", 0.3, 28.0),
    "height": lambda d: edits.set_brief(d, case_depth_nm=10_000_000),
    "holes": lambda d: edits.set_board(
        d, vias=(*d.board.vias, *(Via(net="GND", x_nm=40_000_000 + k * 400_000, y_nm=30_000_000) for k in (0, 1)))
    ),
    "outside": put("R9", 0.3, 28.0),
    "overlap": lambda d: edits.place(d, "R14", d.board.placements["R15"]),
    "sides": lambda d: edits.nudge(d, "R9", flip=True),
    "size": lambda d: edits.set_brief(d, case_width_nm=81_000_000),
    "template": lambda d: edits.nudge(d, "J2", dx_nm=400_000),
    "track width": thin_tracks,
    "unplaced": lambda d: edits.set_board(d, placements={r: p for r, p in d.board.placements.items() if r != "C7"}),
    "unrouted": lambda d: edits.set_board(d, tracks=d.board.tracks[1:], pours=()),
}


def names(found: Iterable[Finding]) -> set[str]:
    """Return the rules that complain; that all parts are on one side is said, and no complaint."""
    return {f.rule for f in found if f.rule != "sides" or "both sides" in f.title}


@pytest.mark.campaign
def test_a_clean_board_of_own_kinds_is_as_quiet_as_one_of_shipped_kinds(routed: Design, catalogue: Catalogue) -> None:
    assert not names(check_board(Wired(routed, catalogue))) & LAYOUT.keys()
    assert not names(check_board(Wired(*with_own_kinds(routed, catalogue)))) & LAYOUT.keys()


@pytest.mark.campaign
@pytest.mark.parametrize("rule", LAYOUT)
def test_a_rule_of_the_layout_finds_its_mistake(rule: str, routed: Design, catalogue: Catalogue) -> None:
    broken = LAYOUT[rule](routed)
    assert rule in names(check_board(Wired(broken, catalogue)))
    assert rule in names(check_board(Wired(*with_own_kinds(broken, catalogue))))


BRIEF: dict[str, Break] = {
    "brief": lambda d: edits.set_brief(d, budget_eur=0.0),
    "own supply": lambda d: edits.set_brief(
        replace(d, parts={**d.parts, "J9": replace(d.parts["J1"], ref="J9", kind="usb_c_inlet", package="")}),
        supply_v=9.0,
    ),
    "prototype": lambda d: replace(d, measured=(Measured(net="3V3", value=2.5),)),
}


@pytest.mark.parametrize("rule", BRIEF)
def test_a_rule_of_the_brief_finds_its_mistake(rule: str, mended: Design, catalogue: Catalogue) -> None:
    day = TODAY + timedelta(days=1)
    sound = edits.set_brief(mended, needed_by=(day + timedelta(days=60)).isoformat())
    assert rule not in names(brief_findings(Wired(sound, catalogue), day))
    assert rule not in names(brief_findings(Wired(*with_own_kinds(sound, catalogue)), day))
    broken = BRIEF[rule](sound)
    assert rule in names(brief_findings(Wired(broken, catalogue), day))
    assert rule in names(brief_findings(Wired(*with_own_kinds(broken, catalogue)), day))
