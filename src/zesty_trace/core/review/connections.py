"""Rules on connections: every pin accounted for, no net that ends in the air, a ground to measure from."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.drivers import unmodelled_outputs
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, of_part, of_pin, rule
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import static

WHY = "A pin that was forgotten looks just like one left open on purpose, until the board does not start."


UNCONNECTED_PIN = rule(
    "unconnected pin",
    Severity.FIX,
    WHY,
    "common practice: every pin accounted for",
    limits="every pin on a net of two pins or more, or left open on purpose",
)
NOT_MODELLED = rule(
    "not modelled",
    Severity.NOTE,
    "What is not in the circuit is not judged: no finding there does not mean that nothing is wrong.",
    "drive of the part kind",
    limits="a drive for each kind with outputs",
)
GROUND = rule(
    "ground",
    Severity.STOP,
    "Every voltage is measured against ground; without it nothing can be worked out.",
    "common practice",
    limits="one net of ground pins",
)


def unaccounted_pins(wired: Wired) -> list[Pin]:
    """Return pins that are on no net and not marked as left open.

    Pins that the kind says to leave open do not count.
    """
    design = wired.design
    placed = {*wired.net_of, *design.not_connected}
    return [p for p, spec in wired.pins() if p not in placed and spec.role != "no_connect"]


@static
def unconnected_pins(wired: Wired) -> Iterator[Finding]:
    """Yield, part by part, pins that are not accounted for."""
    by_part: dict[str, list[Pin]] = {}
    for pin in unaccounted_pins(wired):
        by_part.setdefault(pin.ref, []).append(pin)
    for ref, pins in by_part.items():
        roles = {s.number: s.role for s in wired.kind(ref).pins}
        needed = [p for p in pins if roles[p.number] in ("supply_in", "ground")]
        names = ", ".join(wired.label(p) for p in pins)
        yield UNCONNECTED_PIN.found(
            of_part(ref),
            f"{ref}: {len(pins)} pin{'s' if len(pins) > 1 else ''} not accounted for",
            f"{names} {'go' if len(pins) > 1 else 'goes'} nowhere. Connect, or say that it is meant."
            + (" A supply or ground pin is among them." if needed else ""),
            severity=Severity.STOP if needed else Severity.FIX,
            value=float(len(pins)),
            limit=0.0,
            unit="pins",
            mend=_left_open(pins, [roles[p.number] for p in pins]),
        )


def _left_open(pins: list[Pin], pin_roles: list[str]) -> Mend | None:
    """Return the mend that says pins are meant to be open; none where one is an input, a supply or ground."""
    if {"input", "supply_in", "supply_out", "ground"} & {*pin_roles}:
        return None
    return Mend("Leave open on purpose", partial(_leave_all, pins=tuple(pins)), intends=True)


def _leave_all(design: Design, pins: tuple[Pin, ...]) -> Design:
    for pin in pins:
        design = edits.leave_open(design, pin)
    return design


@static
def lonely_nets(wired: Wired) -> Iterator[Finding]:
    """Yield nets with a single pin."""
    for net, pins in wired.design.nets.items():
        if len(pins) == 1:
            yield UNCONNECTED_PIN.found(
                of_net(net),
                f"{net} ends in the air",
                f"Only {wired.label(pins[0])} is on it. Connect its other end, or take the pin off.",
                source="common practice",
                refs=(pins[0].ref,),
                value=1.0,
                limit=2.0,
                unit="pins",
            )


@static
def not_modelled(wired: Wired) -> Iterator[Finding]:
    """Yield parts whose outputs drive nets in a way that nobody has said: what follows from them is not known."""
    loose: dict[str, list[Pin]] = {}
    for pin in unmodelled_outputs(wired):
        loose.setdefault(pin.ref, []).append(pin)
    for ref, pins in loose.items():
        names = ", ".join(wired.label(p) for p in pins[:4]) + (f" and {len(pins) - 4} more" if len(pins) > 4 else "")
        nets = tuple(dict.fromkeys(wired.net_of[p] for p in pins))
        yield NOT_MODELLED.found(
            of_part(ref),
            f"What {names} drives is not modelled",
            f"The kind {wired.part(ref).kind} does not say how its outputs drive, so levels and currents on "
            f"{', '.join(nets[:4])} are not judged. Write drive = {{ ohm = 50 }} into the kind.",
            nets=nets,
        )


@static
def ground_missing(wired: Wired) -> Iterator[Finding]:
    """Yield a finding if nothing says which net is ground."""
    if wired.design.parts and not wired.ground:
        yield GROUND.found(Subject(), "There is no ground net", "Put the ground pins on one net, for example GND.")


OPEN_DRAIN = rule(
    "open drain",
    Severity.FIX,
    "An open-drain output is a switch to ground.",
    COMMON,
    limits="something that lifts the line",
)


NO_CONNECT_WIRED = rule(
    "no-connect wired", Severity.NOTE, "Inside the package it may be in use.", COMMON, limits="no net"
)


@static
def open_drain_pull_up(wired: Wired) -> Iterator[Finding]:
    """Yield open-drain outputs off the bus that nothing pulls up."""
    for net, pins in wired.design.nets.items():
        if net in wired.rails or net == wired.ground:
            continue
        drains = [p for p in pins if wired.spec(p).role == "open_drain" and not _bus_line(wired, p)]
        listeners = [p for p in pins if wired.spec(p).role in ("input", "bidirectional")]
        lifted = any(n.beyond in wired.rails for n in wired.near(net, m.Resistor, m.Led))
        if drains and listeners and not lifted and not any(wired.spec(p).role == "output" for p in pins):
            yield OPEN_DRAIN.found(
                of_net(net),
                f"{wired.label(drains[0])} can only pull {net} low",
                f"Nothing lifts it for {wired.label(listeners[0])}. A resistor of 10k to its supply does, or the "
                "pull-up inside the pin if the firmware turns it on.",
                refs=(drains[0].ref, listeners[0].ref),
            )


def _bus_line(wired: Wired, pin: Pin) -> bool:
    bus = wired.kind(pin.ref).bus
    return bus is not None and wired.spec(pin).name in (bus.sda, bus.scl)


@static
def no_connect_wired(wired: Wired) -> Iterator[Finding]:
    """Yield pins that the data sheet says to leave open, and that are on a net."""
    for net, pins in wired.design.nets.items():
        for pin in pins:
            if wired.spec(pin).role == "no_connect":
                yield NO_CONNECT_WIRED.found(
                    of_pin(pin),
                    f"{wired.label(pin)} is to stay open, and is on {net}",
                    "Take it off unless its data sheet allows it.",
                    nets=(net,),
                )
