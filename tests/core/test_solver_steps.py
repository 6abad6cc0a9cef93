"""How the solver gets there: few steps on switched circuits, right slopes, and Kirchhoff's laws at the end."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from tests.core.switched import Switched
from zesty_trace.core.circuit.build import junction_values
from zesty_trace.core.circuit.devices import EQUATIONS
from zesty_trace.core.circuit.limits import LIMITS
from zesty_trace.core.circuit.network import BRANCHES, PARAMETERS, TERMINALS, Element, Network
from zesty_trace.core.circuit.solver import solve

SEEDS = range(160)


def kirchhoff_a(network: Network) -> tuple[float, int]:
    """Return the largest sum of currents at any node, worked out node by node from the elements' own currents, A."""
    solution = solve(network)
    sums = dict.fromkeys(network.nodes(), 0.0)
    for k, element in enumerate(network.elements):
        for terminal, node in enumerate(element.nodes):
            if node != network.ground:
                sums[node] += float(solution.terminal_current[k][0, terminal])
    return max(abs(s) for s in sums.values()), solution.iterations


@pytest.mark.campaign
def test_switched_circuits_settle_in_few_steps() -> None:
    """Diagnosis solves thousands of these: median at most 12 steps, worst at most 60, Kirchhoff to a nanoampere."""
    found = [kirchhoff_a(Switched(seed).network) for seed in SEEDS]
    steps = [s for _, s in found]
    assert np.median(steps) <= 12
    assert max(steps) <= 60
    assert max(a for a, _ in found) < 1e-9


@pytest.mark.parametrize("ohm", [10.0, 33.0, 100.0, 330.0, 1000.0])
@pytest.mark.parametrize("vth", [0.8, 1.5, 2.5])
def test_a_switch_gated_from_the_rail_that_it_loads(ohm: float, vth: float) -> None:
    """5 V, a regulator, a resistor and an N-channel switch whose gate is on the same rail: once 143 to 1508 steps."""
    regulator = {"v_out": 3.3, "v_drop": 0.06, "r_drop": 0.24, "i_q": 0.005, "i_limit": 0.5, "r_out": 0.01}
    elements = (
        Element("V", "source", ("in", "0"), {"volt": 5.0, "ohm": 0.02}),
        Element("U", "regulator", ("in", "rail", "0"), regulator),
        Element("R", "resistor", ("rail", "d"), {"ohm": ohm}),
        Element("Q", "nmos", ("d", "rail", "0"), {"vth": vth, "k": 1.0 / (0.05 * (4.5 - vth))}),
    )
    solution = solve(Network(elements, "0"))
    assert solution.iterations <= 12
    amp = (solution.voltage("rail") - solution.voltage("d")) / ohm
    on_ohm = 0.05 * (4.5 - vth) / (solution.voltage("rail") - vth)
    assert solution.voltage("d") == pytest.approx(amp * on_ohm, rel=0.05)  # deep in its triode region
    assert solution.voltage("rail") == pytest.approx(3.3 - 0.01 * amp, abs=2e-3)


def values_of(type_: str) -> dict[str, float]:
    """Return one device of each type as boards have them."""
    return {
        "resistor": {"ohm": 330.0},
        "source": {"volt": 5.0, "ohm": 0.1},
        "diode": junction_values(0.7, 0.01, 1.5),
        "zener": {**junction_values(0.75, 0.01, 1.5), "v_z": 3.3, "i_z": 0.005},
        "current_load": {"amp": 0.1, "v_on": 1.5},
        "nmos": {"vth": 1.5, "k": 6.0},
        "pmos": {"vth": 1.2, "k": 3.0},
        "npn": {"i_s": 1e-14, "beta": 200.0},
        "pnp": {"i_s": 1e-14, "beta": 100.0},
        "regulator": {"v_out": 3.3, "v_drop": 0.06, "r_drop": 0.3, "i_q": 0.005, "i_limit": 0.5, "r_out": 0.01},
        "converter": {"v_out": 5.0, "efficiency": 0.9, "v_min": 6.0, "i_q": 0.002, "i_limit": 1.0, "r_out": 0.02},
        "amplifier": {"gain": 2.0, "low": 0.05, "high": 1.2, "r_out": 30.0, "i_limit": 0.3},
        "darlington": {"v_sat": 0.7, "r_on": 1.2, "v_on": 1.3, "r_in": 2700.0, "gain": 480.0},
    }[type_]


