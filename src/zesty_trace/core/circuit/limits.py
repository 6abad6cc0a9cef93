"""How far each device may be taken in one step of Newton's method: where its law bends, the step stops at the bend.

A device is evaluated at voltages of its own, which follow those of its nodes but are held back here; the equations are
carried on to the nodes in a straight line. Junctions and field-effect transistors in the manner of L. Nagel's SPICE2
report (1975); a junction that is taken far down its curve goes to where its current is that of the straight line.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from zesty_trace.core.circuit.devices import BODY_DIODE_A, REVERSE_A, THERMAL_V, ZENER_SLOPE_V
from zesty_trace.core.circuit.network import FloatArray

LEAST_SHARE = 1e-9  # of its current, to which a junction falls in one step
STEP_PAST_GATE_V, FAR_PAST_GATE_V, BELOW_GATE_V, ABOVE_GATE_V = 2.0, 3.5, 0.5, 4.0
NEAR_DRAIN_V, FAR_DRAIN_V = 2.0, 3.5
KNEE_V = 0.3  # from here on a load counts as well off, or well on
CORNER_A = 3.0 * REVERSE_A
BELOW_LIMIT, AT_LIMIT = 0.97, 0.98
Values = dict[str, FloatArray]
Limit = Callable[[FloatArray, FloatArray, Values], FloatArray]


def critical_v(i_s: FloatArray | float, n_vt: FloatArray | float) -> FloatArray:
    """Return where a junction's curve bends most sharply (Nagel 1975): up to there a step is free, V."""
    return np.asarray(n_vt * np.log(n_vt / (math.sqrt(2.0) * np.asarray(i_s))))


BODY_V = float(critical_v(BODY_DIODE_A, THERMAL_V))


def junction_step(new: FloatArray, old: FloatArray, n_vt: FloatArray | float, knee: FloatArray | float) -> FloatArray:
    """Return the voltage to which a junction goes from `old` when its nodes go to `new`, V.

    Up: freely to the knee, past it to the current of the straight line. Down from a conducting state: likewise, and
    off where that line leads to no current at all.
    """
    share = 1.0 + (new - old) / n_vt  # current of the straight line by that at `old`
    log = old + n_vt * np.log(np.maximum(share, LEAST_SHARE))
    rising = (new > knee) & (new - old > 2.0 * n_vt)
    falling = (new < old) & (old > 0.5 * knee) & (share < 0.5)
    up = np.where(old > knee - n_vt, log, knee)
    down = np.where(share > 0.0, np.maximum(log, 0.0), np.minimum(new, 0.0))
    return np.where(rising, up, np.where(falling, down, new))


def _diode(old: FloatArray, new: FloatArray, p: Values) -> FloatArray:
    n_vt = p["n"] * THERMAL_V
    found = new.copy()
    drop = junction_step(_across(new), _across(old), n_vt, critical_v(p["i_s"], n_vt))
    found[..., 0] = new[..., 1] + drop
    return found


def _zener(old: FloatArray, new: FloatArray, p: Values) -> FloatArray:
    found = _diode(old, new, p)
    drop = _across(found)
    beyond = junction_step(-drop - p["v_z"], -_across(old) - p["v_z"], ZENER_SLOPE_V, 3.0 * ZENER_SLOPE_V)
    found[..., 0] = found[..., 1] + np.where(-drop > p["v_z"], -(beyond + p["v_z"]), drop)
    return found


def _across(v: FloatArray) -> FloatArray:
    return v[..., 0] - v[..., 1]


def _gate_step(new: FloatArray, old: FloatArray, vth: FloatArray) -> FloatArray:
    """Return the gate's next voltage over its source: Nagel's limits on both sides of the threshold."""
    step = new - old
    up = np.abs(2.0 * (old - vth)) + 2.0
    down = up / 2.0 + 2.0
    far = vth + FAR_PAST_GATE_V
    falling = np.where(new >= far, np.where(-step > down, old - down, new), np.maximum(new, vth + STEP_PAST_GATE_V))
    wide = np.where(step <= 0, falling, np.where(step >= up, old + up, new))
    middle = np.where(step <= 0, np.maximum(new, vth - BELOW_GATE_V), np.minimum(new, vth + ABOVE_GATE_V))
    edge = vth + BELOW_GATE_V
    rising = np.where(new <= edge, np.where(step > down, old + down, new), edge)
    off = np.where(step <= 0, np.where(-step > up, old - up, new), rising)
    return np.where(old >= vth, np.where(old >= far, wide, middle), off)


