"""From the design to a circuit in one of its operating states."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import singledispatch

import numpy as np
from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import ElementSpec, Kind, channels
from zesty_trace.core.circuit.devices import THERMAL_V
from zesty_trace.core.circuit.drivers import driver_at
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.circuit.op_amps import amplified
from zesty_trace.core.circuit.states import OperatingState, all_on
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Part, Pin
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import InputError

INPUT_LEAK_OHM = 1e7
OFF_OHM = 1e11  # the half of a pin's driver that is off: some picoamperes
SUPPLY_CURRENT_TOLERANCE = 0.15
SUPPLY_TOLERANCE = 0.005  # what a bench supply holds, common practice
BRICK_OHM = 0.02
UNPLUGGED_OHM = 1e9
WIPER_OHM = 2.0  # of a wiper at the end of its track, common practice
MIDDLE_PCT = 50.0
LINK_OHM = 0.01  # of a 0 Ω link; common practice, at most 50 mΩ
STARTS_FROM_V = 2.0  # a chip whose supply range is not known
LED_SPREAD, DIODE_SPREAD = 0.08, 0.05  # of the forward voltage, either way: common practice
DRIVE = {"ohm": 0.3}  # how far the resistance of an output is from its typical figure


class _Builder:
    """Collects elements. Networks of states that flip the same parts have the same elements, with other values."""

    def __init__(self, wired: Wired, state: OperatingState) -> None:
        design = wired.design
        self.wired, self.design, self.state = wired, design, state
        self.net_of = wired.net_of
        self.ground = wired.ground or "GND"
        self.drivers = driver_at(wired)
        self.elements: list[Element] = []

    def node(self, pin: Pin) -> str:
        return self.net_of.get(pin, str(pin))

    def add(
        self, part: Part, type_: str, pins: tuple[Pin, ...], values: dict[str, float], tolerances: dict[str, float]
    ) -> None:
        nodes = tuple(self.node(p) for p in pins)
        self.elements.append(Element(part.ref, type_, nodes, values, pins, tolerances))


@singledispatch
def elements_of(model: m.Model, b: _Builder, part: Part, kind: Kind) -> None:
    """Add what a part is to the solver; a model without a way of its own carries no direct current."""


def _pin(part: Part, kind: Kind, name: str) -> Pin:
    return Pin(part.ref, kind.pin_named(name).number)


def _ends(part: Part) -> tuple[Pin, Pin]:
    return Pin(part.ref, "1"), Pin(part.ref, "2")


@elements_of.register
def _resistor(model: m.Resistor, b: _Builder, part: Part, kind: Kind) -> None:
    ohm = max(leading_value(part.value) or 0.0, LINK_OHM)
    b.add(part, "resistor", _ends(part), {"ohm": ohm}, {"ohm": kind.tolerance})


@elements_of.register
def _fixed_resistor(model: m.FixedResistor, b: _Builder, part: Part, kind: Kind) -> None:
    b.add(part, "resistor", _ends(part), {"ohm": model.ohm}, {"ohm": 0.3})


def junction_values(v_f: float, i_f: float, n: float) -> dict[str, float]:
    """Return saturation current and ideality of a junction that drops `v_f` V at `i_f` A."""
    return {"i_s": i_f / (math.exp(v_f / (n * THERMAL_V)) - 1), "n": n}


@elements_of.register
def _diode(model: m.Diode | m.Led, b: _Builder, part: Part, kind: Kind) -> None:
    values = junction_values(forward_voltage(part, kind), model.rated_a, model.ideality)
    spread = LED_SPREAD if isinstance(model, m.Led) else DIODE_SPREAD
    b.add(part, "diode", (_pin(part, kind, "A"), _pin(part, kind, "K")), values, {"n": spread})


def forward_voltage(part: Part, kind: Kind) -> float:
    """Return the typical forward voltage at rated current, by the option that the part's value names, if any."""
    option = part.value.split()[0] if part.value else ""
    chosen = kind.options.get(option) or next(iter(kind.options.values()), None)
    if chosen is not None and chosen.forward_v is not None:
        return chosen.forward_v
    if isinstance(kind.model, m.Diode | m.Led) and kind.model.forward_v is not None:
        return kind.model.forward_v
    raise InputError(f"{kind.id} states no forward voltage", kind.id, "Write vf in its model")


@elements_of.register
def _field_effect(model: m.FieldEffect, b: _Builder, part: Part, kind: Kind) -> None:
    k = 1.0 / (model.on_ohm * (model.on_gate_v - model.threshold_v))
    pins = (_pin(part, kind, "D"), _pin(part, kind, "G"), _pin(part, kind, "S"))
    b.add(part, m.type_of(model), pins, {"vth": model.threshold_v, "k": k}, {"k": 0.2})


