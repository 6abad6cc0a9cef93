"""Land patterns: pads, body, courtyard and marks of each package family, drawn from a few dimensions.

Positions are millimetres about the part's centre with pin 1 at the upper left; results are nanometres. Chip, gull-wing
and quad families follow the proportions of IPC-7351; courtyard excess is 0.25 mm (its nominal level).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from typing import Literal, NamedTuple

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import nm

Shape = Literal["rect", "round", "oblong"]
COURTYARD_MM = 0.25


class Pad(NamedTuple):
    """One pad about the part's centre. `drill_nm` 0 is a surface pad."""

    number: str
    x_nm: int
    y_nm: int
    width_nm: int
    height_nm: int
    shape: Shape = "rect"
    drill_nm: int = 0
    plated: bool = True


class LandPattern(NamedTuple):
    """What a package puts on the board."""

    pads: tuple[Pad, ...]
    body: Box
    courtyard: Box
    silk: tuple[tuple[tuple[int, int], ...], ...]
    mark: tuple[int, int] | None
    height_nm: int
    surface_mount: bool
    round_body: bool = False


def _pad(number: str, x: float, y: float, size: tuple[float, float], shape: Shape = "rect", drill: float = 0.0) -> Pad:
    return Pad(number, nm(x), nm(y), nm(size[0]), nm(size[1]), shape, nm(drill), True)


