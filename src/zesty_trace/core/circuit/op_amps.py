"""Operational amplifiers: their channels, and which of them are fed back, so that their outputs follow their inputs.

A channel that nothing feeds back to its inverting input only compares: its output is one of two levels, and is driven
in the states like any other output.
"""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import channels
from zesty_trace.core.circuit.wired import SWITCHES, Wired, worked_out
from zesty_trace.core.design.model import Pin

MOST_PARTS = 4  # on the way back from the output


@worked_out
def amplified(wired: Wired) -> frozenset[Pin]:
    """Return the outputs of amplifiers that are fed back to their inverting input."""
    found = set()
    for ref in wired.of_model(m.OpAmp):
        for c in channels(wired.kind(ref)):
            out, minus = wired.net_at(ref, c.out), wired.net_at(ref, c.minus)
            plus = wired.net_at(ref, c.plus)
            back = _parts_between(wired, out, minus, ref)
            forward = _parts_between(wired, out, plus, ref)
            if back is not None and (forward is None or back <= forward):
                found.add(wired.pin(ref, c.out))
    return frozenset(found)


def _parts_between(wired: Wired, start: str, end: str, own: str) -> int | None:
    """Return how few parts lead from one net to another past no supply and no ground; None if none do."""
    if not start or not end or not wired.signal(start):
        return None
    reached, edge, count = {start}, [start], 0
    while edge and count <= MOST_PARTS:
        if end in reached:
            return count
        edge = [n for net in edge for n in _beside(wired, net, own) if n not in reached]
        reached.update(edge)
        count += 1
    return None


def _beside(wired: Wired, net: str, own: str) -> Iterator[str]:
    """Yield the signals that one passive part or transistor leads to from a net."""
    for pin in wired.on(net):
        kind = wired.kind(pin.ref)
        passes = wired.two_terminal(pin.ref) or kind.is_a(m.Potentiometer, *SWITCHES)
        if pin.ref == own or not passes or kind.is_a(m.Capacitor):
            continue
        for other in wired.pins_of(pin.ref):
            far = wired.net_of.get(other, "")
            if far and far != net and wired.signal(far):
                yield far
