"""Currents per supply and state, the timeline's charge, run times, and what direct current hides."""

from __future__ import annotations

import math

import numpy as np
import pytest
from msgspec.structs import replace
from scipy.integrate import solve_ivp

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit import cells, energy
from zesty_trace.core.circuit import time_constants as transients
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.build import cell_voltage
from zesty_trace.core.circuit.states import operating_states, spec_of_state
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, scenario_edits
from zesty_trace.core.design.model import Design, Moment, Part, Pin, StateSpec
from zesty_trace.core.design.scenario_edits import reading
from zesty_trace.errors import EditError

from .test_rules_on_circuits import CHARGER, CHARGER_NETS, make


@pytest.fixture(scope="module")
def node(catalogue: Catalogue) -> Design:
    """A controller on a cell with a charger."""
    parts = {**CHARGER, "U2": "regulator_3v3_low_drop", "U3": "controller_32", "R9": "resistor 1k", "D1": "led red"}
    nets = (
        f"{CHARGER_NETS}; CELL=U2.IN; GND=U2.GND U3.GND U3.GNDA D1.K; 3V3=U2.OUT U3.VDD U3.VDDA; "
        "L=U3.P1 R9.1; A=R9.2 D1.A"
    )
    return make(catalogue, parts, nets, base=False)


def test_currents_into_a_rail_add_up_to_what_its_supply_gives(mended: Design, catalogue: Catalogue) -> None:
    """Kirchhoff: what the regulator gives is what all other pins on its net take."""
    analysis = analyse(Wired(mended, catalogue))
    for load in energy.supply_budget(Wired(mended, catalogue)):
        operating = next(o for o in analysis.all() if o.state.name == load.state)
        amps = operating.solution.pin_currents()
        taken = sum(amps.get(p, 0.0) for p in mended.nets[load.net] if p.ref != load.ref)
        assert load.amp == pytest.approx(taken, abs=1e-8)
        assert load.watt == pytest.approx(load.volt * load.amp)


def test_states_are_proposed_and_can_be_replaced(node: Design, catalogue: Catalogue) -> None:
    names = [s.name for s in operating_states(Wired(node, catalogue))]
    assert names == ["all off", "in reset", "L on", "asleep", "on the cell", "cell nearly empty", "all on"]
    own = scenario_edits.keep_states(node, [StateSpec(name="lamp", high=(Pin("U3", "1"),), cell_pct=50)])
    assert [s.name for s in operating_states(Wired(own, catalogue))] == ["lamp"]
    gone = edits.remove_part(own, "U3")
    assert operating_states(Wired(gone, catalogue))[0].high == frozenset()
    with pytest.raises(EditError, match="Two operating states"):
        scenario_edits.keep_states(node, [StateSpec(name="a"), StateSpec(name="a")])


def test_renaming_a_state_carries_the_timeline_along(node: Design, catalogue: Catalogue) -> None:
    base = [spec_of_state(s) for s in operating_states(Wired(node, catalogue))]
    timed = scenario_edits.set_timeline(node, [Moment(state="all on", seconds=2)])
    after = scenario_edits.put_state(timed, StateSpec(name="busy"), base, "all on")
    assert after.timeline[0].state == "busy"
    assert scenario_edits.drop_state(after, "busy", after.states).timeline == ()
    with pytest.raises(EditError, match="lasts no time"):
        scenario_edits.set_timeline(node, [Moment(state="all on", seconds=0)])


def test_pressed_button_and_pulled_in_relay_change_the_circuit(catalogue: Catalogue) -> None:
    parts = {"SW1": "button", "R1": "resistor 1k", "K1": "relay", "R2": "resistor 100"}
    design = make(
        catalogue, parts, "A=SW1.1 R1.1; 5V=SW1.2 K1.COM; GND=R1.2 R2.2; B=K1.NO R2.1; NC=K1.NC K1.COIL1 K1.COIL2"
    )
    flipped = scenario_edits.keep_states(design, [StateSpec(name="rest"), StateSpec(name="on", flipped=("SW1", "K1"))])
    rest, on = analyse(Wired(flipped, catalogue)).all()
    assert rest.net_voltages()["A"] == pytest.approx(0.0, abs=1e-3)
    assert on.net_voltages()["A"] == pytest.approx(5.0, rel=0.01)
    assert on.net_voltages()["B"] == pytest.approx(5.0, rel=0.01)


