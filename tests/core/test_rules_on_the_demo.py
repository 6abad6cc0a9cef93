"""Every further rule.

Quiet on the mended demo, loud on a planted mistake with the right numbers, mended by its click.
"""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.markings import at_least
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.review.drive import add_between
from zesty_trace.core.review.pull_ups import pull_up_limits_ohm
from zesty_trace.core.review.rules import SOLVED, STATIC, review


def found(design: Design, catalogue: Catalogue, rule: str) -> Finding:
    hits = [f for f in review(Wired(design, catalogue)) if f.rule == rule]
    assert hits, rule
    return hits[0]


def mends(design: Design, catalogue: Catalogue, rule: str) -> Design:
    """The design after the rule's own mend, on which the rule is quiet again."""
    finding = found(design, catalogue, rule)
    after = finding.mend.apply(design)
    assert not any(f.rule == rule and f.key == finding.key for f in review(Wired(after, catalogue)))
    return after


def value(ref: str, text: str):
    return lambda d: edits.change_part(d, ref, value=text)


def test_there_are_over_forty_rules_and_the_mended_demo_is_quiet(mended: Design, catalogue: Catalogue) -> None:
    assert len({*STATIC, *SOLVED}) == 93
    assert review(Wired(mended, catalogue)) == []


def test_led_with_too_small_a_resistor(mended: Design, catalogue: Catalogue) -> None:
    """Hand-worked: (3.3 - 1.9) V less 35 ohm of pin over 33 ohm is about 20 mA and more; 10 mA wants about 100 ohm."""
    wrong = edits.change_part(mended, "R14", value="10")
    finding = found(wrong, catalogue, "LED current")
    assert finding.value > finding.limit == 0.02
    after = mends(wrong, catalogue, "LED current")
    assert 100 <= float(after.parts["R14"].value) <= 180


