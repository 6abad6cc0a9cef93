"""What holds a pad: each thing that touches it, once, and whether a blade gets there."""

from __future__ import annotations

import pytest
from benchmarks.random_boards import random_board
from shapely.geometry import LineString
from shapely.geometry import Point as Spot

from tests.core.test_board_rules_more import MM, board, laid, track
from zesty_trace.core.board.copper import board_pads, pad_shape
from zesty_trace.core.board.fields.holding import holds_of
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin, Pour, Via
from zesty_trace.errors import EditError

R1 = Pin("R1", "1")


def simple(**more: object) -> Wired:
    return board(
        {"R1": ("resistor", 30, 20), "R2": ("resistor", 30, 30)}, {"A": ("R1.1", "R2.1"), "B": ("R1.2", "R2.2")}
    )


def test_a_bare_pad_is_held_by_nothing() -> None:
    assert holds_of(simple(), R1) == []


def test_a_track_through_a_pad_has_two_arms() -> None:
    wired = simple()
    pad = next(p for p in board_pads(wired) if p.pin == R1)
    x, y = pad.x_nm / MM, pad.y_nm / MM
    through = laid(wired, track("A", (x, y - 8), (x, y + 8)), track("B", (x + 5, y - 8), (x + 5, y + 8)))
    holds = holds_of(through, R1, "A")
    assert [h.what for h in holds] == ["track", "track"]
    shape = pad_shape(pad)
    assert all(0.2 < Spot(h.at.x_nm / MM, h.at.y_nm / MM).distance(shape) < 0.4 for h in holds)
    assert {h.at.y_nm > pad.y_nm for h in holds} == {True, False}  # one on each side
    end = laid(wired, track("A", (x, y), (x, y + 8)))
    assert len(holds_of(end, R1)) == 1


def test_a_cut_below_a_part_is_said_to_be_covered() -> None:
    spots = {"R1": ("resistor", 30.0, 20.0), "C1": ("electrolytic_capacitor", 30.0, 24.5)}
    wired = board(spots, {"A": ("R1.1",), "B": ("R1.2",)})
    pad = next(p for p in board_pads(wired) if p.pin == R1)
    x, y = pad.x_nm / MM, pad.y_nm / MM
    (up,) = holds_of(laid(wired, track("A", (x, y), (x, y + 8))), R1)
    (down,) = holds_of(laid(wired, track("A", (x, y), (x, y - 8))), R1)
    assert (up.covered, up.reachable) == ("C1", False)
    assert "take that off first" in str(up)
    assert down.covered in ("", "R1")


def test_spokes_and_vias_are_counted() -> None:
    wired = board({"J1": ("header_2", 30, 20), "R1": ("resistor", 45, 20)}, {"GND": ("J1.1", "R1.1"), "B": ("J1.2",)})
    poured = laid(wired, pours=(Pour(net="GND", layer="top"), Pour(net="GND", layer="bottom")))
    spokes = holds_of(poured, Pin("J1", "1"))
    assert [h.what for h in spokes] == ["spoke"] * 8  # four on each face
    assert {h.layer for h in spokes} == {"top", "bottom"}
    pad = next(p for p in board_pads(wired) if p.pin == R1)
    via = Via(net="GND", x_nm=pad.x_nm, y_nm=pad.y_nm + pad.height_nm // 2 + 200_000)
    held = holds_of(laid(wired, vias=(via,)), R1)
    assert [(h.what, h.at) for h in held] == [("via", (via.x_nm, via.y_nm))]
    assert "drill it out" in str(held[0])


def test_what_is_no_pin_of_the_net_is_refused() -> None:
    with pytest.raises(EditError, match="not on B"):
        holds_of(simple(), R1, "B")
    with pytest.raises(EditError, match="no pad"):
        holds_of(simple(), Pin("R7", "1"))


@pytest.mark.campaign
def test_all_that_touches_is_listed_on_a_routed_board() -> None:
    """Against shapes of their own: with all cuts made, no copper outside the cuts touches the pad."""
    wired = random_board(12, 3)
    wired = wired.with_design(route(wired).design)
    for pad in [p for p in board_pads(wired) if p.net and p.layers]:
        holds = holds_of(wired, pad.pin)
        for layer in pad.layers:
            shape = pad_shape(pad)
            lines = [
                (LineString([(x / 1e6, y / 1e6) for x, y in t.points]), t.width_nm / 2e6)
                for t in wired.design.board.tracks
                if t.net == pad.net and t.layer == layer
            ]
            touching = [(line, r) for line, r in lines if line.distance(shape) <= r + 1e-6]
            cuts = [Spot(h.at.x_nm / 1e6, h.at.y_nm / 1e6).buffer(h.width_mm) for h in holds if h.layer == layer]
            for line, r in touching:
                rest = line
                for cut in cuts:
                    rest = rest.difference(cut)
                far = [part for part in getattr(rest, "geoms", [rest]) if part.distance(shape) > 0.35 + r]
                near = [part for part in getattr(rest, "geoms", [rest]) if part.distance(shape) <= r]
                assert not any(a.distance(b) < 1e-6 for a in far for b in near)
                assert line.length < 1.0 or any(line.distance(cut) < 1e-6 for cut in cuts)
