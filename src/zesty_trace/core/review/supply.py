"""Rules on supplies: bypass capacitors, dropout, overload, a fuse, a place to measure, a way to program."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from typing import NamedTuple

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.inflow import inflow
from zesty_trace.core.circuit.regulators import wanted_v
from zesty_trace.core.circuit.time_constants import droops
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_net, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON, add_between
from zesty_trace.core.review.register import solved, static
from zesty_trace.core.stated import leading_value

RAIL_PINS = 4
LOAD_SHARE = 0.9
BYPASS_LEAST_SHARE = 0.45  # 4u7 where 10u is asked for: common practice
LOCAL_F, BULK_TIMES = 1e-6, 22.0  # beside a pin bulk capacitance does not count: it is too slow, common practice


DECOUPLING = rule(
    "decoupling",
    Severity.FIX,
    "Each supply pin draws its current in gulps; without a capacitor beside it the whole rail jumps.",
    COMMON,
    limits="the capacitors that the kind needs",
)
DROPOUT = rule(
    "dropout",
    Severity.STOP,
    "Below its dropout a regulator lets its output follow the input down.",
    "dropout of the part kind at its rated current, in proportion to the current",
    limits="dropout of the kind, in proportion to the current",
)
SUPPLY_OVERLOAD = rule(
    "supply overload",
    Severity.FIX,
    "A supply at its limit drops its voltage; everything on it resets. Keep a tenth in hand.",
    "limit of the part kind, for the inlet of the brief; current solved over all states",
    limits="0.9 of what the supply gives",
)
FUSE = rule(
    "fuse",
    Severity.NOTE,
    "The supply alone decides how much a short gets; bricks and cells give several amperes without end.",
    COMMON,
    limits="a fuse behind each inlet and cell",
)
TEST_POINT = rule(
    "test point",
    Severity.NOTE,
    "What cannot be probed cannot be tested on twelve boards in a row.",
    COMMON,
    limits=f"a place for the probe on each rail of {RAIL_PINS} pins or more",
)
PROGRAMMING_ACCESS = rule(
    "programming access",
    Severity.STOP,
    "A controller without a way in is a brick; a test pad costs nothing.",
    COMMON,
    limits="a way to each programming line",
)
FLOATING_INPUT = rule(
    "floating input",
    Severity.FIX,
    "An input without a level picks up noise, switches at random and draws extra current.",
    COMMON,
    limits="something that gives each net a level",
)
CONTENTION = rule(
    "contention",
    Severity.STOP,
    "Where one says high and the other low, both carry a short-circuit current.",
    COMMON,
    limits="one push-pull output on a net",
)


_BESIDE = re.compile(r"\bbeside ([A-Za-z]{1,4}\d{1,4})\b")


class _Bypass(NamedTuple):
    """A capacitor from a net to ground, F, and the part that its note says it stands beside."""

    farad: float
    beside: str


@static
def decoupling(wired: Wired) -> Iterator[Finding]:
    """Yield supply pins that want a capacitor beside them and find none left on their net."""
    left: dict[str, list[_Bypass]] = {}
    for ref, part in wired.design.parts.items():
        if wired.kind(ref).is_a(m.Capacitor):
            nets = {wired.net_of.get(Pin(ref, n)) for n in ("1", "2")}
            said = _BESIDE.search(part.notes)
            for net in nets - {wired.ground, None}:
                if wired.ground in nets and net:
                    beside = said.group(1) if said and said.group(1) in wired.design.parts else ""
                    left.setdefault(net, []).append(_Bypass(leading_value(part.value) or 0.0, beside))
    wants = [
        (
            leading_value(need.value) or 0.0,
            ref,
            need,
            wired.net_of.get(Pin(ref, wired.kind(ref).pin_named(need.pin).number)),
        )
        for ref in wired.design.parts
        for need in wired.kind(ref).needs
    ]
    for farad, ref, need, net in sorted(wants, key=lambda w: -w[0]):  # parts listed first come first
        if net is None:
            continue
        most = BULK_TIMES * farad if farad <= LOCAL_F else float("inf")
        fitting = [
            c for c in left.get(net, []) if BYPASS_LEAST_SHARE * farad <= c.farad <= most and c.beside in ("", ref)
        ]
        if fitting:
            left[net].remove(min(fitting, key=lambda c: (not c.beside, c.farad)))
            continue
        kind = wired.catalogue.kind(need.part)
        fresh = Part(
            ref=edits.fresh_ref(wired.design, "C"),
            kind=kind.id,
            value=need.value,
            package=kind.packages[0],
            notes=f"beside {ref}",
        )
        yield DECOUPLING.found(
            of_pin(wired.pin(ref, need.pin)),
            f"{ref}.{need.pin} has no {need.value} of its own on {net}",
            f"Put {fresh.ref} from {net} to {wired.ground}, close to the pin.",
            nets=(net,),
            value=0.0,
            limit=farad,
            unit="F",
            mend=Mend(
                f"Add {fresh.ref} {need.value}", partial(add_between, part=fresh, first=net, second=wired.ground)
            ),
        )


FED_SHARE = 0.2  # an input below this share of the output is switched off, not low


@solved
def dropout(wired: Wired) -> Iterator[Finding]:
    """Yield linear regulators whose input leaves them too little to hold their output, in the state that is worst."""
    for ref in wired.of_model(m.Regulator):
        kind = wired.kind(ref)
        model = kind.model
        if not isinstance(model, m.Regulator):
            continue
        pins = {s.role: wired.net_of.get(Pin(ref, s.number), "") for s in kind.pins}
        out = next(Pin(ref, s.number) for s in kind.pins if s.role == "supply_out")
        worst: tuple[bool, float, float, float, str] | None = None
        wanted = wanted_v(wired, ref)
        for operating in analyse(wired).all():
            v_in = operating.net_voltages().get(pins["supply_in"])
            if wanted is None or v_in is None or v_in < FED_SHARE * wanted:
                continue
            amp = abs(operating.solution.pin_currents().get(out, 0.0))
            needed = model.dropout_v * max(0.2, amp / model.dropout_at_a)
            room = v_in - wanted
            this = (operating.state.cell_pct is not None, room, needed, amp, operating.state.name)
            if room < needed and (worst is None or (this[0], room - needed) < (worst[0], worst[1] - worst[2])):
                worst = this
        if worst is None:
            continue
        nearly_empty, room, needed, amp, state = worst
        yield DROPOUT.found(
            of_part(ref),
            f"{ref} has {say(room, 'V')} over its output, needs {say(needed, 'V')} ({state})",
            f"At {say(amp, 'A')} it cannot hold {wanted:.3g} V. Feed it from a higher supply, or take one with "
            f"less dropout.",
            nets=(pins["supply_in"],),
            severity=Severity.NOTE if nearly_empty else None,  # how far down a cell is good, its run time says
            value=room,
            limit=needed,
            unit="V",
        )


@solved
def supply_overload(wired: Wired) -> Iterator[Finding]:
    """Yield inlets, regulators and converters that would have to give more than they can."""
    peaks = analyse(wired).pin_peaks()
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        out = next((Pin(ref, s.number) for s in kind.pins if s.role == "supply_out"), None)
        limit = inflow(wired, ref).limit_a if kind.is_a(m.Inlet) else kind.model.limit_a
        amp = peaks.get(out, 0.0) if out else 0.0
        if limit and amp > LOAD_SHARE * limit:
            yield SUPPLY_OVERLOAD.found(
                of_part(ref),
                f"{ref} would have to give {say(amp, 'A')} of {say(limit, 'A')}",
                "Take a stronger supply, or switch the loads on one after the other.",
                severity=Severity.STOP if amp > limit else Severity.FIX,
                value=amp,
                limit=LOAD_SHARE * limit,
                unit="A",
            )


@static
def fuse_missing(wired: Wired) -> Iterator[Finding]:
    """Yield inlets and cells whose first net feeds something other than a fuse."""
    for ref in wired.of_model(m.Inlet, m.Battery):
        kind = wired.kind(ref)
        plus = next(Pin(ref, s.number) for s in kind.pins if s.role == "supply_out")
        net = wired.net_of.get(plus, "")
        others = [p for p in wired.design.nets.get(net, ()) if p.ref != ref]
        if others and not any(wired.kind(p.ref).prefix == "F" for p in others):
            yield FUSE.found(
                of_part(ref),
                f"{ref} feeds the board without a fuse",
                "A resettable fuse in line limits what a short can burn.",
                nets=(net,),
            )


@static
def test_point_missing(wired: Wired) -> Iterator[Finding]:
    """Yield rails that no test point or through-hole connector lets a probe touch."""
    for net in wired.rails:
        pins = wired.design.nets[net]
        reachable = any(wired.kind(p.ref).prefix == "TP" or wired.kind(p.ref).connector for p in pins)
        if len(pins) < RAIL_PINS or reachable:
            continue
        fresh = Part(ref=edits.fresh_ref(wired.design, "TP"), kind="test_point", package="TestPoint")
        yield TEST_POINT.found(
            of_net(net),
            f"{net} has no test point",
            f"{fresh.ref} gives the meter's probe a place.",
            mend=Mend(f"Add {fresh.ref} on {net}", partial(_add_point, part=fresh, net=net)),
        )


def _add_point(design: Design, part: Part, net: str) -> Design:
    design, ref = edits.add_fresh_part(design, part)
    return edits.connect(design, Pin(ref, "1"), net)


@static
def programming_access(wired: Wired) -> Iterator[Finding]:
    """Yield controllers whose programming line reaches no connector and no test point."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        if not kind.is_a(m.Controller):
            continue
        lines = [s for s in kind.pins if s.name in ("PROG", "TXD", "RXD", "BOOT")]
        if lines and not any(_reaches_plug(wired, Pin(ref, s.number)) for s in lines):
            yield PROGRAMMING_ACCESS.found(
                of_part(ref),
                f"{ref} cannot be programmed once it is soldered in",
                f"Bring {' or '.join(s.name for s in lines[:2])} out to a header or a test pad.",
                severity=Severity.NOTE if wired.package(ref).family == "dip" else None,  # it can go into a socket
            )


