"""Rules on what changes nothing or can never work: buttons, gates, amplifiers without feedback, optos."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import channels
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.op_amps import amplified
from zesty_trace.core.circuit.states import is_button
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, of_part, of_pin, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import solved, static

NO_EFFECT = rule(
    "no effect",
    Severity.FIX,
    "A button that changes no voltage when it is pressed is wired to the wrong net.",
    "solved with it pressed and not",
    limits="a change of 0.3 V on some net",
)
NEVER_ON = rule(
    "never on",
    Severity.STOP,
    "A transistor whose control never gets past its threshold never switches.",
    "solved over all operating states",
    limits="its threshold, or 0.55 V for a base",
)
NO_FEEDBACK = rule(
    "no feedback",
    Severity.FIX,
    "An amplifier without a way back to its - input swings from one end to the other; it measures nothing.",
    "any textbook on operational amplifiers",
    limits="a way back from the output to the - input where an analogue input reads it",
)
OPTO = rule(
    "opto wiring",
    Severity.FIX,
    "An opto's transistor conducts from collector to emitter, and its lamp needs a resistor.",
    COMMON,
    limits="the emitter to the lower side; a resistor in line with the lamp",
)
CHANGED_V, BASE_V = 0.3, 0.55
_ANALOGUE = re.compile(r"^(A|AIN|ADC|AN)\d+$", re.I)


@solved
def buttons_without_effect(wired: Wired) -> Iterator[Finding]:
    """Yield buttons that move no net when they are pressed."""
    states = {o.state.name: o for o in analyse(wired).all()}
    rest = states.get("all off") or states.get("at rest")
    for ref in wired.design.parts:
        pressed = states.get(f"{ref} pressed")
        if rest is None or pressed is None or not is_button(wired.kind(ref)):
            continue
        nets = [wired.net_of.get(p, "") for p in wired.pins_of(ref)]
        before, after = rest.net_voltages(), pressed.net_voltages()
        moved = any(abs(after[n] - before[n]) > CHANGED_V for n in after if n in before)
        pulled = any(wired.signal(n) and wired.near(n, m.Resistor) for n in nets)
        if not all(nets) or len(set(nets)) < 2 or moved or not pulled:
            continue  # without a resistor the controller pulls its own input, which is not in the circuit
        yield NO_EFFECT.found(
            of_part(ref),
            f"Pressing {ref} changes nothing: {nets[0]} and {nets[1]} stand at the same voltage anyway",
            "One side goes to the input with its pull-up, the other to the opposite supply.",
            nets=tuple(nets),
            value=0.0,
            limit=CHANGED_V,
            unit="V",
        )


@solved
def never_on(wired: Wired) -> Iterator[Finding]:
    """Yield transistors that something drives and whose control stays below what turns them on, in every state."""
    for ref in wired.of_model(m.FieldEffect, m.Bipolar):
        kind = wired.kind(ref)
        model = kind.model
        field = isinstance(model, m.FieldEffect)
        control, common = (wired.net_at(ref, n) for n in (("G", "S") if field else ("B", "E")))
        sign = 1.0 if kind.is_a(m.Nmos, m.Npn) else -1.0
        if not control or not common or control == common or not wired.signal(control):
            continue
        needed = model.threshold_v if isinstance(model, m.FieldEffect) else BASE_V
        volts = [o.net_voltages() for o in analyse(wired).all()]
        most = max((sign * (v.get(control, 0.0) - v.get(common, 0.0)) for v in volts), default=0.0)
        moves = max((abs(v.get(control, 0.0) - volts[0].get(control, 0.0)) for v in volts), default=0.0)
        if moves > 1e-3 and most < needed:
            yield NEVER_ON.found(
                of_part(ref),
                f"{ref} never turns on: {say(most, 'V')} at its {'gate' if field else 'base'} at most",
                f"It needs {say(needed, 'V')} at the least. Look at the resistors before it.",
                nets=(control, common),
                value=most,
                limit=needed,
                unit="V",
            )


@static
def amplifier_without_feedback(wired: Wired) -> Iterator[Finding]:
    """Yield amplifiers whose output an analogue input or the next amplifier reads, and that nothing feeds back."""
    for ref in wired.of_model(m.OpAmp):
        for c in channels(wired.kind(ref)):
            out, net = wired.pin(ref, c.out), wired.net_at(ref, c.out)
            if not net or out in amplified(wired):
                continue
            near = {net, *(n.beyond for n in wired.near(net, m.Resistor))}
            readers = [p for n in near if n for p in wired.on(n) if p.ref != ref and _reads_analogue(wired, p.ref, p)]
            if readers:
                yield NO_FEEDBACK.found(
                    of_pin(out),
                    f"{wired.label(out)} has no way back to {c.minus}, and {wired.label(readers[0])} measures it",
                    "A resistor from the output to the - input sets the gain; look whether the inputs are exchanged.",
                    refs=(readers[0].ref,),
                    nets=(net,),
                )


def _reads_analogue(wired: Wired, ref: str, pin: object) -> bool:
    spec = wired.spec(pin)  # type: ignore[arg-type]
    kind = wired.kind(ref)
    return bool(_ANALOGUE.match(spec.name)) or (kind.is_a(m.OpAmp) and spec.role == "input")


@static
def opto_wiring(wired: Wired) -> Iterator[Finding]:
    """Yield optos with collector and emitter exchanged, and those whose lamp has no resistor in line."""
    for ref in wired.design.parts:
        kind = wired.kind(ref)
        names = {s.name for s in kind.pins}
        if {"C", "E"} <= names and not kind.is_a(m.Bipolar) and "B" not in names:
            collector, emitter = wired.net_at(ref, "C"), wired.net_at(ref, "E")
            if collector == wired.ground and emitter and emitter != wired.ground:
                yield OPTO.found(
                    of_part(ref),
                    f"{ref} is the wrong way round: its collector is on {collector}, its emitter on {emitter}",
                    "The emitter goes to ground, the collector to the line with its pull-up.",
                    nets=(collector, emitter),
                )
        if {"A", "K"} <= names and set(kind.driven) == {"A", "K"}:
            ends = [wired.net_at(ref, n) for n in ("A", "K")]
            outside = [n for n in ends if n and any(wired.kind(p.ref).connector for p in wired.on(n))]
            limited = any(wired.near(n, m.Resistor) for n in ends if n)
            if all(ends) and len(outside) == 2 and not limited:
                yield OPTO.found(
                    of_part(ref, "lamp"),
                    f"The lamp of {ref} is straight on a connector, with no resistor in line",
                    "What is plugged in there decides its current. Put a resistor for some milliamperes in line.",
                    nets=tuple(ends),
                )