def _drain_step(new: FloatArray, old: FloatArray) -> FloatArray:
    far = np.where(
        new > old, np.minimum(new, 3.0 * old + 2.0), np.where(new < FAR_DRAIN_V, np.maximum(new, NEAR_DRAIN_V), new)
    )
    near = np.where(new > old, np.minimum(new, ABOVE_GATE_V), np.maximum(new, -BELOW_GATE_V))
    return np.where(old >= FAR_DRAIN_V, far, near)


def _field_effect(old: FloatArray, new: FloatArray, p: Values, sign: float) -> FloatArray:
    gate, drain = sign * (new[..., 1] - new[..., 2]), sign * (new[..., 0] - new[..., 2])
    gate_old, drain_old = sign * (old[..., 1] - old[..., 2]), sign * (old[..., 0] - old[..., 2])
    ahead = drain_old >= 0
    drain_back = -_drain_step(-drain, -drain_old)
    gate_back = _gate_step(gate - drain, gate_old - drain_old, p["vth"]) + drain_back
    gate = np.where(ahead, _gate_step(gate, gate_old, p["vth"]), gate_back)
    drain = np.where(ahead, _drain_step(drain, drain_old), drain_back)
    body = junction_step(-drain, -drain_old, THERMAL_V, BODY_V)
    drain = np.where(drain < 0, -body, drain)
    found = new.copy()
    found[..., 0], found[..., 1] = new[..., 2] + sign * drain, new[..., 2] + sign * gate
    return found


def _bipolar(old: FloatArray, new: FloatArray, p: Values, sign: float) -> FloatArray:
    knee = critical_v(p["i_s"], THERMAL_V)
    found = new.copy()
    for end in (0, 2):
        drop, drop_old = (sign * (v[..., 1] - v[..., end]) for v in (new, old))
        found[..., end] = new[..., 1] - sign * junction_step(drop, drop_old, THERMAL_V, knee)
    return found


def _load(old: FloatArray, new: FloatArray, p: Values) -> FloatArray:
    """Stop a load that is switched on or off in one step where its law is steepest."""
    there, here = _across(new) - p["v_on"], _across(old) - p["v_on"]
    crossed = ((here < -KNEE_V) & (there > 0)) | ((here > KNEE_V) & (there < 0))
    found = new.copy()
    found[..., 0] = new[..., 1] + p["v_on"] + np.where(crossed, 0.0, there)
    return found


def _amplifier(old: FloatArray, new: FloatArray, p: Values) -> FloatArray:
    """Stop an amplifier that goes from one end of its output to the other in one step at its middle."""
    edge = (old[..., 3] - old[..., 4]) / (2.0 * p["gain"])
    there, here = _across(new), _across(old)
    crossed = (np.abs(here) > edge) & (np.abs(there) > edge) & (here * there < 0)
    found = new.copy()
    found[..., 0] = new[..., 1] + np.where(crossed, 0.0, there)
    return found


LIMITS: dict[str, Limit] = {
    "diode": _diode,
    "zener": _zener,
    "current_load": _load,
    "amplifier": _amplifier,
    "nmos": lambda old, new, p: _field_effect(old, new, p, 1.0),
    "pmos": lambda old, new, p: _field_effect(old, new, p, -1.0),
    "npn": lambda old, new, p: _bipolar(old, new, p, 1.0),
    "pnp": lambda old, new, p: _bipolar(old, new, p, -1.0),
}


def supply_step(old: FloatArray, new: FloatArray, limit: FloatArray) -> FloatArray:
    """Return the branch current at which a regulator is evaluated.

    Held at its two corners before it may pass them, A.
    """
    found = np.minimum(new, limit + 1.0)
    found = np.where((old > 2.0 * CORNER_A) & (found < 0.0), CORNER_A, found)
    return np.where((old < BELOW_LIMIT * limit) & (found > limit), AT_LIMIT * limit, found)
