"""The electrical review: the three planted mistakes, their numbers and their mends; and what must not be reported."""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.bus import bus_addresses, bus_groups
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Severity
from zesty_trace.core.review.rules import review


def by_rule(design: Design, catalogue: Catalogue) -> dict:
    return {f.rule: f for f in review(Wired(design, catalogue))}


def test_the_three_mistakes_of_the_breadboard_are_found(demo: Design, catalogue: Catalogue) -> None:
    findings = review(Wired(demo, catalogue))
    assert {f.rule for f in findings} == {"heat", "level clash", "bus address"}
    assert all(f.mend and f.why and f.source and f.detail for f in findings)


def test_each_is_mended_by_its_own_click(demo: Design, catalogue: Catalogue) -> None:
    for rule in ("heat", "level clash", "bus address"):
        after = by_rule(demo, catalogue)[rule].mend.apply(demo)
        assert rule not in by_rule(after, catalogue)
        assert len(by_rule(after, catalogue)) == 2


def test_regulator_heat_is_power_times_thermal_resistance(demo: Design, catalogue: Catalogue) -> None:
    """Hand-worked: (12 - 3.3) V x 0.109 A = 0.95 W; SOT-223 at 110 °C/W on 28 °C gives about 132 °C; limit 125."""
    heat = by_rule(demo, catalogue)["heat"]
    assert heat.severity is Severity.STOP
    assert heat.value == pytest.approx(28 + (11.91 - 3.3) * 0.1099 * 110, abs=1.0)
    assert heat.limit == 125.0
    assert "5V" in heat.mend.label


def test_regulator_heat_after_the_mend_is_what_the_finding_foretold(demo: Design, catalogue: Catalogue) -> None:
    heat = by_rule(demo, catalogue)["heat"]
    after = heat.mend.apply(demo)
    from zesty_trace.core.circuit.analysis import analyse

    warmth = next(h.temperature_c for h in analyse(Wired(after, catalogue)).heats() if h.ref == "U2")
    assert f"reach {warmth:.0f} °C" in heat.detail


def test_cooler_ambient_turns_the_stop_into_a_fix(demo: Design, catalogue: Catalogue) -> None:
    cool = edits.set_brief(demo, ambient_c=10.0)
    assert by_rule(cool, catalogue)["heat"].severity is Severity.FIX


def test_level_clash_names_voltage_limit_victim_and_culprits(demo: Design, catalogue: Catalogue) -> None:
    clash = by_rule(demo, catalogue)["level clash"]
    assert clash.value == pytest.approx(5.0, abs=0.02)
    assert clash.limit == pytest.approx(3.6, abs=0.01)
    assert {"R2", "R3", "U3"} <= set(clash.refs)
    assert set(clash.nets) == {"SDA", "SCL"}


def test_five_volt_output_into_a_controller_is_mended_from_the_lower_rail(mended: Design, catalogue: Catalogue) -> None:
    design = edits.add_part(mended, Part(ref="J9", kind="logic_output_5v", package="Header-1x3"))
    for number, net in (("1", "GND"), ("2", "5V"), ("3", "RXD")):
        design = edits.connect(design, Pin("J9", number), net)
    clash = by_rule(design, catalogue)["level clash"]
    assert "J9" in clash.refs
    after = clash.mend.apply(design)
    assert after.net_of()[Pin("J9", "2")] == "3V3"
    assert "level clash" not in by_rule(after, catalogue)


def test_level_shifter_keeps_the_five_volt_side_apart(mended: Design, catalogue: Catalogue) -> None:
    assert review(Wired(mended, catalogue)) == []


def test_addresses_follow_the_straps(demo: Design, catalogue: Catalogue) -> None:
    assert bus_addresses(Wired(demo, catalogue)) == {"U4": 0x44, "U5": 0x44, "J4": 0x3C}
    high = edits.connect(demo, Pin("U5", "2"), "3V3")
    assert bus_addresses(Wired(high, catalogue))["U5"] == 0x45
    open_ = edits.disconnect(demo, Pin("U5", "2"))
    assert bus_addresses(Wired(open_, catalogue))["U5"] is None
    assert any(f.key == "U5" and f.rule == "bus address" for f in review(Wired(open_, catalogue)))


def test_the_bus_reaches_through_the_level_shifter(demo: Design, catalogue: Catalogue) -> None:
    assert bus_groups(Wired(demo, catalogue)) == [{"U3", "U4", "U5", "J4"}]


def test_devices_that_are_never_fitted_together_do_not_clash(demo: Design, catalogue: Catalogue) -> None:
    apart = edits.change_part(demo, "U4", variants=("Basic",))
    assert "bus address" not in by_rule(apart, catalogue)


def test_a_forgotten_pin_is_found_and_can_be_left_open(mended: Design, catalogue: Catalogue) -> None:
    loose = edits.disconnect(mended, Pin("U3", "11"))
    loose = edits.connect(loose, Pin("U3", "11"), "SPARE")
    found = by_rule(loose, catalogue)["unconnected pin"]
    assert "SPARE" in found.title
    missing = edits.disconnect(loose, Pin("U3", "11"))
    found = by_rule(missing, catalogue)["unconnected pin"]
    assert found.value == 1
    assert review(Wired(found.mend.apply(missing), catalogue)) == []


def test_a_missing_ground_pin_stops_and_offers_no_way_round(mended: Design, catalogue: Catalogue) -> None:
    found = by_rule(edits.disconnect(mended, Pin("U4", "8")), catalogue)["unconnected pin"]
    assert found.severity is Severity.STOP
    assert found.mend is None


def test_supply_outside_its_range_is_found(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(mended, Pin("J4", "2"), "12V")
    found = by_rule(wrong, catalogue)["supply range"]
    assert found.limit == 5.5
    assert found.value == pytest.approx(11.9, abs=0.1)


def test_an_empty_design_and_one_without_ground_are_no_crash(catalogue: Catalogue) -> None:
    assert review(Wired(Design(), catalogue)) == []
    alone = edits.add_part(Design(), Part(ref="R1", kind="resistor", value="1k", package="R0603"))
    assert {f.rule for f in review(Wired(alone, catalogue))} == {"ground", "unconnected pin"}
