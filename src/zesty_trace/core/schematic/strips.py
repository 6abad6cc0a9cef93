"""A sheet cut between its bands, so that each piece goes on a page at a size that can be read."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.labels import bundle_boxes, rail_name, tag_box, title_box
from zesty_trace.core.schematic.sheet import Sheet

BELOW = 1.6  # of a band's last line, grid units; the next band's names stand lower


def band_floors(sheet: Sheet) -> list[float]:
    """Return where each band ends, from the top."""
    floors: dict[int, float] = {}
    for rail in sheet.rails:
        floors[rail.band] = max(floors.get(rail.band, 0.0), rail.y + BELOW)
    return sorted(floors.values())


def strips(sheet: Sheet, most_high: float) -> list[Sheet]:
    """Return the sheet in pieces of whole bands, each up to `most_high` grid units (a higher band has its own)."""
    floors = band_floors(sheet)
    if not floors:
        return [sheet]
    bottom = extent(sheet).y1
    floors[-1] = max(floors[-1], bottom + 1)
    edges = [min(0.0, extent(sheet).y0) - 1]
    for k, floor in enumerate(floors):
        if k and floor - edges[-1] > most_high:
            edges.append(floors[k - 1])
    edges.append(floors[-1])
    return [_between(sheet, low, high) for low, high in pairwise(edges)]


def _between(sheet: Sheet, low: float, high: float) -> Sheet:
    return replace(
        sheet,
        symbols=tuple(s for s in sheet.symbols if low < s.y <= high),
        rails=tuple(r for r in sheet.rails if low < r.y <= high),
        wires=tuple(w for w in sheet.wires if low < w.points[0][1] <= high),
        tags=tuple(t for t in sheet.tags if low < t.at[1] <= high),
        junctions=tuple(j for j in sheet.junctions if low < j[1] <= high),
        titles=tuple(t for t in sheet.titles if low < t.y <= high),
        bundles=tuple(b for b in sheet.bundles if low < b.taps[0].end[1] <= high),
    )


def extent(sheet: Sheet) -> Box:
    """Return the rectangle of what is drawn; what is written right of parts is counted roughly."""
    boxes = [s.body().grown(2.5) for s in sheet.symbols]
    boxes += [b.moved(6.0, 0.0) for b in boxes]
    boxes += [w.bounds for w in sheet.wires]
    boxes += map(tag_box, sheet.tags)
    boxes += [box for b in sheet.bundles for box in bundle_boxes(b)]
    boxes += map(title_box, sheet.titles)
    boxes += [Box(rail_name(r).box().x0, r.y - 1.0, r.right, r.y + 1.0) for r in sheet.rails]
    if not boxes:
        return Box(0.0, 0.0, 40.0, 20.0)
    x0, y0, x1, y1 = zip(*boxes, strict=True)
    return Box(min(x0), min(y0), max(x1), max(y1))
