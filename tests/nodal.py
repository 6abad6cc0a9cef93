"""A second way to solve a design: plain nodal analysis with numpy alone, from the parts and the figures of their kinds.

Written apart from the application's solver and sharing none of its equations: no branch currents (a source is its
Norton equivalent), every law in its sharp textbook form, slopes by differences, steps halved until the currents left
over fall. What drives and what comes in at an inlet is taken from the application; how it conducts is not.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.drivers import drivers
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.op_amps import amplified
from zesty_trace.core.circuit.states import OperatingState
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.stated import leading_value

VT = 0.025852
BODY_A = 1e-13
OFF_OHM, LEAK_OHM, GMIN = 1e11, 1e7, 1e-12
FARTHEST_V = 2.0  # of one step: a net that nothing feeds would run away
Law = Callable[[np.ndarray], list[tuple[str, np.ndarray]]]


def _exp(x: np.ndarray) -> np.ndarray:
    """Return e^x - 1, on past 80 as a straight line."""
    top = np.minimum(x, 80.0)
    return np.exp(top) * (1.0 + np.maximum(x - 80.0, 0.0)) - 1.0


class Nodal:
    """The circuit of one design in one state."""

    def __init__(self, wired: Wired, state: OperatingState) -> None:
        self.wired, self.state = wired, state
        self.ground = wired.ground or "GND"
        self.rows: dict[str, int] = {}
        self.laws: list[tuple[tuple[int, ...], Callable[..., list[np.ndarray]]]] = []
        for ref in wired.design.parts:
            self._part(ref)
        self._outputs()

    # Putting it together --------------------------------------------------------------------------------------------

    def _row(self, pin: Pin) -> int:
        name = self.wired.net_of.get(pin, str(pin))
        return -1 if name == self.ground else self.rows.setdefault(name, len(self.rows))

    def add(self, pins: list[Pin], law: Callable[..., list[np.ndarray]]) -> None:
        """Add what flows into each pin as a function of their voltages."""
        self.laws.append((tuple(self._row(p) for p in pins), law))

    def resistor(self, pins: list[Pin], ohm: float) -> None:
        """Ohm's law."""
        self.add(pins, lambda a, b: [(a - b) / ohm, (b - a) / ohm])

    def diode(self, pins: list[Pin], vf: float, at_a: float, n: float) -> None:
        """Shockley's law through the stated point."""
        i_s = at_a / math.expm1(vf / (n * VT))

        def law(a: np.ndarray, k: np.ndarray) -> list[np.ndarray]:
            amp = i_s * _exp((a - k) / (n * VT))
            return [amp, -amp]

        self.add(pins, law)

    def load(self, pins: list[Pin], amp: float, on_v: float) -> None:
        """A constant current once there is enough voltage."""

        def law(a: np.ndarray, b: np.ndarray) -> list[np.ndarray]:
            share = 1.0 / (1.0 + np.exp(np.clip((on_v - (a - b)) / 0.1, -60, 60)))
            leak = min(0.02 * amp / max(on_v, 0.1), 5e-6) * 0.1 * np.logaddexp(0, (a - b) / 0.1)
            total = amp * share + leak * (1 - share)
            return [total, -total]

        self.add(pins, law)

    def source(self, pins: list[Pin], volt: float, ohm: float) -> None:
        """A voltage behind its resistance."""
        self.add(pins, lambda a, b: [(a - b - volt) / ohm, (volt - a + b) / ohm])

    def fet(self, pins: list[Pin], vth: float, r_on: float, vgs: float, sign: float) -> None:
        """The square law with its body diode; drain, gate, source."""
        k = 1.0 / (r_on * (vgs - vth))

        def law(d: np.ndarray, g: np.ndarray, s: np.ndarray) -> list[np.ndarray]:
            d, g, s = sign * d, sign * g, sign * s
            high, low = np.maximum(d, s), np.minimum(d, s)
            over, across = np.maximum(g - low - vth, 0.0), high - low
            amp = k * np.where(across < over, (over - across / 2) * across, over**2 / 2) * np.where(d < s, -1.0, 1.0)
            amp = amp - BODY_A * _exp((s - d) / VT)
            return [sign * amp, 0.0 * g, -sign * amp]

        self.add(pins, law)

    def bipolar(self, pins: list[Pin], i_s: float, beta: float, sign: float) -> None:
        """Ebers and Moll, reverse gain 1; collector, base, emitter."""

        def law(c: np.ndarray, b: np.ndarray, e: np.ndarray) -> list[np.ndarray]:
            fwd, rev = i_s * _exp(sign * (b - e) / VT), i_s * _exp(sign * (b - c) / VT)
            into_c, into_b = fwd - 2 * rev, fwd / beta + rev
            return [sign * into_c, sign * into_b, -sign * (into_c + into_b)]

        self.add(pins, law)

    def darlington(self, pins: list[Pin], v: dict[str, float]) -> None:
        """The lesser of what the load asks and what the base allows."""

        def law(c: np.ndarray, b: np.ndarray, e: np.ndarray) -> list[np.ndarray]:
            base = 0.05 / v["r_in"] * np.logaddexp(0, (b - e - v["v_on"]) / 0.05)
            asked = 0.05 / v["r_on"] * np.logaddexp(0, (c - e - v["v_sat"]) / 0.05) + 1e-12
            most = v["gain"] * base + 1e-12
            amp = (asked**-4.0 + most**-4.0) ** -0.25
            return [amp, base, -amp - base]

        self.add(pins, law)

    def zener(self, pins: list[Pin], volt: float, at_a: float) -> None:
        """Forward as a diode; backward with tens of millivolts a decade through the stated point."""
        i_s = 0.01 / math.expm1(0.75 / (1.5 * VT))

        def law(a: np.ndarray, k: np.ndarray) -> list[np.ndarray]:
            amp = i_s * _exp((a - k) / (1.5 * VT)) - at_a * (_exp((k - a - volt) / 0.05) + 1.0)
            return [amp, -amp]

        self.add(pins, law)

    def supply(self, pins: list[Pin], v: dict[str, float], switching: bool) -> None:
        """Input, output, reference: holds a voltage while its input lets it, up to its limit; feeds nothing back."""

        def law(i: np.ndarray, o: np.ndarray, r: np.ndarray) -> list[np.ndarray]:
            vin = i - r
            if switching:
                aim = v["v_out"] * np.clip((vin - v["v_min"]) / 0.5, 0.0, 1.0)
                amp = (aim - (o - r)) / v["r_out"]
            else:
                amp = (v["v_out"] - (o - r)) / v["r_out"]
                dropped = (vin - v["v_drop"] - (o - r)) / (v["r_drop"] + v["r_out"])
                amp = np.where(vin > 1.2, np.minimum(amp, dropped), -(o - r) * 1e-5)
            amp = np.clip(amp, (np.minimum(0.0, v["v_out"] - (o - r))) * 1e-5, v["i_limit"] * 1.01)
            quiet = v["i_q"] / (1.0 + np.exp(np.clip((1.2 - vin) / 0.1, -60, 60)))
            taken = amp * (o - r) / (v["efficiency"] * np.maximum(vin, 1.0)) if switching else amp
            return [taken + quiet, -amp, amp - taken - quiet]

        self.add(pins, law)

    def amplifier(self, pins: list[Pin], model: m.OpAmp) -> None:
        """Gain between two ends, then a resistance."""

        def law(p: np.ndarray, n: np.ndarray, o: np.ndarray, v: np.ndarray, g: np.ndarray) -> list[np.ndarray]:
            low, high = g + model.swing_low_v, np.maximum(v - model.swing_high_v, g + model.swing_low_v + 0.1)
            aim = np.clip(model.gain * (p - n) + (low + high) / 2, low, high)
            amp = np.clip((aim - o) / model.output_ohm, -model.max_a, model.max_a)
            up = np.maximum(amp, 0.0)
            return [0.0 * p, 0.0 * n, -amp, up, amp - up]

        self.add(pins, law)

    # The parts --------------------------------------------------------------------------------------------------------

    def _named(self, ref: str, *names: str) -> list[Pin]:
        return [self.wired.pin(ref, n) for n in names]

    def _part(self, ref: str) -> None:  # noqa: PLR0912 - one branch for each model
        kind, part, state = self.wired.kind(ref), self.wired.part(ref), self.state
        model: Any = kind.model
        value = leading_value(part.value)
        flipped = ref in state.flipped and bool(kind.flipped)
        both = [Pin(ref, s.number) for s in kind.pins[:2]]
        asleep = ref in state.asleep
        if flipped or kind.elements:
            scale = (value or model.ohm) / model.ohm if isinstance(model, m.ValueComposite) else 1.0
            for e in kind.flipped if flipped else kind.elements:
                self._element(e.type, self._named(ref, *e.pins), dict(e.values), scale)
        elif isinstance(model, m.Resistor):
            self.resistor(both, max(value or 0.0, 0.01))
        elif isinstance(model, m.FixedResistor):
            self.resistor(both, model.ohm)
        elif isinstance(model, m.Potentiometer):
            share, whole = state.wiper_pct.get(ref, 50.0) / 100, value or model.ohm
            self.resistor(self._named(ref, "1", "W"), max(whole * share, 2.0))
            self.resistor(self._named(ref, "W", "3"), max(whole * (1 - share), 2.0))
        elif isinstance(model, m.Diode | m.Led):
            word = part.value.split()[0] if part.value else ""
            option = kind.options.get(word) or next(iter(kind.options.values()), None)
            vf = option.forward_v if option and option.forward_v is not None else model.forward_v
            self.diode(self._named(ref, "A", "K"), vf, model.rated_a, model.ideality)
        elif isinstance(model, m.Zener):
            self.zener(self._named(ref, "A", "K"), value or model.zener_v, model.zener_a)
        elif isinstance(model, m.FieldEffect):
            sign = 1.0 if isinstance(model, m.Nmos) else -1.0
            at = (model.threshold_v, model.on_ohm, model.on_gate_v)
            self.fet(self._named(ref, "D", "G", "S"), *at, sign)
        elif isinstance(model, m.Bipolar):
            sign = 1.0 if isinstance(model, m.Npn) else -1.0
            self.bipolar(self._named(ref, "C", "B", "E"), model.saturation_a, model.beta, sign)
        elif isinstance(model, m.CurrentLoad):
            self.load(both, value or 0.0, 1.5)
        elif isinstance(model, m.Inlet | m.Battery):
            self._feed(ref, model, value, both)
        elif isinstance(model, m.Supply):
            self._supply(ref, model)
        elif isinstance(model, m.Charger):
            self._charger(ref)
        elif isinstance(model, m.Supplied):
            amp = (model.sleep_a or 0.0) if asleep else model.supply_a
            least = kind.facts.supply_min_v
            self.load(self._named(ref, model.supply, model.ground), amp, 0.7 * (2.0 if least is None else least))
            self._inputs(ref, model)

    def _element(self, type_: str, pins: list[Pin], v: dict[str, float], scale: float) -> None:
        if type_ == "resistor":
            self.resistor(pins, v["ohm"] * scale)
        elif type_ == "diode":
            self.diode(pins, v["vf"], v["if"], v.get("n", 2.0))
        elif type_ in ("nmos", "pmos"):
            self.fet(pins, v["vth"], v["r_on"], v["vgs_on"], 1.0 if type_ == "nmos" else -1.0)
        elif type_ == "darlington":
            self.darlington(pins, v)
        elif type_ == "current_load":
            self.load(pins, v["amp"], v["v_on"])
        elif type_ in ("regulator", "converter"):
            self.supply(pins, v, type_ == "converter")
        else:
            raise NotImplementedError(type_)

    def _feed(self, ref: str, model: Any, value: float | None, both: list[Pin]) -> None:
        plus, minus = self.wired.pin_of_role(ref, "supply_out"), self.wired.pin_of_role(ref, "ground")
        assert plus is not None
        assert minus is not None
        state, kind = self.state, self.wired.kind(ref)
        if isinstance(model, m.Inlet):
            volt = inflow(self.wired, ref).volt if state.supply_v is None else state.supply_v
            gone, ohm = volt == 0 or ref in state.unplugged, 0.02
        else:
            volt, gone, ohm = value or model.volt, ref in state.unplugged, model.ohm
            if state.cell_pct is not None and kind.ocv:
                shares, volts = zip(*sorted(kind.ocv), strict=True)
                volt = max(1, round(volt / model.volt)) * float(np.interp(state.cell_pct, shares, volts))
        self.source([plus, minus], 0.0 if gone else volt, 1e9 if gone else ohm)

    def _supply(self, ref: str, model: Any) -> None:
        pins = [self.wired.pin_of_role(ref, r) for r in ("supply_in", "supply_out", "ground")]
        if isinstance(model, m.AdjustableRegulator):
            pins[2] = self.wired.pin(ref, model.adjust)
        v = {"v_out": model.set_v, "i_q": model.quiescent_a, "i_limit": model.max_a}
        if isinstance(model, m.Converter):
            v |= {"efficiency": model.efficiency, "v_min": model.start_v, "r_out": 0.02}
        else:
            drop = model.dropout_v
            v |= {"v_drop": 0.2 * drop, "r_drop": 0.8 * drop / model.dropout_at_a, "r_out": 0.01}
        self.supply([p for p in pins if p is not None], v, isinstance(model, m.Converter))

    def _charger(self, ref: str) -> None:
        kind = self.wired.kind(ref)
        prog = [n for n in self.wired.near(self.wired.net_at(ref, "PROG"), m.Resistor) if n.value > 0]
        if prog:
            self.load(self._named(ref, "VCC", "BAT"), (kind.facts.charge_factor_v or 0.0) / prog[0].value, 0.3)

    def _inputs(self, ref: str, model: Any) -> None:
        kind = self.wired.kind(ref)
        ground = self.wired.pin(ref, model.ground)
        driving = {d.pin for d in drivers(self.wired)}
        roles = ("input",) if isinstance(model, m.Load) else ("input", "bidirectional", "open_drain")
        for spec in kind.pins:
            pin = Pin(ref, spec.number)
            if spec.role in roles and (isinstance(model, m.Load) or pin not in driving):
                self.resistor([pin, ground], LEAK_OHM)
        if isinstance(model, m.OpAmp):
            for spec in kind.pins:
                out = Pin(ref, spec.number)
                if out in amplified(self.wired):
                    end = spec.name.removeprefix("OUT")
                    ins = self._named(ref, f"IN{end}+", f"IN{end}-")
                    self.amplifier([*ins, out, self.wired.pin(ref, model.supply), ground], model)

    def _outputs(self) -> None:
        for d in drivers(self.wired):
            on, role = d.pin in self.state.high, self.wired.spec(d.pin).role
            silent = not d.programmed and (self.state.quiet or d.pin.ref in self.state.asleep)
            if d.programmed:
                silent, on = self.state.reset, on or role == "output"
            up = d.how != "open drain" and on and not silent
            down = (on if d.how == "open drain" else not on and d.how == "push-pull") and not silent
            if d.how != "open drain":
                self.resistor([d.supply, d.pin], d.ohm if up else OFF_OHM)
            self.resistor([d.pin, d.ground], d.ohm if down else OFF_OHM)

    # Solving ----------------------------------------------------------------------------------------------------------

    def left_over(self, v: np.ndarray) -> np.ndarray:
        """Return the currents (nodes, columns) that leave each node at voltages (nodes, columns), A."""
        total = GMIN * v
        zero = np.zeros(v.shape[1])
        for rows, law in self.laws:
            flows = law(*(v[r] if r >= 0 else zero for r in rows))
            for r, flow in zip(rows, flows, strict=True):
                if r >= 0:
                    total[r] += flow
        return total

    def hold(self, at: dict[str, float]) -> dict[str, float]:
        """Return node -> the current that moves it by a volt, all else following, A/V: how firmly it is held."""
        v = np.array([[at.get(n, 0.0)] for n in self.rows])
        nudged = np.repeat(v, len(v), axis=1) + 1e-4 * np.eye(len(v))
        slope = (self.left_over(nudged) - self.left_over(v)) / 1e-4
        given = np.abs(np.diag(np.linalg.inv(slope)))
        return dict(zip(self.rows, (1.0 / given).tolist(), strict=True))

    def solve(self, start: dict[str, float], steps: int = 300) -> dict[str, float]:
        """Return node -> V, from a start."""
        names, size = list(self.rows), len(self.rows)
        v = np.array([start.get(n, 0.0) for n in names])
        for _ in range(steps):
            h = 1e-7
            columns = np.repeat(v[:, None], size + 1, axis=1)
            columns[np.arange(size), np.arange(size)] += h
            left = self.left_over(columns)
            slope = (left[:, :size] - left[:, -1:]) / h
            step = np.linalg.lstsq(slope, -left[:, -1], rcond=1e-16)[0]
            step *= min(1.0, FARTHEST_V / max(np.abs(step).max(), 1e-12))
            before, share = np.abs(left[:, -1]).max(), 1.0
            while share > 1e-3 and np.abs(self.left_over((v + share * step)[:, None])).max() > before:
                share /= 2
            v = v + share * step
            if np.abs(share * step).max() < 1e-8:
                break
        return dict(zip(names, v.tolist(), strict=True))
