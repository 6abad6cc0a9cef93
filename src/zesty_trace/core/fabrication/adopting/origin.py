"""From the places of a table to those on the board: its unit, and where it counts from."""

from __future__ import annotations

import math
from collections.abc import Mapping

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.design.model import Placement
from zesty_trace.core.fabrication.adopting.coming import Adopted, One, face_of, few
from zesty_trace.core.fabrication.adopting.matching import Ground
from zesty_trace.core.fabrication.adopting.naming import (
    packages_named,
)
from zesty_trace.core.fabrication.adopting.set_pads import SetPad
from zesty_trace.core.fabrication.adopting.tables_in import Spot, Spots
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.quantities import nm
from zesty_trace.errors import InputError

SOLD_IN = (1.0, 0.0254, 25.4)  # mm per unit of tables that do not say theirs


NEAR_COPPER_MM = 1.5


TRIED = 60  # places whose land patterns are laid to find unit and origin


def give_places(
    parts: dict[str, One], table: Spots, board: BoardSet, pads: list[SetPad], catalogue: Catalogue, found: Adopted
) -> None:
    """Give parts the places of a centroid table, in the unit and from the origin for which they lie among pads."""
    scale, (dx, dy), share = _origin(table, board, pads, parts, catalogue)
    if share < 0.5:
        raise InputError(
            f"Only {share:.0%} of the places lie where the board has copper", table.name,
            "Is it the table of this board? Tell its unit in the head of the columns, such as X (mm)",
        )  # fmt: skip
    if table.unit is None:
        word = {1.0: "mm", 0.0254: "mil", 25.4: "inch"}[scale]
        found.notes.append(f"{table.name} does not say its unit: it fits the board in {word}")
    if (dx, dy) != (0.0, 0.0):
        found.notes.append(f"{table.name} counts from another corner: its places are moved by {dx:.3f}, {dy:.3f} mm")
    alone = [s.ref for s in table.rows if s.ref not in parts]
    if alone and parts:
        found.notes.append(f"In {table.name} but in no bill of materials, and left out: {few(alone)}")
    for s in table.rows:
        if not parts or s.ref in parts:
            one = parts.get(s.ref) if s.ref in parts else None
            if one is None:
                continue
            one.package = one.package or s.package
            one.value = one.value or s.value
            one.spot = spot_of(s, scale, dx, dy)
            one.said_mdeg = one.spot.angle_mdeg


def spot_of(s: Spot, scale: float, dx: float, dy: float) -> Placement:
    """Return the place of a row on the board: scaled to mm, then shifted."""
    return Placement(
        x_nm=nm(s.x * scale + dx),
        y_nm=nm(s.y * scale + dy),
        angle_mdeg=round(s.turn * 1000) % 360_000,
        side=face_of(s.side),
        fixed=True,
    )


def _origin(
    table: Spots, board: BoardSet, pads: list[SetPad], parts: Mapping[str, One], catalogue: Catalogue
) -> tuple[float, tuple[float, float], float]:
    """Return unit, shift, and the share of places near pads, of the reading that lays most land patterns on pads.

    Where no land pattern is known, the one counts that spreads most places over the pads of the whole board.
    """
    from shapely import MultiPoint, STRtree
    from shapely import Point as Spot2

    x0, y0, x1, y1 = board.edges.board.bounds
    tree, ground = STRtree([p.shape for p in pads]), Ground(pads)
    shifts = dict.fromkeys(((0.0, 0.0), (x0, y0), (x0, y1), (x1, y0), (x1, y1), ((x0 + x1) / 2, (y0 + y1) / 2)))
    tries = []
    for s in table.rows[:TRIED]:
        said = s.package or (parts[s.ref].package if s.ref in parts else "")
        tries.append((s, [land_pattern(catalogue.packages[n]) for n in packages_named(said, s.ref, catalogue)[:2]]))
    best: tuple[tuple[float, float], float, tuple[float, float], float] = ((-1.0, 0.0), 1.0, (0.0, 0.0), 0.0)
    for scale in (1.0,) if table.unit is not None else SOLD_IN:
        for dx, dy in shifts:
            spots = [Spot2(s.x * scale + dx, s.y * scale + dy) for s in table.rows]
            inside = [p for p in spots if x0 - 1 <= p.x <= x1 + 1 and y0 - 1 <= p.y <= y1 + 1]
            near = sum(len(tree.query(p, predicate="dwithin", distance=NEAR_COPPER_MM)) > 0 for p in inside)
            laid = sum(any(ground.turned(g, spot_of(s, scale, dx, dy)) for g in patterns) for s, patterns in tries)
            bx0, by0, bx1, by1 = MultiPoint(spots).bounds
            spread = min(1.0, math.hypot(bx1 - bx0, by1 - by0) / math.hypot(x1 - x0, y1 - y0))
            worth = (float(laid), near * spread)
            if worth > best[0]:
                best = (worth, scale, (dx, dy), near / len(table.rows))
    return best[1:]