def _reaches_plug(wired: Wired, pin: Pin) -> bool:
    net = wired.net_of.get(pin, "")
    near = {net, *(n.beyond for n in wired.near(net, m.Resistor) if n.beyond and wired.signal(n.beyond))}
    return any(
        wired.kind(p.ref).connector or wired.kind(p.ref).prefix == "TP" or wired.kind(p.ref).pin("D+") is not None
        for n in near
        for p in wired.on(n)
        if p != pin
    )


@static
def floating_input(wired: Wired) -> Iterator[Finding]:
    """Yield nets that hold inputs but nothing that gives them a level."""
    for net, pins in wired.design.nets.items():
        if net in wired.rails or net == wired.ground or len(pins) < 2:
            continue
        roles = {p: wired.spec(p).role for p in pins}
        inputs = [p for p, role in roles.items() if role == "input"]
        driven = any(role not in ("input", "no_connect") for p, role in roles.items())
        if inputs and not driven:
            names = ", ".join(wired.label(p) for p in inputs)
            yield FLOATING_INPUT.found(
                of_net(net),
                f"Nothing gives {net} a level",
                f"{names} only listen. Drive the net, or pull it up or down.",
                refs=tuple(p.ref for p in inputs),
            )


@static
def contention(wired: Wired) -> Iterator[Finding]:
    """Yield nets that two or more push-pull outputs drive."""
    for net, pins in wired.design.nets.items():
        outputs = [p for p in pins if wired.spec(p).role == "output"]
        if all(wired.kind(p.ref).pin("CS") for p in outputs):
            continue  # outputs of selected devices take turns
        if len(outputs) > 1:
            names = " and ".join(wired.label(p) for p in outputs)
            yield CONTENTION.found(
                of_net(net),
                f"{names} both drive {net}",
                "Part them, or put an open-drain stage or a switch between.",
                refs=tuple(p.ref for p in outputs),
                value=float(len(outputs)),
                limit=1.0,
                unit="outputs",
            )


