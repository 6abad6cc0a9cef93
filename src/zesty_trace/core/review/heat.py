"""Rule: no part gets warmer than its limit."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import Heat, analyse, copper_mm2, theta_with_copper
from zesty_trace.core.circuit.regulators import wanted_v
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, of_part, rule
from zesty_trace.core.quantities import say
from zesty_trace.core.review.register import solved
from zesty_trace.errors import SolveError

MARGIN_C = 20.0
COPPER_AREAS_MM2 = (50, 100, 200, 400)
SOURCE = "T = ambient + P x R_thetaJA (JESD51-2); 20 °C of margin is common practice"


HEAT = rule(
    "heat",
    Severity.FIX,
    "A part past its limit shuts down, drifts or dies. What a linear part does not pass on, it burns: "
    "volts lost times current.",
    SOURCE,
    limits="junction_max_c of the kind less 20 °C",
)


@solved
def heat(wired: Wired) -> Iterator[Finding]:
    """Yield parts at or near their highest junction temperature, with a cooler supply as the mend where one exists."""
    for item in analyse(wired).heats():
        if item.temperature_c <= item.limit_c - MARGIN_C:
            continue
        severity = Severity.STOP if item.temperature_c > item.limit_c else Severity.FIX
        detail, mend = _explain(wired, item)
        yield HEAT.found(
            of_part(item.ref),
            f"{item.ref} would reach {item.temperature_c:.0f} °C",
            detail,
            severity=severity,
            value=item.temperature_c,
            limit=item.limit_c,
            unit="°C",
            mend=mend,
        )


def _explain(wired: Wired, item: Heat) -> tuple[str, Mend | None]:
    allowed = max(0.0, (item.limit_c - wired.design.brief.ambient_c) / item.theta_c_per_w)
    package = wired.design.parts[item.ref].package
    where = f"at {wired.design.brief.ambient_c:.0f} °C ambient; the limit is {item.limit_c:.0f} °C"
    burnt = f"burns {say(item.power_w, 'W')} in a {package} that can lose {say(allowed, 'W', 2)} {where}."
    kind = wired.kind(item.ref)
    if not isinstance(kind.model, m.Regulator):
        return f"It {burnt} {_with_copper(wired, item)}Use a bigger package or less current.", None
    pin_in, pin_out = (_by_role(wired, item.ref, role) for role in ("supply_in", "supply_out"))
    volts = analyse(wired).highest
    v_in, v_out = volts[wired.net_of[pin_in]], volts[wired.net_of[pin_out]]
    amp = abs(analyse(wired).worst().solution.pin_currents()[pin_out])
    first = f"{say(v_in, 'V')} in, {say(v_out, 'V')} out at {say(amp, 'A')} {burnt}"
    best = _cooler_supply(wired, item.ref, pin_in, v_in)
    if best is None:
        more = _with_copper(wired, item)
        return f"{first} {more}A lower supply or a switching regulator would mend it.", None
    net, temperature = best
    mend = Mend(f"Feed {item.ref} from {net}", partial(edits.connect, pin=pin_in, net=net))
    return f"{first} Fed from {net} it would reach {temperature:.0f} °C.", mend


def _with_copper(wired: Wired, item: Heat) -> str:
    """Return how far copper alone, more than is stated already, would bring a part down, if that is far enough."""
    stated = copper_mm2(wired.design.parts[item.ref])
    bare = item.theta_c_per_w / theta_with_copper(1.0, stated)
    for area in (a for a in COPPER_AREAS_MM2 if a > stated):
        temperature = wired.design.brief.ambient_c + item.power_w * theta_with_copper(bare, area)
        if temperature <= item.limit_c - MARGIN_C:
            return f"With {area} mm² of copper on its tab: {temperature:.0f} °C (note “{area} mm2 copper”). "
    return ""


def _by_role(wired: Wired, ref: str, role: str) -> Pin:
    return Pin(ref, next(p.number for p in wired.kind(ref).pins if p.role == role))


def _cooler_supply(wired: Wired, ref: str, pin_in: Pin, v_in: float) -> tuple[str, float] | None:
    """Return the supply net that brings the part lowest with its output still right, and the temperature then."""
    kind = wired.kind(ref)
    if not isinstance(kind.model, m.Regulator):
        return None
    needed = (wanted_v(wired, ref) or 0.0) + kind.model.dropout_v
    own = {wired.net_of.get(Pin(ref, p.number)) for p in kind.pins}
    best: tuple[str, float] | None = None
    for net in wired.rails:
        if net in own or not needed < analyse(wired).highest.get(net, 0.0) < v_in:
            continue
        temperature = _temperature_with(edits.connect(wired.design, pin_in, net), wired, ref)
        if temperature is not None and (best is None or temperature < best[1]):
            best = (net, temperature)
    return best


def _temperature_with(design: Design, wired: Wired, ref: str) -> float | None:
    try:
        return next((h.temperature_c for h in analyse(wired.with_design(design)).heats() if h.ref == ref), None)
    except SolveError:
        return None