def points(type_: str, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return 200 sets of terminal voltages, junctions up to 0.75 V, and currents on both sides of the laws' bends."""
    v = rng.uniform(-1.0, 7.0, (200, 1, TERMINALS[type_]))
    forward = {"diode": [(0, 1)], "zener": [(0, 1)], "nmos": [(2, 0)], "pmos": [(0, 2)], "npn": [(1, 2), (1, 0)]}
    for a, b in {**forward, "pnp": [(2, 1), (0, 1)]}.get(type_, []):
        v[..., a] = np.minimum(v[..., a], v[..., b] + rng.uniform(0.2, 0.75, v[..., b].shape))
    if type_ == "zener":
        v[..., 1] = np.minimum(v[..., 1], v[..., 0] + 3.4)
    return v, rng.uniform(0.02, 0.7, (200, 1))


@pytest.mark.parametrize("type_", sorted(EQUATIONS))
def test_slopes_are_those_of_the_laws(type_: str) -> None:
    """Central differences of each law against the blocks that Newton's method is given."""
    rng = np.random.default_rng(5)
    v, i = points(type_, rng)
    p = {name: np.full((1, 1), value) for name, value in values_of(type_).items()}
    assert set(p) >= set(PARAMETERS[type_])
    branch = i if type_ in BRANCHES else None
    stamp = EQUATIONS[type_](v, branch, p)
    h = 1e-6
    for terminal in range(TERMINALS[type_]):
        up, down = v.copy(), v.copy()
        up[..., terminal] += h
        down[..., terminal] -= h
        high, low = EQUATIONS[type_](up, branch, p), EQUATIONS[type_](down, branch, p)
        smooth = _smooth(high.current, stamp.current, low.current, h)
        slope = (high.current - low.current) / (2 * h)
        scale = 1e-6 + np.abs(stamp.by_v[..., terminal])
        assert smooth.mean() > 0.9
        assert (np.abs(slope - stamp.by_v[..., terminal]) / scale)[smooth].max() < 2e-3
        if branch is not None:
            law = (high.f - low.f) / (2 * h)
            assert np.allclose(law, stamp.f_v[..., terminal], rtol=2e-3, atol=2e-3)
    if branch is not None:
        high, low = EQUATIONS[type_](v, i + h, p), EQUATIONS[type_](v, i - h, p)
        assert np.allclose((high.f - low.f) / (2 * h), stamp.f_i, rtol=2e-3, atol=2e-3)
        assert np.allclose((high.current - low.current) / (2 * h), stamp.by_i, rtol=2e-3, atol=2e-3)


def _smooth(high: np.ndarray, here: np.ndarray, low: np.ndarray, h: float) -> np.ndarray:
    """Return where the law does not bend within the step: there central differences are no measure of a slope."""
    bend = np.abs(high - 2 * here + low)
    return bend < 1e-3 * (np.abs(high - low) + h * 1e-3)


@pytest.mark.parametrize("type_", sorted(LIMITS))
def test_a_device_is_never_held_back_where_it_has_arrived(type_: str) -> None:
    """A step of nothing is allowed whole, and any step is followed to its end if it is asked for again and again."""
    rng = np.random.default_rng(6)
    v, _ = points(type_, rng)
    p = {name: np.full((200, 1), value) for name, value in values_of(type_).items()}
    assert np.allclose(LIMITS[type_](v, v, p), v)
    here = np.zeros_like(v)
    for _ in range(40):
        here = LIMITS[type_](here, v, p)
    assert np.allclose(here, v, atol=1e-6)


def test_samples_of_a_batch_are_each_the_solution_of_their_own_circuit() -> None:
    network = Switched(7).network
    rng = np.random.default_rng(1)
    scale = {
        (k, "ohm"): rng.uniform(0.95, 1.05, 80)
        for k, e in enumerate(network.elements)
        if e.type == "resistor" and e.values["ohm"] < 1e9
    }
    batch = solve(network, scale)
    for sample in (0, 17, 79):
        alone = Network(
            tuple(
                e
                if (k, "ohm") not in scale
                else Element(e.name, e.type, e.nodes, {"ohm": e.values["ohm"] * scale[k, "ohm"][sample]})
                for k, e in enumerate(network.elements)
            ),
            "0",
        )
        solution = solve(alone)
        for name in network.nodes():
            assert batch.voltages(name)[sample] == pytest.approx(solution.voltage(name), abs=1e-7)
    assert all(a != b for a, b in pairwise(batch.voltages(network.nodes()[-1])[:5]))
