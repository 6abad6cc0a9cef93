"""What drives what: outputs in their states, contacts that follow coils, keys, inlets, and what nobody modelled."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.drivers import drivers, unknown_nets, unmodelled_outputs
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.review.mending import prove
from zesty_trace.core.review.rules import review

from .rule_cases import CASES, Circuit, coil, lit, with_mcu


def solved(circuit: Circuit, catalogue: Catalogue) -> dict[str, dict[str, float]]:
    """State -> net -> V."""
    found = analyse(Wired(circuit.build(catalogue), catalogue))
    return {o.state.name: dict(o.net_voltages()) for o in found.all()}


def test_a_shift_register_lights_an_led_through_its_own_resistance(catalogue: Catalogue) -> None:
    """By hand: 3.3 V less the LED stands over 45 Ω of the output and 330 Ω."""
    circuit = Circuit(
        "U2 shift_register_8, R1 resistor 330, D1 led red", "3V3=U2.VDD; GND=U2.GND D1.K; Q=U2.Q1 R1.1; A=R1.2 D1.A"
    )
    states = solved(circuit, catalogue)
    amp = (states["Q on"]["Q"] - states["Q on"]["A"]) / 330
    assert amp == pytest.approx((3.3 - states["Q on"]["A"]) / 375, rel=0.01)
    assert states["all off"]["Q"] == pytest.approx(0.0, abs=1e-3)


def test_an_open_drain_pulls_when_it_is_on_and_lets_go_when_it_is_off(catalogue: Catalogue) -> None:
    nets = "3V3=U3.VDD R1.1; GND=U3.GND D1.K; OUT=U3.OUT1 R1.2 D1.A"
    states = solved(Circuit("U3 comparator_dual, R1 resistor 1k, D1 led red", nets), catalogue)
    assert states["OUT on"]["OUT"] < 0.3
    assert states["all off"]["OUT"] > 1.4


def test_a_contact_follows_its_coil(catalogue: Catalogue) -> None:
    """The switched side of the contact is at 5 V only while the pin is high, and at 0 V else."""
    circuit = coil(", D1 rectifier_diode, J2 heater_terminal 100", "5V=D1.K K1.COM; COIL=D1.A; SW=K1.NO J2.1; GND=J2.2")
    states = solved(circuit, catalogue)
    assert states["all off"]["SW"] == pytest.approx(0.0, abs=1e-3)
    assert states["G on"]["SW"] == pytest.approx(states["G on"]["5V"], rel=0.01)


def test_a_relay_that_gets_too_little_stays_as_it_is(catalogue: Catalogue) -> None:
    circuit = coil(
        ", R9 resistor 100, J2 heater_terminal 100", "X=R9.2 K1.COIL1; 5V=R9.1 K1.COM; SW=K1.NO J2.1; GND=J2.2"
    )
    low = replace_net(circuit, "5V=K1.COIL1; ", "")
    assert solved(low, catalogue)["G on"]["SW"] == pytest.approx(0.0, abs=1e-3)  # 5 x 70 / 170 = 2.1 V of 3.5 V


def replace_net(circuit: Circuit, old: str, new: str) -> Circuit:
    return Circuit(circuit.parts, circuit.nets.replace(old, new))


def test_a_button_is_pressed_in_a_state_of_its_own(catalogue: Catalogue) -> None:
    states = solved(with_mcu("SW1 button, R1 resistor 10k", "3V3=R1.1; KEY=R1.2 SW1.1 U2.P1; GND=SW1.2"), catalogue)
    assert states["SW1 pressed"]["KEY"] == pytest.approx(0.0, abs=0.01)
    assert next(v["KEY"] for n, v in states.items() if n != "SW1 pressed") == pytest.approx(3.3, abs=0.05)


def test_in_reset_the_pins_of_the_controller_hold_nothing(catalogue: Catalogue) -> None:
    """A gate that 12 V pulls up stands at 12 V, pin and all, until the program runs."""
    nets = "5V=Q1.S R1.1; G=U2.P1 Q1.G R1.2; LOAD=Q1.D J2.1; GND=J2.2"
    circuit = with_mcu("Q1 pmos_power, R1 resistor 10k, J2 heater_terminal 100", nets, supply_v=12.0)
    states = solved(circuit, catalogue)
    assert states["in reset"]["G"] == pytest.approx(12.0, abs=0.1)
    found = review(Wired(circuit.build(catalogue), catalogue))
    assert any(f.rule == "level clash" and "G" in f.nets for f in found)


def test_two_inlets_are_plugged_in_one_at_a_time(catalogue: Catalogue) -> None:
    nets = "5V=J1.TIP D1.K D2.K R1.1; U=J2.VBUS D2.A; GND=J1.SLEEVE J2.GND R1.2; B=D1.A"
    parts = "J1 barrel_jack 9 V, J2 usb_c_inlet, D1 schottky_diode, D2 schottky_diode, R1 resistor 100"
    states = solved(Circuit(parts, nets, bare=True), catalogue)
    assert states["J1 alone"]["5V"] == pytest.approx(9.0, abs=0.05)
    assert 4.0 < states["J2 alone"]["5V"] < 5.0
    wired = Wired(Circuit(parts, nets, bare=True).build(catalogue), catalogue)
    assert [(inflow(wired, r).volt, inflow(wired, r).said_by) for r in ("J1", "J2")] == [
        (9.0, "inlet"),
        (5.0, "standard"),
    ]


def test_an_inlet_of_which_nobody_speaks_is_assumed_and_said(catalogue: Catalogue) -> None:
    wired = Wired(Circuit("", "", supply_v=0.0).build(catalogue), catalogue)
    assert inflow(wired, "J1").said_by == "assumed"
    finding = next(f for f in review(wired) if f.rule == "supply not said")
    assert prove(wired, finding).gone


def test_what_nobody_modelled_is_not_zero_volts(catalogue: Catalogue) -> None:
    known = replace(catalogue.kinds["logic_output_5v"], id="own_output", drive=None)
    own = replace(catalogue, kinds=catalogue.kinds | {"own_output": known})
    circuit = with_mcu("U3 own_output", "3V3=U3.VCC; GND=U3.GND; X=U3.OUT U2.P1")
    wired = Wired(circuit.build(own), own)
    assert unmodelled_outputs(wired) == (Pin("U3", "3"),)
    assert unknown_nets(wired) == {"X"}
    assert not unknown_nets(Wired(lit("330").build(catalogue), catalogue))


def test_a_supply_pin_is_never_a_driver_and_a_bus_line_rests_released(catalogue: Catalogue) -> None:
    for fires, quiet in CASES.values():
        for circuit in (fires, quiet):
            wired = Wired(circuit.build(catalogue), catalogue) if "bare_output" not in circuit.parts else None
            for driver in drivers(wired) if wired else ():
                assert wired.spec(driver.pin).role in ("output", "open_drain", "bidirectional")
                assert wired.spec(driver.pin).name not in ("SDA", "SCL")


def test_states_of_the_users_own_stay_his_own(catalogue: Catalogue) -> None:
    from zesty_trace.core.circuit.states import spec_of_state
    from zesty_trace.core.design.scenario_edits import keep_states

    design = coil("", "").build(catalogue)
    proposed = operating_states(Wired(design, catalogue))
    kept = keep_states(design, [spec_of_state(s) for s in proposed])
    again = operating_states(Wired(kept, catalogue))
    assert [(s.name, s.high, s.reset, s.unplugged) for s in again] == [
        (s.name, s.high, s.reset, s.unplugged) for s in proposed
    ]
