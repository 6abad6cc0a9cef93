"""A board as a DXF drawing in millimetres: outline, holes, copper, bodies and silk, each on a layer of its own."""

from __future__ import annotations

from io import StringIO
from typing import Any

from zesty_trace.core.board.copper import board_pads, body_shape, hole_items, pad_shape
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import COPPER, FACES
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

# Layer -> colour of the DXF index.
COLOURS = {
    "OUTLINE": 7,
    "HOLES": 7,
    "TOP": 30,
    "BOTTOM": 140,
    "INNER1": 210,
    "INNER2": 170,
    "TOP PADS": 30,
    "BOTTOM PADS": 140,
    "INNER1 PADS": 210,
    "INNER2 PADS": 170,
    "TOP POUR": 30,
    "BOTTOM POUR": 140,
    "INNER1 POUR": 210,
    "INNER2 POUR": 170,
    "TOP SILK": 8,
    "BOTTOM SILK": 8,
    "BODIES": 3,
}


def board_dxf(wired: Wired) -> str:
    """Return the drawing as text. EditError without an outline."""
    import ezdxf
    from ezdxf import units

    board = wired.design.board
    if len(board.outline) < 3:
        raise EditError("The board has no outline yet", "outline", "Set its size in the brief first")
    drawing = ezdxf.new("R2010", units=units.MM)  # type: ignore[attr-defined]
    absent = {layer.upper() for layer in COPPER} - {layer.upper() for layer in board.stack}
    for name, colour in COLOURS.items():
        if name.split(" ")[0] in absent:
            continue
        drawing.layers.add(name, color=colour)
    space = drawing.modelspace()
    for ring in (board.outline, *board.cutouts):
        _closed(space, [(mm(x), mm(y)) for x, y in ring], "OUTLINE")
    _holes(space, wired)
    _copper(space, wired)
    for face in FACES:
        for line in silk_screen(wired, face).lines:
            space.add_lwpolyline(line, dxfattribs={"layer": f"{face.upper()} SILK"})
    for ref in board.placements:
        if ref in wired.design.parts and wired.kind(ref).assembled:
            _area(space, body_shape(wired, ref), "BODIES")
    text = StringIO()
    drawing.write(text)
    return text.getvalue()


def _holes(space: Any, wired: Wired) -> None:
    for hole in hole_items(wired):
        if hole.slot:
            ends = [(mm(hole.x_nm), mm(hole.y_nm)), (mm(hole.x2_nm), mm(hole.y2_nm))]
            _wide(space, ends, mm(hole.drill_nm), "HOLES")
        else:
            space.add_circle((mm(hole.x_nm), mm(hole.y_nm)), mm(hole.drill_nm) / 2, dxfattribs={"layer": "HOLES"})


def _copper(space: Any, wired: Wired) -> None:
    for track in wired.design.board.tracks:
        _wide(space, [(mm(x), mm(y)) for x, y in track.points], mm(track.width_nm), track.layer.upper())
    for layer in wired.design.board.stack:
        pads = f"{layer.upper()} PADS"
        for via in wired.design.board.vias:
            space.add_circle((mm(via.x_nm), mm(via.y_nm)), mm(via.diameter_nm) / 2, dxfattribs={"layer": pads})
        for pad in board_pads(wired):
            if layer in pad.layers:
                _area(space, pad_shape(pad), pads)
        for _, area in pour_shapes(wired, layer):
            for piece in area.geoms:
                _area(space, piece, f"{layer.upper()} POUR")


def _closed(space: Any, points: list[tuple[float, float]], layer: str) -> None:
    space.add_lwpolyline(points, close=True, dxfattribs={"layer": layer})


def _wide(space: Any, points: list[tuple[float, float]], width: float, layer: str) -> None:
    space.add_lwpolyline(points, dxfattribs={"layer": layer, "const_width": width})


def _area(space: Any, shape: Any, layer: str) -> None:
    for ring in (shape.exterior, *shape.interiors):
        _closed(space, list(ring.coords)[:-1], layer)
