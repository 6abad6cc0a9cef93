"""Rules on voltages at pins: what is put on a pin against what it tolerates, and supplies against their ranges."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.drivers import drivers, on_bus
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.register import solved

SIGNAL_ROLES = ("input", "bidirectional", "open_drain", "output")
SLACK_V = 0.02
NEAR_V = 0.1  # an output within this of the net's highest voltage is what lifts it


LEVEL_CLASH = rule(
    "level clash",
    Severity.STOP,
    "A pin held above its absolute maximum is damaged, sometimes at once, sometimes weeks later, although the "
    "circuit seemed to work on the breadboard.",
    "absolute maximum of the pin, from its part kind; net voltage solved over all operating states",
    limits="pin_max_v, or the supply and pin_over_supply_max_v, of the kind",
)
HIGH_TOO_LOW = rule(
    "high too low",
    Severity.FIX,
    "Just below the threshold a signal works on one board and flickers on the next.",
    "input threshold of the part kind, times its supply; driver's supply solved",
    limits="input_high_share of the supply",
)
LOW_TOO_HIGH = rule(
    "low too high",
    Severity.FIX,
    "Just above the threshold a signal works on one board and flickers on the next.",
    "input threshold of the part kind, times its supply; net voltage solved with the output low",
    limits="input_low_share of the supply",
)
SUPPLY_RANGE = rule(
    "supply range",
    Severity.STOP,
    "Below its range a part may not start; above it, it is damaged.",
    "operating range of the part kind; net voltage solved",
    limits="supply or input range of the kind",
)


@dataclass(frozen=True)
class _Clash:
    pin: Pin
    net: str
    volt: float
    limit: float


def _tolerated(wired: Wired, pin: Pin) -> float | None:
    """Return the highest voltage that a signal pin tolerates, V, or None where the kind does not say."""
    facts = wired.kind(pin.ref).facts
    if facts.pin_max_v is not None:
        return facts.pin_max_v
    supply = wired.supply_of(pin.ref)
    if facts.pin_over_supply_max_v is not None and supply:
        return analyse(wired).highest.get(supply, 0.0) + facts.pin_over_supply_max_v
    return None


def _driven_high(wired: Wired, net: str) -> tuple[float, Pin | None]:
    """Return the highest voltage that the net can take, and the output pin that causes it, if one does."""
    best, culprit = analyse(wired).highest.get(net, 0.0), None
    for pin in wired.design.nets[net]:
        supply = wired.supply_of(pin.ref)
        if wired.spec(pin).role == "output" and supply:
            volt = analyse(wired).highest.get(supply, 0.0)
            if volt > best - NEAR_V:
                best, culprit = max(best, volt), pin
    return best, culprit


@solved
def level_clash(wired: Wired) -> Iterator[Finding]:
    """Yield nets that rise above what a pin on them tolerates, grouped by what pulls or drives them up."""
    groups: dict[tuple[str, str], list[_Clash]] = {}
    for net, pins in wired.design.nets.items():
        if net == wired.ground:
            continue
        tied = net in wired.rails
        volt, driver = (analyse(wired).highest.get(net, 0.0), None) if tied else _driven_high(wired, net)
        for pin in pins:
            role = wired.spec(pin).role
            limit = _tolerated(wired, pin)
            if role not in SIGNAL_ROLES or limit is None or volt <= limit + SLACK_V or pin == driver:
                continue
            cause = driver.ref if driver else _pulling_rail(wired, net, limit) or net
            groups.setdefault(("driver" if driver else "rail", cause), []).append(_Clash(pin, net, volt, limit))
    for (how, cause), clashes in sorted(groups.items()):
        yield _clash_finding(wired, how, cause, clashes)


def _pulling_rail(wired: Wired, net: str, limit: float) -> str | None:
    for rail in wired.rails:
        if analyse(wired).highest.get(rail, 0.0) > limit + SLACK_V and wired.resistors_between(net, rail):
            return rail
    return None


def _clash_finding(wired: Wired, how: str, cause: str, clashes: list[_Clash]) -> Finding:
    lowest = min(c.limit for c in clashes)
    worst = max(c.volt for c in clashes)
    nets = tuple(dict.fromkeys(c.net for c in clashes))
    refs = tuple(dict.fromkeys(c.pin.ref for c in clashes))
    victim = min(clashes, key=lambda c: (round(c.limit, 2), c.pin))
    detail, mend, culprits = _explain(wired, how, cause, clashes, victim)
    named = (cause, *(n for n in nets if n != cause)) if how == "rail" and cause in wired.design.nets else nets
    rise = "rises" if len(nets) == 1 else "rise"
    tolerated = f"{victim.pin.ref} tolerates {say(lowest, 'V', 2)}"
    return LEVEL_CLASH.found(
        Subject(refs=(cause,) if how == "driver" else (), nets=named, which=how),
        f"{' and '.join(nets)} {rise} to {say(worst, 'V', 2)}; {tolerated}",
        detail,
        refs=(*culprits, *refs),
        nets=nets,
        value=worst,
        limit=lowest,
        unit="V",
        mend=mend,
    )


def _explain(
    wired: Wired, how: str, cause: str, clashes: list[_Clash], victim: _Clash
) -> tuple[str, Mend | None, tuple[str, ...]]:
    home = wired.supply_of(victim.pin.ref)
    pins = ", ".join(wired.label(c.pin) for c in clashes)
    if how == "driver":
        kind = wired.kind(cause)
        able = home is not None and stated(kind.facts.supply_min_v, 99.0) <= analyse(wired).highest.get(home, 0.0)
        detail = f"{cause} drives high to its own supply and would damage {pins}."
        feed = kind.supply_pins()
        if not able or home is None or feed is None:
            return f"{detail} Put a level shifter between them.", None, (cause,)
        supply_pin = Pin(cause, feed[0].number)
        mend = Mend(f"Power {cause} from {home}", partial(edits.connect, pin=supply_pin, net=home))
        return f"{detail} It also works from {home}.", mend, (cause,)
    ends = [pin for c in clashes for pin in wired.resistors_between(c.net, cause)] if cause in wired.rails else []
    ends = list(dict.fromkeys(ends))
    if not ends or home is None:
        return f"{pins} would be damaged. Find what lifts the net.", None, ()
    names = " and ".join(p.ref for p in ends)
    mend = Mend(f"Tie {names} to {home}", partial(_move_all, pins=tuple(ends), net=home))
    verb = "pulls" if len(ends) == 1 else "pull"
    return (
        f"{names} {verb} up to {cause}, above what {pins} can take. Pull up to {home} instead.",
        mend,
        tuple(p.ref for p in ends),
    )


def _move_all(design: Design, pins: tuple[Pin, ...], net: str) -> Design:
    for pin in pins:
        design = edits.connect(design, pin, net)
    return design


@solved
def high_too_low(wired: Wired) -> Iterator[Finding]:
    """Yield inputs whose driver's high level is below what they need to see a high."""
    for net, pins in wired.design.nets.items():
        if net in wired.rails or net == wired.ground:
            continue
        volt = _high_level(wired, net)
        for pin in pins:
            facts, supply = wired.kind(pin.ref).facts, wired.supply_of(pin.ref)
            listens = wired.spec(pin).role == "input" or on_bus(wired.kind(pin.ref), wired.spec(pin))
            if not listens or facts.input_high_share is None or not supply:
                continue
            needed = facts.input_high_share * analyse(wired).highest.get(supply, 0.0)
            if volt is not None and volt < needed - SLACK_V:
                yield HIGH_TOO_LOW.found(
                    Subject(pins=(pin,), nets=(net,)),
                    f"{wired.label(pin)} sees {say(volt, 'V')} as high, needs {say(needed, 'V')}",
                    f"{net} comes from a lower supply. Put a level shifter between, or feed {pin.ref} lower.",
                    nets=(net,),
                    value=volt,
                    limit=needed,
                    unit="V",
                )