@elements_of.register
def _bipolar(model: m.Bipolar, b: _Builder, part: Part, kind: Kind) -> None:
    pins = (_pin(part, kind, "C"), _pin(part, kind, "B"), _pin(part, kind, "E"))
    b.add(part, m.type_of(model), pins, {"i_s": model.saturation_a, "beta": model.beta}, {"beta": 0.5})


@elements_of.register
def _inlet(model: m.Inlet, b: _Builder, part: Part, kind: Kind) -> None:
    plus = next(p for p in kind.pins if p.role == "supply_out")
    minus = next(p for p in kind.pins if p.role == "ground")
    pins = (Pin(part.ref, plus.number), Pin(part.ref, minus.number))
    volt = inflow(b.wired, part.ref).volt if b.state.supply_v is None else b.state.supply_v
    plugged = volt != 0 and part.ref not in b.state.unplugged
    values = {"volt": volt, "ohm": BRICK_OHM} if plugged else {"volt": 0.0, "ohm": UNPLUGGED_OHM}
    b.add(part, "source", pins, values, {"volt": SUPPLY_TOLERANCE})


def _three(part: Part, kind: Kind) -> tuple[Pin, Pin, Pin]:
    """Return the input, the output, and the pin that the output is held against."""
    roles = {p.role: p.number for p in kind.pins}
    held = (
        kind.pin_named(kind.model.adjust).number if isinstance(kind.model, m.AdjustableRegulator) else roles["ground"]
    )
    return Pin(part.ref, roles["supply_in"]), Pin(part.ref, roles["supply_out"]), Pin(part.ref, held)


@elements_of.register
def _regulator(model: m.Regulator, b: _Builder, part: Part, kind: Kind) -> None:
    drop, at = model.dropout_v, model.dropout_at_a
    values = {
        "v_out": model.set_v,
        "v_drop": 0.2 * drop,
        "r_drop": 0.8 * drop / at,
        "i_q": model.quiescent_a,
        "i_limit": model.max_a,
        "r_out": 0.01,
    }
    b.add(part, "regulator", _three(part, kind), values, {"v_out": model.tolerance})


@elements_of.register
def _converter(model: m.Converter, b: _Builder, part: Part, kind: Kind) -> None:
    values = {
        "v_out": model.set_v,
        "efficiency": model.efficiency,
        "v_min": model.start_v,
        "i_q": model.quiescent_a,
        "i_limit": model.max_a,
    }
    tolerances = {"v_out": model.tolerance, "efficiency": 0.03}
    b.add(part, "converter", _three(part, kind), {**values, "r_out": 0.02}, tolerances)


@elements_of.register
def _current_load(model: m.CurrentLoad, b: _Builder, part: Part, kind: Kind) -> None:
    b.add(
        part,
        "current_load",
        _ends(part),
        {"amp": leading_value(part.value) or 0.0, "v_on": 1.5},
        {"amp": kind.tolerance},
    )


def _add_supply_load(model: m.Supplied, b: _Builder, part: Part, kind: Kind) -> tuple[Pin, Pin]:
    """Add what a chip draws from its supply; return its supply and ground pins."""
    pins = (_pin(part, kind, model.supply), _pin(part, kind, model.ground))
    amp = (model.sleep_a or 0.0) if part.ref in b.state.asleep else model.supply_a
    low = kind.facts.supply_min_v
    values = {"amp": amp, "v_on": 0.7 * (STARTS_FROM_V if low is None else low)}
    b.add(part, "current_load", pins, values, {"amp": SUPPLY_CURRENT_TOLERANCE})
    return pins


@elements_of.register
def _load(model: m.Load, b: _Builder, part: Part, kind: Kind) -> None:
    pins = _add_supply_load(model, b, part, kind)
    for spec in kind.pins:
        if spec.role == "input":
            pin = Pin(part.ref, spec.number)
            b.add(part, "resistor", (pin, pins[1]), {"ohm": INPUT_LEAK_OHM}, {})


@elements_of.register
def _op_amp(model: m.OpAmp, b: _Builder, part: Part, kind: Kind) -> None:
    """Each channel that is fed back follows its inputs; one that is not is an output that compares."""
    _load(model, b, part, kind)
    feeds = (_pin(part, kind, model.supply), _pin(part, kind, model.ground))
    values = {
        "gain": model.gain,
        "low": model.swing_low_v,
        "high": model.swing_high_v,
        "r_out": model.output_ohm,
        "i_limit": model.max_a,
    }
    for c in channels(kind):
        pins = (_pin(part, kind, c.plus), _pin(part, kind, c.minus), _pin(part, kind, c.out), *feeds)
        if pins[2] in amplified(b.wired):
            b.add(part, "amplifier", pins, values, {})


