"""Rules on what is plugged in from outside: reverse polarity, turned headers, static, selectors, mains."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, Subject, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static
from zesty_trace.core.stated import leading_value

AC_LIMIT_V, DC_LIMIT_V = 50.0, 120.0
INDUCTIVE = re.compile(r"\b(motor|pump|valve|fan|inductive|transformer|solenoid|contactor)\b", re.I)
MAINS_CAUTION = (
    "Above 50 V AC or 120 V DC this belongs to people licensed for it: a barrier and a slot between mains and low "
    "voltage, 6.5 mm or more of creepage, a fuse and an earthed, closed case; local codes decide."
)


REVERSE_POLARITY = rule(
    "reverse polarity",
    Severity.NOTE,
    "One brick with its minus at the tip, and every chip on the board is gone.",
    COMMON,
    limits="a diode or transistor behind an inlet that can be turned",
)
HEADER_TURNED = rule(
    "header turned",
    Severity.NOTE,
    "A header one pin off or turned round kills what is plugged in.",
    COMMON,
    limits="the voltages of the turned pins",
)
STATIC = rule(
    "static",
    Severity.NOTE,
    "People carry thousands of volts; a line that leaves the case meets them.",
    "IEC 61000-4-2 levels; common practice",
    limits="a clamp at each line that leaves the case",
)
VOLTAGE_SELECTOR = rule(
    "voltage selector",
    Severity.FIX,
    "A selector that hands can move is an accident waiting to happen.",
    COMMON,
    limits="supply_max_v of what is behind",
)
MAINS = rule(
    "mains",
    Severity.STOP,
    "It can kill. Accept this only once a licensed person has looked at the board and the case.",
    "IEC 60364-4-41 limits 50 V AC and 120 V DC; creepage from memory of IEC 62368-1",
    limits="50 V AC, 120 V DC",
)
MAINS_ON_BOARD = rule(
    "mains on the board",
    Severity.STOP,
    "The mains on a low-voltage net kills people, and everything on the board.",
    "IEC 60664-1 asks for insulation between them; creepage from memory of IEC 62368-1",
    limits="no part of the low-voltage side on a net of the mains",
)
MAINS_FUSE = rule(
    "mains fuse",
    Severity.STOP,
    "A fault then burns until the house fuse goes.",
    COMMON,
    limits="a fuse in a mains line",
)
CONTACT_SUPPRESSION = rule(
    "contact suppression",
    Severity.FIX,
    "The spark wears the contact, and its interference resets the controller.",
    "C = I^2 / 10 µF, R = V / (10 I^(1 + 50 / V)) (common practice, from memory)",
    limits="something across a contact that breaks an inductive load",
)


@static
def reverse_polarity(wired: Wired) -> Iterator[Finding]:
    """Yield inlets and cells that can be connected the wrong way round and nothing then protects the board."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if not kind.facts.can_be_reversed or not kind.is_a(m.Inlet, m.Battery):
            continue
        out = next(Pin(ref, s.number) for s in kind.pins if s.role == "supply_out")
        nets = _through_fuses(wired, wired.net_of.get(out, ""))
        if not nets[0] or any(_protects(wired, net) for net in nets):
            continue
        yield REVERSE_POLARITY.found(
            of_part(ref),
            f"{ref} can be fed the wrong way round",
            "A Schottky diode or a P-channel transistor in line, or a clamp to ground behind the fuse, protects the "
            "board.",
            nets=(nets[0],),
        )


def _through_fuses(wired: Wired, net: str) -> list[str]:
    nets = [net]
    for near in wired.near(net, m.FixedResistor):
        if near.beyond:
            nets.append(near.beyond)
    return nets


def _protects(wired: Wired, net: str) -> bool:
    for pin in wired.design.nets.get(net, ()):
        kind = wired.kind(pin.ref)
        if kind.is_a(m.Pmos):
            return True
        if kind.is_a(m.Diode, m.Zener) and len(kind.pins) == 2:
            far = wired.beyond(pin)
            name = wired.spec(pin).name
            if (name == "K" and far == wired.ground) or (name == "A" and far not in (wired.ground, None)):
                return True
    return False


