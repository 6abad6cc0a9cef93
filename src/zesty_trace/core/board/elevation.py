"""The board from its side: how far each part reaches above and below it, against the room that the case has."""

from __future__ import annotations

from typing import NamedTuple

from zesty_trace.core.board.copper import body_shape, height_nm, outline_shape
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import mm


class SideBox(NamedTuple):
    """A part from the side, mm: along the board, and up from its top face (below it for parts on the bottom)."""

    ref: str
    box: Box
    too_tall: bool


class Elevation(NamedTuple):
    """The board from its side. `room` is where the lid is, mm above the top face; the case's floor is the board's."""

    board: Box
    parts: tuple[SideBox, ...]
    room_mm: float


def elevation(wired: Wired, from_right: bool = False) -> Elevation:
    """Return the board as seen from its front edge (along y), or from its right one, tallest parts first."""
    design = wired.design
    shape = outline_shape(design)
    x0, y0, x1, y1 = shape.bounds if not shape.is_empty else (0.0, 0.0, 0.0, 0.0)
    thick = mm(design.board.rules.thickness_nm)
    near, far = (y0, y1) if from_right else (x0, x1)
    room = mm(design.brief.case_depth_nm) - thick
    found = []
    for ref, spot in design.board.placements.items():
        if ref not in design.parts or not wired.kind(ref).assembled:
            continue
        bx0, by0, bx1, by1 = body_shape(wired, ref).bounds
        a, b = (by0, by1) if from_right else (bx0, bx1)
        tall = mm(height_nm(wired, ref))
        box = Box(a, 0.0, b, tall) if spot.side == "top" else Box(a, -thick - tall, b, -thick)
        found.append(SideBox(ref, box, tall > room))
    found.sort(key=lambda s: -s.box.height)
    return Elevation(Box(near, -thick, far, 0.0), tuple(found), room)
