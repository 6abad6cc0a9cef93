"""What a regulator or converter is meant to give: its own voltage, or what two resistors set."""

from __future__ import annotations

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.wired import Wired


def wanted_v(wired: Wired, ref: str) -> float | None:
    """Return the voltage that a supply is made or set for, V; None for other parts, or where nothing sets it.

    An adjustable regulator holds V0 from its output to its adjusting pin: V = V0 (1 + R2 / R1) + I_adj R2, R1 between
    those two pins and R2 from there to ground (application notes of such parts; common practice).
    """
    model = wired.kind(ref).model
    if not isinstance(model, m.AdjustableRegulator):
        return model.output_v if isinstance(model, m.Supply) else None
    out = wired.pin_of_role(ref, "supply_out")
    adjust = wired.net_at(ref, model.adjust)
    if not adjust or out is None:
        return None
    upper = [n.value for n in wired.near(adjust, m.Resistor) if n.beyond == wired.net_of.get(out) and n.value > 0]
    lower = [n.value for n in wired.near(adjust, m.Resistor) if n.beyond == wired.ground and n.value > 0]
    if adjust == wired.ground:
        return model.set_v
    if not upper or not lower:
        return None
    r1, r2 = (1.0 / sum(1.0 / r for r in group) for group in (upper, lower))
    return model.set_v * (1 + r2 / r1) + model.quiescent_a * r2