@solved
def header_turned(wired: Wired) -> Iterator[Finding]:
    """Yield plain headers that, turned round, put a supply where a pin cannot take it."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        package = wired.design.parts[ref].package or kind.packages[0]
        plain = package.startswith(("Header", "Spring")) and len(kind.pins) > 1
        if not kind.connector or kind.facts.keyed or not plain:
            continue
        nets = [wired.net_of.get(Pin(ref, s.number), "") for s in kind.pins]
        hit = next(
            (
                (a, b)
                for a, b in zip(nets, reversed(nets), strict=True)
                if a in wired.rails
                and b
                and a != b
                and analyse(wired).highest.get(a, 0.0) > analyse(wired).highest.get(b, 0.0) + 0.5
            ),
            None,
        )
        if hit:
            volt = analyse(wired).highest[hit[0]]
            yield HEADER_TURNED.found(
                of_part(ref),
                f"{ref} plugged in the other way puts {say(volt, 'V', 2)} on {hit[1]}",
                "Take a keyed connector, leave one pin out as a key, or order the pins the same from both ends.",
                nets=hit,
                value=volt,
                unit="V",
            )


@static
def static_protection(wired: Wired) -> Iterator[Finding]:
    """Yield lines that leave the case and reach a controller with nothing in between."""
    for ref in wired.design.parts:
        if not wired.kind(ref).facts.outside:
            continue
        for spec in wired.kind(ref).pins:
            net = wired.net_of.get(Pin(ref, spec.number), "")
            if not net or net in wired.rails or net == wired.ground:
                continue
            chips = [p for p in wired.design.nets[net] if wired.kind(p.ref).is_a(m.Controller, m.Load) and p.ref != ref]
            if chips and not wired.near(net, m.Diode, m.Zener):
                yield STATIC.found(
                    of_pin(Pin(ref, spec.number)),
                    f"{wired.label(chips[0])} is bare to what touches {ref}.{spec.name}",
                    "A clamp diode to ground beside the connector and some 100 Ω in line take the spark.",
                    refs=(ref, chips[0].ref),
                    nets=(net,),
                )


@solved
def voltage_selector(wired: Wired) -> Iterator[Finding]:
    """Yield switches and jumpers that choose between two supplies for parts that do not take the higher one."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if kind.prefix not in ("SW", "JP") or len(kind.pins) < 3:
            continue
        nets = [wired.net_of.get(Pin(ref, s.number), "") for s in kind.pins]
        choices = [
            n
            for n in nets
            if n in wired.rails and any(wired.spec(p).role == "supply_out" for p in wired.design.nets[n])
        ]
        common = next((n for n in nets if n and n not in choices and n != wired.ground), "")
        if len(set(choices)) < 2 or not common:
            continue
        top = max(analyse(wired).highest.get(n, 0.0) for n in choices)
        weak = [
            p.ref
            for p in wired.design.nets[common]
            if p.ref != ref
            and wired.spec(p).role == "supply_in"
            and stated(wired.kind(p.ref).facts.supply_max_v, 99.0) < top
        ]
        if weak:
            yield VOLTAGE_SELECTOR.found(
                of_part(ref),
                f"{ref} can put {say(top, 'V', 2)} on {weak[0]}, which takes "
                f"{stated(wired.kind(weak[0]).facts.supply_max_v, 99.0):g} V",
                "Take the choice away, or make it with a part that is fitted, not with a switch.",
                refs=(ref, *weak),
                nets=(common,),
                value=top,
                limit=wired.kind(weak[0]).facts.supply_max_v,
                unit="V",
            )


@static
def mains_on_board(wired: Wired) -> Iterator[Finding]:
    """Yield lines of the mains that share a net with the low-voltage side or with board ground."""
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        if not kind.facts.ac or (leading_value(part.value) or 230.0) <= AC_LIMIT_V:
            continue
        for pin in wired.pins_of(ref):
            if kind.mains and wired.spec(pin).name not in kind.mains:
                continue
            net = wired.net_of.get(pin, "")
            others = [p for p in wired.on(net) if p.ref != ref and not _stands_mains(wired, p)]
            if not net or (net != wired.ground and net not in wired.rails and not others):
                continue
            touched = wired.label(others[0]) if others else net
            yield MAINS_ON_BOARD.found(
                of_pin(pin),
                f"MAINS ON THE BOARD: {wired.label(pin)} is on one net with {touched}",
                f"{net} would carry the mains into everything that it reaches, and into whoever touches it. "
                f"{MAINS_CAUTION}",
                refs=(ref, *(p.ref for p in others[:3])),
                nets=(net,),
            )


