"""Rules on what is plugged in from outside: reverse polarity, turned headers, static, selectors, mains."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.quantities import leading_value, say
from zesty_trace.core.review.drive import COMMON

AC_LIMIT_V, DC_LIMIT_V = 50.0, 120.0
INDUCTIVE = re.compile(r"\b(motor|pump|valve|fan|inductive|transformer|solenoid|contactor)\b", re.I)
MAINS_CAUTION = (
    "Above 50 V AC or 120 V DC this belongs to people licensed for it: a barrier and a slot between mains and low "
    "voltage, 6.5 mm or more of creepage, a fuse and an earthed, closed case; local codes decide."
)


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
        yield Finding(
            "reverse polarity",
            ref,
            Severity.NOTE,
            f"{ref} can be fed the wrong way round",
            "A Schottky diode or a P-channel transistor in line, or a clamp to ground behind the fuse, protects the board.",
            "One brick with its minus at the tip, and every chip on the board is gone.",
            COMMON,
            "schematic",
            (ref,),
            (nets[0],),
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
            yield Finding(
                "header turned",
                ref,
                Severity.NOTE,
                f"{ref} plugged in the other way puts {say(volt, 'V', 2)} on {hit[1]}",
                "Take a keyed connector, leave one pin out as a key, or order the pins the same from both ends.",
                "A header one pin off or turned round kills what is plugged in.",
                COMMON,
                "schematic",
                (ref,),
                hit,
                value=volt,
                unit="V",
            )


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
                yield Finding(
                    "static",
                    f"{ref}.{spec.name}",
                    Severity.NOTE,
                    f"{wired.label(chips[0])} is bare to what touches {ref}.{spec.name}",
                    "A clamp diode to ground beside the connector and some 100 Ω in line take the spark.",
                    "People carry thousands of volts; a line that leaves the case meets them.",
                    "IEC 61000-4-2 levels; common practice",
                    "schematic",
                    (ref, chips[0].ref),
                    (net,),
                )


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
            yield Finding(
                "voltage selector",
                ref,
                Severity.FIX,
                f"{ref} can put {say(top, 'V', 2)} on {weak[0]}, which takes "
                f"{stated(wired.kind(weak[0]).facts.supply_max_v, 99.0):g} V",
                "Take the choice away, or make it with a part that is fitted, not with a switch.",
                "A selector that hands can move is an accident waiting to happen.",
                COMMON,
                "schematic",
                (ref, *weak),
                (common,),
                value=top,
                limit=wired.kind(weak[0]).facts.supply_max_v,
                unit="V",
            )


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
    return Finding(
        "mains",
        where,
        Severity.STOP,
        f"{where} carries {volt:.0f} {unit}",
        MAINS_CAUTION,
        "It can kill. Accept this only once a licensed person has looked at the board and the case.",
        "IEC 60364-4-41 limits 50 V AC and 120 V DC; creepage from memory of IEC 62368-1",
        "schematic",
        () if nets else (where,),
        nets,
        value=volt,
        limit=limit,
        unit=unit,
    )


def mains_fuse(wired: Wired) -> Iterator[Finding]:
    """Yield mains terminals with no fuse on either line."""
    for ref in wired.design.parts:
        if not wired.kind(ref).facts.ac:
            continue
        nets = [wired.net_of.get(Pin(ref, s.number), "") for s in wired.kind(ref).pins]
        if any(nets) and not any(wired.kind(p.ref).prefix == "F" for n in nets for p in wired.design.nets.get(n, ())):
            yield Finding(
                "mains fuse",
                ref,
                Severity.STOP,
                f"{ref} has no fuse in its live line",
                f"A fuse for the load, first thing after the terminal. {MAINS_CAUTION}",
                "A fault then burns until the house fuse goes.",
                COMMON,
                "schematic",
                (ref,),
                tuple(n for n in nets if n),
            )


def _said(wired: Wired, ref: str) -> str:
    part = wired.design.parts[ref]
    return f"{part.value} {part.notes}"


def contact_suppression(wired: Wired) -> Iterator[Finding]:
    """Yield relay contacts that switch an inductive AC load with no resistor and capacitor across contact or load."""
    from zesty_trace.core.circuit.transients import contact_snubber

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
        yield Finding(
            "contact suppression",
            ref,
            Severity.FIX,
            f"{ref} switches the inductive {loads[0]} with nothing to take the spark",
            f"For 1 A: {say(farad, 'F', 2)} (rated X2) in series with {say(ohm, 'Ω', 2)} across the contact. A solid-state "
            f"switch with "
            "an opto-isolated driver and its own snubber is the other school.",
            "The spark wears the contact, and its interference resets the controller.",
            "C = I^2 / 10 µF, R = V / (10 I^(1 + 50 / V)) (common practice, from memory)",
            "schematic",
            (ref, *loads),
            tuple(n for n in nets if n),
        )
