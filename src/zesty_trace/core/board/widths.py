"""Track width from current."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zesty_trace.core.board.copper import BoardPad, board_pads
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, LayerName, Pin, Rules
from zesty_trace.core.quantities import NM_PER_MIL
from zesty_trace.errors import SolveError

STEP_NM = 50_000
WIDEST_NM = 3_000_000
LIGHT_SHARE = 0.3  # of the widest: legs from this share on, where pieces carry several
HEAVY_SHARE = 0.6  # of the widest: heavy legs share copper, so each takes the width of the whole


def ipc2221_width_nm(current_a: float, rise_c: float, copper_um: float, outer: bool = True) -> float:
    """Return the track width (nm) that carries `current_a` with a temperature rise of `rise_c`.

    I = k x dT^0.44 x A^0.725, A in square mils, k = 0.048 outside and 0.024 inside the board (IPC-2221, 6.2).
    ValueError for a rise or a thickness that is not above zero.
    """
    if rise_c <= 0 or copper_um <= 0:
        raise ValueError("temperature rise and copper thickness must be above zero")
    k = 0.048 if outer else 0.024
    area_mil2 = (abs(current_a) / (k * rise_c**0.44)) ** (1 / 0.725)
    thickness_mil = copper_um / 25.4
    return float(area_mil2 / thickness_mil * NM_PER_MIL)


def net_currents(wired: Wired) -> dict[str, float]:
    """Return the largest current that a pin takes from or gives to each net, over all operating states, A."""
    design = wired.design
    peaks = analyse(wired).pin_peaks()
    return {net: max((peaks.get(p, 0.0) for p in pins), default=0.0) for net, pins in design.nets.items()}


def needed_width_nm(current_a: float, rules: Rules, layer: LayerName) -> float:
    """Return the width that carries a current on a layer, by IPC-2221: inner ones are thinner, and shed less heat."""
    return ipc2221_width_nm(current_a, rules.temperature_rise_c, rules.foil_um(layer), layer in FACES)


def width_for(current_a: float, rules: Rules, layer: LayerName = "top") -> int:
    """Return the width to draw: by IPC-2221, in steps of 0.05 mm, never under the rule's least width."""
    needed = needed_width_nm(current_a, rules, layer)
    steps = -(-int(needed) // STEP_NM) * STEP_NM
    return min(max(steps, rules.track_nm), WIDEST_NM)


def widths_of(wired: Wired, heavy: frozenset[str] = frozenset()) -> Callable[[BoardPad], int]:
    """Return the width of the track to a pad, nm, for its current; on `heavy` nets that of the trunk for more legs."""
    rules = wired.design.board.rules
    try:
        peaks: Mapping[Pin, float] = analyse(wired).pin_peaks()
    except SolveError:
        peaks = {}
    by_net: dict[str, list[BoardPad]] = {}
    for pad in board_pads(wired):
        if pad.net and pad.layers:
            by_net.setdefault(pad.net, []).append(pad)
    planes = {p.layer for p in wired.design.board.pours}
    layer = next((k for k in wired.design.board.stack if k not in FACES and k not in planes), FACES[0])
    found: dict[tuple[Pin, int, int], int] = {}
    for pads in by_net.values():
        least = max((c.width_nm for c in wired.design.board.classes if pads[0].net in c.nets), default=0)
        own = [max(least, width_for(peaks.get(p.pin, 0.0), rules, layer)) for p in pads]
        trunk = max(own)
        for pad, width in zip(pads, own, strict=True):
            share = LIGHT_SHARE if pad.net in heavy else HEAVY_SHARE
            wide = trunk if width >= share * trunk and trunk > rules.track_nm else width
            found[pad.pin, pad.x_nm, pad.y_nm] = wide
    return lambda pad: found.get((pad.pin, pad.x_nm, pad.y_nm), rules.track_nm)