def test_led_straight_on_a_rail(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(mended, Pin("D4", "2"), "3V3")
    finding = found(wrong, catalogue, "LED current")
    assert finding.severity is Severity.STOP
    assert "no series resistor" in finding.detail
    assert finding.mend is None


def test_pin_that_drives_a_load_directly(mended: Design, catalogue: Catalogue) -> None:
    wrong = add_between(mended, Part(ref="R40", kind="resistor", value="47", package="R0805"), "LED_HEAT", "GND")
    finding = found(wrong, catalogue, "pin current")
    assert finding.value == pytest.approx(3.3 / (35 + 47), rel=0.15)  # 47 ohm behind 35 ohm of pin
    assert finding.limit == 0.02


def test_gate_without_a_resistor(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.remove_part(mended, "R7")
    assert found(wrong, catalogue, "gate pull-down").refs == ("Q1",)
    after = mends(wrong, catalogue, "gate pull-down")
    assert after.parts["R7"].value == "10k"


def test_fan_without_its_diode(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.remove_part(mended, "D2")
    after = mends(wrong, catalogue, "coil suppression")
    nets = after.net_of()
    assert (nets[Pin("D2", "1")], nets[Pin("D2", "2")]) == ("12V", "FAN_LOW")  # pin 1 is the cathode


def test_a_diode_the_wrong_way_round_is_no_suppression(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(edits.connect(mended, Pin("D2", "1"), "FAN_LOW"), Pin("D2", "2"), "12V")
    assert found(wrong, catalogue, "coil suppression").severity is Severity.STOP


def test_resistor_past_its_package(mended: Design, catalogue: Catalogue) -> None:
    """Hand-worked: 11.9 V across 470 ohm burn 0.30 W; an 0603 is good for 0.1 W."""
    wrong = add_between(mended, Part(ref="R40", kind="resistor", value="470", package="R0603"), "12V", "GND")
    finding = found(wrong, catalogue, "resistor power")
    assert finding.severity is Severity.STOP
    assert finding.value == pytest.approx(11.9**2 / 470, rel=0.02)
    assert finding.limit == pytest.approx(0.07)
    easy = edits.change_part(wrong, "R40", value="1k5")
    assert found(easy, catalogue, "resistor power").severity is Severity.FIX  # 94 mW of 100 mW


def test_capacitor_rated_too_low_and_reversed(mended: Design, catalogue: Catalogue) -> None:
    low = edits.change_part(mended, "C1", value="220u 10 V")
    assert found(low, catalogue, "capacitor rating").severity is Severity.STOP
    tight = edits.change_part(mended, "C1", value="220u 14 V")
    finding = found(tight, catalogue, "capacitor rating")
    assert (finding.severity, finding.limit) == (Severity.FIX, pytest.approx(0.8 * 14))
    turned = edits.connect(edits.connect(mended, Pin("C1", "1"), "GND"), Pin("C1", "2"), "12V")
    after = mends(turned, catalogue, "polarity")
    assert after.net_of()[Pin("C1", "1")] == "12V"


def test_supply_pin_without_its_capacitor(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.remove_part(mended, "C8")
    finding = found(wrong, catalogue, "decoupling")
    assert finding.nets == ("3V3",)
    assert finding.limit == pytest.approx(100e-9)
    mends(wrong, catalogue, "decoupling")


def test_bulk_capacitor_of_the_converter(mended: Design, catalogue: Catalogue) -> None:
    finding = found(edits.remove_part(mended, "C2"), catalogue, "decoupling")
    assert finding.key == "U1.3"
    assert "100u" in finding.title


def test_regulator_without_headroom(mended: Design, catalogue: Catalogue) -> None:
    """0.23 V at 500 mA (the part kind): at 3.3 V in there is nothing left over 3.3 V out."""
    wrong = edits.connect(mended, Pin("J1", "1"), "5V")
    wrong = edits.set_brief(wrong, supply_v=3.35)
    wrong = edits.remove_part(wrong, "U1")
    finding = found(wrong, catalogue, "dropout")
    assert finding.value < finding.limit
    assert finding.limit == pytest.approx(0.23 * 0.22, rel=0.2)  # about 110 mA of 500 mA


def test_supply_that_is_too_weak(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.set_brief(mended, supply_limit_a=2.0)
    finding = found(wrong, catalogue, "supply overload")
    assert (finding.refs, finding.severity) == (("J1",), Severity.STOP)
    assert finding.value == pytest.approx(2.26, abs=0.1)  # 2.0 A heater, 0.15 A fan, the rest from 5 V
    tight = edits.set_brief(mended, supply_limit_a=2.3)
    assert found(tight, catalogue, "supply overload").severity is Severity.FIX


def test_inlet_without_a_fuse_is_a_note(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(edits.remove_part(mended, "F1"), Pin("J1", "1"), "12V")
    assert found(wrong, catalogue, "fuse").severity is Severity.NOTE


def test_rail_without_a_test_point(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.remove_part(mended, "TP2")
    wrong = edits.connect(wrong, Pin("J4", "2"), "ELSEWHERE")
    after = mends(wrong, catalogue, "test point")
    assert after.net_of()[Pin("TP2", "1")] == "5V"


def test_controller_that_nothing_reaches(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.remove_part(edits.remove_part(mended, "J5"), "J6")
    assert found(wrong, catalogue, "programming access").severity is Severity.STOP


def test_inputs_that_only_listen_to_each_other(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(edits.connect(mended, Pin("U4", "6"), "LOOSE"), Pin("U5", "6"), "LOOSE")
    assert set(found(wrong, catalogue, "floating input").refs) == {"U4", "U5"}


def test_two_outputs_on_one_net(mended: Design, catalogue: Catalogue) -> None:
    wrong = edits.connect(edits.connect(mended, Pin("U4", "3"), "ALERTS"), Pin("U5", "3"), "ALERTS")
    finding = found(wrong, catalogue, "contention")
    assert (finding.value, finding.severity) == (2.0, Severity.STOP)


def test_bus_without_and_with_the_wrong_pull_up(mended: Design, catalogue: Catalogue) -> None:
    without = edits.remove_part(mended, "R2")
    mends(without, catalogue, "pull-up missing")
    strong = edits.change_part(mended, "R2", value="470")
    finding = found(strong, catalogue, "pull-up strength")
    assert (finding.value, finding.limit) == (470.0, pytest.approx((3.3 - 0.4) / 3e-3, rel=0.01))
    weak = edits.change_part(mended, "R3", value="47k")
    assert found(weak, catalogue, "pull-up strength").value == 47e3


def test_pull_up_limits_are_the_formulas_of_the_specification() -> None:
    """UM10204: 3.3 V gives (3.3 - 0.4)/3 mA = 967 ohm; 100 pF at 1 us gives 1 us / (0.8473 x 100 pF) = 11.8 kohm."""
    low, high = pull_up_limits_ohm(3.3, 5)
    assert low == pytest.approx(966.7, abs=0.1)
    assert high == pytest.approx(11_802, abs=5)


@pytest.mark.parametrize(
    ("wanted", "series"), [(100.0, 100.0), (101.0, 120.0), (4700.0, 4700.0), (0.9, 1.0), (83.0, 100.0), (1e6, 1e6)]
)
def test_next_e12_value(wanted: float, series: float) -> None:
    """IEC 60063, E12."""
    assert at_least(wanted, 12) == pytest.approx(series)


def test_two_mends_that_add_parts_do_not_get_in_each_others_way(mended: Design, catalogue: Catalogue) -> None:
    bare = edits.remove_part(edits.remove_part(mended, "R2"), "R3")
    first, second = [f for f in review(Wired(bare, catalogue)) if f.rule == "pull-up missing"]
    after = second.mend.apply(first.mend.apply(bare))
    assert not any(f.rule == "pull-up missing" for f in review(Wired(after, catalogue)))


def test_an_input_whose_high_is_too_low(mended: Design, catalogue: Catalogue) -> None:
    """0.7 x 5 V = 3.5 V is what the light wants to see; the controller gives 3.3 V."""
    design = edits.add_part(mended, Part(ref="D20", kind="led_addressable", package="LED-5050"))
    for number, net in (("1", "5V"), ("3", "GND"), ("4", "PROG")):
        design = edits.connect(design, Pin("D20", number), net)
    finding = found(design, catalogue, "high too low")
    assert (finding.value, finding.limit) == (pytest.approx(3.3, abs=0.01), pytest.approx(3.5, abs=0.02))
