"""Amplifiers, potentiometers, Darlington pairs, cells over their charge: against formulas of any textbook."""

from __future__ import annotations

import math

import numpy as np
import pytest

from tests.core.rule_cases import Circuit, with_mcu
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.build import build_network
from zesty_trace.core.circuit.cells import charging, run_times
from zesty_trace.core.circuit.drivers import driver_at, unmodelled_outputs
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.states import OperatingState
from zesty_trace.core.circuit.time_constants import time_constants
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import scenario_edits
from zesty_trace.core.design.model import Moment, Pin, StateSpec, Wiper

AMP = "U3 op_amp_dual, R1 resistor {}, R2 resistor {}, R3 resistor {}, R4 resistor {}"
FEEDS = "3V3=U3.VDD R1.1; GND=U3.GND R2.2 R4.2"


def volts_of(circuit: Circuit, catalogue: Catalogue) -> dict[str, float]:
    """Return the solved voltages with all outputs on."""
    return dict(analyse(Wired(circuit.build(catalogue), catalogue)).worst().net_voltages())


@pytest.mark.parametrize(("feedback", "gain"), [("100k", 11.0), ("10k", 2.0)])
def test_non_inverting_amplifier(feedback: str, gain: float, catalogue: Catalogue) -> None:
    """V = Vin (1 + Rf / Rg), Horowitz and Hill; 3.3 V through 33k and 1k are 97 mV."""
    circuit = Circuit(
        AMP.format("33k", "1k", feedback, "10k"),
        f"{FEEDS}; IN=R1.2 R2.1 U3.IN1+; M=U3.IN1- R3.1 R4.1; OUT=U3.OUT1 R3.2",
    )
    volts = volts_of(circuit, catalogue)
    assert volts["OUT"] == pytest.approx(3.3 / 34 * gain, rel=0.01)
    assert volts["M"] == pytest.approx(volts["IN"], abs=1e-4)


def test_inverting_amplifier_saturates_at_its_rails(catalogue: Catalogue) -> None:
    """Vout = Vref - Rf / R (Vin - Vref): 1.65 - 10 x 1.65 lies below ground, so the output stays at its low end."""
    circuit = Circuit(
        AMP.format("10k", "10k", "100k", "10k").replace("R4 resistor 10k", "R4 resistor 10k, R5 resistor 10k"),
        "3V3=U3.VDD R1.1 R5.1; GND=U3.GND R2.2 R4.2; REF=R1.2 R2.1 U3.IN1+; M=U3.IN1- R3.1 R5.2; OUT=U3.OUT1 R3.2 R4.1",
    )
    assert 0.0 < volts_of(circuit, catalogue)["OUT"] < 0.06


def test_current_sink_with_a_transistor_in_the_loop(catalogue: Catalogue) -> None:
    """The loop makes the emitter resistor's voltage that of the input: I = Vin / R, whatever the transistor's gain."""
    circuit = Circuit(
        "U3 op_amp_dual, R1 resistor 20k, R2 resistor 10k, R3 resistor 110, R4 resistor 100, Q1 npn",
        "3V3=U3.VDD R1.1; GND=U3.GND R2.2 R3.2; IN=R1.2 R2.1 U3.IN1+; E=U3.IN1- Q1.E R3.1; B=U3.OUT1 Q1.B; "
        "5V=R4.1; C=R4.2 Q1.C",
    )
    volts = volts_of(circuit, catalogue)
    assert volts["E"] == pytest.approx(1.1, rel=0.01)
    assert (volts["5V"] - volts["C"]) / 100 == pytest.approx(0.01, rel=0.02)


def test_output_current_is_limited(catalogue: Catalogue) -> None:
    circuit = Circuit(
        "U3 op_amp_dual, R1 resistor 10k, R2 resistor 10k, R3 resistor 10",
        "3V3=U3.VDD R1.1; GND=U3.GND R2.2 R3.2; IN=R1.2 R2.1 U3.IN1+; OUT=U3.IN1- U3.OUT1 R3.1",
    )
    assert volts_of(circuit, catalogue)["OUT"] / 10 == pytest.approx(0.026, abs=0.002)


