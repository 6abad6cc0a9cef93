"""Rules on pins that pick a mode: addresses out of range, all-call, fixed straps, boot, reset, enables, negotiation."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.bus import bus_addresses, bus_groups, strap_level
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, of_pin, rule
from zesty_trace.core.quantities import say, say_address
from zesty_trace.core.review.drive import COMMON, add_between
from zesty_trace.core.review.register import static

RESET_NAMES = ("NRST", "RST", "RESET")
ENABLE_NAMES = ("EN", "CE", "NOE", "OE", "SHDN", "INH", "NCE")
CHOICE_SHARE = 0.1  # how near a negotiation resistor has to be


RESERVED_ADDRESS = rule(
    "reserved address",
    Severity.FIX,
    "The first and last eight addresses mean general call, high-speed mode and ten-bit addressing.",
    "UM10204 (I2C-bus specification), reserved addresses",
    limits="0x08 to 0x77",
)
ALL_CALL_ADDRESS = rule(
    "all-call address",
    Severity.FIX,
    "An all-call address lets every driver of a kind be set at once; after power-on it is active.",
    "all-call address of the part kind",
    limits="no address that is another's all-call",
)
FIXED_STRAPS = rule(
    "fixed straps",
    Severity.NOTE,
    "A second device of this kind is on the bus: if the addresses turn out wrong, each board needs a knife and a wire.",
    COMMON,
    limits="a strap that can be changed",
)
BOOT_STRAP = rule(
    "boot strap",
    Severity.FIX,
    "The level of this pin at reset decides between the program and the loader.",
    COMMON,
    limits="a resistor to the level that starts the program",
)
RESET_NETWORK = rule(
    "reset network",
    Severity.FIX,
    "A reset that floats fires when a finger or a relay comes near.",
    COMMON,
    limits="a pull-up and a capacitor",
)
ENABLE_LEFT_OPEN = rule(
    "enable left open",
    Severity.FIX,
    "An enable without a level turns the part on and off as the weather changes.",
    COMMON,
    limits="a level on each enable",
)
NEGOTIATION = rule(
    "negotiation",
    Severity.STOP,
    "With a combination that it does not know the chip asks for nothing and the supply stays at 5 V or off.",
    "choices of the part kind",
    limits="a resistor that asks for one of the stated voltages",
)


@static
def reserved_address(wired: Wired) -> Iterator[Finding]:
    """Yield devices at an address that the bus keeps for itself."""
    for ref, address in bus_addresses(wired).items():
        if address is not None and (address <= 0x07 or address >= 0x78):
            yield RESERVED_ADDRESS.found(
                of_part(ref),
                f"{ref} answers at {say_address(address)}, which is reserved",
                "Tie its straps for an address from 0x08 to 0x77 (8 to 119).",
                value=float(address),
                limit=float(0x77),
                unit="address",
            )


@static
def all_call_address(wired: Wired) -> Iterator[Finding]:
    """Yield devices whose own address is another's all-call address on the same bus."""
    addresses = bus_addresses(wired)
    for group in bus_groups(wired):
        for caller in sorted(group):
            call = wired.kind(caller).facts.all_call
            clash = sorted(r for r in group if r != caller and call is not None and addresses.get(r) == call)
            for ref in clash:
                yield ALL_CALL_ADDRESS.found(
                    Subject(refs=(caller, ref)),
                    f"{caller} also answers {say_address(int(call or 0))}, the address of {ref}",
                    f"Move {ref} to another address, or switch the all-call of {caller} off before {ref} is spoken to.",
                    value=float(call or 0),
                    unit="address",
                )


@static
def strap_cannot_change(wired: Wired) -> Iterator[Finding]:
    """Yield straps tied straight to a supply or ground on a device that shares its bus with one of its kind."""
    for group in bus_groups(wired):
        for ref in sorted(group):
            bus = wired.kind(ref).bus
            alike = [r for r in group if r != ref and wired.design.parts[r].kind == wired.design.parts[ref].kind]
            if bus is None or not bus.straps or not alike or len(bus.straps) == 1:
                continue
            fixed = [
                s.pin for s in bus.straps if wired.net_of.get(wired.pin(ref, s.pin)) in (*wired.rails, wired.ground)
            ]
            if len(fixed) == len(bus.straps):
                yield FIXED_STRAPS.found(
                    of_part(ref),
                    f"No strap of {ref} can be changed on the finished board",
                    f"{', '.join(fixed)} are tied for good. One of them over a solder bridge or a 0 Ω resistor keeps "
                    "a way out.",
                )


