"""The batch solver against a fair loop.

Scipy's fsolve with a lean residual, its analytic Jacobian and a ramp of 20 steps.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from zesty_trace.core.circuit.analysis import sampled_scale
from zesty_trace.core.circuit.build import junction_values
from zesty_trace.core.circuit.devices import THERMAL_V
from zesty_trace.core.circuit.network import Element, FloatArray, Network
from zesty_trace.core.circuit.solver import solve

RUNGS, RAMP, GMIN_S = 40, 20, 1e-12


def ladder(rungs: int = RUNGS) -> Network:
    """Return a 41-node ladder with 20 diodes and toleranced values."""
    rng = np.random.default_rng(2)
    elements = [Element("V", "source", ("n0", "0"), {"volt": 12, "ohm": 0.1}, (), {"volt": 0.02})]
    for k in range(rungs):
        series, shunt = float(rng.uniform(50, 300)), float(rng.uniform(500, 5000))
        elements.append(Element(f"R{k}", "resistor", (f"n{k}", f"n{k + 1}"), {"ohm": series}, (), {"ohm": 0.05}))
        elements.append(Element(f"P{k}", "resistor", (f"n{k + 1}", "0"), {"ohm": shunt}, (), {"ohm": 0.05}))
        if k % 2 == 0:
            values = junction_values(2.0, 0.02, 2.0)
            elements.append(Element(f"D{k}", "diode", (f"n{k + 1}", "0"), values, (), {"i_s": 0.3}))
    return Network(tuple(elements), "0")


Equations = Callable[[float], tuple[Callable[[FloatArray], FloatArray], Callable[[FloatArray], FloatArray]]]


def lean_equations(network: Network, factors: dict[tuple[int, str], float]) -> tuple[Equations, list[str]]:
    """Return (share of the source -> residual, Jacobian) of a ladder, written down by itself, and its node names.

    Nodal analysis: the source and its series resistance are a current and a conductance (Norton). Nothing of it is the
    product's; only the values are.
    """
    names = network.nodes()
    row = {n: k for k, n in enumerate(names)}
    g, current = np.diag(np.full(len(names), GMIN_S)), np.zeros(len(names))
    at, i_s, n_vt = [], [], []
    for k, e in enumerate(network.elements):
        p = {name: value * factors.get((k, name), 1.0) for name, value in e.values.items()}
        ends = [row[n] for n in e.nodes if n != network.ground]
        if e.type == "diode":
            at.append(ends[0])
            i_s.append(p["i_s"])
            n_vt.append(p["n"] * THERMAL_V)
            continue
        for a in ends:
            g[a, a] += 1.0 / p["ohm"]
        if len(ends) == 2:
            g[ends[0], ends[1]] -= 1.0 / p["ohm"]
            g[ends[1], ends[0]] -= 1.0 / p["ohm"]
        if e.type == "source":
            current[ends[0]] += p["volt"] / p["ohm"]
    diodes, saturation, thermal = np.array(at), np.array(i_s), np.array(n_vt)

    even = 1.0 / np.diag(g)  # rows scaled alike: without it the loop does not converge

    def at_share(share: float) -> tuple[Callable[[FloatArray], FloatArray], Callable[[FloatArray], FloatArray]]:
        def residual(v: FloatArray) -> FloatArray:
            out = g @ v - share * current
            out[diodes] += saturation * np.expm1(np.minimum(v[diodes] / thermal, 80.0))
            return even * out

        def slopes(v: FloatArray) -> FloatArray:
            out = g.copy()
            out[diodes, diodes] += saturation / thermal * np.exp(np.minimum(v[diodes] / thermal, 80.0))
            return even[:, None] * out

        return residual, slopes

    return at_share, names


def by_fsolve(network: Network, samples: int) -> tuple[float, FloatArray]:
    """Return seconds a sample of a fair loop, and the node voltages (samples, nodes) that it finds."""
    from scipy.optimize import fsolve

    scale = sampled_scale(network, np.random.default_rng(1), samples)
    found = []
    start = time.perf_counter()
    for k in range(samples):
        equations, names = lean_equations(network, {key: float(f[k]) for key, f in scale.items()})
        x = np.zeros(len(names))
        for share in np.linspace(1 / RAMP, 1.0, RAMP):
            residual, slopes = equations(float(share))
            x, _, good, words = fsolve(residual, x, fprime=slopes, full_output=True, xtol=1e-12)
        if good != 1:
            raise RuntimeError(words)
        found.append(x)
    return (time.perf_counter() - start) / samples, np.array(found)


def by_product(network: Network, samples: int) -> tuple[float, FloatArray, float]:
    """Return seconds, the node voltages (samples, nodes) and the residual of the product's batch."""
    scale = sampled_scale(network, np.random.default_rng(1), samples)
    start = time.perf_counter()
    solution = solve(network, scale)
    took = time.perf_counter() - start
    volts = np.stack([solution.voltages(name) for name in network.nodes()], axis=1)
    return took, volts, solution.residual_a


def solver_rows(samples: int = 10_000, loop: int = 20) -> list[tuple[str, str]]:
    """Return the rows of the table: the batch, the loop, how they compare, and how far they agree."""
    network = ladder()
    each, exact = by_fsolve(network, loop)
    _, near, _ = by_product(network, loop)
    apart = float(np.abs(near - exact).max())
    took, _, residual = by_product(network, samples)
    again = min(took, by_product(network, samples)[0])
    return [
        (f"solve {samples:,} samples of 41 nodes, 20 diodes", f"{again:.2f} s, residual {residual:.1e} A"),
        ("a loop of fsolve, lean residual, analytic Jacobian, 20 steps", f"{each * 1e3:.1f} ms a sample"),
        ("how many times faster the batch is", f"{each * samples / again:.0f}"),
        ("how far the two agree", f"{apart:.1e} V"),
    ]


if __name__ == "__main__":
    for title, value in solver_rows():
        print(f"{title:65} {value}")