def _stands_mains(wired: Wired, pin: Pin) -> bool:
    """Whether a part on a mains net may be there: plugs, fuses, contacts, optos, capacitors and resistors."""
    kind, spec = wired.kind(pin.ref), wired.spec(pin)
    if kind.facts.ac or kind.prefix in ("F", "H"):
        return not kind.mains or spec.name in kind.mains
    isolated = kind.is_a(m.Composite) and kind.driven and spec.name not in kind.driven and spec.role == "passive"
    plain = (
        kind.is_a(m.Resistor, m.Capacitor, m.FixedResistor, m.Open) and spec.role == "passive" and kind.prefix != "J"
    )
    return bool(isolated or plain)


@solved
def mains(wired: Wired) -> Iterator[Finding]:
    """Yield parts that carry mains or a dangerous direct voltage: a caution that stays until it is accepted."""
    for ref, part in wired.design.parts.items():
        kind = wired.kind(ref)
        volt = leading_value(part.value) or 230.0
        if kind.facts.ac and volt > AC_LIMIT_V:
            yield _dangerous(ref, volt, AC_LIMIT_V, "V AC")
    for net, volt in analyse(wired).highest.items():
        if net in wired.design.nets and volt > DC_LIMIT_V:
            yield _dangerous(net, volt, DC_LIMIT_V, "V DC", (net,))


def _dangerous(where: str, volt: float, limit: float, unit: str, nets: tuple[str, ...] = ()) -> Finding:
    return MAINS.found(
        Subject(refs=() if nets else (where,), nets=nets),
        f"{where} carries {volt:.0f} {unit}",
        MAINS_CAUTION,
        value=volt,
        limit=limit,
        unit=unit,
    )


def _through_contacts(wired: Wired, nets: list[str]) -> set[str]:
    """Return the nets with those behind contacts and switches on them, whichever way these stand."""
    found, edge = set(nets) - {""}, [n for n in nets if n]
    while edge:
        for pin in wired.on(edge.pop()):
            kind, name = wired.kind(pin.ref), wired.spec(pin).name
            if name in kind.driven or not (kind.driven or kind.prefix in ("SW", "Q")):
                continue
            sides = [s.name for s in kind.pins if s.name not in kind.driven and s.name != "G"]
            beyond = {wired.net_at(pin.ref, s) for s in sides} - found - {"", wired.ground}
            found |= beyond
            edge += beyond
    return found


@static
def mains_fuse(wired: Wired) -> Iterator[Finding]:
    """Yield mains terminals with no fuse on either line."""
    for ref in wired.design.parts:
        if not wired.kind(ref).facts.ac:
            continue
        kind = wired.kind(ref)
        nets = [wired.net_of.get(Pin(ref, s.number), "") for s in kind.pins if not kind.mains or s.name in kind.mains]
        if any(nets) and not any(
            wired.kind(p.ref).prefix == "F" for n in _through_contacts(wired, nets) for p in wired.on(n)
        ):
            yield MAINS_FUSE.found(
                of_part(ref),
                f"{ref} has no fuse in its live line",
                f"A fuse for the load, first thing after the terminal. {MAINS_CAUTION}",
                nets=tuple(n for n in nets if n),
            )


def _said(wired: Wired, ref: str) -> str:
    part = wired.design.parts[ref]
    return f"{part.value} {part.notes}"


@static
def contact_suppression(wired: Wired) -> Iterator[Finding]:
    """Yield relay contacts that switch an inductive AC load with no resistor and capacitor across contact or load."""
    from zesty_trace.core.circuit.time_constants import contact_snubber

    for ref in wired.design.parts:
        names = {s.name for s in wired.kind(ref).pins}
        if not {"COM", "NO", "COIL1"} <= names:
            continue
        nets = [wired.net_of.get(wired.pin(ref, n), "") for n in ("COM", "NO", "NC")]
        loads = [
            p.ref
            for n in nets
            for p in wired.design.nets.get(n, ())
            if wired.kind(p.ref).facts.ac and INDUCTIVE.search(_said(wired, p.ref))
        ]
        if not loads or any(wired.near(n, m.Capacitor) for n in nets):
            continue
        volt = leading_value(wired.design.parts[loads[0]].value) or 230.0
        farad, ohm = contact_snubber(1.0, volt)
        yield CONTACT_SUPPRESSION.found(
            of_part(ref),
            f"{ref} switches the inductive {loads[0]} with nothing to take the spark",
            f"For 1 A: {say(farad, 'F', 2)} (rated X2) in series with {say(ohm, 'Ω', 2)} across the contact. A "
            "solid-state switch with an opto-isolated driver and its own snubber is the other school.",
            refs=(ref, *loads),
            nets=tuple(n for n in nets if n),
        )
