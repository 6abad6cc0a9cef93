"""From the design to a circuit in one of its operating states."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import singledispatch

import numpy as np
from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import ElementSpec, Kind
from zesty_trace.core.circuit.devices import THERMAL_V
from zesty_trace.core.circuit.drivers import driver_at, drivers
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Part, Pin, StateSpec
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import InputError

INPUT_LEAK_OHM = 1e7
OFF_OHM = 1e11  # the half of a pin's driver that is off: some picoamperes
SUPPLY_CURRENT_TOLERANCE = 0.15
SUPPLY_TOLERANCE = 0.005  # what a bench supply holds, common practice
BRICK_OHM = 0.02
UNPLUGGED_OHM = 1e9
LINK_OHM = 0.01  # of a 0 Ω link; common practice, at most 50 mΩ
STARTS_FROM_V = 2.0  # a chip whose supply range is not known
NEARLY_EMPTY_PCT = 5.0
DRIVE = {"ohm": 0.3}  # how far the resistance of an output is from its typical figure


@dataclass(frozen=True)
class OperatingState:
    """Which outputs are on, high or, with an open drain, pulling low; every other is off, every input left alone.

    A `quiet` state leaves the outputs of all but the controllers open: asleep, or told by nobody what to do. In `reset`
    the controllers' own are open, as they are until a program runs.

    `flipped` are parts in their other position: buttons pressed, switches thrown, bridges closed, relays pulled in;
    `asleep` are parts that draw only their sleep current.
    `unplugged` are inlets and cells that nothing is plugged into.
    `supply_v` None is what the inlets bring, 0 that none is plugged in; `cell_pct` None the voltage stated of the cell.
    """

    name: str
    high: frozenset[Pin] = frozenset()
    flipped: frozenset[str] = frozenset()
    asleep: frozenset[str] = frozenset()
    unplugged: frozenset[str] = frozenset()
    supply_v: float | None = None
    cell_pct: float | None = None
    quiet: bool = False
    reset: bool = False


def can_sleep(kind: Kind) -> bool:
    """Whether a kind says what it draws asleep."""
    return isinstance(kind.model, m.Supplied) and kind.model.sleep_a is not None


def proposed_states(wired: Wired) -> list[OperatingState]:
    """Return the states worth solving: all off, each output alone, asleep and nearly empty on a cell, all on.

    Lights that are told what to show have a state of their own in which they are dark; elsewhere they shine fully.
    """
    design = wired.design
    all_drivers = [d for d in drivers(wired) if d.how != "bus" and not (d.programmed and _idles_high(wired, d.pin))]
    outputs = [d.pin for d in all_drivers if d.loaded]
    net_of = wired.net_of
    everything = frozenset(d.pin for d in all_drivers)
    nets = [net_of[p] for p in outputs]
    names = [
        net if nets.count(net) == 1 else f"{net} by {wired.label(pin)}" for net, pin in zip(nets, outputs, strict=True)
    ]
    alone = [OperatingState(f"{name} on", frozenset((pin,))) for name, pin in zip(names, outputs, strict=True)]
    empty: list[OperatingState] = []
    if any(wired.kind(ref).ocv for ref in design.parts):
        sleepers = frozenset(r for r in design.parts if can_sleep(wired.kind(r)))
        if sleepers:
            empty.append(OperatingState("asleep", asleep=sleepers, supply_v=0.0, quiet=True))
        empty.append(OperatingState("on the cell", everything, supply_v=0.0))
        empty.append(OperatingState("cell nearly empty", everything, supply_v=0.0, cell_pct=NEARLY_EMPTY_PCT))
    lights = frozenset(r for r in design.parts if wired.kind(r).facts.light)
    dark = [OperatingState("lights dark", asleep=lights)] if lights else []
    buses = [OperatingState(f"{ref} drives its bus", pins) for ref, pins in _buses(wired).items()]
    handled = _by_hand(wired, everything)
    if not everything:
        return [*dark, *buses, *handled, *empty, OperatingState("all lit" if lights else "at rest")]
    off, on = OperatingState("all off"), OperatingState("all on", everything)
    programmed = any(d.programmed for d in all_drivers)
    reset = [OperatingState("in reset", reset=True)] if programmed else []
    return [off, *reset, *dark, *alone, *buses, *handled, *empty, on]


def _by_hand(wired: Wired, everything: frozenset[Pin]) -> list[OperatingState]:
    """Return the states that a hand makes: each button pressed with all off, each switch thrown and each inlet alone
    with all on, and all buttons pressed at once."""
    buttons = [r for r in wired.design.parts if wired.kind(r).flipped and is_button(wired.kind(r))]
    switches = [r for r in wired.design.parts if wired.kind(r).flipped and is_throw(wired.kind(r))]
    found = [OperatingState(f"{r} pressed", flipped=frozenset((r,))) for r in buttons]
    if len(buttons) > 1:
        found.append(OperatingState("all buttons pressed", flipped=frozenset(buttons)))
    found += [OperatingState(f"{r} thrown", everything, frozenset((r,))) for r in switches]
    sources = wired.of_model(m.Inlet)
    if len(sources) > 1:
        found += [OperatingState(f"{r} alone", everything, unplugged=frozenset(sources) - {r}) for r in sources]
    return found


def is_button(kind: Kind) -> bool:
    """Whether a hand presses it and it springs back: it is open by itself and has a pressed position."""
    return kind.prefix == "SW" and kind.is_a(m.Open)


def is_throw(kind: Kind) -> bool:
    """Whether a hand throws it and it stays."""
    return kind.prefix == "SW" and not kind.is_a(m.Open)


def _idles_high(wired: Wired, pin: Pin) -> bool:
    """Whether a controller's pin is an output by its role: the line of a serial port, which rests high."""
    return wired.spec(pin).role == "output"