def test_cell_follows_its_curve(catalogue: Catalogue) -> None:
    kind, part = catalogue.kind("lithium_cell"), Part(ref="BT1", kind="lithium_cell", value="3.8")
    assert cell_voltage(part, kind, None) == 3.8
    assert cell_voltage(part, kind, 100) == pytest.approx(4.2)
    assert cell_voltage(part, kind, 15) == pytest.approx((3.68 + 3.74) / 2)
    volts = [cell_voltage(part, kind, pct) for pct in range(101)]
    assert volts == sorted(volts)


def test_charger_passes_its_current_from_the_supply_into_the_cell(node: Design, catalogue: Catalogue) -> None:
    """Common practice: I = 1000 V / R, 2k gives 500 mA; the controller takes its share before the cell."""
    loads = {(x.ref, x.state): x.amp for x in energy.supply_budget(Wired(node, catalogue))}
    assert loads["J1", "all off"] == pytest.approx(0.5, rel=0.01)
    assert loads["BT1", "all off"] == pytest.approx(-0.5 + loads["U2", "all off"], abs=0.001)
    item = cells.charging(Wired(node, catalogue))[0]
    assert item.charger.rate_c == pytest.approx(0.5 / 0.4)
    assert item.hours == pytest.approx(0.4 / (0.5 - item.board_a) * 1.3)
    assert 0.0 < item.board_a < 0.003  # the controller sleeps on the cell for a minute of 61 s


def test_timeline_charge_is_current_times_time(node: Design, catalogue: Catalogue) -> None:
    own = scenario_edits.keep_states(
        node, [StateSpec(name="on", high=(Pin("U3", "1"),), supply_v=0), StateSpec(name="off", supply_v=0)]
    )
    moments = [Moment(state="off", seconds=9), Moment(state="on", seconds=1)]
    with pytest.raises(EditError, match="no state “gone”"):
        scenario_edits.set_timeline(own, [*moments, Moment(state="gone", seconds=5)])
    own = scenario_edits.set_timeline(own, moments)
    cycle = energy.play(Wired(own, catalogue))
    off, on = cycle.steps
    assert cycle.seconds == 10
    assert cycle.average_a == pytest.approx((9 * off.amp + on.amp) / 10)
    assert list(on.lit) == ["D1"]
    assert off.lit == {}
    assert cycle.at(9.5) is on
    assert cycle.at(19.5) is on
    assert cycle.at(10.0) is off


def test_run_time_is_usable_capacity_over_average_current(node: Design, catalogue: Catalogue) -> None:
    """Hand-worked: 400 mAh at about 95 mA of controller lasts about four hours; self-discharge is nothing beside it."""
    own = scenario_edits.set_timeline(node, [Moment(state="all off", seconds=1)])
    run = cells.run_times(Wired(own, catalogue))[0]
    assert run.capacity_mah == 400
    assert run.hours == pytest.approx(0.4 * (1 - run.floor_pct / 100) / run.average_a, rel=0.001)
    assert 3.5 < run.hours < 4.3
    asleep = cells.run_times(Wired(scenario_edits.set_timeline(node, [Moment(state="asleep", seconds=1)]), catalogue))[
        0
    ]
    assert asleep.hours > 100 * run.hours


def test_measurements_are_kept_one_for_each_thing_and_state(node: Design) -> None:
    first = scenario_edits.note_measured(node, reading("current", "J1", value=0.18))
    second = scenario_edits.note_measured(first, reading("current", "J1", value=0.19))
    assert [m.value for m in second.measured] == [0.19]
    assert scenario_edits.drop_measured(second, 0).measured == ()
    with pytest.raises(EditError):
        scenario_edits.note_measured(node, reading("current", "J1", value=1, tolerance_pct=0))


