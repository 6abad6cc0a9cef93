"""The object that the board goes into: its holes, and how far each part is from the one that it belongs to."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from msgspec.structs import replace

from zesty_trace.core.board.outline import SAGITTA_NM
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, KeepOut, Outline, TemplateHole
from zesty_trace.core.dxf import open_dxf
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, nm
from zesty_trace.errors import InputError, own_words

NEAR_MM = 3.0  # a text names the circle, point or line that is no farther
_HEIGHT = re.compile(r"^(?:HEIGHT|ROOM)[ _-]*(\d+(?:\.\d+)?)(?:[ _-]*(?:MM)?)(?:[ _-]*(TOP|BOTTOM))?$", re.I)


@dataclass(frozen=True)
class Misfit:
    """How far a part is from its hole in the object, mm and degrees, and what is tolerated."""

    ref: str
    dx_mm: float
    dy_mm: float
    turn_deg: float
    tolerance_mm: float
    turn_tolerance_deg: float

    @property
    def off_mm(self) -> float:
        """The distance."""
        return float((self.dx_mm**2 + self.dy_mm**2) ** 0.5)

    @property
    def fits(self) -> bool:
        """Whether it is within both tolerances."""
        return self.off_mm <= self.tolerance_mm + 1e-9 and abs(self.turn_deg) <= self.turn_tolerance_deg + 1e-9


def misfits(design: Design) -> list[Misfit]:
    """Return every placed part of the template with how far it is off its hole, those that fit too."""
    found = []
    for hole in design.brief.template:
        spot = design.board.placements.get(hole.ref)
        if spot is None:
            continue
        turn = (spot.angle_mdeg - hole.angle_mdeg + 180_000) % 360_000 - 180_000
        found.append(
            Misfit(
                hole.ref,
                mm(spot.x_nm - hole.x_nm),
                mm(spot.y_nm - hole.y_nm),
                turn / 1000,
                mm(hole.tolerance_nm),
                hole.turn_mdeg / 1000,
            )
        )
    return found


@dataclass
class ObjectDrawing:
    """What a drawing of the object says: outline, holes for parts, zones that are closed or have little height."""

    rings: list[Outline] = field(default_factory=list)
    holes: list[TemplateHole] = field(default_factory=list)
    zones: list[KeepOut] = field(default_factory=list)
    unnamed: int = 0


@own_words("drawing")
def read_object(text: str, design: Design, where: str = "object.dxf") -> ObjectDrawing:
    """Return what a DXF drawing of the object says. InputError if it is no drawing, or says nothing.

    By layer: OUTLINE has the board's outline and its cut-outs; TEMPLATE points and circles, each with a text beside it
    that names a part, and after a blank its turn in degrees; KEEPOUT closed lines; HEIGHT 8.5 (TOP, BOTTOM) closed
    lines with that much room above the board. The lower left corner of the outline is the origin of all of it.
    """
    from ezdxf import path

    drawing, scale = open_dxf(text, where)
    found = ObjectDrawing()
    spots: list[tuple[float, float, float]] = []
    texts: list[tuple[str, float, float]] = []
    zones: list[tuple[str, Outline]] = []
    for entity in drawing.modelspace():
        layer, sort = entity.dxf.layer.upper(), entity.dxftype()
        if sort in ("TEXT", "MTEXT"):
            at = entity.dxf.insert
            said = entity.dxf.text if sort == "TEXT" else entity.text
            texts.append((str(said).strip(), at.x * scale, at.y * scale))
        elif layer == "TEMPLATE" and sort in ("POINT", "CIRCLE"):
            at = entity.dxf.location if sort == "POINT" else entity.dxf.center
            size = 2 * entity.dxf.radius * scale if sort == "CIRCLE" else 0.0
            spots.append((at.x * scale, at.y * scale, size))
        elif layer in ("OUTLINE", "KEEPOUT") or _HEIGHT.match(layer):
            try:
                curve = path.make_path(entity)
            except TypeError:
                continue
            points = tuple(Point(nm(v.x * scale), nm(v.y * scale)) for v in curve.flattening(SAGITTA_NM / 1e6 / scale))
            ring = points[:-1] if len(points) > 1 and points[0] == points[-1] else points
            if len(ring) > 2:
                zones.append((layer, ring))
    found.rings = [ring for layer, ring in zones if layer == "OUTLINE"]
    origin = _corner(found.rings)
    for layer, ring in zones:
        if layer != "OUTLINE":
            found.zones.append(_zone(layer, tuple(Point(x - origin[0], y - origin[1]) for x, y in ring)))
    for x, y, size in spots:
        hole = _named(x, y, size, texts, design, origin, where)
        if hole is None:
            found.unnamed += 1
        else:
            found.holes.append(hole)
    if not (found.rings or found.holes or found.zones):
        layers = "OUTLINE, TEMPLATE, KEEPOUT or HEIGHT 8.5"
        raise InputError("The drawing says nothing of the object", where, f"Draw on layers called {layers}")
    return found


def _corner(rings: list[Outline]) -> tuple[int, int]:
    if not rings:
        return 0, 0
    return min(p[0] for r in rings for p in r), min(p[1] for r in rings for p in r)


def _zone(layer: str, ring: Outline) -> KeepOut:
    match = _HEIGHT.match(layer)
    if match is None:
        return KeepOut(name="keep-out of the object", outline=ring, parts=True)
    sides: Any = (match[2].lower(),) if match[2] else ("top",)
    room = nm(float(match[1]))
    return KeepOut(
        name=f"a zone of the object with {mm(room):g} mm of room",
        outline=ring,
        layers=sides,
        tracks=False,
        vias=False,
        pours=False,
        height_nm=room,
    )


def _named(
    x: float,
    y: float,
    size: float,
    texts: list[tuple[str, float, float]],
    design: Design,
    origin: tuple[int, int],
    where: str,
) -> TemplateHole | None:
    near = [(abs(tx - x) + abs(ty - y), said) for said, tx, ty in texts if abs(tx - x) + abs(ty - y) <= NEAR_MM + size]
    if not near:
        return None
    words = min(near)[1].split()
    if words[0] not in design.parts:
        raise InputError(f"{words[0]} at {x:.2f}, {y:.2f} mm is no part", where, "Name the hole as its part is called")
    try:
        turn = float(words[1].rstrip("°")) if len(words) > 1 else 0.0
    except ValueError as error:
        raise InputError(f"“{words[1]}” is no angle", where, f"Write {words[0]} 90") from error
    spot = design.board.placements.get(words[0])
    angle = round(turn * 1000) if len(words) > 1 or spot is None else spot.angle_mdeg
    return TemplateHole(
        ref=words[0], x_nm=nm(x) - origin[0], y_nm=nm(y) - origin[1], angle_mdeg=angle, hole_nm=nm(size)
    )


def set_object(design: Design, drawing: ObjectDrawing) -> Design:
    """Take over what a drawing says: its outline, its holes over those of the same parts, its zones beside others."""
    from zesty_trace.core.board.outline import set_rings

    if drawing.rings:
        design = set_rings(design, drawing.rings)
    fresh = {h.ref for h in drawing.holes}
    kept = tuple(h for h in design.brief.template if h.ref not in fresh)
    design = edits.set_brief(design, template=(*kept, *drawing.holes))
    old = tuple(z for z in design.board.keepouts if "of the object" not in z.name)
    return replace(design, board=replace(design.board, keepouts=(*old, *drawing.zones)))


def move_to_template(design: Design) -> Design:
    """Put every part of the template that is on the board where its hole is."""
    from zesty_trace.core.design.model import Placement

    for hole in design.brief.template:
        spot = design.board.placements.get(hole.ref)
        if spot is not None:
            there = Placement(x_nm=hole.x_nm, y_nm=hole.y_nm, angle_mdeg=hole.angle_mdeg, side=spot.side, fixed=True)
            design = edits.place(design, hole.ref, there)
    return design
