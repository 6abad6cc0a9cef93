"""Commands about copper that is laid: tidying, pours, and which face parts are on."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design

if TYPE_CHECKING:
    pass


def tidy_command(a: argparse.Namespace) -> Answer:
    """Make routed copper shorter, with fewer vias."""
    from zesty_trace.core.board.tidy import Tidied, tidy

    results: list[Tidied] = []

    def go(wired: Wired) -> Design:
        results.append(tidy(wired))
        return results[0].design

    edit(a.project, go)
    r = results[0]
    data = {
        "length_mm": [round(r.before_mm, 2), round(r.after_mm, 2)],
        "vias": [r.vias_before, r.vias_after],
        "nets": r.nets,
    }
    text = (
        f"{r.before_mm:.0f} mm of track and {r.vias_before} vias before, {r.after_mm:.0f} mm and {r.vias_after} after; "
        f"{len(r.nets)} nets routed again{': ' + ', '.join(r.nets) if r.nets else ''}"
    )
    return FINE, data, text


def faces_command(a: argparse.Namespace) -> Answer:
    """Say what all surface parts on one face would take; with --apply do it."""
    from zesty_trace.core.board.one_face import OneFace, try_one_face

    plans: list[OneFace] = []

    def put(wired: Wired) -> Design:
        plans.append(try_one_face(wired))
        return plans[0].design or wired.design

    if a.apply:
        edit(a.project, put)
    else:
        put(load(a.project)[0])
    plan = plans[0]
    lines = plan.lines()
    if a.apply and plan.design is not None:
        lines.append(f"Done: {len(plan.faces.on_second)} parts moved to the {plan.faces.first}.")
    f = plan.faces
    data = {
        "first": f.first,
        "on_first": f.on_first,
        "on_second": f.on_second,
        "heated_twice_and_sensitive": f.sensitive,
        "may_fall": f.may_fall,
        "need_mm2": round(plan.need_mm2, 1),
        "free_mm2": round(plan.free_mm2, 1),
        "fits": plan.design is not None,
        "why_not": plan.why_not,
        "links_mm": [round(plan.links_before_mm, 1), round(plan.links_after_mm, 1)],
        "applied": bool(a.apply and plan.design is not None),
    }
    return (FOUND if f.both and plan.design is None else FINE), data, "\n".join(lines)


def pour_command(a: argparse.Namespace) -> Answer:
    """Say what the pours fill; with --stitch tie those of all layers together."""
    from zesty_trace.core.board.pour import pour_shapes
    from zesty_trace.core.board.stitch import PITCH_NM, stitch
    from zesty_trace.core.quantities import parse_length_nm as length

    if a.stitch is None:
        wired, _ = load(a.project)
    else:
        pitch = length(a.stitch) if a.stitch else PITCH_NM
        wired, _ = edit(a.project, lambda w: stitch(w, pitch_nm=pitch))
    data = [
        {"net": net, "layer": layer, "pieces": len(area.geoms), "area_mm2": round(area.area, 2)}
        for layer in wired.design.board.stack
        for net, area in pour_shapes(wired, layer)
    ]
    lines = [f"{d['net']} on {d['layer']}: {d['area_mm2']:g} mm² in {d['pieces']} pieces" for d in data]
    return FINE, data, "\n".join(lines) or "There is no pour yet."
