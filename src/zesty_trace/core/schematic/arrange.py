"""Arranging the sheet: blocks in bands, each band with its supply lines on top and ground at the bottom.

Where a flag finds no room, or a drop to a supply crosses others, all is laid out again with room for it.
"""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import replace

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Page
from zesty_trace.core.geometry import Box
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.schematic.apart import put_apart
from zesty_trace.core.schematic.bundles import LEAST, numbered_groups
from zesty_trace.core.schematic.clusters import Cluster, Clusters
from zesty_trace.core.schematic.labels import (
    title_box,
)
from zesty_trace.core.schematic.sheet import PlacedSymbol, Rail, Sheet, Spot, Tag, Title
from zesty_trace.core.schematic.surface import BETWEEN_BANDS, Routed
from zesty_trace.core.schematic.wires import route_wires

BAND_WIDTHS = range(90, 200, 5)
VIEW_ASPECT = 1.85
RAIL_STEP = 2
MARGIN = 3
UNDER_RAILS = 2  # rows from a band's last supply line to its parts
TITLE_ABOVE = 2
ATTEMPTS = 8  # at keeping room for all flags
CROSSING_ATTEMPTS = 3  # at turning drops that cross others into marks


def _bands(a: Clusters, clusters: list[Cluster]) -> list[list[Cluster]]:
    """Return the clusters in rows, as wide as makes the whole sheet fill a wide view best."""
    choices = [_fill(clusters, width) for width in BAND_WIDTHS]
    return min(choices, key=lambda rows: _size(a, rows))


def _size(a: Clusters, rows: list[list[Cluster]]) -> float:
    width = max((_wide(row) for row in rows), default=0) + MARGIN
    height = sum(_tall(row) + 8 + RAIL_STEP * len(_used_rails(a, row)) for row in rows)
    return max(width, height * VIEW_ASPECT)


def _fill(clusters: list[Cluster], band_width: int) -> list[list[Cluster]]:
    """Return rows of blocks of like height: the tallest blocks first, each where there is still room."""
    blocks: dict[str, list[Cluster]] = {}
    for cluster in clusters:
        blocks.setdefault(cluster.block, []).append(cluster)
    order = {name: k for k, name in enumerate(blocks)}
    rows: list[list[Cluster]] = []
    keys: list[tuple[int, int]] = []  # where a row comes: the order of its first block, the run of a cut block
    cut: set[int] = set()
    for name in sorted(blocks, key=lambda n: -_tall(blocks[n])):
        place = order[name]
        runs = _split(blocks[name], band_width)
        for k, unit in enumerate(runs):
            row = None
            if len(runs) == 1:  # the runs of a cut block stay below each other, and nothing earlier joins them
                near = (n for n, r in enumerate(rows) if _wide(r) + _wide(unit) <= band_width)
                row = next((n for n in near if n not in cut or place > keys[n][0]), None)
            if row is None:
                cut |= {len(rows)} if len(runs) > 1 else set()
                rows.append(list(unit))
                keys.append((place, k))
            else:
                rows[row] += unit
                keys[row] = min(keys[row], (place, 0)) if row not in cut else keys[row]
    for each in rows:
        each.sort(key=lambda c: order[c.block])
    return [rows[n] for n in sorted(range(len(rows)), key=keys.__getitem__)]


def _tall(clusters: list[Cluster]) -> int:
    return max(c.extent()[3] - c.extent()[1] for c in clusters)


def _wide(clusters: list[Cluster]) -> int:
    return sum(c.extent()[2] - c.extent()[0] + MARGIN for c in clusters)


def _split(clusters: list[Cluster], band_width: int) -> list[list[Cluster]]:
    """Return a block's clusters as they are, or cut into runs where they are wider than a band."""
    runs: list[list[Cluster]] = [[]]
    for cluster in clusters:
        if runs[-1] and _wide([*runs[-1], cluster]) > band_width:
            runs.append([])
        runs[-1].append(cluster)
    return runs


