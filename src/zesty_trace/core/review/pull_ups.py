"""Rule: a two-wire bus needs pull-ups, neither too strong nor too weak."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_net, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import add_between
from zesty_trace.core.review.register import solved
from zesty_trace.core.stated import leading_value

SINK_A, LOW_V = 3e-3, 0.4  # UM10204, standard and fast mode
RISE_S = 1000e-9  # standard mode, 100 kHz
RISE_FACTOR = 0.8473  # ln(0.7 / 0.3): from 30 % to 70 %
PIN_F, TRACK_F = 10e-12, 50e-12  # per device, and for the tracks: common practice
SOURCE = "UM10204 (I2C-bus specification), 7.1: Rp(min) = (VDD - 0.4 V) / 3 mA, Rp(max) = tr / (0.8473 Cb)"


PULL_UP_STRENGTH = rule(
    "pull-up strength",
    Severity.FIX,
    "Too strong, and a device cannot pull the line low; too weak, and it is not high in time.",
    SOURCE,
    limits="the limits of the bus specification",
)
PULL_UP_MISSING = rule(
    "pull-up missing",
    Severity.STOP,
    "Devices on a two-wire bus only pull low; a resistor makes the high.",
    SOURCE,
    limits="one resistor to a supply",
)


def pull_up_limits_ohm(supply_v: float, devices: int) -> tuple[float, float]:
    """Return the least and the greatest pull-up of a standard-mode bus with so many devices, Ω."""
    farad = TRACK_F + devices * PIN_F
    return (supply_v - LOW_V) / SINK_A, RISE_S / (RISE_FACTOR * farad)


@solved
def bus_pull_ups(wired: Wired) -> Iterator[Finding]:
    """Yield bus lines without a pull-up, or with one outside the limits of the specification."""
    for net in _bus_nets(wired):
        pins = wired.design.nets[net]
        pulls = [(p.ref, rail) for rail in wired.rails for p in wired.resistors_between(net, rail)]
        if not pulls:
            yield _missing(wired, net)
            continue
        ohms = [leading_value(wired.design.parts[ref].value) or 1.0 for ref, _ in pulls]
        together = 1.0 / sum(1.0 / o for o in ohms)
        volt = max(analyse(wired).highest.get(rail, 0.0) for _, rail in pulls)
        low, high = pull_up_limits_ohm(volt, sum(wired.kind(p.ref).bus is not None for p in pins))
        if low <= together <= high:
            continue
        strong = together < low
        bound = f"at least {say(low, 'Ω')}" if strong else f"at most {say(high, 'Ω')}"
        yield PULL_UP_STRENGTH.found(
            of_net(net),
            f"{net} is pulled up by {say(together, 'Ω')}, {bound}",
            f"{' and '.join(r for r, _ in pulls)} "
            f"{'let more than 3 mA flow' if strong else 'rise too slowly for 100 kHz'}.",
            refs=tuple(r for r, _ in pulls),
            value=together,
            limit=low if strong else high,
            unit="Ω",
        )


def _bus_nets(wired: Wired) -> list[str]:
    """Return the data and clock nets that join two or more parts of a bus."""
    found: dict[str, int] = {}
    for ref in wired.design.parts:
        bus = wired.kind(ref).bus
        for name in (bus.sda, bus.scl) if bus else ():
            net = wired.net_of.get(Pin(ref, wired.kind(ref).pin_named(name).number))
            if net:
                found[net] = found.get(net, 0) + 1
    return [net for net, count in found.items() if count > 1]


def _missing(wired: Wired, net: str) -> Finding:
    host = next((p.ref for p in wired.design.nets[net] if wired.supply_of(p.ref)), None)
    rail = wired.supply_of(host) if host else None
    mend = None
    if rail:
        fresh = Part(ref=edits.fresh_ref(wired.design, "R"), kind="resistor", value="4k7", package="R0603")
        mend = Mend(f"Add {fresh.ref} 4k7 to {rail}", partial(add_between, part=fresh, first=rail, second=net))
    return PULL_UP_MISSING.found(
        of_net(net), f"{net} has no pull-up", "Nothing lifts the line: no device can be read.", mend=mend
    )
