"""The placing sequence by hand-worked order; the oven against its own physics and J-STD-020."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from zesty_trace.core.assembly.oven import (
    Oven,
    board_heat_j_per_k,
    heat_findings,
    heated_parts,
    judge,
    lag_s,
    part_heat_j_per_k,
    part_limit_c,
    seconds_above,
    simulate,
    steepest,
)
from zesty_trace.core.assembly.profiles import WINDOWS, Profile, target_profile
from zesty_trace.core.assembly.sequence import SCHOOLS, placing_sequence
from zesty_trace.core.board.copper import outline_shape, pattern_of
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part
from zesty_trace.errors import InputError


@pytest.mark.parametrize("school", SCHOOLS)
@pytest.mark.parametrize("variant", ["Basic", "Full"])
def test_every_fitted_part_is_placed_exactly_once(routed: Design, catalogue: Catalogue, school, variant: str) -> None:
    refs = [r for s in placing_sequence(Wired(routed, catalogue), variant, school) for r in s.refs]
    wanted = [r for r in routed.fitted(variant).parts if Wired(routed, catalogue).kind(r).assembled]
    assert sorted(refs) == sorted(wanted)


def test_surface_mount_smallest_first_then_through_hole_by_height(routed: Design, catalogue: Catalogue) -> None:
    """Common practice: paste parts by size, then the iron by height, large electrolytics last."""
    steps = placing_sequence(Wired(routed, catalogue), "Full")
    hows = [s.how for s in steps]
    assert hows == sorted(hows, key=lambda h: h == "iron")
    areas = []
    for s in (s for s in steps if s.how == "paste"):
        x0, y0, x1, y1 = pattern_of(Wired(routed, catalogue), s.refs[0]).body
        areas.append((x1 - x0) * (y1 - y0))
    assert areas == sorted(areas)
    order = [s.refs[0] for s in steps if s.how == "iron"]
    assert order.index("SW1") < order.index("J4") < order.index("J2") < order.index("J1")
    assert order[-1] == "C1"


def test_lowest_first_is_by_height(routed: Design, catalogue: Catalogue) -> None:
    late = {"C1", "C2", "BZ1", "U1"}
    heights = [
        s.height_mm for s in placing_sequence(Wired(routed, catalogue), "Full", "lowest first") if s.refs[0] not in late
    ]
    assert heights == sorted(heights)


def test_polarity_and_heat_are_said_where_they_matter(routed: Design, catalogue: Catalogue) -> None:
    steps = {r: s for s in placing_sequence(Wired(routed, catalogue), "Full") for r in s.refs}
    assert any("stripe" in c for c in steps["C1"].cautions)
    assert any("Heat-sensitive" in c for c in steps["D4"].cautions)
    assert steps["R6"].cautions == ()


def test_windows_hold_the_published_limits() -> None:
    """J-STD-020 profile table (from memory) and melting points: 183, 217, 138 °C (common practice)."""
    leaded, free, low = WINDOWS["leaded"], WINDOWS["lead-free"], WINDOWS["low-temperature"]
    assert (leaded.liquidus_c, free.liquidus_c, low.liquidus_c) == (183.0, 217.0, 138.0)
    assert (free.preheat_low_c, free.preheat_high_c, free.preheat_s) == (150.0, 200.0, (60.0, 120.0))
    assert (leaded.preheat_low_c, leaded.preheat_high_c) == (100.0, 150.0)
    assert free.above_liquidus_s == leaded.above_liquidus_s == (60.0, 150.0)
    assert free.ramp_max_c_per_s == 3.0
    assert free.cooling_max_c_per_s == 6.0
    assert (leaded.total_max_s, free.total_max_s) == (360.0, 480.0)


@pytest.mark.parametrize("alloy", list(WINDOWS))
def test_the_controlled_oven_meets_each_window(routed: Design, catalogue: Catalogue, alloy) -> None:
    wired = Wired(routed, catalogue)
    run = simulate(wired, target_profile(alloy, 25.0), 25.0)
    measures = judge(run, WINDOWS[alloy], part_limit_c(wired)[0])
    assert [m.name for m in measures if not m.good] == []
    assert heat_findings(measures, WINDOWS[alloy]) == []


def test_the_masses_follow_their_differential_equations(routed: Design, catalogue: Catalogue) -> None:
    """The recorded duty fed to scipy.integrate.solve_ivp gives the same board temperature within 1 °C."""
    wired = Wired(routed, catalogue)
    oven, area, mass = Oven(), outline_shape(routed).area * 1e-6, board_heat_j_per_k(wired)
    run = simulate(wired, target_profile("leaded", 25.0), 25.0)
    to_air, to_rods = oven.board_w_per_m2_k * 2 * area, oven.radiant_w_per_m2_k * 2 * area
    end = 280.0

    def rates(t: float, y: np.ndarray) -> list[float]:
        rods, air, board = y
        power = oven.power_w * float(run.duty[int(t / 0.1 + 1e-6)])
        return [
            (power - oven.rods_to_air_w_per_k * (rods - air) - to_rods * (rods - board)) / oven.rods_j_per_k,
            (oven.rods_to_air_w_per_k * (rods - air) - to_air * (air - board) - oven.loss_w_per_k * (air - 25.0))
            / oven.air_j_per_k,
            (to_air * (air - board) + to_rods * (rods - board)) / mass,
        ]

    exact = solve_ivp(rates, (0, end), [25.0] * 3, max_step=0.2, rtol=1e-6)
    assert exact.y[2, -1] == pytest.approx(run.board_c[int(end / 0.1)], abs=1.0)
    by_board, by_air = lag_s(wired, run.slowest, oven)

    def follows(t: float, y: np.ndarray) -> list[float]:
        board, air = (float(np.interp(t, run.time_s, c)) for c in (run.board_c, run.air_c))
        return [(board - y[0]) / by_board + (air - y[0]) / by_air]

    slow = solve_ivp(follows, (0, end), [25.0], max_step=0.5, rtol=1e-6)
    assert slow.y[0, -1] == pytest.approx(run.slowest_c[int(end / 0.1)], abs=1.0)


def test_board_heat_capacity_by_hand(routed: Design, catalogue: Catalogue) -> None:
    """80 x 56 x 1.6 mm of FR4 at 1850 kg/m³ and 1100 J/kgK is 14.6 J/K; 2 x 35 µm copper adds 1.1.

    A TO-252 of 6.5 x 6.1 x 2.3 mm at 2 J/cm³K has 0.18 J/K; through-hole and late parts are not in the oven.
    """
    wired = Wired(routed, catalogue)
    parts = heated_parts(wired)
    bodies = sum(part_heat_j_per_k(wired, r) for r in parts)
    assert board_heat_j_per_k(wired) == pytest.approx(14.6 + 1.08 + bodies, rel=0.01)
    transistor = next(r for r in parts if wired.package(r).id == "TO-252")
    assert part_heat_j_per_k(wired, transistor) == pytest.approx(0.18, rel=0.25)
    assert not {r for r in parts if wired.kind(r).late}
    assert "J1" not in parts


def test_a_late_part_does_not_limit_the_heat_and_is_late_in_every_school(routed: Design, catalogue: Catalogue) -> None:
    design = edits.add_part(routed, Part(ref="U90", kind="radio_module", package="Module-16-edge"))
    wired = Wired(design, catalogue)
    assert wired.kind("U90").heat_max_c == 245
    assert part_limit_c(wired)[1] != "U90"
    for school in SCHOOLS:
        steps = placing_sequence(wired, "Full", school)
        late = [wired.kind(s.refs[0]).late for s in steps if not wired.kind(s.refs[0]).heat_sensitive]
        assert late == sorted(late)
        assert next(s for s in steps if "U90" in s.refs).how == "iron"


def test_faces_are_steps_of_their_own_and_the_lighter_is_first(routed: Design, catalogue: Catalogue) -> None:
    design = edits.nudge(routed, "R6", flip=True)
    steps = placing_sequence(Wired(design, catalogue), "Full")
    alone = next(s for s in steps if "R6" in s.refs)
    assert (alone.refs, alone.face, alone.number) == (("R6",), "bottom", 1)
    assert {s.face for s in steps[1:]} == {"top"}


def test_a_variant_that_there_is_not_is_refused(routed: Design, catalogue: Catalogue) -> None:
    with pytest.raises(InputError, match="no variant Fulll"):
        placing_sequence(Wired(routed, catalogue), "Fulll")


def test_a_weaker_or_larger_oven_is_slower(routed: Design, catalogue: Catalogue) -> None:
    def hottest(power_w: float, litres: float) -> float:
        design = edits.set_build(routed, oven_power_w=power_w, oven_litres=litres)
        return float(simulate(Wired(design, catalogue), target_profile("lead-free", 25.0), 25.0).board_c.max())

    assert hottest(600, 20) < hottest(1500, 20) - 20
    assert hottest(800, 60) < hottest(800, 10)


def test_a_thick_heavy_board_fails_in_a_weak_oven(routed: Design, catalogue: Catalogue) -> None:
    weak = replace(Oven(), power_w=600.0)
    measures = judge(
        simulate(Wired(routed, catalogue), target_profile("lead-free", 25.0), 25.0, weak), WINDOWS["lead-free"]
    )
    findings = heat_findings(measures, WINDOWS["lead-free"])
    assert any("peak" in f.title for f in findings)
    assert all(f.limit is not None and f.unit for f in findings)


@pytest.mark.parametrize(
    ("times", "temps", "limit", "seconds"),
    [
        pytest.param([0, 10, 20], [200, 240, 200], 220, 10.0, id="triangle-half-above"),
        pytest.param([0, 10], [230, 230], 220, 10.0, id="always-above"),
        pytest.param([0, 10], [100, 110], 220, 0.0, id="never"),
    ],
)
def test_seconds_above_by_hand(times, temps, limit: float, seconds: float) -> None:
    assert seconds_above(np.array(times, float), np.array(temps, float), limit) == pytest.approx(seconds)


def test_steepest_slopes_by_hand() -> None:
    t = np.arange(0, 30, 0.5)
    temp = np.where(t < 10, 2 * t, 20 - 3 * (t - 10))
    assert steepest(t, temp) == (pytest.approx(2.0), pytest.approx(3.0))


def test_profile_is_straight_between_its_corners() -> None:
    profile = Profile(((0.0, 25.0), (100.0, 125.0), (200.0, 125.0)))
    assert profile.at(50.0) == 75.0
    assert profile.at(500.0) == 125.0
