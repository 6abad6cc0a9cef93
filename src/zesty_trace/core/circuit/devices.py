"""Device equations: terminal currents and their derivatives, over all elements of a type and all samples at once.

Each function takes terminal voltages `v` (B, E, T), branch currents `i` (B, E) or None, and parameter arrays (B, E).
It returns `current` (B, E, T) into each terminal, `by_v` (B, E, T, T), `by_i` (B, E, T), and, for elements with a
branch, the branch equation `f` (B, E) (to be 0) with `f_v` (B, E, T) and `f_i` (B, E).
Sources: junction law of Shockley; square-law field-effect transistor (Shichman and Hodges 1968); transport form of
Ebers and Moll (1954); regulators, converters and loads are behavioural (common practice).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zesty_trace.core.circuit.network import FloatArray

THERMAL_V = 0.025852  # k T / q at 300 K, V
MAX_EXPONENT = 80.0
BODY_DIODE_A = 1e-13
ZENER_SLOPE_V = 0.05  # how sharp the knee is: tens of millivolts a decade, common practice
LOAD_KNEE_V = 0.1
LOAD_LEAK_SHARE = 0.02  # of its current, what a load takes at its threshold before it starts
LOAD_LEAK_S = 5e-6  # and at most so much; nothing backwards
NOTHING_S = 1e-15
WAKE_V = 1.2
REVERSE_A = 1e-8
REVERSE_OHM = 1e5
SCALED = 1e3
GIVES_A = 1e-6


@dataclass
class Stamp:
    """What a device adds to the equations."""

    current: FloatArray
    by_v: FloatArray
    by_i: FloatArray | None = None
    f: FloatArray | None = None
    f_v: FloatArray | None = None
    f_i: FloatArray | None = None


def _zeros(v: FloatArray) -> tuple[FloatArray, FloatArray]:
    return np.zeros_like(v), np.zeros((*v.shape, v.shape[-1]))


def _two_terminal(v: FloatArray, current: FloatArray, slope: FloatArray) -> Stamp:
    flow, by_v = _zeros(v)
    flow[..., 0], flow[..., 1] = current, -current
    by_v[..., 0, 0] = by_v[..., 1, 1] = slope
    by_v[..., 0, 1] = by_v[..., 1, 0] = -slope
    return Stamp(flow, by_v)


def softplus(x: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return ln(1 + e^x) and its derivative, without overflow."""
    value = np.logaddexp(0.0, x)
    return value, np.exp(x - value)


def junction(v: FloatArray, i_s: FloatArray | float, n_vt: FloatArray | float) -> tuple[FloatArray, FloatArray]:
    """Return the junction current and conductance; past exponent 80 the law goes on as a straight line."""
    x = v / n_vt
    e = slope = np.exp(np.minimum(x, MAX_EXPONENT))
    if np.any(x > MAX_EXPONENT):
        e = np.where(x > MAX_EXPONENT, e * (1 + x - MAX_EXPONENT), e)
    return i_s * (e - 1), i_s * slope / n_vt


