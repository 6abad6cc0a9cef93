"""Drawings and tables that go with the files, and panels that pay."""

from __future__ import annotations

import math
import re
from dataclasses import replace
from datetime import date
from decimal import Decimal
from xml.etree import ElementTree

import pytest

from zesty_trace.core.board.copper import hole_items
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import CentroidForm, Placement
from zesty_trace.core.fabrication.drawings import assembly_sheet, drawings, drill_sheet
from zesty_trace.core.fabrication.job import fabrication_note
from zesty_trace.core.fabrication.paper import Circle, Path, Sheet, Words, page_for, pdf_of, svg_of
from zesty_trace.core.fabrication.tables import centroid_csv, read_form, stated_turn
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.panels import best_panel, panel_size
from zesty_trace.core.ordering.quote import Order, cheapest, quote
from zesty_trace.errors import InputError


@pytest.mark.campaign
def test_the_assembly_drawing_names_every_part_once_and_marks_what_stays_off(routed, catalogue) -> None:
    wired = Wired(routed, catalogue)
    for variant in ("Full", "Basic"):
        sheets = {face: assembly_sheet(wired, face, variant) for face in ("top", "bottom")}
        words = [w.text for s in sheets.values() for w in s.items if isinstance(w, Words)]
        for ref in routed.board.placements:
            assert words.count(ref) == bool(wired.kind(ref).pins), ref
        off = [r for r, p in routed.parts.items() if not p.fitted(variant) and wired.kind(r).assembled]
        said = next(w for w in words if "a dot is at pin 1" in w)
        assert all(r in said for r in off)
        fitted = sum(wired.kind(r).assembled and p.fitted(variant) for r, p in routed.parts.items())
        assert said.startswith(f"{fitted} parts")
        ElementTree.fromstring(svg_of(sheets["top"]))


@pytest.mark.campaign
def test_the_drill_drawing_counts_every_hole(routed, catalogue) -> None:
    wired = Wired(routed, catalogue)
    sheet = drill_sheet(wired)
    holes = hole_items(wired)
    circles = [c for c in sheet.items if isinstance(c, Circle)]
    assert len(circles) == len(holes) + sum(h.slot for h in holes)
    rows = [w.text for w in sheet.items if isinstance(w, Words)]
    assert f"{len(holes)} holes in all; +0.1 / -0.05 mm unless agreed" in rows
    first = drawings(wired, {"": ""})
    assert first == drawings(wired, {"": ""})
    assert all(b.startswith(b"%PDF") for n, b in first.items() if n.endswith(".pdf"))


def test_a_page_is_as_large_as_what_is_on_it_and_keeps_its_scale() -> None:
    assert page_for(100, 80) == (297.0, 210.0)
    assert page_for(300, 200) == (420.0, 297.0)
    assert page_for(900, 80) == (920.0, 100.0)
    sheet = Sheet(100, 50, [Path(((0, 0), (10, 0)), dashed=True), Words((1, 2), "<Ω & µ>"), Circle((5, 5), 2)])
    text = svg_of(sheet)
    assert '<path d="M0.0000,50.0000 L10.0000,50.0000"' in text
    assert ElementTree.fromstring(text).get("width") == "100mm"
    data = pdf_of([sheet, sheet], "ab")
    pages = re.findall(rb"/MediaBox \[0 0 ([\d.]+) ([\d.]+)\]", data)
    assert [float(v) / 72 * 25.4 for v in pages[-1]] == pytest.approx([100, 50], abs=0.05)
    assert data == pdf_of([sheet, sheet], "ab")


def spot(turn: float, side: str = "top") -> Placement:
    return Placement(x_nm=0, y_nm=0, angle_mdeg=round(turn * 1000), side="bottom" if side == "bottom" else "top")


def test_turns_are_stated_as_the_house_counts_them() -> None:
    plain = CentroidForm()
    assert [stated_turn(spot(t), "X", plain) for t in (0, 90, 359.96, -90)] == [0.0, 90.0, 0.0, 270.0]
    assert stated_turn(spot(90), "X", CentroidForm(clockwise=True)) == 270.0
    assert stated_turn(spot(30, "bottom"), "X", plain) == 30.0
    assert stated_turn(spot(30, "bottom"), "X", CentroidForm(bottom="below")) == 330.0
    assert stated_turn(spot(30, "bottom"), "X", CentroidForm(bottom="below", clockwise=True)) == 30.0
    assert stated_turn(spot(30), "X", CentroidForm(added_deg={"X": 90.0, "Y": 5.0}, clockwise=True)) == 60.0


