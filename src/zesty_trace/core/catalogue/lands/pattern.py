"""What a package puts on the board, and the hands that put it together.

Positions are millimetres about the part's centre, y up, with pin 1 at the upper left (the zero orientation of
IPC-7351B, level A); results are nanometres.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import nm

Shape = Literal["rect", "round", "oblong"]
Line = tuple[tuple[float, float], ...]
MARK_GAP_MM = 0.45
MARK_CLEAR_MM = 0.3
SILK_OFF_MM = 0.12


class Pad(NamedTuple):
    """One pad about the part's centre.

    `drill_nm` 0 is a surface pad; `slot_nm` how long its hole is along the longer way of the pad, 0 for a round one.
    A surface pad without `paste` gets its solder through the windows of its pattern, or by hand.
    """

    number: str
    x_nm: int
    y_nm: int
    width_nm: int
    height_nm: int
    shape: Shape = "rect"
    drill_nm: int = 0
    plated: bool = True
    slot_nm: int = 0
    paste: bool = True


class LandPattern(NamedTuple):
    """What a package puts on the board. `windows` are openings of the stencil that are not those of a whole pad."""

    pads: tuple[Pad, ...]
    body: Box
    courtyard: Box
    silk: tuple[tuple[tuple[int, int], ...], ...]
    mark: tuple[int, int] | None
    height_nm: int
    surface_mount: bool
    round_body: bool = False
    windows: tuple[Pad, ...] = ()

    @property
    def pick(self) -> tuple[float, float]:
        """Where a nozzle or tweezers take the part: the middle of its body, nm."""
        return self.body.middle

    @property
    def centre_pad(self) -> bool:
        """Whether a pad lies below the body with its solder in windows: it has to be wetted first."""
        return bool(self.windows)


def pad(number: str, x: float, y: float, size: tuple[float, float], shape: Shape = "rect", drill: float = 0.0) -> Pad:
    """Return a pad from millimetres."""
    return Pad(number, nm(x), nm(y), nm(size[0]), nm(size[1]), shape, nm(drill))


def bare_hole(x: float, y: float, drill: float) -> Pad:
    """Return a hole without copper, from millimetres."""
    return Pad("", nm(x), nm(y), nm(drill), nm(drill), "round", nm(drill), False)


def rect(w: float, h: float, dx: float = 0.0, dy: float = 0.0) -> Box:
    """Return a rectangle about (dx, dy)."""
    return Box(dx - w / 2, dy - h / 2, dx + w / 2, dy + h / 2)


def round_trip(box: Box) -> Line:
    """Return the line round a box."""
    return ((box.x0, box.y0), (box.x1, box.y0), (box.x1, box.y1), (box.x0, box.y1), (box.x0, box.y0))


def mark_beside(first: Pad, body: Box, pads: Sequence[Pad]) -> tuple[float, float]:
    """Return where the mark of the first pin stays visible: beside its pad, outside of the body, off all copper."""
    x, y = first.x_nm / 1e6, first.y_nm / 1e6
    w, h = first.width_nm / 2e6 + MARK_GAP_MM, first.height_nm / 2e6 + MARK_GAP_MM
    up, left = max(y + h, body.y1 + MARK_GAP_MM), min(x - w, body.x0 - MARK_GAP_MM)
    right, down = max(x + w, body.x1 + MARK_GAP_MM), min(y - h, body.y0 - MARK_GAP_MM)
    spots = ((x, y + h), (x - w, y), (x, up), (left, y), (left, up), (x, y - h), (x + w, y), (right, y), (x, down))
    rooms = [
        Box(
            (p.x_nm - p.width_nm / 2) / 1e6,
            (p.y_nm - p.height_nm / 2) / 1e6,
            (p.x_nm + p.width_nm / 2) / 1e6,
            (p.y_nm + p.height_nm / 2) / 1e6,
        ).grown(MARK_CLEAR_MM)
        for p in pads
    ]
    rooms.append(body.grown(MARK_CLEAR_MM / 2))

    def free(spot: tuple[float, float]) -> bool:
        return not any(r.x0 < spot[0] < r.x1 and r.y0 < spot[1] < r.y1 for r in rooms)

    return next((s for s in spots if free(s)), (left, up))


def clear_of(box: Box, pads: Sequence[Pad]) -> list[Line]:
    """Return the sides of a box where no pad is in the way: what the silk can show of a body."""
    from shapely import LineString, unary_union
    from shapely import box as area

    taken = unary_union(
        [
            area(
                (p.x_nm - p.width_nm / 2) / 1e6 - SILK_OFF_MM - 0.1,
                (p.y_nm - p.height_nm / 2) / 1e6 - SILK_OFF_MM - 0.1,
                (p.x_nm + p.width_nm / 2) / 1e6 + SILK_OFF_MM + 0.1,
                (p.y_nm + p.height_nm / 2) / 1e6 + SILK_OFF_MM + 0.1,
            )
            for p in pads
        ]
    )
    left = LineString(round_trip(box)).difference(taken)
    lines = [line for line in getattr(left, "geoms", [left]) if line.length > 0.2]
    return [tuple((round(x, 3), round(y, 3)) for x, y in line.coords) for line in lines]


def finish(
    spec: PackageSpec,
    pads: Sequence[Pad],
    body: Box,
    mark: tuple[float, float] | None,
    silk: Sequence[Line] | None = None,
    courtyard: float = 0.25,
    windows: Sequence[Pad] = (),
) -> LandPattern:
    """Return a pattern whose courtyard is `courtyard` mm beyond pads and body; without `silk` it shows the body."""
    x0, y0, x1, y1 = (nm(v) for v in body)
    left = min([x0, *(p.x_nm - p.width_nm // 2 for p in pads)])
    right = max([x1, *(p.x_nm + p.width_nm // 2 for p in pads)])
    low = min([y0, *(p.y_nm - p.height_nm // 2 for p in pads)])
    high = max([y1, *(p.y_nm + p.height_nm // 2 for p in pads)])
    extra = nm(courtyard)
    lines = [round_trip(body)] if silk is None else silk
    copper = [p for p in pads if p.plated]
    return LandPattern(
        tuple(pads),
        Box(x0, y0, x1, y1),
        Box(left - extra, low - extra, right + extra, high + extra),
        tuple(tuple((nm(x), nm(y)) for x, y in line) for line in lines),
        (nm(mark[0]), nm(mark[1])) if mark else None,
        nm(spec.height),
        bool(copper) and all(p.drill_nm == 0 for p in copper),
        spec.family == "radial",
        tuple(windows),
    )