def test_rc_charge_time_against_a_numerical_integration() -> None:
    """scipy integrates dv/dt = (V - v) / RC until v crosses the threshold."""
    ohm, farad, volt, threshold = 10e3, 100e-9, 3.3, 2.31

    def crossing(_t: float, v: np.ndarray) -> float:
        return float(v[0]) - threshold

    crossing.terminal = True
    run = solve_ivp(lambda _t, v: (volt - v) / (ohm * farad), (0, 0.01), [0.0], events=crossing, rtol=1e-9, atol=1e-12)
    assert transients.charge_time_s(ohm, farad, volt, threshold) == pytest.approx(run.t_events[0][0], rel=1e-6)
    with pytest.raises(ValueError, match="between"):
        transients.charge_time_s(ohm, farad, volt, 4.0)


def test_coil_formulas_against_energy_and_integration() -> None:
    """All of L I^2 / 2 goes into C V^2 / 2; the decay through a diode is integrated by scipy."""
    volt = transients.coil_peak_v(0.1, 5e-3, 100e-12)
    assert 0.5 * 100e-12 * volt**2 == pytest.approx(0.5 * 5e-3 * 0.1**2)

    def dead(_t: float, i: np.ndarray) -> float:
        return float(i[0])

    dead.terminal = True
    run = solve_ivp(lambda _t, i: -(0.9 + i * 70.0) / 0.1, (0, 1), [0.07], events=dead, rtol=1e-10, atol=1e-13)
    assert transients.coil_decay_s(0.07, 0.1, 70.0, 0.9) == pytest.approx(run.t_events[0][0], rel=1e-5)


def test_corner_is_where_the_gain_is_down_by_three_decibels() -> None:
    from scipy.signal import TransferFunction, freqresp

    ohm, farad = 8.2e3, 100e-9
    corner = transients.corner_hz(ohm, farad)
    _, gain = freqresp(TransferFunction([1], [ohm * farad, 1]), [2 * math.pi * corner])
    assert 20 * math.log10(abs(gain[0])) == pytest.approx(-3.01, abs=0.01)


def test_time_constants_of_the_demo(mended: Design, catalogue: Catalogue) -> None:
    """UM10204: 0.8473 x 4k7 x 80 pF = 319 ns, past the 300 ns of fast mode: good for 100 kHz only."""
    found = {(t.what, t.where): t for t in transients.time_constants(Wired(mended, catalogue))}
    assert found["Bus rise time", "SDA"].value == pytest.approx(318.6e-9, rel=0.01)
    assert "100 kHz" in found["Bus rise time", "SDA"].how
    assert found["Reset delay", "U3.NRST"].value == pytest.approx(1e4 * 1e-7 * math.log(1 / 0.3), rel=0.01)
    assert found["Coil turn-off", "J3"].value == pytest.approx(12.4, abs=0.1)  # 12 V and a Schottky diode
    bare = edits.remove_part(mended, "D2")
    peak = next(t for t in transients.time_constants(Wired(bare, catalogue)) if t.what == "Coil turn-off")
    assert peak.value > 500
    assert "breaks down" in peak.how
    assert transients.time_constants(Wired(Design(), catalogue)) == ()


def test_snubber_by_the_published_rule_of_thumb() -> None:
    """C = I^2 / 10 uF and R = V / (10 I^(1 + 50 / V)), from memory: 1 A at 230 V gives 0.1 uF and 23 ohm."""
    farad, ohm = transients.contact_snubber(1.0, 230.0)
    assert (farad, ohm) == (pytest.approx(0.1e-6), pytest.approx(23.0))


def test_other_value_in_a_variant_is_what_is_solved(node: Design) -> None:
    other = edits.change_part(node, "R9", values={"dim": "10k"})
    other = replace(other, variants=("bright", "dim"))
    assert other.fitted("dim").parts["R9"].value == "10k"
    assert other.fitted("bright").parts["R9"].value == "1k"