def test_a_part_turned_on_the_bottom_is_seen_turning_the_other_way_from_below() -> None:
    """Its first pin, followed with plain trigonometry on the board and then mirrored into the view from below."""
    from zesty_trace.core.board.copper import to_board

    pin = (-2.0, 1.0)
    x, y = to_board(spot(30, "bottom"), *pin)
    seen = (-x, y)  # from below, left and right change places
    stated = math.radians(stated_turn(spot(30, "bottom"), "X", CentroidForm(bottom="below")))
    turned = (
        pin[0] * math.cos(stated) - pin[1] * math.sin(stated),
        pin[0] * math.sin(stated) + pin[1] * math.cos(stated),
    )
    assert seen == pytest.approx(turned)


@pytest.mark.campaign
def test_the_table_is_written_in_the_form_that_is_asked_for_and_says_so(routed, catalogue) -> None:
    form = read_form(["origin=corner", "unit=mil", "turns=clockwise", "bottom=below", "SOIC-8=+90"], CentroidForm())
    assert form == CentroidForm(
        origin="corner", unit="mil", clockwise=True, bottom="below", added_deg={"SOIC-8": 90.0}
    )  # fmt: skip
    moved = edits.set_board(routed, outline=tuple((x + 5_000_000, y - 3_000_000) for x, y in routed.board.outline))
    design = edits.set_build(moved, centroid=form)
    head, *rows = [line.split(",") for line in centroid_csv(Wired(design, catalogue)).splitlines()]
    assert head[3:5] == ["x_mil", "y_mil"]
    place = routed.board.placements["U3"]
    row = next(r for r in rows if r[0] == "U3")
    assert float(row[3]) * 0.0254 == pytest.approx(place.x_nm / 1e6 - 5, abs=2e-4)
    assert float(row[4]) * 0.0254 == pytest.approx(place.y_nm / 1e6 + 3, abs=2e-4)
    note = fabrication_note(Wired(design, catalogue))
    assert "mil, from the lower left corner" in note
    assert "degrees clockwise as seen from the face that the part is on" in note
    assert "SOIC-8 +90" in note
    for wrong in ("unit=inch", "SOIC-8=x", "turns", ""):
        with pytest.raises(InputError, match="not understood"):
            read_form([wrong], CentroidForm())


ORDER = Order(40, 18.0, 12.0, 2, "green")
TODAY = date(2026, 3, 2)


def test_a_panel_that_pays_is_the_cheapest_of_all_by_a_plain_recount() -> None:
    houses = load_houses()
    found = best_panel(houses, ORDER, TODAY, None, 0)
    singly = cheapest(quote(houses, ORDER, TODAY, None, 0))
    assert singly is not None
    best: Decimal | None = None
    for across in range(1, 41):
        for up in range(1, 41):
            wide, high = across * 20 + 2 + 10, up * 14 + 2 + 10
            if not 1 < across * up <= 40 or max(wide, high) > 450:
                continue
            panels = -(-40 // (across * up))
            offers = quote(houses, replace(ORDER, quantity=panels, width_mm=wide, height_mm=high), TODAY, None, 0)
            prices = [o.total.amount for o in offers if o.total.currency == "EUR"]
            if prices and (best is None or min(prices) < best):
                best = min(prices)
    assert best is not None
    if best < singly.total.amount:
        assert found is not None
        assert found.offer.total.amount == best
        assert found.saves.amount == singly.total.amount - best
        assert found.panels * found.count >= 40
        assert panel_size(ORDER, found.across, found.up) == (found.width_mm, found.height_mm)
    else:
        assert found is None


def test_one_board_is_not_put_on_a_panel() -> None:
    assert best_panel(load_houses(), replace(ORDER, quantity=1), TODAY, None, 0) is None
    assert best_panel([], ORDER, TODAY, None, 0) is None