DROOP_SHARE = 0.1


DROOP = rule(
    "droop",
    Severity.FIX,
    "What hangs on the rail resets when the load comes on.",
    "dV = I t / C + I ESR; response times are common practice",
    limits="a tenth of the rail",
)


SUPPLIES_JOINED = rule(
    "supplies joined",
    Severity.STOP,
    "The higher one pushes current back into the lower; a cell is charged without any limit.",
    COMMON,
    limits="one supply for each net",
)


@solved
def droop(wired: Wired) -> Iterator[Finding]:
    """Yield rails that drop by more than a tenth when the loads are switched on together."""
    for item in droops(wired):
        if item.what == "Load-step droop" and item.limit is not None and item.value > item.limit:
            net = item.nets[0]
            fresh = Part(
                ref=edits.fresh_ref(wired.design, "C"),
                kind="electrolytic_capacitor",
                value="100u 16 V",
                package="CP-radial-6",
            )
            yield DROOP.found(
                of_net(net),
                f"{net} drops by {say(item.value, 'V')} on a load step, at most {say(item.limit, 'V')}",
                f"{item.how}. {fresh.ref} of 100u carries the step.",
                refs=item.refs,
                nets=item.nets,
                value=item.value,
                limit=item.limit,
                unit="V",
                mend=Mend(f"Add {fresh.ref} 100u", partial(add_between, part=fresh, first=net, second=wired.ground)),
            )


@solved
def supplies_joined(wired: Wired) -> Iterator[Finding]:
    """Yield nets that two supplies feed directly."""
    for net, pins in wired.design.nets.items():
        feeders = sorted({p.ref for p in pins if wired.spec(p).role == "supply_out"})
        volts = {r: _own_voltage(wired, r) for r in feeders}
        if len(feeders) > 1:
            said = " and ".join(f"{r} ({volts[r]:g} V)" for r in feeders)
            yield SUPPLIES_JOINED.found(
                of_net(net),
                f"{said} both feed {net}",
                "Put a diode or an ideal-diode switch in each feed, or a selector.",
                refs=tuple(feeders),
                value=float(len(feeders)),
                limit=1.0,
                unit="supplies",
            )


def _own_voltage(wired: Wired, ref: str) -> float:
    kind = wired.kind(ref)
    if kind.is_a(m.Inlet):
        return inflow(wired, ref).volt
    return kind.model.output_v or analyse(wired).highest.get(wired.net_of.get(Pin(ref, "1"), ""), 0.0)
