"""The silk screen: outlines, pin-1 marks and references, kept off every mask opening and off each other."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zesty_trace.core.board.copper import (
    board_pads,
    body_shape,
    on_board,
    outline_shape,
    pad_shapes,
    pattern_of,
    to_board,
)
from zesty_trace.core.board.strokes import text_strokes
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import Design, Face
from zesty_trace.core.geometry import buffered

PEN_MM = 0.15
TEXT_MM = 1.0
PAD_GAP_MM = 0.1
Line = tuple[tuple[float, float], ...]
Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Silk:
    """Polylines of one side, mm, all drawn with PEN_MM, references that found no room, whether the name found some."""

    lines: tuple[Line, ...]
    left_out: tuple[str, ...]
    named: bool = False


@worked_out_from(on_board)
def silk_screen(wired: Wired, side: Face) -> Silk:
    """Return the silk screen of one side. Text on the bottom is mirrored so that it reads from below."""
    design = wired.design
    margin = design.board.rules.mask_margin_nm / 1e6
    grow = margin + PAD_GAP_MM + PEN_MM / 2
    keep_off = _KeepOff(pad_shapes([p for p in board_pads(wired) if side in p.layers or p.drill_nm], grow))
    inside = buffered(outline_shape(design), -0.3)
    refs = [
        r for r, s in design.board.placements.items() if r in design.parts and s.side == side and wired.kind(r).pins
    ]
    lines = _clipped([line for ref in refs for line in _part_lines(wired, ref)], keep_off, inside)
    bodies = {r: body_shape(wired, r) for r in refs}
    taken: list[Any] = []
    left_out = []
    free = _Free(bodies, keep_off, inside)
    for ref in refs:
        placed = _place_text(ref, bodies, free, side)
        if placed is None:
            left_out.append(ref)
        else:
            text_lines, room = placed
            lines += text_lines
            taken.append(room)
            free.taken.append(room.bounds)
    name = _name_lines(design, bodies, [*taken, *keep_off.shapes], inside) if side == "top" else []
    return Silk(tuple(lines + name), tuple(left_out), bool(name))


class _KeepOff:
    """The openings of the mask, grown by what silk keeps off."""

    def __init__(self, shapes: Any) -> None:
        from shapely import STRtree

        self.shapes = list(shapes)
        self.tree = STRtree(shapes)

    def meets(self, shape: Any) -> bool:
        """Whether a shape meets one of them."""
        return len(self.tree.query(shape, predicate="intersects")) > 0


class _Free:
    """Where there is room for text: on the board, off mask openings, bodies and other text."""

    def __init__(self, bodies: dict[str, Any], keep_off: _KeepOff, inside: Any) -> None:
        from shapely import STRtree, prepare

        self.refs = list(bodies)
        self.tree = STRtree([bodies[r] for r in self.refs])
        self.keep_off, self.inside = keep_off, inside
        self.taken: list[Box] = []
        prepare(inside)

    def room(self, box: Any, own: str) -> bool:
        """Whether a box is free but for the body of its own part."""
        x0, y0, x1, y1 = box.bounds
        if any(x0 <= b[2] and x1 >= b[0] and y0 <= b[3] and y1 >= b[1] for b in self.taken):
            return False
        if not self.inside.covers(box) or self.keep_off.meets(box):
            return False
        return all(self.refs[k] == own for k in self.tree.query(box, predicate="intersects").tolist())


def _name_lines(design: Design, bodies: dict[str, Any], taken: list[Any], inside: Any) -> list[Line]:
    """Return the board's name and revision at the first free spot, from the lower edge up; none if there is no room."""
    from shapely import STRtree, box

    tree = STRtree([*taken, *bodies.values()])
    x0, y0, x1, y1 = inside.bounds
    for text in (f"{design.name} {design.revision}", f"REV {design.revision}"):
        strokes, width = text_strokes(text, TEXT_MM)
        for y in _steps(y0, y1 - TEXT_MM - 0.24, 1.0):
            for x in _steps(x0, x1 - width - 0.24, 1.5):
                room = box(x, y, x + width + 0.24, y + TEXT_MM + 0.24)
                if inside.covers(room) and not len(tree.query(room, predicate="intersects")):
                    return [tuple((x + 0.12 + px, y + 0.12 + py) for px, py in stroke) for stroke in strokes]
    return []