@elements_of.register
def _controller(model: m.Controller, b: _Builder, part: Part, kind: Kind) -> None:
    _, ground = _add_supply_load(model, b, part, kind)
    for spec in kind.pins:
        pin = Pin(part.ref, spec.number)
        if pin not in b.drivers and spec.role in ("bidirectional", "input", "open_drain"):
            b.add(part, "resistor", (pin, ground), {"ohm": INPUT_LEAK_OHM}, {})


def _add_outputs(b: _Builder, part: Part, kind: Kind) -> None:
    """Add the pins of a part that drive: each half of a push-pull output, an open drain, a bus pin when it is read."""
    for spec in kind.pins:
        driver = b.drivers.get(Pin(part.ref, spec.number))
        if driver is None:
            continue
        pin, on = driver.pin, driver.pin in b.state.high
        silent = not driver.programmed and (b.state.quiet or part.ref in b.state.asleep)
        if driver.programmed:
            silent = b.state.reset
            on = on or spec.role == "output"
        if driver.how != "open drain":
            b.add(part, "resistor", (driver.supply, pin), {"ohm": driver.ohm if on and not silent else OFF_OHM}, DRIVE)
        pulls = on if driver.how == "open drain" else not on and driver.how == "push-pull"
        b.add(part, "resistor", (pin, driver.ground), {"ohm": driver.ohm if pulls and not silent else OFF_OHM}, DRIVE)


@elements_of.register
def _composite(model: m.Composite, b: _Builder, part: Part, kind: Kind) -> None:
    """Add each element of a kind that is made of several.

    Junctions and switches are given by their data sheet values.
    """
    _add_elements(b, part, kind, kind.elements)


def _add_elements(b: _Builder, part: Part, kind: Kind, elements: Sequence[ElementSpec]) -> None:
    for spec in elements:
        pins = tuple(Pin(part.ref, kind.pin_named(name).number) for name in spec.pins)
        b.add(part, spec.type, pins, _element_values(spec), dict(spec.tolerances))


def _both_positions(kind: Kind, flipped: bool) -> list[ElementSpec]:
    """Return the elements of a kind in one position; a contact that only the other has stands open beside them.

    So the networks of all states have the same elements, and are solved together.
    """
    active, other = (kind.flipped, kind.elements) if flipped else (kind.elements, kind.flipped)
    known = {(e.type, e.pins) for e in active}
    idle = [replace(e, values={"ohm": OFF_OHM}, tolerances={}) for e in other if e.type == "resistor"]
    found = [*active, *(e for e in idle if (e.type, e.pins) not in known)]
    return sorted(found, key=lambda e: (e.type, e.pins))


def _element_values(spec: ElementSpec) -> dict[str, float]:
    v = spec.values
    if spec.type == "diode":
        return junction_values(v["vf"], v["if"], v.get("n", 2.0))
    if spec.type in ("nmos", "pmos"):
        return {"vth": v["vth"], "k": 1.0 / (v["r_on"] * (v["vgs_on"] - v["vth"]))}
    return dict(v)


@elements_of.register
def _value_composite(model: m.ValueComposite, b: _Builder, part: Part, kind: Kind) -> None:
    by_value = [
        replace(e, values={**e.values, "ohm": element_ohm(part, kind, e)}) if e.type == "resistor" else e
        for e in kind.elements
    ]
    _add_elements(b, part, kind, by_value)


def element_ohm(part: Part, kind: Kind, spec: ElementSpec) -> float:
    """Return the resistance of one resistor of a kind that is made of several, by the part's value, Ω."""
    ohm = spec.values.get("ohm", 0.0)
    if isinstance(kind.model, m.ValueComposite):
        ohm *= (leading_value(part.value) or kind.model.ohm) / kind.model.ohm
    return ohm


@elements_of.register
def _potentiometer(model: m.Potentiometer, b: _Builder, part: Part, kind: Kind) -> None:
    """Two resistors with the wiper between them, at its middle unless the state says otherwise."""
    ohm = leading_value(part.value) or model.ohm
    share = b.state.wiper_pct.get(part.ref, MIDDLE_PCT) / 100.0
    for ends, part_of in ((("1", "W"), share), (("W", "3"), 1.0 - share)):
        pins = (_pin(part, kind, ends[0]), _pin(part, kind, ends[1]))
        b.add(part, "resistor", pins, {"ohm": max(ohm * part_of, WIPER_OHM)}, {"ohm": kind.tolerance})


