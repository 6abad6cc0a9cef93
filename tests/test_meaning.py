"""What the brief means: each line worked out a second way here."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.journey.meaning import Meaning, meanings
from zesty_trace.journey.ordering import offers_for

TODAY = date(2026, 11, 26)


def found(design: Design, catalogue: Catalogue) -> dict[str, Meaning]:
    return {x.what: x for x in meanings(Wired(design, catalogue), TODAY)}


def test_room_and_height_are_those_of_the_packages(demo: Design, catalogue: Catalogue) -> None:
    patterns = [land_pattern(catalogue.package(p.package)) for p in demo.parts.values()]
    area = sum((q.courtyard.x1 - q.courtyard.x0) * (q.courtyard.y1 - q.courtyard.y0) for q in patterns) / 1e14
    said = found(demo, catalogue)
    assert f"take {area:.1f} of 44.8 cm²" in said["Room"].said
    assert f"{max(q.height_nm for q in patterns) / 1e6:.1f} mm of 22 mm" in said["Height"].said
    flat = edits.set_brief(demo, case_depth_nm=5_000_000)
    assert found(flat, catalogue)["Height"].word == "look"
    small = edits.set_brief(demo, case_width_nm=30_000_000, case_height_nm=30_000_000)
    assert "two faces" in found(small, catalogue)["Room"].said


def test_heat_and_load_are_those_of_the_review(demo: Design, catalogue: Catalogue) -> None:
    """The demo's regulator stands on 12 V: the review says 132 °C too."""
    said = found(demo, catalogue)
    assert said["Heat"].word == "look"
    assert "U2 is the warmest, 132 °C of 125 °C" in said["Heat"].said
    wired = Wired(demo, catalogue)
    amp = abs(analyse(wired).pin_peaks()[wired.pin_of_role("J1", "supply_out")])
    assert said["Load"].said.startswith(f"J1 gives {amp:.2f} A")


@pytest.mark.parametrize("days", [3, 8, 30, 60])
def test_dates_hold_when_the_order_is_placed_on_them(days: int, demo: Design, catalogue: Catalogue) -> None:
    """By asking for offers on the day that is said, and on the next one."""
    needed = TODAY + timedelta(days=days)
    design = edits.set_brief(demo, needed_by=needed.isoformat())
    said = found(design, catalogue)["Dates"]
    ahead = [TODAY + timedelta(days=k) for k in range(days + 1)]
    good = [d for d in ahead if any(o.on_time for o in offers_for(Wired(design, catalogue), d))]
    if not good:
        assert said.word == "look"
        assert "Too late" in said.said
    else:
        assert f"by {max(good):%a %d %b} at the latest" in said.said


def test_what_is_missing_is_said_and_an_empty_project_breaks_nothing(catalogue: Catalogue) -> None:
    said = found(Design(), catalogue)
    assert said["Not said yet"].word == "missing"
    for words in ("what it is for", "when it is needed", "the budget", "parts and wiring"):
        assert words in said["Not said yet"].said
    assert "Room" not in said
    huge = edits.set_brief(Design(), case_width_nm=9_000_000_000)
    assert found(huge, catalogue)["Boards"].word == "look"
