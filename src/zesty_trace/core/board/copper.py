"""Copper on the board: pads where placements put them, and shapes for everything that conducts.

Shapes are shapely geometries in millimetres, y up, seen from the top; the design keeps integer nanometres.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

from zesty_trace.core.catalogue.land_patterns import LandPattern, Pad, land_pattern
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import FACES, Design, KeepOut, LayerName, Pin, Placement, Track, Via
from zesty_trace.core.geometry import Box, Point, rotate
from zesty_trace.core.quantities import mm

Node = tuple[object, ...]


@dataclass(frozen=True)
class BoardPad:
    """A pad at its place on the board. `layers` is where it has copper; an unplated hole has none."""

    pin: Pin
    net: str
    x_nm: int
    y_nm: int
    width_nm: int
    height_nm: int
    angle_mdeg: int
    shape: str
    drill_nm: int
    plated: bool
    layers: tuple[LayerName, ...]
    slot_nm: int = 0
    paste: bool = True

    @property
    def ends(self) -> tuple[Point, Point]:
        """The middles of both ends of its hole: the same but for a slot, which lies along its longer way."""
        half = max(0, self.slot_nm - self.drill_nm) / 2
        long = (half, 0.0) if self.width_nm >= self.height_nm else (0.0, half)
        dx, dy = rotate(*long, self.angle_mdeg)
        a = Point(round(self.x_nm - dx), round(self.y_nm - dy))
        return a, Point(round(self.x_nm + dx), round(self.y_nm + dy))


def pattern_of(wired: Wired, ref: str) -> LandPattern:
    """Return the land pattern of a part."""
    return land_pattern(wired.package(ref))


def height_nm(wired: Wired, ref: str) -> int:
    """Return how far a part reaches above its face of the board, its socket, spacers or headers counted in."""
    return pattern_of(wired, ref).height_nm + seat_nm(wired, ref)


def seat_nm(wired: Wired, ref: str) -> int:
    """Return how high above the board a part sits: its socket or spacers, or the headers that it stands on."""
    headers = [pattern_of(wired, r).height_nm for r in wired.standing.get(ref, ()) if r in wired.design.parts]
    return wired.design.parts[ref].raised_nm + max(headers, default=0)


def to_board(placement: Placement, x: float, y: float) -> tuple[float, float]:
    """Return a point of the part's own frame on the board; a part on the bottom is mirrored about its y axis first."""
    if placement.side == "bottom":
        x = -x
    dx, dy = rotate(x, y, placement.angle_mdeg)
    return placement.x_nm + dx, placement.y_nm + dy


def on_board(wired: Wired) -> tuple[Any, ...]:
    """Return all that the shapes on a board depend on.

    What is worked out from them is kept while this stays the same.
    """
    return wired.catalogue, wired.design.board, wired.design.nets, wired.footprints, wired.raised, wired.standing


def board_pads(wired: Wired, refs: Iterable[str] | None = None) -> list[BoardPad]:
    """Return the pads of all placed parts (or of `refs`)."""
    return list(_all_pads(wired)) if refs is None else _pads_of(wired, refs)


@worked_out_from(on_board)
def _all_pads(wired: Wired) -> tuple[BoardPad, ...]:
    return tuple(_pads_of(wired, wired.design.board.placements))


def _pads_of(wired: Wired, refs: Iterable[str]) -> list[BoardPad]:
    design = wired.design
    net_of = wired.net_of
    found = []
    through = design.board.rules.plated_through
    for ref in refs:
        placement = design.board.placements.get(ref)
        if placement is None or ref not in design.parts or ref in wired.standing:
            continue
        joined = joined_pads(wired, ref)
        for pad in pattern_of(wired, ref).pads:
            found.append(_place_pad(pad, Pin(ref, joined.get(pad.number, pad.number)), placement, net_of, through))
    return found


def joined_pads(wired: Wired, ref: str) -> dict[str, str]:
    """Return the pads below a chip that are no pin of their own, and the ground pin that each belongs to.

    The pad below a chip is its ground but for few (common practice): a kind for which it is not lists it as a pin.
    """
    kind = wired.kind(ref)
    numbers = {p.number for p in kind.pins}
    ground = kind.of_role("ground")
    if ground is None:
        return {}
    return {w.number: ground.number for w in pattern_of(wired, ref).windows if w.number not in numbers}


