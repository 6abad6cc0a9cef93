"""Commands that measure copper: what holds a pad, resistance, heat."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING

from zesty_trace.cli.common import FINE, Answer, load
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.quantities import mm, say
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.core.board.fields.conduction import Probe

LEAST_W = 1e-3


def pin_of(design: Design, text: str) -> Pin:
    """Return the pin that `U3.14` names. InputError if there is none."""
    ref, dot, number = text.rpartition(".")
    if not dot or ref not in design.parts:
        raise InputError(f"“{text}” is no pin", text, "Write part and pin, for example U3.14")
    return Pin(ref, number)


def isolate_command(a: argparse.Namespace) -> Answer:
    """Say what holds a pad to its net, and whether a blade reaches it."""
    from zesty_trace.core.board.fields.holding import holds_of

    wired, _ = load(a.project)
    holds = holds_of(wired, pin_of(wired.design, a.pin), a.net)
    data = [
        {
            "what": h.what,
            "layer": h.layer,
            "x_mm": mm(h.at.x_nm),
            "y_mm": mm(h.at.y_nm),
            "width_mm": round(h.width_mm, 3),
            "reachable": h.reachable,
            "covered_by": h.covered,
        }
        for h in holds
    ]
    if not holds:
        return FINE, data, f"Nothing holds {a.pin} to {a.net}: there is no copper at its pad but the pad."
    count = "One thing holds" if len(holds) == 1 else f"{len(holds)} things hold"
    return FINE, data, f"{count} {a.pin} to {a.net}:\n" + "\n".join(f"  {h}" for h in holds)


def place_of(design: Design, text: str) -> Pin | Probe:
    """Return the pin that `U3.14` names, or the place that `12.5,8,top` does, in mm. InputError for others."""
    from zesty_trace.core.board.fields.conduction import Probe

    words = [w.strip() for w in text.split(",")]
    if len(words) == 1:
        return pin_of(design, text)
    layer = next((k for k in design.board.stack if len(words) == 3 and k == words[2].lower()), None)
    try:
        x, y = (float(w) for w in words[:2])
    except ValueError:
        layer = None
    if layer is None or not math.isfinite(x) or not math.isfinite(y):
        layers = ", ".join(design.board.stack)
        raise InputError(f"“{text}” is no place", text, f"Write x,y,layer in mm, for example 12.5,8,top ({layers})")
    return Probe(x, y, layer)


def resistance_command(a: argparse.Namespace) -> Answer:
    """Say what resistance the copper between two places of a net has."""
    from zesty_trace.core.board.fields.conduction import resistance

    wired, _ = load(a.project)
    one, two = (place_of(wired.design, t) for t in (a.one, a.two))
    found = resistance(wired, one, two).resistance_ohm
    data = {"from": str(one), "to": str(two), "ohm": found, "copper_um": wired.design.board.rules.copper_um}
    text = f"{say(found, 'Ω')} of copper from {one} to {two} at 20 °C ({wired.design.board.rules.copper_um:g} µm)"
    return FINE, data, text


def current_command(a: argparse.Namespace) -> Answer:
    """Say how dense the current is in the copper of a net, and what it loses."""
    from zesty_trace.core.board.fields.density import busiest_net, flow_of

    wired, _ = load(a.project)
    flow = flow_of(wired, a.net or busiest_net(wired))
    data = {
        "net": flow.net,
        "state": flow.state,
        "current_a": flow.current_a,
        "densest_a_mm2": round(flow.most_a_mm2, 1),
        "x_mm": mm(flow.densest.x_nm),
        "y_mm": mm(flow.densest.y_nm),
        "layer": flow.densest_on,
        "drop_v": flow.drop_v,
        "loss_w": flow.loss_w,
    }
    text = (
        f"{flow.net} carries {say(flow.current_a, 'A')} in “{flow.state}”: densest {flow.most_a_mm2:.0f} A/mm² at "
        f"{mm(flow.densest.x_nm):.1f}, {mm(flow.densest.y_nm):.1f} mm on {flow.densest_on}. "
        f"Its copper drops {say(flow.drop_v, 'V')} and loses {say(flow.loss_w, 'W')}."
    )
    return FINE, data, text


def heat_command(a: argparse.Namespace) -> Answer:
    """Say how warm the board gets below each part that heats."""
    from zesty_trace.core.board.fields.heat import heat_picture

    wired, _ = load(a.project)
    picture = heat_picture(wired)
    data = {
        "hottest_k": round(picture.hottest_k, 2),
        "cell_mm": picture.cell_mm,
        "parts": [{"ref": p.ref, "power_w": round(p.power_w, 4), "rise_k": round(p.rise_k, 2)} for p in picture.parts],
    }
    lines = [f"The board gets up to {picture.hottest_k:.0f} °C warmer than the air, in still air, both faces free:"]
    lines += [
        f"  {p.ref}: {say(p.power_w, 'W')}, {p.rise_k:.1f} °C over ambient"
        for p in picture.parts
        if p.power_w > LEAST_W
    ]
    return FINE, data, "\n".join(lines)