def test_channel_without_feedback_compares_and_has_two_levels(catalogue: Catalogue) -> None:
    circuit = with_mcu(
        "U3 op_amp_dual, R1 resistor 10k, R2 resistor 10k, R3 resistor 100k",
        "3V3=U3.VDD R1.1; GND=U3.GND R2.2; REF=R1.2 R2.1 U3.IN1- U3.IN1+ R3.1; OUT=U3.OUT1 U2.P1 R3.2; "
        "F=U3.IN2- U3.OUT2; REF=U3.IN2+",
    )
    wired = Wired(circuit.build(catalogue), catalogue)
    assert Pin("U3", "7") not in driver_at(wired)
    assert unmodelled_outputs(wired) == ()


def test_potentiometer_is_solved_at_both_ends_and_where_a_state_puts_it(catalogue: Catalogue) -> None:
    design = with_mcu("RV1 potentiometer 20k", "3V3=RV1.3; GND=RV1.1; W=RV1.W U2.AIN0").build(catalogue)
    volts = {o.state.name: o.net_voltages()["W"] for o in analyse(Wired(design, catalogue)).all()}
    rail = 3.3
    assert volts["RV1 at 0 %"] == pytest.approx(0.0, abs=0.01)
    assert volts["RV1 at 100 %"] == pytest.approx(rail, rel=0.01)
    own = scenario_edits.keep_states(design, [StateSpec(name="quarter", wipers=(Wiper(ref="RV1", pct=25),))])
    wired = Wired(own, catalogue)
    assert analyse(wired).worst().net_voltages()["W"] == pytest.approx(rail / 4, rel=0.01)
    ohms = sorted(e.values["ohm"] for e in build_network(wired).elements if e.name == "RV1")
    assert ohms == [5000.0, 15000.0]


def test_network_takes_its_value(catalogue: Catalogue) -> None:
    design = with_mcu("RN1 resistor_network_8 4k7", "3V3=RN1.COM; A=RN1.R1 U2.P1").build(catalogue)
    found = [e for e in build_network(Wired(design, catalogue)).elements if e.name == "RN1"]
    assert {round(e.values["ohm"]) for e in found} == {4700}
    bare = with_mcu("RN1 resistor_network_8", "3V3=RN1.COM; A=RN1.R1 U2.P1").build(catalogue)
    assert {e.values["ohm"] for e in build_network(Wired(bare, catalogue)).elements if e.name == "RN1"} == {10000}


def test_darlington_saturates_near_a_volt(catalogue: Catalogue) -> None:
    """Common practice for such arrays: 0.9 V at 100 mA and 1.1 V at 350 mA, and an input of about 1.35 mA at 5 V."""
    for ohm, low, high in (("120", 0.7, 1.0), ("33", 0.9, 1.25)):
        parts = f"U3 darlington_array_8, R1 resistor {ohm}"
        design = Circuit(
            f"J1 barrel_jack, {parts}, R2 resistor 1k",
            "V=J1.TIP R1.1 U3.COM R2.1; GND=J1.SLEEVE U3.GND; I=R2.2 U3.I1; O=R1.2 U3.O1",
            bare=True,
            supply_v=12.0,
        ).build(catalogue)
        solved = analyse(Wired(design, catalogue)).worst()
        assert low < solved.net_voltages()["O"] < high


def test_sleeping_chip_draws_what_its_data_sheet_says(catalogue: Catalogue) -> None:
    design = with_mcu("U3 pressure_sensor", "3V3=U3.VDD; GND=U3.GND; SDA=U2.SDA U3.SDA; SCL=U2.SCL U3.SCL").build(
        catalogue
    )
    wired = Wired(design, catalogue)
    asleep = OperatingState("asleep", asleep=frozenset(("U2", "U3")), quiet=True)
    amps = solve(build_network(wired, asleep)).pin_currents()
    assert amps[wired.pin("U3", "VDD")] == pytest.approx(0.5e-6, rel=0.02)


CELL = "BT1 lithium_cell 3.8 1000 mAh, R1 resistor 100"
CELL_NETS = "V=BT1.+ R1.1; GND=BT1.- R1.2"