def paste_windows(wired: Wired, ref: str) -> list[BoardPad]:
    """Return the openings of the stencil for the pad below a placed part."""
    placement = wired.design.board.placements[ref]
    windows = pattern_of(wired, ref).windows
    return [_place_pad(w, Pin(ref, w.number), placement, {}) for w in windows]


def _place_pad(
    pad: Pad, pin: Pin, placement: Placement, net_of: dict[Pin, str], through: tuple[LayerName, ...] = FACES
) -> BoardPad:
    x, y = to_board(placement, pad.x_nm, pad.y_nm)
    layers: tuple[LayerName, ...] = through if pad.drill_nm and pad.plated else (placement.side,)
    if pad.drill_nm and not pad.plated:
        layers = ()
    return BoardPad(
        pin,
        net_of.get(pin, ""),
        round(x),
        round(y),
        pad.width_nm,
        pad.height_nm,
        placement.angle_mdeg,
        pad.shape,
        pad.drill_nm,
        pad.plated,
        layers,
        pad.slot_nm,
        pad.paste,
    )


def pad_shape(pad: BoardPad, grow_mm: float = 0.0) -> Any:
    """Return the polygon of a pad, grown by `grow_mm`."""
    return pad_shapes([pad], grow_mm)[0]


def pad_shapes(pads: Sequence[BoardPad], grow_mm: float = 0.0) -> Any:
    """Return the polygons of pads as an array, grown by `grow_mm`; those of rectangles keep their corners."""
    import numpy as np
    from shapely import buffer, polygons

    found = np.empty(len(pads), dtype=object)
    cores, radii, solid = pad_lines(pads)
    if solid.any():
        found[solid] = buffer(cores[solid], radii[solid] + grow_mm, quad_segs=16)
    if not solid.all():
        boxes = [p for p, s in zip(pads, solid, strict=True) if not s]
        found[~solid] = polygons(_corners(boxes, grow_mm))
    return found


@worked_out_from(on_board)
def pad_polygons(wired: Wired) -> Any:
    """Return the polygons of `board_pads` as an array, in their order."""
    return pad_shapes(board_pads(wired))


def pad_lines(pads: Sequence[BoardPad]) -> tuple[Any, Any, Any]:
    """Return what pads are as lines grown by a radius, mm, and for which this is their shape: not for rectangles."""
    import numpy as np
    from shapely import linestrings, points

    rows = np.zeros((len(pads), 6))
    axes = {turn: (rotate(1.0, 0.0, turn), rotate(0.0, 1.0, turn)) for turn in {p.angle_mdeg for p in pads}}
    for k, pad in enumerate(pads):
        w, h = mm(pad.width_nm), mm(pad.height_nm)
        rest = abs(w - h) / 2
        ux, uy = axes[pad.angle_mdeg][0 if w > h else 1]
        dx, dy = ux * rest, uy * rest
        x, y = mm(pad.x_nm), mm(pad.y_nm)
        rows[k] = (x - dx, y - dy, x + dx, y + dy, min(w, h) / 2, pad.shape in ("oblong", "round"))
    lines = np.empty(len(pads), dtype=object)
    spot = (rows[:, 0] == rows[:, 2]) & (rows[:, 1] == rows[:, 3])
    if spot.any():
        lines[spot] = points(rows[spot, :2])
    if not spot.all():
        lines[~spot] = linestrings(rows[~spot, :4].reshape(-1, 2, 2))
    return lines, rows[:, 4], rows[:, 5] > 0


def _corners(pads: Sequence[BoardPad], grow_mm: float) -> Any:
    """Return the corners of rectangular pads, grown, counter-clockwise (n, 4, 2), mm."""
    import numpy as np

    rows = np.array([(mm(p.x_nm), mm(p.y_nm), mm(p.width_nm) / 2, mm(p.height_nm) / 2) for p in pads])
    turns = {p.angle_mdeg for p in pads}
    axes = {turn: (*rotate(1.0, 0.0, turn), *rotate(0.0, 1.0, turn)) for turn in turns}
    along = np.array([axes[p.angle_mdeg] for p in pads])
    u, v = (
        along[:, None, :2] * (rows[:, 2] + grow_mm)[:, None, None],
        along[:, None, 2:] * (rows[:, 3] + grow_mm)[:, None, None],
    )
    middle = rows[:, None, :2]
    return np.concatenate([middle - u - v, middle + u - v, middle + u + v, middle - u + v], axis=1)


