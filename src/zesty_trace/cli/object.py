"""Commands about what the board goes into, and who makes it: template and heights, 1:1 print, board rules."""

from __future__ import annotations

import argparse
import subprocess
import sys
from pathlib import Path

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load
from zesty_trace.errors import StoreError


def object_command(a: argparse.Namespace) -> Answer:
    """Take over a drawing of the object, say how far the parts are off it, move them there, print at 1:1."""
    from zesty_trace.core.board.object import misfits, move_to_template, set_object
    from zesty_trace.journey.foreign import object_of

    said = ""
    if a.dxf:
        wired, _ = load(a.project)
        drawing = object_of(Path(a.dxf), wired.design)
        edit(a.project, lambda w: set_object(w.design, drawing))
        said = f"{len(drawing.rings)} outlines, {len(drawing.holes)} holes, {len(drawing.zones)} zones taken over"
        said += (
            f"; {drawing.unnamed} holes have no part's name beside them and were left out\n"
            if drawing.unnamed
            else "\n"
        )
    if a.move:
        edit(a.project, lambda w: move_to_template(w.design))
    wired, _ = load(a.project)
    if a.print:
        _print(a.project, a.print)
    found = misfits(wired.design)
    data = {
        "print": a.print or "",
        "parts": [
            {
                "ref": m.ref,
                "dx_mm": round(m.dx_mm, 4),
                "dy_mm": round(m.dy_mm, 4),
                "turn_deg": m.turn_deg,
                "tolerance_mm": m.tolerance_mm,
                "turn_tolerance_deg": m.turn_tolerance_deg,
                "fits": m.fits,
            }
            for m in found
        ],
    }
    lines = [
        f"{m.ref:6} dx {m.dx_mm:+8.3f} mm  dy {m.dy_mm:+8.3f} mm  turn {m.turn_deg:+8.2f}°  "
        + ("fits" if m.fits else "OFF")
        for m in found
    ]
    missing = [h.ref for h in wired.design.brief.template if h.ref not in wired.design.board.placements]
    lines += [f"{ref:6} is not on the board" for ref in missing]
    good = all(m.fits for m in found) and not missing
    return (FINE if good else FOUND), data, said + ("\n".join(lines) or "The object holds no part.")


def _print(project: str, pdf: str) -> None:
    """Have the board drawn at 1:1 by a process of its own."""
    command = [sys.executable, "-m", "zesty_trace", "print", project, "--pdf", pdf]
    done = subprocess.run(command, check=False, capture_output=True, text=True)
    if done.returncode:
        told = done.stderr.strip().splitlines()
        raise StoreError(told[-1] if told else "The board could not be drawn", pdf, "Choose another file")


def limits_command(a: argparse.Namespace) -> Answer:
    """Show the board rules, or take those of a set or a board house."""
    import msgspec

    from zesty_trace.core.board.rule_sets import set_rules
    from zesty_trace.journey.limits import rule_sets_for

    known = rule_sets_for(Path(a.project))
    if a.set:
        edit(a.project, lambda w: set_rules(w.design, a.set, known))
    wired, _ = load(a.project)
    rules = msgspec.to_builtins(wired.design.board.rules)
    data = {"rules": rules, "sets": {name: s.title for name, s in known.items()}}
    lines = [
        f"{name.removesuffix('_nm').replace('_', ' '):18} {value / 1e6 if name.endswith('_nm') else value}"
        for name, value in rules.items()
    ]
    lines += ["", "Sets:", *(f"  {name:14} {s.title}" for name, s in known.items())]
    return FINE, data, "\n".join(lines)
