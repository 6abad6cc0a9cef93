"""The solver against closed forms, textbook networks and Kirchhoff's laws."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.special import lambertw

from zesty_trace.core.bench.circuit import resistances
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit import devices
from zesty_trace.core.circuit.analysis import analyse, sampled_scale, worst_case
from zesty_trace.core.circuit.build import build_network, junction_values
from zesty_trace.core.circuit.devices import THERMAL_V
from zesty_trace.core.circuit.faults import Fault, apply_fault
from zesty_trace.core.circuit.network import BRANCHES, PARAMETERS, TERMINALS, Element, Network
from zesty_trace.core.circuit.solver import floating_nodes, solve
from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.errors import SolveError


def resistor(name: str, a: str, b: str, ohm: float, tolerance: float = 0.0) -> Element:
    return Element(name, "resistor", (a, b), {"ohm": ohm}, tolerances={"ohm": tolerance})


def source(volt: float, node: str = "in", ohm: float = 1e-6) -> Element:
    return Element("V", "source", (node, "0"), {"volt": volt, "ohm": ohm})


@pytest.mark.parametrize(("colour_vf", "ohm"), [(1.9, 330.0), (2.2, 1000.0), (3.1, 47.0)])
def test_led_operating_point_is_the_lambert_w_closed_form(colour_vf: float, ohm: float) -> None:
    """T. Banwell, A. Jayakumar, Electronics Letters 36 (2000): exact diode current with series resistance."""
    values = junction_values(colour_vf, 0.02, 2.0)
    network = Network((source(5.0), resistor("R", "in", "a", ohm), Element("D", "diode", ("a", "0"), values)), "0")
    solution = solve(network)
    n_vt, i_s, r = 2.0 * THERMAL_V, values["i_s"], ohm + 1e-6
    exact = n_vt / r * lambertw(i_s * r / n_vt * np.exp((5.0 + i_s * r) / n_vt)).real - i_s
    assert (5.0 - solution.voltage("a")) / ohm == pytest.approx(exact, rel=1e-6)


def test_r_2r_ladder_halves_at_each_rung() -> None:
    """The R-2R ladder of any digital-to-analogue textbook: driven at one end, each node has half the one before."""
    elements = [source(16.0, "n0")]
    for k in range(4):
        elements.append(resistor(f"S{k}", f"n{k}", f"n{k + 1}", 1000))
        elements.append(resistor(f"P{k}", f"n{k + 1}", "0", 2000))
    elements.append(resistor("end", "n4", "0", 2000))
    solution = solve(Network(tuple(elements), "0"))
    assert [solution.voltage(f"n{k}") for k in range(1, 5)] == pytest.approx([8.0, 4.0, 2.0, 1.0], rel=1e-6)


def test_balanced_bridge_carries_nothing() -> None:
    """Wheatstone: R1/R2 = R3/R4 leaves no current in the bridge arm."""
    arms = [("in", "a", 100), ("a", "0", 200), ("in", "b", 330), ("b", "0", 660), ("a", "b", 50)]
    solution = solve(Network((source(9.0), *(resistor(f"R{k}", *arm) for k, arm in enumerate(arms))), "0"))
    assert solution.voltage("a") - solution.voltage("b") == pytest.approx(0.0, abs=1e-8)


def test_regulator_holds_then_follows_its_input_less_dropout() -> None:
    values = {"v_out": 3.3, "v_drop": 0.046, "r_drop": 0.368, "i_q": 80e-6, "i_limit": 0.6, "r_out": 0.0}

    def out(volt: float) -> float:
        element = Element("U", "regulator", ("in", "out", "0"), values)
        return solve(Network((source(volt), element, resistor("L", "out", "0", 33.0)), "0")).voltage("out")

    assert out(5.0) == pytest.approx(3.3, abs=2e-3)
    assert out(3.0) == pytest.approx(3.0 - 0.046 - 0.368 * out(3.0) / 33.0, abs=5e-3)
    assert out(0.5) < 0.05


def test_regulator_limits_its_current_into_a_short() -> None:
    values = {"v_out": 3.3, "v_drop": 0.05, "r_drop": 0.3, "i_q": 1e-4, "i_limit": 0.6, "r_out": 0.01}
    network = Network(
        (source(5.0), Element("U", "regulator", ("in", "out", "0"), values), resistor("S", "out", "0", 0.05)), "0"
    )
    solution = solve(network)
    assert 0.6 < -solution.terminal_current[1][0, 1] < 0.75


def test_converter_takes_output_power_over_its_efficiency() -> None:
    values = {"v_out": 5.0, "efficiency": 0.9, "v_min": 6.5, "i_q": 0.0, "i_limit": 1.0, "r_out": 0.0}
    network = Network(
        (source(12.0), Element("U", "converter", ("in", "out", "0"), values), resistor("L", "out", "0", 10.0)), "0"
    )
    solution = solve(network)
    assert solution.terminal_current[1][0, 0] == pytest.approx(5.0 * 0.5 / 0.9 / 12.0, rel=1e-3)


def test_npn_gives_beta_times_its_base_current() -> None:
    q = Element("Q", "npn", ("c", "b", "0"), {"i_s": 1e-14, "beta": 200.0})
    network = Network((source(5.0), resistor("RB", "in", "b", 430e3), resistor("RC", "in", "c", 1000), q), "0")
    solution = solve(network)
    flow = solution.terminal_current[3][0]
    assert flow[0] == pytest.approx(200 * flow[1], rel=1e-3)
    assert 0.55 < solution.voltage("b") < 0.75


@pytest.mark.parametrize("kind", list(TERMINALS))
def test_derivatives_are_those_of_the_equations(kind: str) -> None:
    """Against central differences, at random working points."""
    rng = np.random.default_rng(7)
    terminals = TERMINALS[kind]
    typical = {
        "ohm": 50,
        "volt": 3,
        "i_s": 1e-12,
        "n": 1.8,
        "amp": 0.1,
        "v_on": 1.0,
        "vth": 1.2,
        "k": 0.5,
        "beta": 100,
        "v_out": 3.3,
        "v_drop": 0.05,
        "r_drop": 0.3,
        "i_q": 1e-3,
        "i_limit": 0.6,
        "r_out": 0.01,
        "efficiency": 0.9,
        "v_min": 6.5,
        "v_z": 0.4,
        "i_z": 0.005,
        "gain": 300,
        "low": 0.05,
        "high": 1.2,
        "v_sat": 0.7,
        "r_on": 1.2,
        "r_in": 2700,
    }
    values = {name: np.full((40, 1), float(typical[name])) for name in PARAMETERS[kind]}
    v = rng.uniform(-0.5, 0.6, (40, 1, terminals)) + np.array(
        [7.0, 3.0, 0.0, 8.0, 0.0] if kind != "amplifier" else [3.0, 3.0, 4.0, 8.0, 0.0]
    )[:terminals] * (kind in BRANCHES)
    i = rng.uniform(0.01, 0.5, (40, 1)) if kind in BRANCHES else None
    stamp = devices.EQUATIONS[kind](v, i, values)
    h = 1e-6
    for k in range(terminals):
        up, down = v.copy(), v.copy()
        up[..., k] += h
        down[..., k] -= h
        a, b = devices.EQUATIONS[kind](up, i, values), devices.EQUATIONS[kind](down, i, values)
        assert stamp.by_v[..., k] == pytest.approx((a.current - b.current) / (2 * h), rel=2e-3, abs=1e-6)
        if stamp.f is not None:
            assert stamp.f_v[..., k] == pytest.approx((a.f - b.f) / (2 * h), rel=2e-3, abs=1e-6)


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 2**31), st.integers(3, 9))
def test_kirchhoff_holds_on_random_networks(seed: int, size: int) -> None:
    rng = np.random.default_rng(seed)
    tree = nx.random_labeled_tree(size, seed=seed)
    elements = [source(float(rng.uniform(1, 24)), "n1", 0.1)]
    name = {k: "0" if k == 0 else f"n{k}" for k in range(size)}
    pairs = [*tree.edges, *((int(a), int(b)) for a, b in rng.integers(0, size, (size, 2)) if a != b)]
    for k, (a, b) in enumerate(pairs):
        if rng.random() < 0.25:
            elements.append(Element(f"D{k}", "diode", (name[a], name[b]), junction_values(0.7, 0.1, 1.5)))
        elements.append(resistor(f"R{k}", name[a], name[b], float(10 ** rng.uniform(1, 5))))
    solution = solve(Network(tuple(elements), "0"))
    into = dict.fromkeys(name.values(), 0.0)
    for k, element in enumerate(elements):
        for terminal, node in enumerate(element.nodes):
            into[node] += solution.terminal_current[k][0, terminal]
    assert solution.residual_a < 1e-9
    assert max(abs(a) for n, a in into.items() if n != "0") < 1e-8
    assert sum(solution.part_powers().values()) == pytest.approx(0.0, abs=1e-6)


def test_floating_nodes_agree_with_graph_components() -> None:
    elements = (source(5.0), resistor("R1", "in", "0", 10), resistor("R2", "x", "y", 10))
    graph = nx.Graph([("in", "0"), ("x", "y")])
    assert set(floating_nodes(Network(elements, "0"))) == set(graph) - nx.node_connected_component(graph, "0")


def test_circuit_without_solution_names_its_nets() -> None:
    elements = (source(5.0, "in", 0.0), Element("V2", "source", ("in", "0"), {"volt": 3.0, "ohm": 0.0}))
    with pytest.raises(SolveError) as caught:
        solve(Network(elements, "0"))
    assert "in" in caught.value.where
    assert caught.value.hint


def test_a_batch_gives_what_single_runs_give() -> None:
    network = Network(
        (
            source(5.0),
            resistor("R1", "in", "a", 1000, 0.1),
            Element("D", "diode", ("a", "0"), junction_values(2, 0.02, 2)),
        ),
        "0",
    )
    scale = sampled_scale(network, np.random.default_rng(1), 5)
    together = solve(network, scale).voltages("a")
    for k in range(5):
        alone = network.changed("R1", ohm=1000 * float(scale[1, "ohm"][k]))
        assert together[k] == pytest.approx(solve(alone).voltage("a"), abs=1e-8)


def test_worst_case_of_a_divider_is_the_sum_of_its_sensitivities() -> None:
    """Hand-worked: V = E R2 / (R1 + R2); for R1 = R2 each 1 % moves it by about E/4 x 1 %."""
    network = Network((source(10.0), resistor("R1", "in", "a", 10e3, 0.01), resistor("R2", "a", "0", 10e3, 0.01)), "0")
    _, spreads = worst_case(network)
    assert spreads["a"].nominal == pytest.approx(5.0)
    assert spreads["a"].high == pytest.approx(5.05, abs=1e-3)
    assert spreads["a"].low == pytest.approx(4.95, abs=1e-3)


def test_monte_carlo_of_a_linear_network_has_the_analytic_variance() -> None:
    """First order: var = sum (dV/dR sigma)^2, with sigma a third of the tolerance."""
    network = Network((source(10.0), resistor("R1", "in", "a", 10e3, 0.03), resistor("R2", "a", "0", 10e3, 0.03)), "0")
    values = solve(network, sampled_scale(network, np.random.default_rng(3), 4000)).voltages("a")
    assert values.std() == pytest.approx(np.sqrt(2) * 10.0 / 4 * 0.01, rel=0.06)


def test_ohmmeter_reads_parallel_resistors_and_not_a_junction() -> None:
    elements = (
        source(5.0),
        resistor("R1", "in", "0", 1000),
        resistor("R2", "in", "0", 1000),
        Element("D", "diode", ("in", "0"), junction_values(0.7, 0.1, 1.5)),
    )
    assert resistances(Network(elements, "0"), [("in", "0")]).ohm[0] == pytest.approx(500.0, rel=1e-3)


def test_faults_do_what_they_say(mended: Design, catalogue: Catalogue) -> None:
    network = build_network(Wired(mended, catalogue), operating_states(Wired(mended, catalogue))[0])
    good = solve(network)
    short = solve(apply_fault(network, Fault("short", "3V3", "GND")))
    assert short.voltage("3V3") < 0.1 < good.voltage("3V3")
    doubled = solve(apply_fault(network, Fault("wrong value", "R17", factor=2.0)))
    assert doubled.voltage("SENSE_12V") < 0.7 * good.voltage("SENSE_12V")
    lifted = apply_fault(network, Fault("open", "R18", "GND"))
    assert solve(lifted).voltage("SENSE_12V") > 11.0
    with pytest.raises(ValueError, match="unknown fault"):
        apply_fault(network, Fault("melted", "U1"))


def test_demo_voltages_and_currents_are_what_a_meter_would_show(mended: Design, catalogue: Catalogue) -> None:
    worst = analyse(Wired(mended, catalogue)).worst()
    volts, amps = worst.net_voltages(), worst.solution.pin_currents()
    assert volts["3V3"] == pytest.approx(3.3, abs=0.01)
    assert volts["SENSE_12V"] == pytest.approx(volts["12V"] * 10 / 57, rel=0.01)  # unloaded divider, 47k over 10k
    assert amps[Pin("J2", "1")] == pytest.approx(volts["12V"] / 6.0, rel=0.01)  # 24 W at 12 V is 6 ohm
    assert worst.solution.residual_a < 1e-9


def test_states_are_proposed_from_what_the_controller_drives(mended: Design, catalogue: Catalogue) -> None:
    names = [s.name for s in operating_states(Wired(mended, catalogue))]
    assert names[0] == "all off"
    assert names[-1] == "all on"
    assert {"HEAT on", "FAN on", "BEEP on", "LED_READY on"} <= set(names)


def test_zener_holds_its_voltage_and_conducts_forward_like_a_diode() -> None:
    """5.1 V at 5 mA by its data; 12 V through 1.38 kohm leaves just that current."""
    values = {**junction_values(0.75, 0.01, 1.5), "v_z": 5.1, "i_z": 0.005}
    held = Network((source(12.0), resistor("R", "in", "a", 1380), Element("D", "zener", ("0", "a"), values)), "0")
    assert solve(held).voltage("a") == pytest.approx(5.1, abs=0.02)
    forward = Network((source(12.0), resistor("R", "in", "a", 1125), Element("D", "zener", ("a", "0"), values)), "0")
    assert solve(forward).voltage("a") == pytest.approx(0.75, abs=0.02)
    low = Network((source(3.0), resistor("R", "in", "a", 1380), Element("D", "zener", ("0", "a"), values)), "0")
    assert solve(low).voltage("a") == pytest.approx(3.0, abs=0.01)


@pytest.mark.parametrize(("mirror", "plain"), [("pmos", "nmos"), ("pnp", "npn")])
def test_opposite_polarity_is_the_mirror_image(mirror: str, plain: str) -> None:
    values = {"vth": 1.5, "k": 0.3} if plain == "nmos" else {"i_s": 1e-14, "beta": 150.0}
    names = ("c", "b", "0")

    def out(kind: str, volt: float) -> float:
        parts = (
            source(volt),
            resistor("RC", "in", "c", 470),
            resistor("RB", "in", "b", 100e3),
            Element("Q", kind, names, values),
        )
        return solve(Network(parts, "0")).voltage("c")

    assert out(mirror, -6.0) == pytest.approx(-out(plain, 6.0), abs=1e-6)


def test_high_side_switch_of_a_p_channel_transistor() -> None:
    """Gate at the supply: off; gate at ground: on, and the load sees the supply less I x Ron."""
    values = {"vth": 1.5, "k": 1.0 / (0.04 * 3.0)}

    def load(gate: str) -> float:
        q = Element("Q", "pmos", ("out", gate, "in"), values)
        return solve(Network((source(5.0), q, resistor("L", "out", "0", 10.0)), "0")).voltage("out")

    assert load("in") < 0.01
    assert load("0") == pytest.approx(5.0 - 0.5 * 0.04 * 3.0 / 3.5, abs=0.01)


def test_monte_carlo_bounds_lie_inside_the_worst_case_and_every_sample_converges(
    mended: Design, catalogue: Catalogue
) -> None:
    from zesty_trace.core.circuit.analysis import monte_carlo

    network = build_network(Wired(mended, catalogue))
    solution, spreads = monte_carlo(network, 600)
    _, worst = worst_case(network)
    assert solution.residual_a < 1e-9
    assert len(solution.x) == 600
    for net in ("3V3", "5V", "SENSE_12V"):
        assert worst[net].low <= spreads[net].low < spreads[net].nominal < spreads[net].high <= worst[net].high
    again, _ = monte_carlo(network, 600)
    assert (again.x == solution.x).all()
    with pytest.raises(ValueError, match="two samples"):
        monte_carlo(network, 1)
