"""Rules on cells and their chargers, and on USB inlets."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.cells import chargers
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.time_constants import capacitance_behind
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Part
from zesty_trace.core.findings import Finding, Mend, Severity, of_part, of_pin, rule
from zesty_trace.core.quantities import say, say_part_value
from zesty_trace.core.review.drive import COMMON, add_between
from zesty_trace.core.review.register import static

RD_OHM, RD_SHARE = 5100.0, 0.1
USB_FARAD = 10e-6
USB_FARAD_GRACE = 1.15  # a few bypasses beside the one bulk capacitor
CELL_CAUTION = "A lithium cell that is charged too fast, too warm or too cold can burn: follow its maker's limits."


CHARGE_RATE = rule(
    "charge rate",
    Severity.STOP,
    "Charging faster than a cell allows plates metal inside it.",
    "I = 1000 V / R for the charger kind (common practice)",
    limits="charge_max_c_rate of the cell",
)
CHARGER = rule(
    "charger",
    Severity.STOP,
    f"Without it nothing is charged. {CELL_CAUTION}",
    COMMON,
    limits="a resistor on PROG and a cell on BAT",
)
USB_C_PULL_DOWN = rule(
    "USB-C pull-down",
    Severity.STOP,
    "Without it a C-to-C cable delivers no power: it works from an old charger and fails with a new one.",
    "USB Type-C specification, Rd = 5.1 kΩ (from memory)",
    limits="5.1 kΩ within a tenth, on each of CC1 and CC2",
)
INRUSH = rule(
    "inrush",
    Severity.FIX,
    "A host sees a short and switches the socket off, or the cable bounces.",
    "USB 2.0, 7.2.4.1: at most 10 µF across the supply (from memory)",
    limits="10 µF straight on the supply",
)

UNSAID_SUPPLY = rule(
    "supply not said",
    Severity.NOTE,
    "Every voltage, current and temperature is worked out from what comes in.",
    COMMON,
    limits="a voltage for each inlet",
)


@static
def unsaid_supply(wired: Wired) -> Iterator[Finding]:
    """Yield inlets of which nobody has said what comes in."""
    for ref in wired.of_model(m.Inlet):
        told = inflow(wired, ref)
        if told.said_by == "assumed":
            yield UNSAID_SUPPLY.found(
                of_part(ref),
                f"Nobody has said what comes in at {ref}",
                f"{told.volt:g} V is assumed, and all voltages and currents follow from it. Set it in Brief, or "
                f"write “{told.volt:g} V 2 A” as the value of {ref}, or “# supply: {told.volt:g} V 2 A” in the tables.",
                value=told.volt,
                unit="V",
                mend=Mend(f"It is {told.volt:g} V", partial(edits.set_brief, supply_v=told.volt)),
            )


@static
def charge_rate(wired: Wired) -> Iterator[Finding]:
    """Yield chargers that charge their cell faster than it may."""
    for item in chargers(wired):
        most = stated(wired.kind(item.cell).facts.charge_max_c_rate, 1.0)
        if item.rate_c <= most:
            continue
        amp = most / 2 * item.capacity_mah / 1000
        k = stated(wired.kind(item.ref).facts.charge_factor_v, 0.0)
        resistor = _prog_resistor(wired, item.ref)
        value = say_part_value(round(k / amp, -1))
        yield CHARGE_RATE.found(
            of_part(item.ref),
            f"{item.ref} charges {item.cell} with {say(item.amp, 'A')}, it may take "
            f"{say(most * item.capacity_mah / 1000, 'A')}",
            f"{item.capacity_mah:g} mAh at {most:g} C. {value} on PROG gives half of that. {CELL_CAUTION}",
            refs=(item.ref, item.cell),
            value=item.amp,
            limit=most * item.capacity_mah / 1000,
            unit="A",
            mend=Mend(f"Make {resistor} {value}", partial(edits.change_part, ref=resistor, value=value))
            if resistor
            else None,
        )


def _prog_resistor(wired: Wired, ref: str) -> str | None:
    net = wired.net_of.get(wired.pin(ref, "PROG"), "")
    return next((n.ref for n in wired.near(net, m.Resistor)), None)


@static
def charger_without_set(wired: Wired) -> Iterator[Finding]:
    """Yield chargers whose current nothing sets, or that reach no cell."""
    good = {item.ref for item in chargers(wired)}
    for ref in wired.of_model(m.Charger):
        if ref in good:
            continue
        lacks_cell = bool(_prog_resistor(wired, ref))
        yield CHARGER.found(
            of_part(ref),
            f"{ref} {'reaches no cell' if lacks_cell else 'has no resistor that sets its current'}",
            "Put the cell on its BAT pin." if lacks_cell else "Put 2k from PROG to ground for 500 mA (I = 1000 V / R).",
        )


@static
def usb_pull_downs(wired: Wired) -> Iterator[Finding]:
    """Yield USB-C inlets whose two configuration lines are not pulled down one by one, nor handled by a chip."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if kind.pin("CC1") is None or not kind.is_a(m.Inlet):
            continue
        for name in ("CC1", "CC2"):
            net = wired.net_of.get(wired.pin(ref, name))
            others = [p for p in wired.design.nets.get(net or "", ()) if p != wired.pin(ref, name)]
            if any(wired.kind(p.ref).choices for p in others):
                continue
            downs = [n.value for n in wired.near(net or "", m.Resistor) if n.beyond == wired.ground]
            if len(downs) == 1 and abs(downs[0] - RD_OHM) <= RD_SHARE * RD_OHM and len(others) == 1:
                continue
            fresh = Part(ref=edits.fresh_ref(wired.design, "R"), kind="resistor", value="5k1", package="R0603")
            mend = None
            if net and not downs and not others:
                mend = Mend(f"Add {fresh.ref} 5k1", partial(add_between, part=fresh, first=net, second=wired.ground))
            yield USB_C_PULL_DOWN.found(
                of_pin(wired.pin(ref, name)),
                f"{ref}.{name} needs 5.1 kΩ to ground of its own" + (f", has {say(downs[0], 'Ω')}" if downs else ""),
                "Each of CC1 and CC2 gets its own resistor; joined, some cables give nothing.",
                nets=(net,) if net else (),
                value=downs[0] if downs else None,
                limit=RD_OHM,
                unit="Ω",
                mend=mend,
            )


@static
def usb_inrush(wired: Wired) -> Iterator[Finding]:
    """Yield USB inlets with more capacitance straight on the supply than a host has to charge."""
    for ref in wired.of_model(m.Inlet):
        if wired.kind(ref).pin("CC1") is None:
            continue
        farad, nets = capacitance_behind(wired, ref)
        if farad > USB_FARAD * USB_FARAD_GRACE:
            yield INRUSH.found(
                of_part(ref),
                f"{ref} has {say(farad, 'F')} to charge, at most {say(USB_FARAD, 'F')}",
                "The port may switch off each time it is plugged in. Put a switch with a slow gate between, or move "
                "the bulk behind the regulator.",
                nets=nets,
                value=farad,
                limit=USB_FARAD,
                unit="F",
            )
