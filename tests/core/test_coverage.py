"""What the plan would notice: campaigns of single faults on all three demos, and no good board refused."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

import pytest

from zesty_trace.core.bench.circuit import bench_network, feeds, resistances
from zesty_trace.core.bench.coverage import KINDS, campaign, cover
from zesty_trace.core.bench.direct import DirectBench
from zesty_trace.core.bench.plan import BenchPlan, make_plan
from zesty_trace.core.bench.run import run_plan
from zesty_trace.core.bench.simulated import SimulatedBoard
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.errors import Cancelled

DEMOS = ("proofing", "tide-dial", "sensor-node")
# Of the campaign's faults one in so many is tried here; the benchmark tries all.
EVERY = {"proofing": 12, "tide-dial": 5, "sensor-node": 5}


@cache
def mended_demo(name: str) -> tuple[Design, BenchPlan]:
    root = files("zesty_trace") / "data" / "demo" / name
    facts = tomllib.loads((root / "demo.toml").read_text("utf-8"))
    base = edits.set_brief(Design(variants=tuple(facts.get("variants", ()))), supply_v=facts["supply_v"])
    texts = [(root / n).read_text("utf-8") for n in ("parts.csv", "wiring.csv")]
    design = import_prototype(texts[0], texts[1], shipped(), edits.set_build(base, variant=facts["variant"]))
    for finding in review(Wired(design, shipped())):
        if finding.mend:
            design = finding.mend.apply(design)
    return design, make_plan(Wired(design, shipped()), design.build.variant)


def measured(design: Design, plan: BenchPlan, serial: str, fault: Fault | None = None):
    board = SimulatedBoard(Wired(design.fitted(plan.variant), shipped()), serial, fault)
    return run_plan(plan, DirectBench(board, plan), serial, lambda _s, _t: True)


@pytest.mark.campaign
@pytest.mark.parametrize("name", DEMOS)
def test_over_half_of_all_single_faults_are_noticed(name: str) -> None:
    """55 % at least, asked of all three demos."""
    design, plan = mended_demo(name)
    trials = campaign(Wired(design.fitted(plan.variant), shipped()))
    assert {t.sort for t in trials} == set(KINDS)
    found = cover(Wired(design, shipped()), plan.variant, plan=plan, trials=trials[:: EVERY[name]])
    assert found.share > 0.5
    assert all(n <= m for n, m in found.by_sort().values())
    assert sum(len(f) for f in found.unnoticed().values()) == sum(not t.noticed for t in found.trials)


@pytest.mark.campaign
@pytest.mark.parametrize("name", DEMOS)
def test_no_good_board_is_refused(name: str) -> None:
    design, plan = mended_demo(name)
    results = [measured(design, plan, f"G-{k:03d}") for k in range(10)]
    assert [r.summary() for r in results if not r.passed] == []


@pytest.mark.parametrize(("name", "ref"), [("proofing", "U3"), ("tide-dial", "U2"), ("sensor-node", "U3")])
def test_a_board_without_its_controller_is_not_passed(name: str, ref: str) -> None:
    design, plan = mended_demo(name)
    result = measured(design, plan, "X-001", Fault("missing", ref))
    assert result.verdict == "fail"
    assert any(r.step.kind == "controller" and not r.passed for r in result.readings)


def test_lights_without_data_are_noticed() -> None:
    design, plan = mended_demo("tide-dial")
    result = measured(design, plan, "X-001", Fault("open", "D5", "RING_4", pin="4"))
    lights = next(r for r in result.readings if r.step.kind == "lights")
    assert (lights.passed, lights.text) == (False, "4 of 12")


def test_two_chips_at_one_address_never_hide_that_one_is_missing() -> None:
    design, _ = mended_demo("proofing")
    same = edits.connect(design, Pin("U5", "2"), "GND")
    plan = make_plan(Wired(same, shipped()), "Full")
    for fault in (None, Fault("missing", "U5")):
        result = measured(same, plan, "X-001", fault)
        assert result.verdict != "pass"
        bus = next(r for r in result.readings if r.step.kind == "bus")
        assert not bus.passed
        assert "cannot be told apart" in bus.text


def test_the_order_of_the_parts_does_not_decide_which_source_is_the_supply() -> None:
    from msgspec.structs import replace

    design, plan = mended_demo("sensor-node")
    turned = replace(design, parts=dict(reversed(design.parts.items())), nets=dict(reversed(design.nets.items())))
    assert (
        [f.ref for f in feeds(Wired(turned, shipped()))]
        == [f.ref for f in feeds(Wired(design, shipped()))]
        == ["J1", "BT1"]
    )
    powered = [
        {(s.kind, s.title, s.feed) for s in p.steps if s.powered} for p in (plan, make_plan(Wired(turned, shipped())))
    ]
    assert powered[0] == powered[1]


def test_a_plan_says_what_must_be_plugged_in() -> None:
    words = " ".join(mended_demo("proofing")[1].setup) + " ".join(mended_demo("sensor-node")[1].setup)
    words += " ".join(mended_demo("tide-dial")[1].setup)
    for part in ("bench supply to J1", "Plug in at J2", "Plug in at J4", "cell out of BT1", "lights must be dark"):
        assert part in words


def test_a_high_supply_resistance_does_not_keep_the_power_off() -> None:
    """A missing part reads high: that is a fault to find with power on, not a short."""
    design, plan = mended_demo("proofing")
    result = measured(design, plan, "X-001", Fault("missing", "R17"))
    assert any(r.step.kind == "voltage" and r.value is not None for r in result.readings)


def test_resistance_and_its_spread_by_hand() -> None:
    """Worked by hand: 1 k in parallel with 3 k is 750 Ω.

    At 1 % and 2 % it moves by 0.01 x 3/4 + 0.02 x 1/4 = 1.25 %.
    """
    elements = (
        Element("R1", "resistor", ("a", "0"), {"ohm": 1000.0}, (), {"ohm": 0.01}),
        Element("R2", "resistor", ("a", "b"), {"ohm": 2000.0}, (), {"ohm": 0.02}),
        Element("R3", "resistor", ("b", "0"), {"ohm": 1000.0}, (), {"ohm": 0.02}),
        Element("R4", "resistor", ("c", "d"), {"ohm": 1000.0}, (), {}),
    )
    found = resistances(Network(elements, "0"), [("a", "0"), ("a", "b"), ("c", "0")])
    assert found.ohm[0] == pytest.approx(750.0, rel=1e-4)
    assert found.spread[0] == pytest.approx(0.0125, rel=1e-3)
    assert found.ohm[1] == pytest.approx(1000.0, rel=1e-4)
    assert found.ohm[2] == 1e9


def test_a_campaign_can_be_stopped() -> None:
    design, plan = mended_demo("sensor-node")
    with pytest.raises(Cancelled):
        cover(Wired(design, shipped()), plan=plan, report=lambda share, _t: share < 0.01)


def test_a_feed_at_the_cell_leaves_the_inlet_unplugged() -> None:
    design, _ = mended_demo("sensor-node")
    inlet, cell = feeds(Wired(design, shipped()))
    for feed, other in ((inlet, cell), (cell, inlet)):
        names = {e.name for e in bench_network(Wired(design, shipped()), feed).elements if e.type == "source"}
        assert names == {feed.ref}, other