def _finish(
    spec: PackageSpec,
    pads: list[Pad],
    body: Box,
    mark: tuple[float, float] | None,
    silk: Sequence[tuple[tuple[float, float], ...]] | None = None,
) -> LandPattern:
    x0, y0, x1, y1 = (nm(v) for v in body)
    left = min([x0, *(p.x_nm - p.width_nm // 2 for p in pads)])
    right = max([x1, *(p.x_nm + p.width_nm // 2 for p in pads)])
    low = min([y0, *(p.y_nm - p.height_nm // 2 for p in pads)])
    high = max([y1, *(p.y_nm + p.height_nm // 2 for p in pads)])
    extra = nm(COURTYARD_MM)
    if silk is None:
        bx0, by0, bx1, by1 = body
        silk = [((bx0, by0), (bx1, by0), (bx1, by1), (bx0, by1), (bx0, by0))]
    return LandPattern(
        tuple(pads),
        Box(x0, y0, x1, y1),
        Box(left - extra, low - extra, right + extra, high + extra),
        tuple(tuple((nm(x), nm(y)) for x, y in line) for line in silk),
        (nm(mark[0]), nm(mark[1])) if mark else None,
        nm(spec.height),
        all(p.drill_nm == 0 for p in pads) and spec.family not in ("hole",),
        spec.family == "radial",
    )


def _rect(w: float, h: float, dx: float = 0.0, dy: float = 0.0) -> Box:
    return Box(dx - w / 2, dy - h / 2, dx + w / 2, dy + h / 2)


def _chip(s: PackageSpec) -> LandPattern:
    pads = [_pad("1", -s.span / 2, 0, s.pad), _pad("2", s.span / 2, 0, s.pad)]
    w, h = s.body
    edge = max(h, s.pad[1]) / 2 + 0.2
    gap = s.span / 2 - s.pad[0] / 2 - 0.15
    silk: list[tuple[tuple[float, float], ...]] = [((-gap, edge), (gap, edge)), ((-gap, -edge), (gap, -edge))]
    if gap <= 0.1:
        silk = []
    if s.polar:
        bar = -s.span / 2 - s.pad[0] / 2 - 0.2
        silk.append(((bar, -edge), (bar, edge)))
    return _finish(s, pads, _rect(w, h), (-s.span / 2, edge + 0.2) if s.polar else None, silk)


def _soic(s: PackageSpec) -> LandPattern:
    half = s.count // 2
    top = (half - 1) * s.pitch / 2
    pads = [_pad(str(i + 1), -s.span / 2, top - i * s.pitch, s.pad) for i in range(half)]
    pads += [_pad(str(half + i + 1), s.span / 2, -top + i * s.pitch, s.pad) for i in range(half)]
    w, h = s.body
    inner = s.span / 2 - s.pad[0] / 2 - 0.25
    w = min(w, inner * 2)
    return _finish(s, pads, _rect(w, h), (-s.span / 2, top + s.pad[1] / 2 + 0.5))


def _dip(s: PackageSpec) -> LandPattern:
    """Two rows of leads; legs of dual-in-line parts are splayed until bent in, so the span is that of the bent part."""
    half = s.count // 2
    top = (half - 1) * s.pitch / 2
    pads = [
        _pad(str(i + 1), -s.span / 2, top - i * s.pitch, s.pad, "rect" if i == 0 else "oblong", s.drill)
        for i in range(half)
    ]
    pads += [_pad(str(half + i + 1), s.span / 2, -top + i * s.pitch, s.pad, "oblong", s.drill) for i in range(half)]
    return _finish(s, pads, _rect(*s.body), (-s.span / 2, top + s.pad[1] / 2 + 0.5))


def _quad(s: PackageSpec) -> LandPattern:
    side = s.count // 4
    top = (side - 1) * s.pitch / 2
    long, short = s.pad
    pads = [_pad(str(i + 1), -s.span / 2, top - i * s.pitch, (long, short)) for i in range(side)]
    pads += [_pad(str(side + i + 1), -top + i * s.pitch, -s.span / 2, (short, long)) for i in range(side)]
    pads += [_pad(str(2 * side + i + 1), s.span / 2, -top + i * s.pitch, (long, short)) for i in range(side)]
    pads += [_pad(str(3 * side + i + 1), top - i * s.pitch, s.span / 2, (short, long)) for i in range(side)]
    inner = 2 * (s.span / 2 - long / 2 - 0.25)
    return _finish(s, pads, _rect(min(s.body[0], inner), min(s.body[1], inner)), (-s.span / 2, top + short / 2 + 0.6))


def _sot23(s: PackageSpec) -> LandPattern:
    size = (1.0, 0.7)
    pads = [_pad("1", -1.1, 0.95, size), _pad("2", -1.1, -0.95, size), _pad("3", 1.1, 0, size)]
    silk = [((-0.4, 1.45), (0.65, 1.45), (0.65, 0.6)), ((-0.4, -1.45), (0.65, -1.45), (0.65, -0.6))]
    return _finish(s, pads, _rect(1.3, 2.9), (-1.1, 1.65), silk)


def _sot223(s: PackageSpec) -> LandPattern:
    size = (1.6, 1.1)
    pads = [_pad(str(i + 1), -3.15, 2.3 - 2.3 * i, size) for i in range(3)]
    pads.append(_pad("2", 3.15, 0, (1.6, 3.4)))
    return _finish(s, pads, _rect(3.5, 6.5), (-3.15, 3.2))


def _to252(s: PackageSpec) -> LandPattern:
    pads = [_pad("1", -4.2, 2.28, (2.2, 1.3)), _pad("3", -4.2, -2.28, (2.2, 1.3)), _pad("2", 2.3, 0, (6.2, 5.8))]
    silk = [((-2.6, 3.35), (-1.1, 3.35)), ((-2.6, -3.35), (-1.1, -3.35)), ((-2.6, 3.35), (-2.6, -3.35))]
    return _finish(s, pads, Box(-2.6, -3.35, 3.6, 3.35), (-4.2, 3.4), silk)


def _two_leads(s: PackageSpec, body: Box, silk: object = None) -> LandPattern:
    pads = [_pad("1", -s.span / 2, 0, s.pad, "rect", s.drill), _pad("2", s.span / 2, 0, s.pad, "round", s.drill)]
    mark = (-s.span / 2, s.pad[1] / 2 + 0.4) if s.polar else None
    return _finish(s, pads, body, mark, silk)  # type: ignore[arg-type]


def _axial(s: PackageSpec) -> LandPattern:
    return _two_leads(s, _rect(*s.body))


def _radial(s: PackageSpec) -> LandPattern:
    from math import cos, pi, sin

    r = s.diameter / 2
    circle = tuple((r * cos(a * pi / 18), r * sin(a * pi / 18)) for a in range(37))
    pattern = _two_leads(s, _rect(s.diameter, s.diameter), [circle])
    return pattern._replace(mark=(nm(-s.span / 2), nm(s.pad[1] / 2 + 0.45)))


def _strip(s: PackageSpec) -> LandPattern:
    top = (s.count - 1) * s.pitch / 2
    pads = [
        _pad(str(i + 1), 0, top - i * s.pitch, s.pad, "rect" if i == 0 else "round", s.drill) for i in range(s.count)
    ]
    return _finish(s, pads, _rect(*s.body, *s.body_shift), (-s.pad[0] / 2 - 0.4, top + s.pad[1] / 2 + 0.1))


def _strip2(s: PackageSpec) -> LandPattern:
    """Two rows numbered across: odd pins left, even pins right."""
    rows = s.count // 2
    top = (rows - 1) * s.pitch / 2
    pads = [
        _pad(str(2 * i + k + 1), x, top - i * s.pitch, s.pad, "rect" if i + k == 0 else "round", s.drill)
        for i in range(rows)
        for k, x in enumerate((-s.span / 2, s.span / 2))
    ]
    return _finish(s, pads, _rect(*s.body), (-s.span / 2 - s.pad[0] / 2 - 0.4, top + s.pad[1] / 2 + 0.1))


def _jack(s: PackageSpec) -> LandPattern:
    pads = [
        _pad("1", 6.0, 0, s.pad, "round", s.drill),
        _pad("2", 0.0, 0, s.pad, "round", s.drill),
        _pad("3", 3.0, -4.7, s.pad, "round", s.drill),
    ]
    return _finish(s, pads, Box(-7.4, -4.5, 6.9, 4.5), None)


def _button(s: PackageSpec) -> LandPattern:
    corners = [("1", -3.25, 2.25), ("1", 3.25, 2.25), ("2", -3.25, -2.25), ("2", 3.25, -2.25)]
    pads = [_pad(number, x, y, s.pad, "round", s.drill) for number, x, y in corners]
    w, h = s.body
    x, y = w / 2, h / 2
    silk: list[tuple[tuple[float, float], ...]] = [
        ((-2, y), (2, y)),
        ((-2, -y), (2, -y)),
        ((-x, -1), (-x, 1)),
        ((x, -1), (x, 1)),
    ]
    return _finish(s, pads, _rect(w, h), None, silk)


def _spot(s: PackageSpec) -> LandPattern:
    return _finish(s, [_pad("1", 0, 0, s.pad, "round")], _rect(*s.pad), None, [])


def _hole(s: PackageSpec) -> LandPattern:
    hole = Pad("", 0, 0, nm(s.drill), nm(s.drill), "round", nm(s.drill), False)
    return _finish(s, [hole], _rect(s.keepout, s.keepout), None, [])


FAMILIES: dict[str, Callable[[PackageSpec], LandPattern]] = {
    "chip": _chip,
    "soic": _soic,
    "dip": _dip,
    "quad": _quad,
    "sot23": _sot23,
    "sot223": _sot223,
    "to252": _to252,
    "axial": _axial,
    "radial": _radial,
    "strip": _strip,
    "strip2": _strip2,
    "jack": _jack,
    "button": _button,
    "spot": _spot,
    "hole": _hole,
}


@cache
def land_pattern(spec: PackageSpec) -> LandPattern:
    """Return the land pattern of a package. KeyError if its family is unknown."""
    return FAMILIES[spec.family](spec)