def outline_shape(design: Design) -> Any:
    """Return the board's polygon, its cut-outs taken out; empty if it has no outline that holds anything."""
    from shapely import Polygon, make_valid, unary_union

    if len(design.board.outline) < 3:
        return Polygon()
    shape = make_valid(Polygon([(mm(x), mm(y)) for x, y in design.board.outline]))
    holes = [Polygon([(mm(x), mm(y)) for x, y in cut]) for cut in design.board.cutouts if len(cut) > 2]
    return shape.difference(unary_union(holes)) if holes else shape


@worked_out_from(on_board)
def keepouts_of(wired: Wired) -> tuple[KeepOut, ...]:
    """Return the keep-outs of the board, and the ends of its modules that radiate: no copper below them."""
    own = wired.design.board.keepouts
    found = [antenna_zone(wired, ref) for ref in wired.design.board.placements if ref in wired.design.parts]
    return (*own, *(zone for zone in found if zone is not None))


def antenna_zone(wired: Wired, ref: str) -> KeepOut | None:
    """Return the room below the end of a placed module that radiates; None for other parts."""
    deep = wired.package(ref).antenna
    if not deep:
        return None
    x0, _, x1, y1 = pattern_of(wired, ref).body
    low = y1 - deep * 1e6
    spot = wired.design.board.placements[ref]
    corners = [to_board(spot, x, y) for x, y in ((x0, low), (x1, low), (x1, y1), (x0, y1))]
    outline = tuple(Point(round(x), round(y)) for x, y in corners)
    return KeepOut(name=f"the antenna end of {ref}", outline=outline)


def courtyard_shape(wired: Wired, ref: str, placement: Placement | None = None) -> Any:
    """Return the rectangle that a placed part keeps for itself."""
    design = wired.design
    return _rectangle(pattern_of(wired, ref).courtyard, placement or design.board.placements[ref])


def body_shape(wired: Wired, ref: str) -> Any:
    """Return the rectangle of a placed part's body."""
    design = wired.design
    return _rectangle(pattern_of(wired, ref).body, design.board.placements[ref])


@lru_cache(maxsize=8192)
def _rectangle(rectangle: Box, placement: Placement) -> Any:
    from shapely import Polygon

    x0, y0, x1, y1 = rectangle
    points = [to_board(placement, x, y) for x, y in ((x0, y0), (x1, y0), (x1, y1), (x0, y1))]
    return Polygon([(x / 1e6, y / 1e6) for x, y in points])


@dataclass(frozen=True)
class Copper:
    """A piece of copper on one layer: its net, its shape, and what it is.

    `node` is its identity: the same for a pad or a via on both layers.
    """

    net: str
    layer: LayerName
    shape: Any
    what: str
    node: Node


def pad_node(pad: BoardPad) -> Node:
    """Return the identity of a pad: a pin may have several."""
    return "pad", pad.pin, pad.x_nm, pad.y_nm


def same_part(a: Copper, b: Copper) -> bool:
    """Whether both are pads of one part."""
    return a.node[0] == b.node[0] == "pad" and a.node[1].ref == b.node[1].ref  # type: ignore[attr-defined]


class Laid(NamedTuple):
    """The copper of a layer, pours left out: `lines` grown by `radii` are its shapes, mm."""

    items: tuple[Copper, ...]
    lines: Any
    radii: Any


@worked_out_from(on_board)
def laid_copper(wired: Wired, layer: LayerName) -> Laid:
    """Return pads, tracks and vias of a layer, as shapes and as lines with a radius."""
    board = wired.design.board
    shapes = pad_polygons(wired)
    pads = [(pad, shapes[k]) for k, pad in enumerate(board_pads(wired)) if layer in pad.layers]
    tracks: dict[Node, Track] = {("track", k): t for k, t in enumerate(board.tracks) if t.layer == layer}
    return lay(layer, pads, tracks, {("via", k): v for k, v in enumerate(board.vias)})


