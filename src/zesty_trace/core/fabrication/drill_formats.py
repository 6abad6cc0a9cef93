"""How a drill file is to be read that does not say so: as its holes come to lie on the pads of the copper files."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import product

import numpy as np

from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.drill_image import DrillFormat, DrillImage
from zesty_trace.core.gerber.image import GerberImage
from zesty_trace.errors import InputError

DIGITS = ((2, 4), (3, 3), (2, 5), (3, 2), (4, 2), (4, 4), (3, 4), (2, 3))
ON_PAD_MM = 0.06
MOSTLY = 0.6


def on_pads(drill: DrillImage, images: Iterable[GerberImage]) -> float:
    """Return the share of holes that lie in the middle of a flash of copper; 0 where there is nothing to compare."""
    from scipy.spatial import cKDTree

    pads = [m.points[0] for image in images for m in image.marks if m.kind == "flash" and m.dark]
    spots = [h.points[0] for h in drill.holes if not h.slot]
    if not pads or not spots:
        return 0.0
    away, _ = cKDTree(np.array(pads)).query(np.array(spots))
    return float((away < ON_PAD_MM).mean())


def settled_drill(drill: DrillImage, text: str, images: list[GerberImage]) -> tuple[DrillImage, str]:
    """Return a drill file read as most of its holes lie on pads, and that in words; itself and "" if nothing tells."""
    best, share = drill, on_pads(drill, images)
    for unit, (before, after), zeros in product((1.0, 25.4), DIGITS, ("trailing", "leading")):
        try:
            read = read_drill(text, drill.name, DrillFormat(unit, before, after, zeros))
        except InputError:
            continue
        found = on_pads(read, images)
        if found > share + 1e-9:
            best, share = read, found
    if share < MOSTLY:
        return drill, ""
    count = round(share * len(best.holes))
    return best, f"{drill.name} is read as {best.format}: {count} of {len(best.holes)} holes then lie on pads"