def resistor(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Ohm's law."""
    g = 1.0 / p["ohm"]
    return _two_terminal(v, g * (v[..., 0] - v[..., 1]), g)


def diode(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Anode, cathode."""
    current, slope = junction(v[..., 0] - v[..., 1], p["i_s"], p["n"] * THERMAL_V)
    return _two_terminal(v, current, slope)


def zener(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Anode, cathode: forward a junction, backward a second one that drops `v_z` at `i_z`."""
    volt = v[..., 0] - v[..., 1]
    forward, g_f = junction(volt, p["i_s"], p["n"] * THERMAL_V)
    backward, g_b = junction(-volt - p["v_z"], p["i_z"], ZENER_SLOPE_V)
    return _two_terminal(v, forward - backward - p["i_z"], g_f + g_b)


def current_load(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """A load that takes a constant current once its voltage is well above `v_on`, and leaks a little below."""
    volt = v[..., 0] - v[..., 1]
    s = 1.0 / (1.0 + np.exp(np.clip(-(volt - p["v_on"]) / LOAD_KNEE_V, -60.0, 60.0)))
    leak = np.minimum(LOAD_LEAK_SHARE * p["amp"] / np.maximum(p["v_on"], LOAD_KNEE_V), LOAD_LEAK_S)
    bend = s * (1 - s) / LOAD_KNEE_V
    ahead, ahead_slope = softplus(volt / LOAD_KNEE_V)
    below, below_slope = leak * LOAD_KNEE_V * ahead, leak * ahead_slope
    current = p["amp"] * s + below * (1 - s)
    return _two_terminal(v, current, (p["amp"] - below) * bend + below_slope * (1 - s) + NOTHING_S)


def nmos(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Drain, gate, source, with the body diode from source to drain."""
    flow, by_v = _zeros(v)
    d, g, s = v[..., 0], v[..., 1], v[..., 2]
    swap = d < s
    hi, lo = np.where(swap, s, d), np.where(swap, d, s)
    vov = np.maximum(g - lo - p["vth"], 0.0)
    vds = hi - lo
    triode = vds < vov
    k = p["k"]
    current = np.where(triode, k * (vov - vds / 2) * vds, k * vov * vov / 2)
    g_ov = np.where(triode, k * vds, k * vov)
    g_ds = np.where(triode, k * (vov - vds), 0.0)
    sign = np.where(swap, -1.0, 1.0)
    on = vov > 0
    g_gate = np.where(on, g_ov, 0.0)
    by_hi, by_lo = g_ds, -g_ds - g_gate
    by_d, by_s = np.where(swap, by_lo, by_hi), np.where(swap, by_hi, by_lo)
    body, g_body = junction(s - d, BODY_DIODE_A, THERMAL_V)
    flow[..., 0] = sign * current - body
    flow[..., 2] = -flow[..., 0]
    by_v[..., 0, 0] = sign * by_d + g_body
    by_v[..., 0, 1] = sign * g_gate
    by_v[..., 0, 2] = sign * by_s - g_body
    by_v[..., 2, :] = -by_v[..., 0, :]
    return Stamp(flow, by_v)


def npn(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Collector, base, emitter; reverse gain 1."""
    flow, by_v = _zeros(v)
    c, b, e = v[..., 0], v[..., 1], v[..., 2]
    forward, g_f = junction(b - e, p["i_s"], THERMAL_V)
    backward, g_r = junction(b - c, p["i_s"], THERMAL_V)
    beta = p["beta"]
    flow[..., 0] = forward - 2 * backward
    flow[..., 1] = forward / beta + backward
    flow[..., 2] = -flow[..., 0] - flow[..., 1]
    by_v[..., 0, 0], by_v[..., 0, 1], by_v[..., 0, 2] = 2 * g_r, g_f - 2 * g_r, -g_f
    by_v[..., 1, 0], by_v[..., 1, 1], by_v[..., 1, 2] = -g_r, g_f / beta + g_r, -g_f / beta
    by_v[..., 2, :] = -by_v[..., 0, :] - by_v[..., 1, :]
    return Stamp(flow, by_v)


def _mirrored(stamp: Stamp) -> Stamp:
    """Return the stamp of the opposite polarity, worked out at the negated voltages: i(v) = -i_n(-v)."""
    return Stamp(-stamp.current, stamp.by_v)


def pmos(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Drain, gate, source; `vth` is given as a positive number."""
    return _mirrored(nmos(-v, i, p))


def pnp(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Collector, base, emitter."""
    return _mirrored(npn(-v, i, p))


def source(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Plus, minus; branch current flows out of plus."""
    assert i is not None
    flow, by_v = _zeros(v)
    flow[..., 0], flow[..., 1] = -i, i
    by_i = np.zeros_like(v)
    by_i[..., 0], by_i[..., 1] = -1.0, 1.0
    f_v = np.zeros_like(v)
    f_v[..., 0], f_v[..., 1] = 1.0, -1.0
    return Stamp(flow, by_v, by_i, v[..., 0] - v[..., 1] - p["volt"] + p["ohm"] * i, f_v, p["ohm"].copy())


def _limits(i: FloatArray, limit: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the voltage lost to the current limit, less that gained by reverse feeding, and its slope."""
    width = 0.01 * limit
    over, over_slope = softplus((i - limit) / width)
    back, back_slope = softplus(-i / REVERSE_A)
    ohm = 50.0
    lost = ohm * width * over - REVERSE_OHM * REVERSE_A * back
    return lost, ohm * over_slope + REVERSE_OHM * back_slope


def _awake(vin: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return how far a regulator's own circuit has woken up, 0 to 1 round WAKE_V, and the slope."""
    s = 1.0 / (1.0 + np.exp(np.clip(-(vin - WAKE_V) / LOAD_KNEE_V, -60.0, 60.0)))
    return s, s * (1 - s) / LOAD_KNEE_V


def regulator(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """In, out, ground: the lower of the set voltage and what dropout leaves; branch current flows out of `out`."""
    assert i is not None
    knee = 0.01
    vin = v[..., 0] - v[..., 2]
    room = vin - p["v_drop"] - p["r_drop"] * i
    short, short_slope = softplus((p["v_out"] - room) / knee)
    level = p["v_out"] - knee * short
    floor, floor_slope = softplus(level / knee)
    on, on_slope = _awake(vin)
    reached = knee * floor * on
    by_load = floor_slope * short_slope * on
    slope = by_load + knee * floor * on_slope
    lost, lost_slope = _limits(i, p["i_limit"])
    flow, by_v = _zeros(v)
    flow[..., 0] = i + p["i_q"] * on
    flow[..., 1] = -i
    flow[..., 2] = -p["i_q"] * on
    dq = p["i_q"] * on_slope
    by_v[..., 0, 0], by_v[..., 0, 2] = dq, -dq
    by_v[..., 2, 0], by_v[..., 2, 2] = -dq, dq
    by_i = np.zeros_like(v)
    by_i[..., 0], by_i[..., 1] = 1.0, -1.0
    f = v[..., 1] - v[..., 2] - reached + lost + p["r_out"] * i
    f_v = np.zeros_like(v)
    f_v[..., 0], f_v[..., 1], f_v[..., 2] = -slope, 1.0, -1.0 + slope
    return Stamp(flow, by_v, by_i, f, f_v, by_load * p["r_drop"] + lost_slope + p["r_out"])


def converter(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """In, out, ground: a switching converter that takes output power over its efficiency from its input."""
    assert i is not None
    vin, vout = v[..., 0] - v[..., 2], v[..., 1] - v[..., 2]
    start, start_slope = softplus((vin - p["v_min"]) / 0.05)
    stop, stop_slope = softplus((vin - p["v_min"] - 0.5) / 0.05)
    on = (start - stop) * 0.05 / 0.5
    on_slope = (start_slope - stop_slope) / 0.5
    lost, lost_slope = _limits(i, p["i_limit"])
    safe = np.maximum(vin, 1.0)
    ratio = vout / (p["efficiency"] * safe)
    awake, awake_slope = _awake(vin)
    i_in = ratio * i + p["i_q"] * awake
    by_in = np.where(vin > 1.0, -ratio * i / safe, 0.0) + p["i_q"] * awake_slope
    by_out = i / (p["efficiency"] * safe)
    flow, by_v = _zeros(v)
    flow[..., 0], flow[..., 1], flow[..., 2] = i_in, -i, i - i_in
    by_v[..., 0, 0], by_v[..., 0, 1], by_v[..., 0, 2] = by_in, by_out, -by_in - by_out
    by_v[..., 2, :] = -by_v[..., 0, :]
    by_i = np.zeros_like(v)
    by_i[..., 0], by_i[..., 1], by_i[..., 2] = ratio, -1.0, 1.0 - ratio
    f_v = np.zeros_like(v)
    slope = p["v_out"] * on_slope
    f_v[..., 0], f_v[..., 1], f_v[..., 2] = -slope, 1.0, -1.0 + slope
    return Stamp(flow, by_v, by_i, vout - p["v_out"] * on + lost + p["r_out"] * i, f_v, lost_slope + p["r_out"])


def amplifier(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """In plus, in minus, out, supply, ground: `gain` between rails less `low` and `high`; branch current out of `out`.

    The law is divided by SCALED, so that its rounding stays below what Newton's method asks for.
    """
    assert i is not None
    knee = 0.005
    apart = v[..., 0] - v[..., 1]
    low = v[..., 4] + p["low"]
    room = v[..., 3] - p["high"] - low
    alive = room > 0.1
    room = np.where(alive, room, 0.1)
    wanted = p["gain"] * apart + room / 2
    up, up_slope = softplus(wanted / knee)
    over, over_slope = softplus((wanted - room) / knee)
    level = low + knee * (up - over)
    by_apart = p["gain"] * (up_slope - over_slope)
    by_room = np.where(alive, (up_slope - over_slope) / 2 + over_slope, 0.0)
    width, ohm = 0.01 * p["i_limit"], 2000.0
    out, out_slope = softplus((i - p["i_limit"]) / width)
    back, back_slope = softplus((-i - p["i_limit"]) / width)
    given, given_slope = softplus(i / GIVES_A)
    given = GIVES_A * given
    flow, by_v = _zeros(v)
    flow[..., 2], flow[..., 3], flow[..., 4] = -i, given, i - given
    by_i = np.zeros_like(v)
    by_i[..., 2], by_i[..., 3], by_i[..., 4] = -1.0, given_slope, 1.0 - given_slope
    f = v[..., 2] - level + p["r_out"] * i + ohm * width * (out - back)
    f_v = np.zeros_like(v)
    f_v[..., 0], f_v[..., 1], f_v[..., 2] = -by_apart, by_apart, 1.0
    f_v[..., 3], f_v[..., 4] = -by_room, by_room - 1.0
    f_i = p["r_out"] + ohm * (out_slope + back_slope)
    return Stamp(flow, by_v, by_i, f / SCALED, f_v / SCALED, f_i / SCALED)


def darlington(v: FloatArray, i: FloatArray | None, p: dict[str, FloatArray]) -> Stamp:
    """Collector, base, emitter of a pair behind its base resistor: the lesser of what the load and the base allow."""
    knee, sharp, least = 0.05, 4.0, 1e-12
    flow, by_v = _zeros(v)
    into, into_slope = softplus((v[..., 1] - v[..., 2] - p["v_on"]) / knee)
    base, base_slope = knee / p["r_in"] * into, into_slope / p["r_in"]
    wide, wide_slope = softplus((v[..., 0] - v[..., 2] - p["v_sat"]) / knee)
    asked, asked_slope = knee / p["r_on"] * wide + least, wide_slope / p["r_on"]
    most, most_slope = p["gain"] * base + least, p["gain"] * base_slope
    lesser = np.minimum(asked, most)
    amp = lesser * ((lesser / asked) ** sharp + (lesser / most) ** sharp) ** (-1.0 / sharp)
    by_c, by_b = (amp / asked) ** (sharp + 1) * asked_slope, (amp / most) ** (sharp + 1) * most_slope
    flow[..., 0], flow[..., 1], flow[..., 2] = amp, base, -amp - base
    by_v[..., 0, 0], by_v[..., 0, 1], by_v[..., 0, 2] = by_c, by_b, -by_c - by_b
    by_v[..., 1, 1], by_v[..., 1, 2] = base_slope, -base_slope
    by_v[..., 2, :] = -by_v[..., 0, :] - by_v[..., 1, :]
    return Stamp(flow, by_v)


EQUATIONS = {
    "resistor": resistor,
    "source": source,
    "diode": diode,
    "zener": zener,
    "current_load": current_load,
    "nmos": nmos,
    "pmos": pmos,
    "npn": npn,
    "pnp": pnp,
    "regulator": regulator,
    "converter": converter,
    "amplifier": amplifier,
    "darlington": darlington,
}
