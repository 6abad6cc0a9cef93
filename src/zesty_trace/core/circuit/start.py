"""Where to start from: every supply at the voltage that it is made for, what hangs on it through resistors at rest."""

from __future__ import annotations

import numpy as np

from zesty_trace.core.circuit.network import Compiled, Element, FloatArray, Network

PASSES_OHM = 5.0  # a fuse, a bead, a shunt: a supply goes on behind it
DIODE_V = 0.5
AWAKE_V = 1.2
LIGHT_LOAD = 0.1  # of its limit: on the forward part of a supply's law
LEAST_S = 1e-9


def expected_rails(network: Network) -> dict[str, float]:
    """Return node -> V of what sources, regulators and converters would hold, nothing being overloaded."""
    known = {network.ground: 0.0}
    inputs = {e.nodes[0] for e in network.elements if e.type in ("regulator", "converter")}
    while _driven(network, known) or _passed_on(network, known, inputs):
        pass
    return known


def _driven(network: Network, known: dict[str, float]) -> bool:
    found = {}
    for element in network.elements:
        volt = _gives(element, known)
        out = element.nodes[0] if element.type == "source" else element.nodes[1]
        if volt is not None and out not in known:
            found[out] = volt
    known.update(found)
    return bool(found)


def _gives(element: Element, known: dict[str, float]) -> float | None:
    n, p = element.nodes, element.values
    if element.type == "source":
        return known[n[1]] + p["volt"] if n[1] in known else None
    if element.type not in ("regulator", "converter") or n[0] not in known or n[2] not in known:
        return None
    v_in = known[n[0]] - known[n[2]]
    if element.type == "converter":
        return known[n[2]] + p["v_out"] * min(1.0, max(0.0, (v_in - p["v_min"]) / 0.5))
    return known[n[2]] + (max(0.0, min(p["v_out"], v_in - p["v_drop"])) if v_in > AWAKE_V else 0.0)


def _passed_on(network: Network, known: dict[str, float], inputs: set[str]) -> bool:
    """Take one rail on through a small resistance, or to a supply's input through a diode or a transistor."""
    for element in network.elements:
        n = element.nodes
        if element.type == "resistor" and element.values["ohm"] <= PASSES_OHM:
            pairs = [(n[0], n[1], 0.0), (n[1], n[0], 0.0)]
        elif element.type == "diode":
            pairs = [(n[0], n[1], DIODE_V)]
        elif element.type == "pmos":
            pairs = [(n[2], n[0], 0.0), (n[0], n[2], DIODE_V)]
        else:
            continue
        for here, there, drop in pairs:
            feeds = element.type == "resistor" or there in inputs
            if here in known and there not in known and feeds and known[here] > drop:
                known[there] = known[here] - drop
                return True
    return False


def first_guess(compiled: Compiled, network: Network, ohmic: FloatArray) -> FloatArray:
    """Return unknowns (U,) with the expected rails, and the rest where resistors alone would put it.

    `ohmic` are the conductances (U, U) of the first sample.
    """
    rails = expected_rails(network)
    x = np.zeros(compiled.size)
    nodes = len(compiled.names)
    pinned = np.array([name in rails for name in compiled.names], dtype=bool)
    x[:nodes][pinned] = [rails[name] for name in compiled.names if name in rails]
    for group in compiled.groups:
        if group.type in ("regulator", "converter"):
            x[group.branch] = LIGHT_LOAD * group.values["i_limit"][0]
    free, fixed = np.flatnonzero(~pinned), np.flatnonzero(pinned)
    if len(free):
        own = ohmic[np.ix_(free, free)] + np.diag(np.full(len(free), LEAST_S))
        x[free] = np.linalg.solve(own, -ohmic[np.ix_(free, fixed)] @ x[fixed])
    return x
