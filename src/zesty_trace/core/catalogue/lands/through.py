"""Families with leads in holes, and those that are no parts: test points, mounting holes, tables of pads."""

from __future__ import annotations

import math

from zesty_trace.core.catalogue.kind import PackageSpec, PadRow
from zesty_trace.core.catalogue.lands.holes import ALLOWANCE_MM, drill_of, pad_of
from zesty_trace.core.catalogue.lands.pattern import (
    LandPattern,
    Line,
    Pad,
    Shape,
    bare_hole,
    clear_of,
    finish,
    mark_beside,
    pad,
    rect,
)
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import nm

PIN_1_GAP_MM = 0.4


def leaded(s: PackageSpec, number: str, x: float, y: float, shape: Shape = "round") -> Pad:
    """Return the pad of one lead: a round hole, or a slot for a flat leg."""
    made = pad(number, x, y, pad_of(s), shape, drill_of(s))
    if not s.slot:
        return made
    long = s.slot + (ALLOWANCE_MM[s.fit] if s.lead else 0.0)
    return made._replace(slot_nm=nm(round(long, 3)), shape="oblong" if shape == "round" else shape)


def dip(s: PackageSpec) -> LandPattern:
    """Two rows of leads; legs of dual-in-line parts are splayed until bent in, so the span is that of the bent part."""
    half = s.count // 2
    top = (half - 1) * s.pitch / 2
    pads = [leaded(s, str(i + 1), -s.span / 2, top - i * s.pitch, "rect" if i == 0 else "oblong") for i in range(half)]
    pads += [leaded(s, str(half + i + 1), s.span / 2, -top + i * s.pitch, "oblong") for i in range(half)]
    body = rect(*s.body)
    outside = body.y1 if body.x0 < -s.span / 2 else 0.0
    mark = (-s.span / 2, max(top + pad_of(s)[1] / 2, outside) + 0.5)
    return finish(s, pads, body, mark)


def two_leads(s: PackageSpec, body: Box, silk: list[Line] | None = None) -> LandPattern:
    """Two leads, pin 1 on the left; the mark of a polar part is outside of its body."""
    pads = [leaded(s, "1", -s.span / 2, 0, "rect"), leaded(s, "2", s.span / 2, 0)]
    high = max(pad_of(s)[1] / 2, body.y1 if body.x0 < -s.span / 2 else 0.0)
    mark = (-s.span / 2, high + PIN_1_GAP_MM) if s.polar else None
    return finish(s, pads, body, mark, silk)


def axial(s: PackageSpec) -> LandPattern:
    """A body that lies between its two leads."""
    return two_leads(s, rect(*s.body))


def radial(s: PackageSpec) -> LandPattern:
    """A round body that stands on its two leads; the mark stands outside of it."""
    r = s.diameter / 2
    circle = tuple((r * math.cos(a * math.pi / 18), r * math.sin(a * math.pi / 18)) for a in range(37))
    pattern = two_leads(s, rect(s.diameter, s.diameter), [circle])
    x = -s.span / 2
    beside = math.sqrt(max(r * r - x * x, 0.0)) if abs(x) < r else 0.0
    return pattern._replace(mark=(nm(x), nm(max(beside, pad_of(s)[1] / 2) + 0.45)))


def strip(s: PackageSpec) -> LandPattern:
    """One row of leads, pin 1 at the top."""
    top = (s.count - 1) * s.pitch / 2
    pads = [leaded(s, str(i + 1), 0, top - i * s.pitch, "rect" if i == 0 else "round") for i in range(s.count)]
    body = rect(*s.body, *s.body_shift)
    left = -pad_of(s)[0] / 2
    mark = (min(left, body.x0) - PIN_1_GAP_MM, top) if body.x0 < left else (left - PIN_1_GAP_MM, top + 0.6)
    return finish(s, pads, body, mark)


def strip2(s: PackageSpec) -> LandPattern:
    """Two rows numbered across: odd pins left, even pins right."""
    rows = s.count // 2
    top = (rows - 1) * s.pitch / 2
    pads = [
        leaded(s, str(2 * i + k + 1), x, top - i * s.pitch, "rect" if i + k == 0 else "round")
        for i in range(rows)
        for k, x in enumerate((-s.span / 2, s.span / 2))
    ]
    body = rect(*s.body)
    mark = (min(-s.span / 2 - pad_of(s)[0] / 2, body.x0) - PIN_1_GAP_MM, top)
    return finish(s, pads, body, mark)


def jack(s: PackageSpec) -> LandPattern:
    """A round supply jack: the pin at the back, the sleeve below it, the switch at its side."""
    places = (("1", 6.0, 0.0), ("2", 0.0, 0.0), ("3", 3.0, -4.7))
    return finish(s, [leaded(s, n, x, y) for n, x, y in places], Box(-7.4, -4.5, 6.9, 4.5), None)


def button(s: PackageSpec) -> LandPattern:
    """A button on four legs, joined in pairs along the long way."""
    corners = [("1", -3.25, 2.25), ("1", 3.25, 2.25), ("2", -3.25, -2.25), ("2", 3.25, -2.25)]
    pads = [leaded(s, number, x, y) for number, x, y in corners]
    w, h = s.body
    x, y = w / 2, h / 2
    silk: list[Line] = [((-2, y), (2, y)), ((-2, -y), (2, -y)), ((-x, -1), (-x, 1)), ((x, -1), (x, 1))]
    return finish(s, pads, rect(w, h), None, silk)


def spot(s: PackageSpec) -> LandPattern:
    """A round pad for a probe."""
    return finish(s, [pad("1", 0, 0, s.pad, "round")], rect(*s.pad), None, [])


def hole(s: PackageSpec) -> LandPattern:
    """A hole for a screw, and the room of its head."""
    pattern = finish(s, [bare_hole(0, 0, s.drill)], rect(s.keepout, s.keepout), None, [])
    return pattern._replace(surface_mount=False)


def rows_of(rows: tuple[PadRow, ...]) -> list[Pad]:
    """Return the pads of a table."""
    return [
        Pad(
            r.number if r.plated else "",
            nm(r.x),
            nm(r.y),
            nm(r.width),
            nm(r.height),
            r.shape,
            nm(r.drill),
            r.plated,
            nm(r.slot),
        )
        for r in rows
    ]


def table(s: PackageSpec) -> LandPattern:
    """Pads one by one: parts like no others, and the user's own."""
    pads = rows_of(s.pads)
    body = rect(*s.body, *s.body_shift)
    first = next((p for p in pads if p.number in ("1", "A1")), None)
    mark = None
    if first and len({p.number for p in pads}) > 1:
        mark = mark_beside(first, body, pads)
    return finish(s, pads, body, mark, clear_of(body.grown(0.12), pads))