@elements_of.register
def _zener(model: m.Zener, b: _Builder, part: Part, kind: Kind) -> None:
    volt = leading_value(part.value) or model.zener_v
    values = {**junction_values(0.75, 0.01, 1.5), "v_z": volt, "i_z": model.zener_a}
    b.add(part, "zener", (_pin(part, kind, "A"), _pin(part, kind, "K")), values, {"v_z": kind.tolerance})


def cell_voltage(part: Part, kind: Kind, charge_pct: float | None) -> float:
    """Return the open-circuit voltage at a state of charge, by the kind's curve; without one, the voltage stated, V.

    A stated voltage of several cells' worth is that many in a row.
    """
    one = kind.model.output_v or 0.0
    said = leading_value(part.value) or one
    if charge_pct is None or not kind.ocv:
        return said
    percents, volts = zip(*sorted(kind.ocv), strict=True)
    in_a_row = max(1, round(said / one)) if one else 1
    return in_a_row * float(np.interp(charge_pct, percents, volts))


def charge_current(wired: Wired, ref: str) -> float | None:
    """Return what a charger charges with by the resistor on its PROG pin, A.

    I = k / R, k = 1000 V (common practice).
    """
    kind = wired.kind(ref)
    net = wired.net_of.get(Pin(ref, kind.pin_named("PROG").number), "")
    for pin in wired.design.nets.get(net, ()):
        if wired.kind(pin.ref).is_a(m.Resistor) and (ohm := leading_value(wired.design.parts[pin.ref].value)):
            return (kind.facts.charge_factor_v or 0.0) / ohm
    return None


@elements_of.register
def _charger(model: m.Charger, b: _Builder, part: Part, kind: Kind) -> None:
    """A linear charger at full current: what it takes from its supply it puts into the cell."""
    amp = charge_current(b.wired, part.ref)
    if amp:
        pins = (_pin(part, kind, "VCC"), _pin(part, kind, "BAT"))
        b.add(part, "current_load", pins, {"amp": amp, "v_on": 0.3}, {"amp": 0.1})


@elements_of.register
def _battery(model: m.Battery, b: _Builder, part: Part, kind: Kind) -> None:
    pins = (Pin(part.ref, "1"), Pin(part.ref, "2"))
    volt = cell_voltage(part, kind, b.state.cell_pct)
    plugged = part.ref not in b.state.unplugged
    values = {"volt": volt, "ohm": model.ohm} if plugged else {"volt": 0.0, "ohm": UNPLUGGED_OHM}
    b.add(part, "source", pins, values, {"volt": kind.tolerance})


OF_STATE = (m.Inlet, m.Supplied, m.Battery, m.Potentiometer)  # their elements differ from state to state


def build_network(wired: Wired, state: OperatingState | None = None) -> Network:
    """Return the circuit of `design` in `state` (by default all on). Capacitors are open, inductors short."""
    return build_networks(wired, [state or all_on(wired)])[0]


def build_networks(wired: Wired, states: Sequence[OperatingState]) -> list[Network]:
    """Return the circuit of `design` in each state; parts that no state changes are worked out once."""
    design = wired.design
    known: dict[tuple[object, ...], list[Element]] = {}
    found = []
    for state in states:
        builder = _Builder(wired, state)
        high: dict[str, set[Pin]] = {}
        for pin in state.high:
            high.setdefault(pin.ref, set()).add(pin)
        for ref, part in design.parts.items():
            kind = wired.kind(ref)
            flipped = bool(kind.flipped) and ref in state.flipped
            key: tuple[object, ...] = (ref, flipped)
            if kind.is_a(*OF_STATE) or kind.drive is not None:
                own = (
                    frozenset(high.get(ref, ())),
                    ref in state.asleep,
                    ref in state.unplugged,
                    state.wiper_pct.get(ref),
                )
                key += (*own, state.supply_v, state.cell_pct, state.quiet, state.reset)
            if key not in known:
                start = len(builder.elements)
                if kind.flipped and kind.is_a(m.Composite, m.Open):
                    _add_elements(builder, part, kind, _both_positions(kind, flipped))
                elif flipped:
                    _add_elements(builder, part, kind, kind.flipped)
                else:
                    elements_of(kind.model, builder, part, kind)
                _add_outputs(builder, part, kind)
                known[key] = builder.elements[start:]
            else:
                builder.elements += known[key]
        found.append(Network(tuple(builder.elements), builder.ground))
    return found