def arrange(wired: Wired, page: Page | None = None, report: Report = quiet) -> Sheet:
    """Return the sheet of a design, or one page of it.

    Its own arrangement, except for parts that the user has put somewhere. Where a flag finds no room, or a drop to a
    supply crosses others, all is laid out again with room for a flag or a mark there.

    Cancelled if `report` says stop.
    """
    report(0.0, "laying out blocks")
    a = Clusters(wired, page)
    for attempt in range(ATTEMPTS):
        placed, rails, titles, size = _laid_out(a)
        routed = route_wires(wired, placed, rails, *size, a.marks, None, _share(report, attempt), a.fixed, a.groups)
        wanted = {*routed.homeless, *(routed.crossed if attempt < CROSSING_ATTEMPTS else ())} - a.fixed
        groups = {} if attempt else _to_bundle(wired, routed)
        if not wanted and not groups:
            break
        a.fixed |= wanted
        a.groups |= groups
    return Sheet(
        tuple(placed),
        tuple(rails),
        tuple(routed.wires),
        tuple(routed.tags),
        routed.junctions,
        tuple(titles),
        *size,
        tuple(routed.bundles),
    )


def _to_bundle(wired: Wired, routed: Routed) -> dict[str, str]:
    """Return the nets of numbered groups that were drawn with flags, and so go on elsewhere: net -> group."""
    groups = numbered_groups(wired.design.nets)
    flags = Counter(groups[net] for net in {t.net for t in routed.tags} if net in groups)
    return {net: group for net, group in groups.items() if flags[group] >= LEAST}


def _share(report: Report, attempt: int) -> Report:
    """Return a report of one attempt: each has half of what is left, as nobody knows how many there will be."""
    before = 1.0 - 0.5**attempt
    return lambda done, words: report(before + (1.0 - before) * 0.5 * done, words)


def _laid_out(a: Clusters) -> tuple[list[PlacedSymbol], list[Rail], list[Title], tuple[int, int]]:
    """Return symbols, supply lines and titles, and width and height."""
    rows = [row for row in _bands(a, a.clusters()) if row]
    placed: list[PlacedSymbol] = []
    rails: list[Rail] = []
    titles: list[Title] = []
    top, width = 4, 40
    for band, row in enumerate(rows):
        used = _used_rails(a, row)
        first = top + max(len(used) - 1, 0) * RAIL_STEP
        under = first + UNDER_RAILS
        x, last_block = MARGIN, ""
        for cluster in row:
            x0, y0, x1, _ = cluster.extent()
            if cluster.block != last_block:
                before = title_box(titles[-1]) if titles and titles[-1].y == top - TITLE_ABOVE else None
                at = max(x, math.ceil(before.x1) + 2) if before else x
                titles.append(Title(cluster.block, at, top - TITLE_ABOVE))
                last_block = cluster.block
            for ref, (symbol, px, py) in cluster.placed.items():
                spot = a.design.sheet.get(ref)
                at_xy = (spot.x, spot.y) if spot else (x + px - x0, under + py - y0)
                placed.append(PlacedSymbol(ref, symbol, *at_xy, band, cluster.block))
            x += x1 - x0 + MARGIN
        width = max(width, x)
        bottom = under + _tall(row) + 1
        rails += [Rail(net, band, top + k * RAIL_STEP, 1, 0) for k, net in enumerate(used)]
        if a.ground:
            rails.append(Rail(a.ground, band, bottom, 1, 0))
        top = bottom + BETWEEN_BANDS
    rails = [Rail(r.net, r.band, r.y, 1, width) for r in rails]
    if a.design.sheet:
        moved = a.design.sheet.keys()
        placed = _rebanded(put_apart(placed, moved, a.rooms_of, map(_line_room, rails)), rails)
    return placed, rails, titles, (width + 2, top)


def _line_room(rail: Rail) -> Box:
    return Box(rail.left, rail.y - 1.0, rail.right, rail.y + 1.0)


def _used_rails(a: Clusters, row: list[Cluster]) -> list[str]:
    used = {a.net(ref, p.number) for c in row for ref in c.placed for p in a.kind(ref).pins}
    return [n for n in a.rails if n in used]


def _rebanded(placed: list[PlacedSymbol], rails: list[Rail]) -> list[PlacedSymbol]:
    """Give parts that the user moved to the band in which they now sit."""
    floors = sorted({(r.band, max(s.y for s in rails if s.band == r.band)) for r in rails})
    found = []
    for symbol in placed:
        band = next((b for b, floor in floors if symbol.y <= floor + 2), floors[-1][0] if floors else 0)
        found.append(replace(symbol, band=band))
    return found


__all__ = ["Spot", "Tag", "arrange"]
