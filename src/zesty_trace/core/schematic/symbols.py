"""Symbols: the body and pin points of a part on the sheet, in grid units about its centre, y down.

A part's symbol depends on where its nets go: pins on a supply sit on top, on ground at the bottom, inputs left,
outputs right.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Kind, PinSpec
from zesty_trace.core.schematic.letters import LEAST_SIZE, PIN_SIZE, REF_SIZE, VALUE_SIZE, text_width

Look = Literal[
    "box",
    "resistor",
    "adjustable",
    "lit resistor",
    "capacitor",
    "crystal",
    "diode",
    "led",
    "coil",
    "button",
    "switch",
    "point",
    "sounder",
    "fuse",
    "generic",
]
Side = Literal["left", "right", "top", "bottom"]
LEAD = 2  # of a box: from its edge to where wires end, grid units

LOOKS: dict[type[m.Model], Look] = {
    m.Resistor: "resistor",
    m.FixedResistor: "resistor",
    m.Capacitor: "capacitor",
    m.Diode: "diode",
    m.Zener: "diode",
    m.Led: "led",
    m.CurrentLoad: "sounder",
}


@dataclass(frozen=True)
class SymbolPin:
    """A pin point. `x`, `y` is where wires end, grid units from the centre."""

    number: str
    name: str
    x: int
    y: int
    side: Side


@dataclass(frozen=True)
class Symbol:
    """A part's drawing: body rectangle and pins. `turned` tells a two-pin part that lies down."""

    look: Look
    left: float
    top: float
    right: float
    bottom: float
    pins: tuple[SymbolPin, ...]
    turned: bool = False

    def pin(self, number: str) -> SymbolPin:
        """Return a pin by number. KeyError if there is none."""
        for pin in self.pins:
            if pin.number == number:
                return pin
        raise KeyError(number)


BY_PREFIX: dict[str, Look] = {
    "F": "fuse",
    "L": "coil",
    "FB": "coil",
    "SW": "button",
    "TP": "point",
    "Y": "crystal",
    "TH": "adjustable",
    "RV": "adjustable",
    "BZ": "sounder",
    "D": "diode",
}
TWO = 2
RAYS, WITH_RAYS = 1.9, ("led", "lit resistor")  # arrows of light stand left of a part, or below one that lies


def look_of(kind: Kind) -> Look:
    """Return how a kind is drawn (IEC 60617); what has no symbol of its own is a box."""
    if kind.is_a(m.FieldEffect, m.Bipolar):
        return "switch"
    if kind.connector:
        return "box"
    if len(kind.pins) == 1:
        return "point"
    if len(kind.pins) != TWO:
        return "box"
    if "light" in kind.id and kind.is_a(m.Resistor):
        return "lit resistor"
    found = LOOKS.get(type(kind.model), "generic")
    return BY_PREFIX.get(kind.prefix, found) if found in ("generic", "resistor", "sounder") else found


def upright(kind: Kind, top_pin: str) -> Symbol:
    """Return a two-pin part standing up, with pin `top_pin` on top."""
    first, second = kind.pins
    if top_pin == second.number:
        first, second = second, first
    pins = (
        SymbolPin(first.number, first.name, 0, -2, "top"),
        SymbolPin(second.number, second.name, 0, 2, "bottom"),
    )
    look = look_of(kind)
    return Symbol(look, -(RAYS if look in WITH_RAYS else 0.9), -1.3, 0.9, 1.3, pins)


def lying(kind: Kind, left_pin: str) -> Symbol:
    """Return a two-pin part lying down, with pin `left_pin` on the left."""
    first, second = kind.pins
    if left_pin == second.number:
        first, second = second, first
    pins = (
        SymbolPin(first.number, first.name, -2, 0, "left"),
        SymbolPin(second.number, second.name, 2, 0, "right"),
    )
    look = look_of(kind)
    return Symbol(look, -1.3, -0.9, 1.3, RAYS if look in WITH_RAYS else 0.9, pins, turned=True)


def point(kind: Kind, hangs: bool) -> Symbol:
    """Return a one-pin part that hangs from a supply line or stands on the ground line."""
    spec = kind.pins[0]
    pin = SymbolPin(spec.number, spec.name, 0, -2 if hangs else 2, "top" if hangs else "bottom")
    return Symbol("point", -0.8, -0.8, 0.8, 0.8, (pin,))