def _buses(wired: Wired) -> dict[str, frozenset[Pin]]:
    """Return part -> the bus pins that it drives when it is read."""
    found: dict[str, set[Pin]] = {}
    for d in drivers(wired):
        if d.how == "bus":
            found.setdefault(d.pin.ref, set()).add(d.pin)
    return {ref: frozenset(pins) for ref, pins in found.items()}


def operating_states(wired: Wired) -> list[OperatingState]:
    """Return the user's own states, or the proposed ones. Pins and parts that are gone are left out of a state."""
    design = wired.design
    if not design.states:
        return proposed_states(wired)
    return [
        OperatingState(
            s.name,
            frozenset(p for p in s.high if p.ref in design.parts),
            frozenset(r for r in s.flipped if r in design.parts),
            frozenset(r for r in s.asleep if r in design.parts),
            frozenset(r for r in s.unplugged if r in design.parts),
            s.supply_v,
            s.cell_pct,
            reset=s.reset,
        )
        for s in design.states
    ]


def spec_of_state(state: OperatingState) -> StateSpec:
    """Return a state as the design keeps it."""
    return StateSpec(
        name=state.name,
        high=tuple(sorted(state.high)),
        flipped=tuple(sorted(state.flipped)),
        asleep=tuple(sorted(state.asleep)),
        unplugged=tuple(sorted(state.unplugged)),
        reset=state.reset,
        supply_v=state.supply_v,
        cell_pct=state.cell_pct,
    )


def resting(wired: Wired) -> OperatingState:
    """Return the state in which nothing is driven, whatever the user's states are."""
    return OperatingState("at rest", quiet=True)


def fullest(states: Sequence[OperatingState]) -> OperatingState:
    """Return the state with the most outputs high and a normal cell; the last of several."""
    return max(enumerate(states), key=lambda s: (s[1].cell_pct is None, len(s[1].high), s[0]))[1]


def all_on(wired: Wired) -> OperatingState:
    """Return the state with most outputs high."""
    return fullest(operating_states(wired))


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
    b.add(part, "diode", (_pin(part, kind, "A"), _pin(part, kind, "K")), values, {})


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
    roles = {p.role: p.number for p in kind.pins}
    return Pin(part.ref, roles["supply_in"]), Pin(part.ref, roles["supply_out"]), Pin(part.ref, roles["ground"])


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
    _add_outputs(b, part, kind)


@elements_of.register
def _controller(model: m.Controller, b: _Builder, part: Part, kind: Kind) -> None:
    _, ground = _add_supply_load(model, b, part, kind)
    _add_outputs(b, part, kind)
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
    _add_outputs(b, part, kind)


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
def _zener(model: m.Zener, b: _Builder, part: Part, kind: Kind) -> None:
    volt = leading_value(part.value) or model.zener_v
    values = {**junction_values(0.75, 0.01, 1.5), "v_z": volt, "i_z": model.zener_a}
    b.add(part, "zener", (_pin(part, kind, "A"), _pin(part, kind, "K")), values, {"v_z": kind.tolerance})


def cell_voltage(part: Part, kind: Kind, charge_pct: float | None) -> float:
    """Return the open-circuit voltage at a state of charge, by the kind's curve; without one, the voltage stated, V."""
    if charge_pct is None or not kind.ocv:
        return leading_value(part.value) or kind.model.output_v or 0.0
    percents, volts = zip(*sorted(kind.ocv), strict=True)
    return float(np.interp(charge_pct, percents, volts))


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


OF_STATE = (m.Inlet, m.Supplied, m.Battery)  # their elements differ from state to state


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
                own = (frozenset(high.get(ref, ())), ref in state.asleep, ref in state.unplugged)
                key += (*own, state.supply_v, state.cell_pct, state.quiet, state.reset)
            if key not in known:
                start = len(builder.elements)
                if kind.flipped and kind.is_a(m.Composite, m.Open):
                    _add_elements(builder, part, kind, _both_positions(kind, flipped))
                    _add_outputs(builder, part, kind)
                elif flipped:
                    _add_elements(builder, part, kind, kind.flipped)
                    _add_outputs(builder, part, kind)
                else:
                    elements_of(kind.model, builder, part, kind)
                known[key] = builder.elements[start:]
            else:
                builder.elements += known[key]
        found.append(Network(tuple(builder.elements), builder.ground))
    return found
