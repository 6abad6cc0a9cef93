"""The plan's limits come from the model; good boards pass, planted faults fail at the right step."""

from __future__ import annotations

import pytest

from zesty_trace.core.bench.direct import DirectBench
from zesty_trace.core.bench.plan import BenchPlan, divider_nets, make_plan, supply_entry
from zesty_trace.core.bench.run import run_plan
from zesty_trace.core.bench.simulated import SimulatedBoard, demo_faults
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.errors import Cancelled, EditError


@pytest.fixture(scope="module")
def plan(mended: Design, catalogue: Catalogue) -> BenchPlan:
    return make_plan(Wired(mended, catalogue), "Full")


def measured(plan, design, catalogue, serial: str, fault: Fault | None = None):
    return run_plan(plan, DirectBench(SimulatedBoard(Wired(design, catalogue), serial, fault), plan), serial, quiet)


def quiet(share: float, text: str) -> bool:
    return True


def test_plan_covers_rails_current_and_bus_in_a_safe_order(plan: BenchPlan) -> None:
    kinds = [s.kind for s in plan.steps]
    first_power = kinds.index("power on")
    assert set(kinds[:first_power]) == {"resistance"}
    assert "resistance" not in kinds[first_power:]
    assert {s.title for s in plan.steps} >= {"12V to 5V", "U3 answers", "Supply current, HEAT on"}
    for kind in ("resistance", "voltage"):
        assert {"12V", "5V", "3V3"} <= {s.net for s in plan.steps if s.kind == kind}
    assert next(s for s in plan.steps if s.kind == "bus").addresses == (0x3C, 0x44, 0x45)
    assert next(s for s in plan.steps if s.net == "3V3").probe == "TP3"


def test_rail_limits_are_the_tolerance_of_the_regulator_and_the_meter(plan: BenchPlan) -> None:
    """2 % regulator and 0.5 % meter: 3.3 V x (1 ± 0.025), less millivolts of load."""
    step = next(s for s in plan.steps if s.kind == "voltage" and s.net == "3V3")
    assert step.low == pytest.approx(3.3 * 0.975, abs=0.01)
    assert step.high == pytest.approx(3.3 * 1.025, abs=0.01)


def test_divider_limits_by_hand(plan: BenchPlan, mended: Design, catalogue: Catalogue) -> None:
    """12 V x 10/57 = 2.105 V; 1 % resistors move it by 2 x 1 % x 47/57, the supply by 0.5 %, the meter by 0.5 %."""
    assert divider_nets(Wired(mended, catalogue)) == ["SENSE_12V"]
    step = next(s for s in plan.steps if s.net == "SENSE_12V" and s.kind == "voltage")
    half = 2.105 * (2 * 0.01 * 47 / 57 + 0.005 + 0.005)
    assert step.expected == pytest.approx(2.105, abs=0.005)
    assert step.high - step.low == pytest.approx(2 * half, rel=0.05)


def test_basic_variant_expects_one_sensor_and_no_display(mended: Design, catalogue: Catalogue) -> None:
    bus = next(s for s in make_plan(Wired(mended, catalogue), "Basic").steps if s.kind == "bus")
    assert bus.addresses == (0x44,)


@pytest.mark.campaign
def test_a_batch_of_good_boards_passes(plan: BenchPlan, mended: Design, catalogue: Catalogue) -> None:
    results = [measured(plan, mended, catalogue, f"B-{k:03d}") for k in range(15)]
    assert [r.summary() for r in results if not r.passed] == []
    readings = {next(x.value for x in r.readings if x.step.kind == "voltage") for r in results}
    assert len(readings) == 15  # spread values, not one number


@pytest.mark.parametrize(
    ("fault", "step"),
    [
        (Fault("short", "3V3", "GND"), "3V3 to GND"),
        (Fault("short", "12V", "GND"), "12V to GND"),
        (Fault("missing", "U5"), "Bus answers"),
        (Fault("missing", "U2"), "3V3"),
        (Fault("wrong value", "R17", factor=2.0), "SENSE_12V"),
        (Fault("open", "R2", "SDA"), "Bus answers"),
    ],
)
def test_a_planted_fault_fails_at_the_right_step(fault, step: str, plan, mended, catalogue) -> None:
    result = measured(plan, mended, catalogue, "X-001", fault)
    assert result.verdict == "fail"
    assert step in {r.step.title for r in result.readings if not r.passed and r.value is not None}


def test_a_short_stops_the_test_before_power(plan, mended, catalogue) -> None:
    bench = DirectBench(SimulatedBoard(Wired(mended, catalogue), "X-001", Fault("short", "5V", "GND")), plan)
    result = run_plan(plan, bench, "X-001", quiet)
    assert not bench.was_powered
    assert all(r.value is None for r in result.readings if r.step.kind != "resistance")


def test_supply_goes_into_current_limit_instead_of_feeding_a_fault(mended, catalogue) -> None:
    board = SimulatedBoard(Wired(mended, catalogue), "X", Fault("short", "12V", "GND"))
    board.power(12.0, 0.5)
    assert board.supply_a <= 0.55
    assert board.supply_v < 1.0
    board.power_off()
    assert board.voltage("3V3", "GND") == 0.0


def test_power_is_off_after_cancel(plan, mended, catalogue) -> None:
    bench = DirectBench(SimulatedBoard(Wired(mended, catalogue), "X-001"), plan)
    with pytest.raises(Cancelled):
        run_plan(plan, bench, "X-001", lambda share, text: share < 0.6)
    assert bench.was_powered
    assert bench.board.powered is None


def test_demo_batch_has_three_faults(mended, catalogue) -> None:
    faults = demo_faults(Wired(mended, catalogue), 12)
    assert {k: f.kind for k, f in faults.items()} == {4: "short", 7: "missing", 10: "wrong value"}
    assert demo_faults(Wired(mended, catalogue), 3) == {}


def test_a_board_without_an_inlet_is_told() -> None:
    from zesty_trace.core.catalogue.kinds import shipped

    with pytest.raises(EditError, match="no supply inlet"):
        supply_entry(Wired(Design(), shipped()))
