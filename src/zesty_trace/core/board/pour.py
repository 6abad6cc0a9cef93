"""Pours: what is left of a layer after keeping its distance from everything else, with spokes at pads to be soldered.

Through-hole pads and small surface pads get a moat with four spokes, turned with the pad, so that an iron can heat
them; large pads, which are there to lead heat away, are joined all round. Where pours of different nets meet,
the higher priority is filled first.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from zesty_trace.core.board.copper import (
    BoardPad,
    Copper,
    Laid,
    board_pads,
    hole_items,
    hole_shapes,
    keepouts_of,
    laid_copper,
    on_board,
    outline_shape,
    pad_shapes,
)
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design.model import LayerName, Pour
from zesty_trace.core.geometry import buffered
from zesty_trace.core.quantities import mm

LEAST_WIDTH_MM = 0.25
MORE_CLEARANCE_MM = 0.05
SAG_MM = 0.03  # of chords within the circle that they stand for: less than MORE_CLEARANCE_MM
WIDEST_CHORD = 1.5  # of what a corner is divided into, at the most: part of a chord is rounded off
MANY = 200  # shapes from which both cores are used
POLYGON = 3  # shapely's number of the type
SMOOTH_MM = 0.005
SEAM_MM = 1.0
OVERLAP_MM = 0.02  # of strips, so that they join
LEAST_AREA_MM2 = 0.3
SOLID_MM2 = 6.0  # a surface pad as large as this leads heat away on purpose


Room = tuple[float, float, float, float]  # x0, y0, x1, y1, mm


class Area(NamedTuple):
    """A pour as it was filled, mm: all of it, and the pieces that touch copper of its own net."""

    pour: Pour
    whole: Any
    shape: Any


def pour_area(wired: Wired, pour: Pour, laid: Laid, window: Any = None, taken: Any = None) -> Any:
    """Return what a pour may fill, mm, also where nothing joins it to its net; within a window only, if one is given.

    `laid` is the copper within a millimetre and the clearance of the window. `taken` is what pours of a higher
    priority have filled.
    """
    import numpy as np
    from shapely import Polygon

    rules = wired.design.board.rules
    gap = mm(max(rules.clearance_nm, pour.clearance_nm)) + MORE_CLEARANCE_MM
    area = buffered(outline_shape(wired.design), -mm(rules.edge_nm))
    if window is not None:
        area = area.intersection(window)
    if len(pour.outline) > 2:
        area = area.intersection(Polygon([(mm(x), mm(y)) for x, y in pour.outline]))
    other = np.array([i.net != pour.net for i in laid.items], dtype=bool)
    closed = [_grown(laid.lines[other], laid.radii[other] + gap), _moats(wired, pour, window)]
    closed.append(_kept_off(wired, pour, laid.items, gap, taken))
    return _filled(area, np.concatenate(closed))


def anchored(whole: Any, mine: Sequence[Any]) -> Any:
    """Return the pieces of a filled area that touch one of these shapes; crumbs are left out."""
    from shapely import MultiPolygon, STRtree

    large = [p for p in getattr(whole, "geoms", [whole]) if p.area > LEAST_AREA_MM2]
    held = set(STRtree(mine).query(large, predicate="intersects")[0].tolist()) if large and mine else set()
    return MultiPolygon([p for k, p in enumerate(large) if k in held])


def _grown(lines: Any, radii: Any) -> Any:
    """Return lines grown by their radii, mm, with no more chords than keep them within SAG_MM of the circle."""
    import numpy as np
    from shapely import buffer

    found = np.empty(len(lines), dtype=object)
    done = np.zeros(len(lines), dtype=bool)
    for chords in (3, 4, 8, 16, 64):
        sag = radii * (1 - math.cos(WIDEST_CHORD * math.pi / 4 / chords))
        fine = ~done & ((sag <= SAG_MM) | (chords == 64))
        if fine.any():
            found[fine] = buffer(lines[fine], radii[fine], quad_segs=chords)
        done |= fine
    return found


def _filled(area: Any, closed: Any) -> Any:
    """Return what is left of an area round what is closed, without what is narrower than LEAST_WIDTH_MM.

    A large one is filled in strips side by side: shapely leaves the interpreter's lock. Each knows SEAM_MM of the
    next, more than the opening reaches.
    """
    from concurrent.futures import ThreadPoolExecutor

    import numpy as np
    from shapely import MultiPolygon, bounds, box, get_parts, get_type_id, union_all

    if len(closed) < MANY or area.is_empty:
        return _opened(area.difference(union_all(closed))).simplify(SMOOTH_MM)
    x0, y0, x1, y1 = area.bounds
    seen = bounds(closed)
    cuts = [x0, *np.quantile((seen[:, 0] + seen[:, 2]) / 2, (0.25, 0.5, 0.75)).clip(x0, x1).tolist(), x1]

    def strip(k: int) -> Any:
        low, high = cuts[k], cuts[k + 1] + OVERLAP_MM
        mine = closed[(seen[:, 2] >= low - SEAM_MM) & (seen[:, 0] <= high + SEAM_MM)]
        part = area.intersection(box(low - SEAM_MM, y0, high + SEAM_MM, y1))
        opened = _opened(part.difference(union_all(mine))).simplify(SMOOTH_MM)
        return opened.intersection(box(low, y0, high, y1))

    with ThreadPoolExecutor(2) as both:
        filled = np.concatenate([get_parts(part) for part in both.map(strip, range(len(cuts) - 1))])
    filled = filled[get_type_id(filled) == POLYGON]
    box_of = bounds(filled)
    seam = np.zeros(len(filled), dtype=bool)
    for cut in cuts[1:-1]:
        seam |= (box_of[:, 0] <= cut + OVERLAP_MM) & (box_of[:, 2] >= cut)
    return MultiPolygon([*filled[~seam], *get_parts(union_all(filled[seam]))])


def _opened(area: Any) -> Any:
    """Return what is left of an area without what is narrower than LEAST_WIDTH_MM; never more than it was.

    Corners are kept sharp on the way in and cut on the way out: both stay within what a round pen gives.
    """
    half = LEAST_WIDTH_MM / 2
    return buffered(buffered(area, -half, join_style="mitre", mitre_limit=2), half, join_style="bevel")


def _kept_off(wired: Wired, pour: Pour, items: tuple[Copper, ...], gap: float, taken: Any) -> Any:
    """Return what else a pour stays off: what stands far apart in volts, bare holes, keep-outs, what is filled."""
    import numpy as np
    from shapely import Polygon, unary_union

    found = [
        unary_union(shapes).buffer(wide + MORE_CLEARANCE_MM, quad_segs=12)
        for wide, shapes in _high(wired, pour.net, items, gap).items()
    ]
    found += list(hole_shapes([h for h in hole_items(wired) if not h.plated], gap + 0.1))
    zones = [k.outline for k in keepouts_of(wired) if k.pours and k.on(pour.layer) and len(k.outline) > 2]
    found += [Polygon([(mm(x), mm(y)) for x, y in zone]).buffer(0) for zone in zones]
    if taken is not None:
        found.append(taken.buffer(gap, quad_segs=4))
    kept = np.empty(len(found), dtype=object)
    kept[:] = found
    return kept


def _high(wired: Wired, net: str, items: tuple[Copper, ...], gap: float) -> dict[float, list[Any]]:
    """Return the copper that a net keeps farther from than the rule asks, for its voltage, by distance, mm."""
    spaced = spacings(wired)
    found: dict[float, list[Any]] = {}
    for item in items:
        if item.net and item.net != net and (item.net in spaced.high or net in spaced.high):
            need = spaced.need_mm(item.net, net)
            if need + MORE_CLEARANCE_MM > gap:
                found.setdefault(need, []).append(item.shape)
    return found


def relieved(pad: BoardPad, pour: Pour) -> bool:
    """Whether a pad of the poured net gets a moat with spokes."""
    if pad.net != pour.net or pour.layer not in pad.layers:
        return False
    return bool(pad.drill_nm) or mm(pad.width_nm) * mm(pad.height_nm) < SOLID_MM2


def spokes_of(pad: BoardPad, pour: Pour) -> list[Any]:
    """Return the four spokes of a pad, turned with it: each no wider than the side that it leaves from."""
    from shapely import polygons

    w, h, gap = mm(pad.width_nm) / 2, mm(pad.height_nm) / 2, mm(pour.gap_nm) + 0.2
    across = min(mm(pour.spoke_nm), 2 * h) / 2
    along = min(mm(pour.spoke_nm), 2 * w) / 2
    boxes = (
        (0, -across, w + gap, across),
        (-w - gap, -across, 0, across),
        (-along, 0, along, h + gap),
        (-along, -h - gap, along, 0),
    )
    corners = [[(x0, y0), (x1, y0), (x1, y1), (x0, y1)] for x0, y0, x1, y1 in boxes]
    x, y, turn = mm(pad.x_nm), mm(pad.y_nm), math.radians(pad.angle_mdeg / 1000)
    c, s = math.cos(turn), math.sin(turn)
    return list(polygons([[(x + u * c - v * s, y + u * s + v * c) for u, v in four] for four in corners]))


def _moats(wired: Wired, pour: Pour, window: Any = None) -> Any:
    """Return the moats round the pads that are soldered, their spokes left out; those that reach into a window."""
    import numpy as np
    from shapely import difference, union_all

    pads = [pad for pad in board_pads(wired) if relieved(pad, pour)]
    if window is not None:
        x0, y0, x1, y1 = window.buffer(mm(pour.gap_nm) + SEAM_MM).bounds
        reach = [mm(pad.width_nm + pad.height_nm) for pad in pads]
        pads = [
            pad
            for pad, r in zip(pads, reach, strict=True)
            if x0 - r <= mm(pad.x_nm) <= x1 + r and y0 - r <= mm(pad.y_nm) <= y1 + r
        ]
    if not pads:
        return np.empty(0, dtype=object)
    spokes = np.array([spokes_of(pad, pour) for pad in pads], dtype=object)
    return difference(pad_shapes(pads, mm(pour.gap_nm)), union_all(spokes, axis=1))


@worked_out_from(on_board)
def pour_areas(wired: Wired, layer: LayerName) -> tuple[Area, ...]:
    """Return every pour of a layer as it is filled, the highest priority first."""
    from shapely import MultiPolygon, unary_union

    found: list[Area] = []
    for pour in sorted((p for p in wired.design.board.pours if p.layer == layer), key=lambda p: -p.priority):
        others = [area.shape for area in found if area.pour.net != pour.net]
        laid = laid_copper(wired, layer)
        mine = [i.shape for i in laid.items if i.net == pour.net]
        taken = unary_union(others) if others else None
        whole = pour_area(wired, pour, laid, None, taken) if mine else MultiPolygon()
        found.append(Area(pour, whole, anchored(whole, mine)))
    return tuple(found)


def pour_shapes(wired: Wired, layer: LayerName) -> tuple[tuple[str, Any], ...]:
    """Return (net, shape) of every pour on a layer, the highest priority first."""
    return tuple((area.pour.net, area.shape) for area in pour_areas(wired, layer))


def refilled(
    wired: Wired,
    old: Area,
    near: Callable[[tuple[float, float, float, float]], Laid],
    changed: Sequence[Any],
    mine: Sequence[Any],
) -> Area:
    """Return a pour filled anew round what has changed; elsewhere it is as it was.

    `changed` are boxes round copper that came or went, (x0, y0, x1, y1) in mm; `near(box)` gives what copper is near a
    box now, `mine` all copper of the pour's net. Only for a pour that no other has to do with, and for nets that keep
    no more than the clearance from it.
    """
    from shapely import box, union_all

    rules = wired.design.board.rules
    reach = mm(max(rules.clearance_nm, old.pour.clearance_nm)) + MORE_CLEARANCE_MM + 2 * LEAST_WIDTH_MM
    places = union_all([box(*b) for b in changed]).buffer(reach, join_style="mitre")
    whole, parts = old.whole.difference(places), []
    for place in getattr(places, "geoms", [places]):
        room = box(*place.bounds).buffer(SEAM_MM, join_style="mitre")
        laid = near(room.buffer(reach, join_style="mitre").bounds)
        fresh = pour_area(wired, old.pour, laid, room)
        parts.append(fresh.intersection(place.buffer(OVERLAP_MM, join_style="mitre")))
    whole = union_all([whole, *parts])
    return Area(old.pour, whole, anchored(whole, mine))
