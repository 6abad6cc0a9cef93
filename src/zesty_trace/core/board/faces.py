"""Faces: which surface parts are on which, and what the second heating means for them.

A part on the lower face hangs on its solder during the second heating. It stays up while it weighs no more than
MOST_G_PER_IN2 for its pads (common practice). Weights are estimated from the body: SOLID_G_PER_CM3 times its volume.
"""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.board.copper import board_pads, pattern_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Face
from zesty_trace.core.quantities import mm

MOST_G_PER_IN2 = 30.0
SOLID_G_PER_CM3 = 2.5
MM2_PER_IN2 = 645.16


@dataclass(frozen=True)
class Faces:
    """Surface parts by face. `second` is the face with fewer: heated first, it hangs during the second heating."""

    first: Face
    second: Face
    on_first: tuple[str, ...]
    on_second: tuple[str, ...]
    sensitive: tuple[str, ...]
    may_fall: tuple[str, ...]

    @property
    def both(self) -> bool:
        """Whether two heatings are needed."""
        return bool(self.on_second)


def second_heating(f: Faces) -> list[str]:
    """Return what two heatings cost, in sentences."""
    lines = [
        "Two faces mean a second stencil, a second print of paste on every board, and a second run of the oven for it."
    ]
    if f.sensitive:
        lines.append(f"Heated twice, and sensitive to it: {', '.join(f.sensitive)}. Solder them by hand, last.")
    if f.may_fall:
        lines.append(f"Too heavy for their pads to hang on molten solder (by estimate): {', '.join(f.may_fall)}.")
    return lines


def faces_of(wired: Wired) -> Faces:
    """Return which surface parts are on which face, and what a second heating means for them."""
    placements = wired.design.board.placements
    by_side: dict[Face, list[str]] = {"top": [], "bottom": []}
    for ref, spot in placements.items():
        if ref in wired.design.parts and wired.kind(ref).assembled and pattern_of(wired, ref).surface_mount:
            by_side[spot.side].append(ref)
    first: Face = "bottom" if len(by_side["bottom"]) > len(by_side["top"]) else "top"
    second: Face = "top" if first == "bottom" else "bottom"
    twice = by_side[second] if by_side[second] else []
    return Faces(
        first,
        second,
        tuple(by_side[first]),
        tuple(by_side[second]),
        tuple(r for r in twice if wired.kind(r).heat_sensitive),
        tuple(r for r in twice if grams_per_in2(wired, r) > MOST_G_PER_IN2),
    )


def grams_per_in2(wired: Wired, ref: str) -> float:
    """Return what a part weighs for the area of its pads, g per square inch, from the size of its body."""
    pattern = pattern_of(wired, ref)
    grams = pattern.body.area / 1e12 * mm(pattern.height_nm) / 1000 * SOLID_G_PER_CM3
    pads = sum(mm(p.width_nm) * mm(p.height_nm) for p in board_pads(wired, (ref,)) if p.layers)
    return grams / (pads / MM2_PER_IN2) if pads else 0.0
