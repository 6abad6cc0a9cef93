"""Rules that read names: a pin's own name against that of the net it is on, and two data pins on one net."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.drivers import driver_at, is_programmed
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.findings import Finding, Severity, Subject, of_net, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

SWAPPED = rule(
    "swapped lines",
    Severity.FIX,
    "Two lines of one part that stand on each other's nets by name are most likely exchanged.",
    COMMON,
    limits="no pin on a net that bears the name of another pin of its part, while that one is elsewhere",
)
DATA_SHORT = rule(
    "data pins joined",
    Severity.STOP,
    "Two data pins of one chip on one net drive against each other, and one bit is lost.",
    COMMON,
    limits="one data pin of a chip on each net",
)
# A serial line is named by one side and crosses over; the ends of a plain part have no names of their own.
_CROSSES = re.compile(r"^(N?TXD?|N?RXD?|CTS|RTS|DTR|DSR|T|R|DI|DO|RO|IN|OUT|A|K|B|C|E|G|D|S|W|COM|NO|NC)\d*$", re.I)
SAID_VOLTAGE = rule(
    "voltage by name",
    Severity.FIX,
    "A net or a pin that is called after a voltage and carries another misleads everyone who comes after.",
    "solved over all operating states",
    limits="15 % of the voltage in the name",
)
_VOLTS = re.compile(r"^\+?(\d+)V(\d*)(?:_\w+)?$", re.I)
OFF_SHARE = 0.15
_SERIAL = re.compile(r"^N?(TXD?|RXD?|CTS|RTS|DTR|DSR)\d*$", re.I)
_ROLE = {
    "MOSI": ("SDO", "DO", "MISO", "SO", "DOUT"),
    "MISO": ("SDI", "DI", "MOSI", "SI", "DIN"),
    "SDI": ("SDO",),
}


def _plain(name: str) -> str:
    return re.sub(r"[^A-Z0-9+-]", "", name.upper())


@static
def swapped_lines(wired: Wired) -> Iterator[Finding]:
    """Yield parts of which one pin is on the net that bears another pin's name, and that one is on another signal."""
    by_name = {_plain(net): net for net in wired.design.nets}
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        own = {_plain(s.name): Pin(ref, s.number) for s in kind.pins if s.role not in ("ground", "supply_in")}
        if len(kind.pins) < 3 or kind.is_a(m.Resistor, m.Capacitor):
            continue
        for name, pin in own.items():
            net, mine = by_name.get(name, ""), wired.net_of.get(pin, "")
            if not net or mine in ("", net) or not wired.signal(mine) or name.isdigit() or _SERIAL.match(name):
                continue
            stands = next((p for n, p in own.items() if p != pin and wired.net_of.get(p) == net and n != name), None)
            if stands is None:
                continue
            mutual = _plain(mine) == _plain(wired.spec(stands).name)
            if mutual and name > _plain(mine):
                continue  # said once, of the first of the two
            if mutual or not (_CROSSES.match(name) or _meant_for_another(wired, net, ref, name)):
                yield SWAPPED.found(
                    of_part(ref, name),
                    f"{wired.label(stands)} is on {net}, {wired.label(pin)} on {mine}",
                    f"The net is named after {ref}'s own pin {name}. Exchange the two, or name the nets otherwise.",
                    nets=(net, mine),
                )


def _meant_for_another(wired: Wired, net: str, ref: str, name: str) -> bool:
    """Whether a pin of this name of another part is on the net: then the net is named after that one."""
    return any(p.ref != ref and _plain(wired.spec(p).name) == name for p in wired.on(net))


@static
def lines_by_their_name(wired: Wired) -> Iterator[Finding]:
    """Yield data lines on the net of the other direction or of the other half of a pair."""
    for net, pins in wired.design.nets.items():
        plain = _plain(net)
        wrong = next((names for word, names in _ROLE.items() if plain.endswith(word)), ())
        for pin in pins:
            kind, name = wired.kind(pin.ref), _plain(wired.spec(pin).name)
            if name in wrong and not is_programmed(kind) and not kind.connector:
                yield SWAPPED.found(
                    of_net(net, pin.ref),
                    f"{wired.label(pin)} is on {net}",
                    "By their names the two data lines are exchanged: what comes out of one side goes into the other.",
                    refs=(pin.ref,),
                )
        halves = {"D+": [], "D-": []}  # type: dict[str, list[Pin]]
        for pin in pins:
            half = _plain(wired.spec(pin).name).rstrip("0123456789")
            if half in halves:
                halves[half].append(pin)
        pair = next(((a, b) for a in halves["D+"] for b in halves["D-"] if a.ref != b.ref), None)
        if pair:
            yield SWAPPED.found(
                of_net(net, "pair"),
                f"{wired.label(pair[0])} meets {wired.label(pair[1])} on {net}",
                "D+ goes to D+ and D- to D-.",
                refs=(pair[0].ref, pair[1].ref),
            )


@static
def data_pins_joined(wired: Wired) -> Iterator[Finding]:
    """Yield nets that hold two pins of one chip that both drive, a bus or a port."""
    for net, pins in wired.design.nets.items():
        if not wired.signal(net):
            continue
        seen: dict[str, Pin] = {}
        for pin in pins:
            spec = wired.spec(pin)
            if spec.role != "bidirectional" or (pin not in driver_at(wired) and not is_programmed(wired.kind(pin.ref))):
                continue
            first = seen.setdefault(pin.ref, pin)
            if first != pin:
                yield DATA_SHORT.found(
                    of_net(net, pin.ref),
                    f"{wired.label(first)} and {wired.label(pin)} are both on {net}",
                    "Two pins of one chip that can drive are joined. Put one of them where it belongs.",
                    refs=(pin.ref,),
                )


def _volts_in(name: str) -> float | None:
    match = _VOLTS.match(name)
    return float(f"{match.group(1)}.{match.group(2) or 0}") if match else None


@solved
def voltages_by_name(wired: Wired) -> Iterator[Finding]:
    """Yield supply nets and supply pins called after a voltage that they do not carry."""
    highest = analyse(wired).highest
    for net in wired.rails:
        said, volt = _volts_in(net), highest.get(net, 0.0)
        if said and volt > 0.5 and abs(volt - said) > OFF_SHARE * said:
            yield _misnamed(of_net(net), net, volt, said, (net,))
    for pin, spec in wired.pins():
        said, net = _volts_in(spec.name), wired.net_of.get(pin, "")
        volt = highest.get(net, 0.0)
        supplied = net and net != wired.ground and spec.role in ("supply_in", "supply_out")
        if said and supplied and _volts_in(net) != said and volt > said * (1 + OFF_SHARE):
            yield _misnamed(of_pin(pin), wired.label(pin), volt, said, (net,))


def _misnamed(about: Subject, what: str, volt: float, said: float, nets: tuple[str, ...]) -> Finding:
    return SAID_VOLTAGE.found(
        about,
        f"{what} carries {say(volt, 'V')}",
        "Its name says another voltage. Look what feeds it, or call it otherwise.",
        nets=nets,
        value=volt,
        limit=said,
        unit="V",
    )