def low_side_switch(kind: Kind) -> Symbol:
    """Return a transistor with its control pin left.

    The common pin of a P type is on top, of an N type at the bottom.
    """
    control, load, common = _switch_pins(kind)
    upper, lower = (common, load) if kind.is_a(m.Pmos, m.Pnp) else (load, common)
    pins = (
        SymbolPin(control.number, control.name, -3, 0, "left"),
        SymbolPin(upper.number, upper.name, 0, -3, "top"),
        SymbolPin(lower.number, lower.name, 0, 3, "bottom"),
    )
    return Symbol("switch", -1.9, -1.9, 1.9, 1.9, pins)


def pass_switch(kind: Kind) -> Symbol:
    """Return a transistor that passes a signal from left (source) to right (drain), control pin on top."""
    control, load, common = _switch_pins(kind)
    pins = (
        SymbolPin(common.number, common.name, -3, 0, "left"),
        SymbolPin(control.number, control.name, 0, -3, "top"),
        SymbolPin(load.number, load.name, 3, 0, "right"),
    )
    return Symbol("switch", -1.9, -1.9, 1.9, 1.9, pins, turned=True)


def _switch_pins(kind: Kind) -> tuple[PinSpec, PinSpec, PinSpec]:
    by_name = {p.name: p for p in kind.pins}
    if "G" in by_name:
        return by_name["G"], by_name["D"], by_name["S"]
    return by_name["B"], by_name["C"], by_name["E"]


def box(sides: dict[Side, list[tuple[PinSpec, int]]], lines: Sequence[str]) -> Symbol:
    """Return a box with room for `lines` in its middle, the first of them its reference.

    `sides` has (pin, rows it needs) per side, in order; rows are grid units on left and right.
    """
    left_rows = sum(rows for _, rows in sides["left"])
    right_rows = sum(rows for _, rows in sides["right"])
    above, below = (2 if sides["top"] else 0), (2 if sides["bottom"] else 0)
    height = max(left_rows, right_rows, math.ceil(1.7 * len(lines))) + 1 + above + below
    across = [max((text_width(p.name, PIN_SIZE) + 0.4 for p, _ in sides[s]), default=0.0) for s in ("left", "right")]
    middle = max(text_width(line, VALUE_SIZE if k else REF_SIZE, bold=not k) for k, line in enumerate((*lines, "")))
    steps = {s: _steps(sides[s]) for s in ("top", "bottom")}
    ends = max(sum(steps["top"]), sum(steps["bottom"])) + 1
    half_w = math.ceil(max(sum(across) + middle + 1.6, ends, 6) / 2)
    half_h = (height + 1) // 2
    pins = [
        *_column(sides["left"], -half_w - LEAD, -half_h + 1 + above, "left"),
        *_column(sides["right"], half_w + LEAD, -half_h + 1 + above, "right"),
        *_row(sides["top"], steps["top"], -half_h - LEAD, "top"),
        *_row(sides["bottom"], steps["bottom"], half_h + LEAD, "bottom"),
    ]
    return Symbol("box", -half_w, -half_h, half_w, half_h, tuple(pins))


def _steps(pins: list[tuple[PinSpec, int]]) -> list[int]:
    """Return the room of each pin along the top or the bottom: its name, and its number beside the lead."""
    return [
        math.ceil(max(3.0, text_width(p.name, PIN_SIZE) + 0.9, 2 * text_width(p.number, LEAST_SIZE) + 1.0))
        for p, _ in pins
    ]


def _column(pins: list[tuple[PinSpec, int]], x: int, start: int, side: Side) -> list[SymbolPin]:
    found, y = [], start
    for spec, rows in pins:
        found.append(SymbolPin(spec.number, spec.name, x, y, side))
        y += rows
    return found


def _row(pins: list[tuple[PinSpec, int]], steps: list[int], y: int, side: Side) -> list[SymbolPin]:
    found, edge = [], -(sum(steps) // 2)
    for (spec, _), step in zip(pins, steps, strict=True):
        found.append(SymbolPin(spec.number, spec.name, edge + step // 2, y, side))
        edge += step
    return found
