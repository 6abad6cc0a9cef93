"""Keep-outs: copper, vias, pours and parts where they may not be, and parts that are too tall there."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any

from zesty_trace.core.board.copper import body_shape, copper_items, height_nm, keepouts_of
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import KeepOut
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, say_mm

ROUNDING_MM = 0.01  # edges of pours are drawn with chords

KEEP_OUT = rule(
    "keep-out",
    Severity.FIX,
    "It was closed for a reason: an antenna, a foot of the case, a label.",
    "keep-outs of the board",
    limits="nothing of what a keep-out closes",
    station="layout",
)


def check_keepouts(wired: Wired) -> Iterator[Finding]:
    """Yield what lies where it may not."""
    for zone, name, area in _zones(wired):
        yield from _copper(wired, zone, name, area.buffer(-ROUNDING_MM))
        yield from _parts(wired, zone, name, area)


def parts_in_keepouts(wired: Wired, only: Collection[str]) -> Iterator[Finding]:
    """Yield those of some parts that stand where none may, or none so tall."""
    for zone, name, area in _zones(wired):
        yield from _parts(wired, zone, name, area, only)


def _zones(wired: Wired) -> Iterator[tuple[KeepOut, str, Any]]:
    from shapely import Polygon

    for k, zone in enumerate(keepouts_of(wired)):
        if len(zone.outline) > 2:
            yield zone, zone.name or f"keep-out {k + 1}", Polygon([(mm(x), mm(y)) for x, y in zone.outline])


def _copper(wired: Wired, zone: KeepOut, name: str, area: Any) -> Iterator[Finding]:
    closed = {"track": zone.tracks, "via": zone.vias, "pour": zone.pours}
    seen: set[tuple[str, str]] = set()
    for layer in filter(zone.on, wired.design.board.stack):
        laid = [(i.net, i.what, i.shape) for i in copper_items(wired, layer)]
        laid += [(net, "pour", shape) for net, shape in pour_shapes(wired, layer)]
        for net, what, shape in laid:
            shared = shape.intersection(area) if closed.get(what) and shape.intersects(area) else None
            if shared is None or shared.area < 1e-4 or (net, what) in seen:
                continue
            seen.add((net, what))
            at = shared.representative_point()
            yield KEEP_OUT.found(
                Subject(nets=(net,) if net in wired.design.nets else (), which=f"{what} {name}"),
                f"A {what} of {net} lies in {name}",
                f"Nothing of the kind may be there on {layer}. Move it.",
                at=(Point(round(at.x * 1e6), round(at.y * 1e6)),),
                value=shared.area,
                limit=0.0,
                unit="mm²",
            )


def _parts(wired: Wired, zone: KeepOut, name: str, area: Any, only: Collection[str] | None = None) -> Iterator[Finding]:
    for ref, spot in wired.design.board.placements.items():
        if only is not None and ref not in only:
            continue
        if ref not in wired.design.parts or not zone.on(spot.side) or not body_shape(wired, ref).intersects(area):
            continue
        height = height_nm(wired, ref)
        at = (Point(spot.x_nm, spot.y_nm),)
        if zone.parts:
            yield KEEP_OUT.found(
                Subject(refs=(ref,), which=name), f"{ref} stands in {name}", "No part may be there. Move it.", at=at
            )
        elif zone.height_nm is not None and height > zone.height_nm:
            yield KEEP_OUT.found(
                Subject(refs=(ref,), which=name),
                f"{ref} is {mm(height):.1f} mm tall in {name}",
                f"There is room for {say_mm(zone.height_nm)}. Move it, or take a lower one.",
                at=at,
                value=mm(height),
                limit=mm(zone.height_nm),
                unit="mm",
            )
