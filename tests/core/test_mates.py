"""Modules on headers: the pin map laid over the contacts, against maps worked out here from the pitch alone."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.copper import board_pads, height_nm, pattern_of
from zesty_trace.core.board.rules.mates import MATE, NO_HEADER, check_mates
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.group_edits import rename_refs
from zesty_trace.core.design.model import Design, Part, Pin, Placement
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.geometry import Point
from zesty_trace.errors import InputError

PITCH, SPAN = 2_540_000, 17_780_000


def board(turn: int = 0, shift: int = 0, swapped: bool = False, turned_header: int = 0) -> Wired:
    """Return a plug-in controller on two strips of fifteen contacts, wired pin for pin.

    Pins 1 to 15 go down the left, 16 to 30 up the right. `shift` is by how many contacts the left strip is off;
    `swapped` wires the strips as if the module had been drawn from below.
    """
    parts = {"U1": Part(ref="U1", kind="controller_plug_in", stands_on=("J1", "J2"))}
    parts |= {r: Part(ref=r, kind="socket_15") for r in ("J1", "J2")}
    outline = (Point(0, 0), Point(80_000_000, 0), Point(80_000_000, 80_000_000), Point(0, 80_000_000))
    design = edits.set_board(Design(parts=parts), outline=outline)
    for k in range(30):
        row, place = ("J1", k + 1) if k < 15 else ("J2", 30 - k)
        if swapped:
            row = {"J1": "J2", "J2": "J1"}[row]
        design = edits.connect(design, Pin("U1", str(k + 1)), f"N{k + 1}")
        design = edits.connect(design, Pin(row, str(place)), f"N{k + 1}")
    design = edits.place(design, "U1", Placement(x_nm=40_000_000, y_nm=40_000_000, angle_mdeg=turn))
    wired = Wired(design, shipped())
    first = {p.number: p for p in pattern_of(wired, "U1").pads}
    own = {p.number: p for p in pattern_of(wired, "J1").pads}
    down = (own["2"].x_nm - own["1"].x_nm, own["2"].y_nm - own["1"].y_nm)
    wanted = (first["2"].x_nm - first["1"].x_nm, first["2"].y_nm - first["1"].y_nm)
    quarter = next(q for q in range(4) if _turned(down, q) == wanted)
    for ref, pin in (("J1", "1"), ("J2", "30")):
        ox, oy = _turned((own["1"].x_nm, own["1"].y_nm), quarter)
        x, y = first[pin].x_nm - ox, first[pin].y_nm - oy
        if ref == "J1":
            x, y = x + shift * wanted[0], y + shift * wanted[1]
        x, y = _turned((x, y), turn // 90_000)
        angle = (quarter * 90_000 + turn + (turned_header if ref == "J1" else 0)) % 360_000
        spot = Placement(x_nm=40_000_000 + x, y_nm=40_000_000 + y, angle_mdeg=angle)
        wired = wired.edited(edits.place, ref, spot)
    return wired


def _turned(at: tuple[int, int], quarters: int) -> tuple[int, int]:
    for _ in range(quarters):
        at = (-at[1], at[0])
    return at


def said(wired: Wired) -> list[Finding]:
    """Return what the rule finds."""
    return list(check_mates(wired))


@pytest.mark.parametrize("turn", [0, 90_000, 270_000])
def test_a_module_over_its_headers_passes_at_any_turn(turn: int) -> None:
    wired = board(turn)
    assert said(wired) == []
    rules = {f.rule for f in check_board(wired)}
    assert "courtyard" not in " ".join(rules)
    assert not {"pad missing", "overlap", "clearance"} & rules


def test_it_has_no_copper_of_its_own_and_stands_higher() -> None:
    wired = board()
    assert {p.pin.ref for p in board_pads(wired)} == {"J1", "J2"}
    alone = wired.edited(edits.change_part, "U1", stands_on=())
    assert {p.pin.ref for p in board_pads(alone)} == {"U1", "J1", "J2"}
    assert height_nm(wired, "U1") - height_nm(alone, "U1") == pattern_of(wired, "J1").height_nm > 0
    assert any(f.rule == "overlap" or "room" in f.title for f in check_board(alone))  # soldered in, they collide


@pytest.mark.parametrize("shift", [1, -1, 3])
def test_a_strip_that_is_off_is_found_and_put_right(shift: int) -> None:
    wired = board(shift=shift)
    (found,) = said(wired)
    assert found.rule == MATE.id
    assert found.severity is Severity.STOP
    assert found.value == 15  # each pin of the row meets another net, or none
    assert f"moving J1 by {abs(shift) * 2.54:.2f} mm" in found.detail.lower().replace("j1", "J1")
    assert found.mend is not None
    mended = wired.with_design(found.mend.apply(wired.design))
    assert said(mended) == []
    assert mended.design.board.placements["J2"] == wired.design.board.placements["J2"]


def test_a_module_drawn_from_below_is_found_and_strips_change_places() -> None:
    wired = board(swapped=True)
    (found,) = said(wired)
    assert found.value == 30
    assert found.mend is not None
    assert said(wired.with_design(found.mend.apply(wired.design))) == []


def test_a_strip_turned_about_is_found_but_not_where_its_wiring_says_the_same() -> None:
    wired = board(turned_header=180_000)
    (found,) = said(wired)
    assert found.value == 14  # the one in the middle stays where it is
    assert said(wired.with_design(replace(wired.design, nets={}))) == []


def test_half_a_pitch_is_no_contact_and_open_pins_do_not_mind() -> None:
    wired = board()
    spot = wired.design.board.placements["J1"]
    off = wired.edited(edits.nudge, "J1", dx_nm=PITCH // 2)
    (found,) = said(off)
    assert "from the next contact" in found.detail
    near = wired.edited(edits.nudge, "J1", dx_nm=300_000)
    assert said(near) == []  # within what a contact takes
    gone = wired.with_design(
        edits.set_board(wired.design, placements={r: p for r, p in wired.design.board.placements.items() if r != "J1"})
    )
    (missing,) = said(gone)
    assert missing.rule == NO_HEADER.id
    assert missing.mend is not None
    put = missing.mend.apply(gone.design)
    assert said(gone.with_design(put)) == []
    assert put.board.placements["J1"].x_nm == pytest.approx(spot.x_nm, abs=2)


def test_it_is_said_in_a_sentence_and_follows_a_new_name() -> None:
    wired = board()
    plain = edits.change_part(wired.design, "U1", stands_on=())
    after = understand_placing("stand U1 on J1, J2", plain).design
    assert after.parts["U1"].stands_on == ("J1", "J2")
    assert understand_placing("stand U1 on nothing", after).design.parts["U1"].stands_on == ()
    renamed = rename_refs(after, {"J1": "J9"})
    assert renamed.parts["U1"].stands_on == ("J9", "J2")
    assert edits.remove_part(after, "J1").parts["U1"].stands_on == ("J2",)
    for words in ("stand U1 on J7", "stand U1 on U1", "stand J1 on U1"):
        with pytest.raises(InputError):
            understand_placing(words, after)
