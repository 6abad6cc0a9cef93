"""Random circuits of a supply tree and switched loads, as boards have them, for the solver's property tests."""

from __future__ import annotations

import numpy as np

from zesty_trace.core.circuit.build import junction_values
from zesty_trace.core.circuit.network import Element, Network


class Switched:
    """One random circuit: a source, one to three supplies, one to eight switched loads."""

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng(seed)
        self.elements: list[Element] = []
        self.rails: list[tuple[str, float]] = []
        self._count = 0
        self._supplies()
        for _ in range(int(self.rng.integers(1, 9))):
            self._switched()

    @property
    def network(self) -> Network:
        return Network(tuple(self.elements), "0")

    def _name(self, letter: str) -> str:
        self._count += 1
        return f"{letter}{self._count}"

    def _add(self, letter: str, type_: str, nodes: tuple[str, ...], **values: float) -> None:
        self.elements.append(Element(self._name(letter), type_, nodes, values))

    def _one(self, *choices: float) -> float:
        return float(choices[int(self.rng.integers(len(choices)))])

    def _supplies(self) -> None:
        volt = self._one(5.0, 9.0, 12.0, 24.0)
        self._add("V", "source", ("in", "0"), volt=volt, ohm=self._one(0.02, 0.1))
        feed = "in"
        if self.rng.random() < 0.3:
            self.elements.append(Element("D0", "diode", ("in", "safe"), junction_values(0.4, 1.0, 1.05)))
            feed = "safe"
        self.rails.append((feed, volt))
        for k in range(int(self.rng.integers(1, 4))):
            out = f"rail{k}"
            if volt > 7 and self.rng.random() < 0.5:
                values = {"v_out": 5.0, "efficiency": 0.88, "v_min": 6.0, "i_q": 0.002, "i_limit": 3.0, "r_out": 0.02}
                self._add("C", "converter", (feed, out, "0"), **values)
                feed, volt = out, 5.0
            else:
                volt_out = 3.3 if volt > 4.5 else 1.8
                drop = self._one(0.2, 1.0)
                values = {
                    "v_out": volt_out,
                    "v_drop": 0.2 * drop,
                    "r_drop": 0.8 * drop,
                    "i_q": self._one(5e-6, 0.005),
                    "i_limit": self._one(0.5, 1.0),
                    "r_out": 0.01,
                }
                self._add("U", "regulator", (feed, out, "0"), **values)
            self.rails.append((out, volt_out if self.elements[-1].type == "regulator" else 5.0))

    def _rail(self) -> str:
        return self.rails[int(self.rng.integers(len(self.rails)))][0]

    def _drive(self) -> str:
        """Return a node that a controller's pin drives, often through a resistor; or a rail itself."""
        if self.rng.random() < 0.25:
            return self._rail()
        pin, high = self._name("p"), self.rng.random() < 0.6
        self._add("P", "resistor", (self._rail(), pin), ohm=35.0 if high else 1e11)
        self._add("P", "resistor", (pin, "0"), ohm=1e11 if high else 35.0)
        if self.rng.random() < 0.5:
            gate = self._name("g")
            self._add("R", "resistor", (pin, gate), ohm=float(10 ** self.rng.uniform(1, 4)))
            self._add("R", "resistor", (gate, "0"), ohm=1e5)
            return gate
        return pin

    def _load(self, a: str, b: str) -> None:
        kind = int(self.rng.integers(4))
        if kind == 0:
            self._add("R", "resistor", (a, b), ohm=float(10 ** self.rng.uniform(1.52, 4)))
        elif kind == 1:
            middle = self._name("n")
            self._add("R", "resistor", (a, middle), ohm=float(10 ** self.rng.uniform(2, 3.5)))
            values = junction_values(self._one(1.9, 3.1), 0.01, 2.0)
            self.elements.append(Element(self._name("D"), "diode", (middle, b), values))
        elif kind == 2:
            self._add("R", "resistor", (a, b), ohm=float(10 ** self.rng.uniform(1.7, 2.7)))
            self.elements.append(Element(self._name("D"), "diode", (b, a), junction_values(0.7, 1.0, 1.5)))
        else:
            self._add("L", "current_load", (a, b), amp=float(10 ** self.rng.uniform(-3, -1)), v_on=1.5)

    def _switched(self) -> None:
        kind, drain, rail = int(self.rng.integers(4)), self._name("d"), self._rail()
        if kind <= 1:
            self._load(rail, drain)
            vth, on = float(self.rng.uniform(0.7, 2.5)), float(10 ** self.rng.uniform(-2.5, 0.5))
            self._add("Q", "nmos", (drain, self._drive(), "0"), vth=vth, k=1.0 / (on * (4.5 - vth)))
        elif kind == 2:
            self._load(rail, drain)
            base = self._name("b")
            self._add("R", "resistor", (self._drive(), base), ohm=float(10 ** self.rng.uniform(2.5, 4.5)))
            self._add("Q", "npn", (drain, base, "0"), i_s=1e-14, beta=float(self.rng.uniform(50, 400)))
        else:
            gate = self._name("g")
            self._add("R", "resistor", (rail, gate), ohm=1e4)
            self._add("Q", "nmos", (gate, self._drive(), "0"), vth=1.5, k=0.7)
            self._add("Q", "pmos", (drain, gate, rail), vth=1.2, k=6.0)
            self._load(drain, "0")
