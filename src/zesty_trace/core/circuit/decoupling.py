"""Which part a bypass capacitor stands beside."""

from __future__ import annotations

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin


def decoupled_part(wired: Wired, members: list[str], index: int) -> str | None:
    """Return the part that a bypass part (between supply and ground) stands beside.

    The nearest before it, else after.
    """
    net_of = wired.net_of
    ground = wired.ground
    ref = members[index]
    own = {net_of.get(Pin(ref, p.number)) for p in wired.kind(ref).pins} - {ground}
    for near in [*reversed(members[:index]), *members[index + 1 :]]:
        kind = wired.kind(near)
        if len(kind.pins) <= 2:
            continue
        nets = {
            net_of.get(Pin(near, p.number))
            for p in kind.pins
            if wired.spec(Pin(near, p.number)).role in ("supply_in", "supply_out")
        }
        if nets & own:
            return near
    return None