def test_run_time_is_integrated_over_the_discharge(catalogue: Catalogue) -> None:
    """A resistor on a cell: hours = capacity x R x the mean of 1 / V over the charge, here by a finer sum."""
    design = Circuit(CELL, CELL_NETS, bare=True).build(catalogue)
    wired = Wired(scenario_edits.set_timeline(design, [Moment(state="on the cell", seconds=1)]), catalogue)
    run = run_times(wired)[0]
    percents, volts = zip(*catalogue.kind("lithium_cell").ocv, strict=True)
    fine = np.interp(np.linspace(0, 100, 2001), percents, volts)
    lost = 0.03 / (30 * 24)
    expected = float(np.mean(1.0 / (fine / 100.12 + lost)))
    assert run.hours == pytest.approx(expected, rel=0.01)
    assert run.floor_pct == 0.0


def test_cells_in_a_row_and_what_stops_first(catalogue: Catalogue) -> None:
    design = Circuit(
        "BT1 battery_aa 4.5, U2 regulator_3v3_low_drop, R1 resistor 100, C1 ceramic_capacitor 10u",
        "V=BT1.+ U2.IN C1.1; GND=BT1.- U2.GND R1.2 C1.2; 3V3=U2.OUT R1.1",
        bare=True,
    ).build(catalogue)
    wired = Wired(scenario_edits.set_timeline(design, [Moment(state="on the cell", seconds=1)]), catalogue)
    run = run_times(wired)[0]
    assert run.held_by == "U2"
    assert 5 < run.floor_pct < 40
    assert run.hours == pytest.approx(2000 * (1 - run.floor_pct / 100) / 33, rel=0.1)


def test_charging_takes_longer_while_the_board_draws_and_may_never_end(catalogue: Catalogue) -> None:
    """200 mA of charge less 4.2 V or so through the load, by hand: 400 mAh / (0.2 - I) x 1.3."""
    for ohm, ends in (("100", True), ("18", False)):
        parts = "J1 usb_c_inlet, U1 cell_charger, R1 resistor 5k, BT1 lithium_cell 3.8 400 mAh, R2 resistor " + ohm
        nets = (
            "VBUS=J1.VBUS U1.VCC U1.CE; GND=J1.GND U1.GND U1.TEMP R1.2 BT1.- R2.2; P=U1.PROG R1.1; "
            "CELL=U1.BAT BT1.+ R2.1"
        )
        item = charging(Wired(Circuit(parts, nets, bare=True).build(catalogue), catalogue))[0]
        assert item.board_a == pytest.approx(3.8 / float(ohm), rel=0.05)
        if ends:
            assert item.hours == pytest.approx(0.4 / (0.2 - item.board_a) * 1.3)
        else:
            assert item.hours is None


def test_reset_that_a_divider_holds_down_never_ends(catalogue: Catalogue) -> None:
    nets = "3V3=R1.1; R=R1.2 R2.1 C3.1 U2.NRST; GND=R2.2 C3.2"
    for ohm, said in (("100k", "never"), ("1k", "ms")):
        design = with_mcu(f"R1 resistor {ohm}, R2 resistor 10k, C3 ceramic_capacitor 100n", nets).build(catalogue)
        found = next(t for t in time_constants(Wired(design, catalogue)) if t.what == "Reset delay")
        assert said in found.say() or (said == "ms" and math.isfinite(found.value))


def test_inrush_goes_through_every_branch(catalogue: Catalogue) -> None:
    """Two fuses side by side into two capacitors: the supply's own and lead resistance, then both branches at once."""
    parts = "J1 barrel_jack, F1 polyfuse 1 A, F2 polyfuse 1 A"
    parts += ", C1 electrolytic_capacitor 100u, C2 electrolytic_capacitor 100u"
    nets = "V=J1.TIP F1.1 F2.1; GND=J1.SLEEVE C1.2 C2.2; A=F1.2 C1.1; B=F2.2 C2.1"
    design = Circuit(parts, nets, bare=True, supply_v=5.0).build(catalogue)
    found = next(t for t in time_constants(Wired(design, catalogue)) if t.what == "Inrush")
    fuse = catalogue.kind("polyfuse").model.series_ohm
    assert fuse is not None
    assert found.value == pytest.approx(5.0 / (0.12 + (fuse + 0.2) / 2), rel=0.02)
