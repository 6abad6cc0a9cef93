"""The operating states that a design is worked out in: the user's own, or those that its parts propose."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.circuit.drivers import drivers
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin, StateSpec, Wiper
from zesty_trace.errors import EditError

NEARLY_EMPTY_PCT = 5.0
WIPER_ENDS_PCT = (0.0, 100.0)


@dataclass(frozen=True)
class OperatingState:
    """Which outputs are on, high or, with an open drain, pulling low; every other is off, every input left alone.

    A `quiet` state leaves the outputs of all but the controllers open: asleep, or told by nobody what to do. In `reset`
    the controllers' own are open, as they are until a program runs.

    `flipped` are parts in their other position: buttons pressed, switches thrown, bridges closed, relays pulled in;
    `asleep` are parts that draw only their sleep current.
    `unplugged` are inlets and cells that nothing is plugged into; `wipers` are potentiometers away from their middle,
    each with its place from pin 1 to pin 3, %.
    `supply_v` None is what the inlets bring, 0 that none is plugged in; `cell_pct` None the voltage stated of the cell.
    """

    name: str
    high: frozenset[Pin] = frozenset()
    flipped: frozenset[str] = frozenset()
    asleep: frozenset[str] = frozenset()
    unplugged: frozenset[str] = frozenset()
    wipers: frozenset[tuple[str, float]] = frozenset()
    supply_v: float | None = None
    cell_pct: float | None = None
    quiet: bool = False
    reset: bool = False

    @cached_property
    def wiper_pct(self) -> dict[str, float]:
        """Potentiometer -> where its wiper is, %."""
        return dict(self.wipers)


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
    for ref in wired.of_model(m.Potentiometer):
        found += [
            OperatingState(f"{ref} at {pct:g} %", everything, wipers=frozenset(((ref, pct),))) for pct in WIPER_ENDS_PCT
        ]
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
            supply_v=s.supply_v,
            cell_pct=s.cell_pct,
            reset=s.reset,
            wipers=frozenset((w.ref, w.pct) for w in s.wipers if w.ref in design.parts),
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
        wipers=tuple(Wiper(ref=r, pct=p) for r, p in sorted(state.wipers)),
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


def read_wipers(text: str, wired: Wired) -> tuple[Wiper, ...]:
    """Return `RV1 20 %, RV2 80 %` as places of wipers. EditError for another form, or a part that has none."""
    found = []
    for piece in filter(None, (p.strip() for p in text.split(","))):
        ref, _, said = piece.partition(" ")
        ref = next((r for r in wired.of_model(m.Potentiometer) if r.lower() == ref.lower()), "")
        if not ref:
            raise EditError(f"“{piece}” names no potentiometer", "potentiometers", "Write it like RV1 20 %")
        try:
            pct = float(said.replace("%", "").replace(",", ".").strip())
        except ValueError:
            pct = -1.0
        if not 0.0 <= pct <= 100.0:
            raise EditError(f"“{said}” is no place on a track", ref, "Write a share from 0 to 100 %")
        found.append(Wiper(ref=ref, pct=pct))
    return tuple(found)