def lay(
    layer: LayerName, pads: Sequence[tuple[BoardPad, Any]], tracks: Mapping[Node, Track], vias: Mapping[Node, Via]
) -> Laid:
    """Return pads with their polygons, tracks and vias as copper of a layer, in this order."""
    import numpy as np
    from shapely import linestrings, points

    items: list[Copper] = []
    lines, radii = [np.empty(0, dtype=object)], [np.empty(0)]
    if pads:
        cores, radius, solid = pad_lines([pad for pad, _ in pads])
        shapes = np.empty(len(pads), dtype=object)
        shapes[:] = [shape for _, shape in pads]
        items += [Copper(p.net, layer, s, f"pad {p.pin}", pad_node(p)) for p, s in pads]
        lines.append(np.where(solid, cores, shapes))
        radii.append(np.where(solid, radius, 0.0))
    if tracks:
        counts = [len(t.points) for t in tracks.values()]
        spots = np.array([p for t in tracks.values() for p in t.points], dtype=float) / 1e6
        lines.append(linestrings(spots, indices=np.repeat(np.arange(len(tracks)), counts)))
        radii.append(np.array([mm(t.width_nm) / 2 for t in tracks.values()]))
        grown = _round(lines[-1], radii[-1])
        items += [Copper(t.net, layer, s, "track", k) for (k, t), s in zip(tracks.items(), grown, strict=True)]
    if vias:
        lines.append(points(np.array([(v.x_nm, v.y_nm) for v in vias.values()], dtype=float) / 1e6))
        radii.append(np.array([mm(v.diameter_nm) / 2 for v in vias.values()]))
        grown = _round(lines[-1], radii[-1])
        items += [Copper(v.net, layer, s, "via", k) for (k, v), s in zip(vias.items(), grown, strict=True)]
    return Laid(tuple(items), np.concatenate(lines), np.concatenate(radii))


def copper_items(wired: Wired, layer: LayerName) -> tuple[Copper, ...]:
    """Return pads, tracks and vias of a layer, pours left out."""
    return laid_copper(wired, layer).items


FINE_MM = 0.3  # round shapes up to this radius have fewer chords: they leave the circle by 1.5 um at most


def _round(cores: Any, radii: Any) -> Any:
    """Return lines and points grown to their radius; chords leave the circle by about 1.5 um."""
    import numpy as np
    from shapely import buffer

    shapes = np.empty(len(cores), dtype=object)
    for fine in (True, False):
        mine = (radii <= FINE_MM) == fine
        if mine.any():
            shapes[mine] = buffer(cores[mine], radii[mine], quad_segs=8 if fine else 16)
    return shapes


class Hole(NamedTuple):
    """A drilled hole, or a slot from (x, y) to (x2, y2) as wide as its drill."""

    x_nm: int
    y_nm: int
    drill_nm: int
    plated: bool
    net: str
    x2_nm: int
    y2_nm: int

    @property
    def slot(self) -> bool:
        """Whether it is longer than wide."""
        return (self.x_nm, self.y_nm) != (self.x2_nm, self.y2_nm)


def hole_shape(hole: Hole, grow_mm: float = 0.0) -> Any:
    """Return the polygon of a hole, grown by `grow_mm`."""
    return hole_shapes([hole], grow_mm)[0]


def hole_shapes(holes: Sequence[Hole], grow_mm: float = 0.0) -> Any:
    """Return the polygons of holes as an array, grown by `grow_mm`."""
    import numpy as np
    from shapely import buffer, linestrings, points

    slots = np.array([h.slot for h in holes], dtype=bool)
    ends = np.array([(h.x_nm, h.y_nm, h.x2_nm, h.y2_nm) for h in holes], dtype=float).reshape(-1, 2, 2) / 1e6
    cores = np.empty(len(holes), dtype=object)
    cores[slots], cores[~slots] = linestrings(ends[slots]), points(ends[~slots, 0])
    return buffer(cores, np.array([mm(h.drill_nm) / 2 + grow_mm for h in holes]), quad_segs=16)


def pad_hole(pad: BoardPad) -> Hole:
    """Return the hole of a pad."""
    a, b = pad.ends
    return Hole(a.x_nm, a.y_nm, pad.drill_nm, pad.plated, pad.net, b.x_nm, b.y_nm)


@worked_out_from(on_board)
def hole_items(wired: Wired) -> tuple[Hole, ...]:
    """Return every hole, those of parts first."""
    pads = (pad_hole(p) for p in board_pads(wired) if p.drill_nm)
    vias = (Hole(v.x_nm, v.y_nm, v.drill_nm, True, v.net, v.x_nm, v.y_nm) for v in wired.design.board.vias)
    return (*pads, *vias)