def _high_level(wired: Wired, net: str) -> float | None:
    """Return the supply of the output that drives a net, directly or through one resistor, V; None if none does.

    Where no output drives it high, the resistor that pulls it up does.
    """
    pins = list(wired.design.nets[net])
    for pin in wired.design.nets[net]:
        if wired.kind(pin.ref).is_a(m.Resistor):
            pins += wired.design.nets.get(wired.net_of.get(Pin(pin.ref, "2" if pin.number == "1" else "1"), ""), ())
    levels = []
    for pin in pins:
        supply = wired.supply_of(pin.ref)
        if supply and wired.spec(pin).role in ("output", "bidirectional"):
            levels.append(analyse(wired).highest.get(supply, 0.0))
    if not levels:
        levels = [
            analyse(wired).highest.get(n.beyond, 0.0) for n in wired.near(net, m.Resistor) if n.beyond in wired.rails
        ]
    return max(levels, default=None)


@solved
def low_too_high(wired: Wired) -> Iterator[Finding]:
    """Yield inputs that a controller's output, low in some state, does not bring below what they take for a low."""
    analysis = analyse(wired)
    for driver in drivers(wired):
        pin, net = driver.pin, wired.net_of[driver.pin]
        if driver.how == "bus" or (driver.programmed and wired.spec(pin).role == "output"):
            continue
        on = driver.how == "open drain"
        states = [o for o in analysis.all() if not (o.state.quiet or o.state.reset) and (pin in o.state.high) == on]
        lows = [o.net_voltages().get(net, 0.0) for o in states]
        for near in wired.on(net):
            share, supply = wired.kind(near.ref).facts.input_low_share, wired.supply_of(near.ref)
            if share is None or not supply or not lows or wired.spec(near).role != "input":
                continue
            volt, most = max(lows), share * analysis.highest.get(supply, 0.0)
            if volt > most + SLACK_V:
                yield LOW_TOO_HIGH.found(
                    Subject(pins=(near,), nets=(net,)),
                    f"{wired.label(near)} sees {say(volt, 'V')} as low, takes up to {say(most, 'V')}",
                    f"{wired.label(pin)} cannot pull {net} lower. Take a larger pull-up, or less load on the line.",
                    value=volt,
                    limit=most,
                    unit="V",
                )


@solved
def supply_range(wired: Wired) -> Iterator[Finding]:
    """Yield parts whose supply is outside the range that they work in."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        low, high = kind.facts.feed_range_v or (None, None)
        for spec in kind.pins:
            net = wired.net_of.get(Pin(ref, spec.number))
            if (
                spec.role != "supply_in"
                or net is None
                or low is None
                or high is None
                or net not in analyse(wired).highest
            ):
                continue
            volt = analyse(wired).highest[net]
            if low - SLACK_V <= volt <= high + SLACK_V:
                continue
            limit = low if volt < low else high
            yield SUPPLY_RANGE.found(
                of_pin(Pin(ref, spec.number)),
                f"{ref}.{spec.name} gets {say(volt, 'V')}, works from {low:g} to {high:g} V",
                f"It is fed from {net}. Feed it from a supply inside its range.",
                nets=(net,),
                value=volt,
                limit=limit,
                unit="V",
            )