@static
def boot_strap(wired: Wired) -> Iterator[Finding]:
    """Yield controllers whose boot pin does not rest at the level that starts the program."""
    for ref in wired.of_model(m.Controller):
        spec = wired.kind(ref).pin("BOOT")
        pin = Pin(ref, spec.number) if spec else None
        net = wired.net_of.get(pin) if pin else None
        if pin is None or net is None:
            continue
        level = strap_level(wired, pin)
        if level == "low":
            continue
        fresh = Part(ref=edits.fresh_ref(wired.design, "R"), kind="resistor", value="10k", package="R0603")
        high = level == "high"
        yield BOOT_STRAP.found(
            of_part(ref),
            f"{wired.label(pin)} rests "
            f"{'high: the program never starts' if high else 'at no level: it starts by chance'}",
            f"Pull it to {wired.ground} with 10k; a button or a header lifts it for flashing.",
            severity=Severity.STOP if high else Severity.FIX,
            nets=(net,),
            mend=None
            if high
            else Mend(f"Add {fresh.ref} 10k", partial(add_between, part=fresh, first=net, second=wired.ground)),
        )


@static
def reset_network(wired: Wired) -> Iterator[Finding]:
    """Yield reset inputs that nothing holds up."""
    for ref in wired.design.parts:
        spec = next((s for s in wired.kind(ref).pins if s.name in RESET_NAMES and s.role == "input"), None)
        net = wired.net_of.get(Pin(ref, spec.number)) if spec else None
        if spec is None or net is None or net in wired.rails:
            continue
        driven = any(wired.spec(p).role in ("output", "bidirectional") for p in wired.design.nets[net])
        if driven or any(n.beyond in wired.rails for n in wired.near(net, m.Resistor)):
            continue
        rail = wired.supply_of(ref)
        fresh = Part(ref=edits.fresh_ref(wired.design, "R"), kind="resistor", value="10k", package="R0603")
        yield RESET_NETWORK.found(
            of_part(ref),
            f"{ref}.{spec.name} has no pull-up",
            f"{fresh.ref} of 10k to {rail or 'its supply'} holds it up; 100 nF to ground gives it a delay.",
            nets=(net,),
            mend=Mend(f"Add {fresh.ref} 10k", partial(add_between, part=fresh, first=rail, second=net))
            if rail
            else None,
        )


@static
def enable_left_open(wired: Wired) -> Iterator[Finding]:
    """Yield enable inputs that are said to stay open, or are on no net."""
    for ref in wired.design.parts:
        for spec in wired.kind(ref).pins:
            pin = Pin(ref, spec.number)
            if spec.name in ENABLE_NAMES and spec.role == "input" and pin in wired.design.not_connected:
                rail = wired.supply_of(ref)
                active_low = spec.name.startswith("N") or spec.name == "INH"
                to = wired.ground if active_low else rail
                yield ENABLE_LEFT_OPEN.found(
                    of_pin(pin),
                    f"{wired.label(pin)} is left open",
                    f"Tie it to {to or 'its supply'} so that {ref} is always on, or drive it.",
                    mend=Mend(f"Tie {wired.label(pin)} to {to}", partial(edits.connect, pin=pin, net=to))
                    if to
                    else None,
                )


@static
def negotiation(wired: Wired) -> Iterator[Finding]:
    """Yield negotiation resistors that select nothing, or a voltage other than the brief's supply."""
    for ref in wired.design.parts:
        choices = wired.kind(ref).choices
        if not choices:
            continue
        pin = wired.pin(ref, choices[0].pin)
        net = wired.net_of.get(pin)
        ohm = _to_ground(wired.design, wired, net)
        known = ", ".join(f"{say(c.ohm, 'Ω')} for {c.volt:g} V" for c in choices)
        hit = next((c for c in choices if ohm is not None and abs(ohm - c.ohm) <= CHOICE_SHARE * max(c.ohm, 1.0)), None)
        if hit is None:
            what = "an open pin" if ohm is None else say(ohm, "Ω")
            yield NEGOTIATION.found(
                of_part(ref),
                f"{wired.label(pin)} selects nothing: {what}",
                f"It knows {known}.",
                nets=(net,) if net else (),
                value=ohm,
                unit="Ω",
            )
        elif wired.design.brief.supply_v and abs(hit.volt - wired.design.brief.supply_v) > 0.05 * hit.volt:
            yield NEGOTIATION.found(
                of_part(ref),
                f"{ref} asks for {hit.volt:g} V, the brief says {wired.design.brief.supply_v:g} V",
                f"Change the resistor ({known}) or the brief.",
                why="Everything after it is worked out for the brief's supply.",
                nets=(net,) if net else (),
                value=hit.volt,
                limit=wired.design.brief.supply_v,
                unit="V",
            )


def _to_ground(design: Design, wired: Wired, net: str | None) -> float | None:
    """Return the resistance from a net to ground by one resistor or directly, Ω; None if there is none."""
    if net is None:
        return None
    if net == wired.ground:
        return 0.0
    found = [n.value for n in wired.near(net, m.Resistor) if n.beyond == wired.ground]
    return found[0] if len(found) == 1 else None
