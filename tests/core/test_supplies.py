"""Adjustable regulators, rectifiers, clamped coils: by the formulas of application notes and textbooks."""

from __future__ import annotations

import pytest

from tests.core.rule_cases import Circuit
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.regulators import wanted_v
from zesty_trace.core.circuit.time_constants import time_constants
from zesty_trace.core.circuit.wired import Wired

ADJUSTED = "J1 barrel_jack, U1 regulator_adjustable, R1 resistor 240, R2 resistor {}, R3 resistor 100"
ADJUSTED_NETS = "V=J1.TIP U1.IN; GND=J1.SLEEVE R2.2 R3.2; A=U1.ADJ R1.2 R2.1; OUT=U1.OUT R1.1 R3.1"


@pytest.mark.parametrize(("ohm", "volt"), [("390", 3.30), ("720", 5.04), ("1k5", 9.14)])
def test_adjustable_regulator_gives_what_its_resistors_set(ohm: str, volt: float, catalogue: Catalogue) -> None:
    """V = 1.25 (1 + R2 / R1) + 50 uA R2, the formula of every application note of such a part (from memory)."""
    wired = Wired(Circuit(ADJUSTED.format(ohm), ADJUSTED_NETS, bare=True, supply_v=12.0).build(catalogue), catalogue)
    assert wanted_v(wired, "U1") == pytest.approx(volt, rel=0.005)
    assert analyse(wired).worst().net_voltages()["OUT"] == pytest.approx(volt, rel=0.01)


def test_adjustable_regulator_without_its_divider_is_set_to_nothing(catalogue: Catalogue) -> None:
    wired = Wired(
        Circuit(ADJUSTED.format("390"), ADJUSTED_NETS.replace("R2.1", ""), bare=True).build(catalogue), catalogue
    )
    assert wanted_v(wired, "U1") is None


def test_bridge_passes_either_polarity_with_two_drops(catalogue: Catalogue) -> None:
    for plus, minus in (("AC1", "AC2"), ("AC2", "AC1")):
        parts = "J1 barrel_jack, BR1 bridge_rectifier, R1 resistor 100"
        nets = f"V=J1.TIP BR1.{plus}; GND=J1.SLEEVE BR1.{minus}; P=BR1.+ R1.1; M=BR1.- R1.2"
        volts = analyse(Wired(Circuit(parts, nets, bare=True, supply_v=12.0).build(catalogue), catalogue)).worst()
        drop = 12.0 - (volts.net_voltages()["P"] - volts.net_voltages()["M"])
        assert 1.4 < drop < 2.0


COIL = "J1 barrel_jack, K1 relay_12v, Q1 nmos_power, R1 resistor 10k, U2 controller_8_dip"
COIL_NETS = "12V=J1.TIP K1.COIL1; GND=J1.SLEEVE Q1.S R1.2; C=K1.COIL2 Q1.D; G=Q1.G R1.1 U2.P1; 5V=U2.VDD; GND=U2.GND"


@pytest.mark.parametrize(
    ("more", "nets", "low", "high"),
    [
        ("D1 rectifier_diode", "C=D1.A; 12V=D1.K", 12.4, 13.2),
        ("D1 rectifier_diode, R2 resistor 100", "C=D1.A; X=D1.K R2.1; 12V=R2.2", 15.0, 16.5),
        ("D1 zener_diode 24 V", "C=D1.K; GND=D1.A", 23.0, 25.5),
        ("", "", 300.0, 1e6),
    ],
)
def test_coil_rises_as_far_as_what_takes_its_current(
    more: str, nets: str, low: float, high: float, catalogue: Catalogue
) -> None:
    """By hand, 30 mA: 12 V and a diode; and 100 ohm, 3 V more; a Zener of 24 V; nothing at all."""
    parts = ", ".join(filter(None, (COIL, "U3 regulator_5v", more)))
    design = Circuit(parts, f"{COIL_NETS}; 12V=U3.IN; 5V=U3.OUT; GND=U3.GND; {nets}", bare=True, supply_v=12.0).build(
        catalogue
    )
    peak = next(t for t in time_constants(Wired(design, catalogue)) if t.what == "Coil turn-off")
    assert low < peak.value < high


def test_two_rows_are_numbered_across(catalogue: Catalogue) -> None:
    pads = {p.number: p for p in land_pattern(catalogue.package("Header-2x5")).pads}
    assert pads["1"].y_nm == pads["2"].y_nm
    assert pads["1"].x_nm == pads["3"].x_nm < pads["2"].x_nm
    assert pads["1"].y_nm - pads["3"].y_nm == 2_540_000