def _steps(first: float, last: float, step: float) -> list[float]:
    return [first + k * step for k in range(max(0, int((last - first) / step) + 1))]


def _part_lines(wired: Wired, ref: str) -> list[Line]:
    design = wired.design
    pattern, spot = pattern_of(wired, ref), design.board.placements[ref]

    def at(x: float, y: float) -> tuple[float, float]:
        bx, by = to_board(spot, x, y)
        return bx / 1e6, by / 1e6

    lines = [tuple(at(x, y) for x, y in line) for line in pattern.silk]
    if pattern.mark:
        x, y = pattern.mark
        r = 150_000
        ring = [(x + r, y), (x, y + r), (x - r, y), (x, y - r), (x + r, y)]
        lines.append(tuple(at(a, b) for a, b in ring))
    return lines


def _clipped(lines: list[Line], keep_off: _KeepOff, inside: Any) -> list[Line]:
    """Return what is left of lines inside the board and off what is kept free."""
    import numpy as np
    from shapely import covers, difference, intersection, linestrings, union_all

    if not lines:
        return []
    counts = [len(line) for line in lines]
    shapes = linestrings([p for line in lines for p in line], indices=np.repeat(np.arange(len(lines)), counts))
    over = ~covers(inside, shapes)
    shapes[over] = intersection(shapes[over], inside)
    left, right = keep_off.tree.query(shapes, predicate="intersects")
    if len(left):
        order = np.argsort(left, kind="stable")
        which, first, many = np.unique(left[order], return_index=True, return_counts=True)
        near = np.full((len(which), int(many.max())), None, dtype=object)
        row = np.repeat(np.arange(len(which)), many)
        near[row, np.arange(len(left)) - first[row]] = np.array(keep_off.shapes, dtype=object)[right[order]]
        shapes[which] = difference(shapes[which], union_all(near, axis=1))
    pieces = (piece for shape in shapes for piece in getattr(shape, "geoms", [shape]))
    return [tuple(p.coords) for p in pieces if p.geom_type == "LineString" and p.length > 0.15]


def _place_text(ref: str, bodies: dict[str, Any], free: _Free, side: Face) -> tuple[list[Line], Any] | None:
    """Return text lines and the room they take at the first free spot round the part, else None."""
    from shapely import box

    strokes, width = text_strokes(ref, TEXT_MM)
    x0, y0, x1, y1 = bodies[ref].bounds
    cx, cy = (x0 + x1) / 2, (y0 + y1) / 2
    half_w, half_h = width / 2 + 0.12, TEXT_MM / 2 + 0.12
    spots = []
    for gap in (0.35, 0.8, 1.3, 1.9):
        for along in (0.0, -0.7, 0.7, -1.6, 1.6):
            spots += [(cx + along, y1 + gap + half_h), (cx + along, y0 - gap - half_h)]
            spots += [(x1 + gap + half_w, cy + along), (x0 - gap - half_w, cy + along)]
    if x1 - x0 > width + 1.2 and y1 - y0 > TEXT_MM + 1.2:
        spots.insert(0, (cx, cy))
    for x, y in spots:
        room = box(x - half_w, y - half_h, x + half_w, y + half_h)
        if not free.room(room, ref):
            continue
        mirror = -1 if side == "bottom" else 1
        lines = [
            tuple((x + mirror * (px - width / 2), y + py - TEXT_MM / 2) for px, py in stroke) for stroke in strokes
        ]
        return lines, room
    return None
