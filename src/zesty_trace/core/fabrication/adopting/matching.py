"""Which pads of the files belong to which part: land patterns laid onto the bare copper."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from zesty_trace.core.board.copper import to_board
from zesty_trace.core.catalogue.lands.pattern import LandPattern
from zesty_trace.core.design.model import Placement
from zesty_trace.core.fabrication.adopting.set_pads import SetPad
from zesty_trace.core.quantities import nm

CLOSE_MM = 0.15  # a land pattern so near to the pads is theirs, whatever its name
OFF_MM = 0.4  # how far the middle of a pad may be off that of its land pattern
NEAR_MM = 12.0  # a pad so far from the middle of a part may still be its own
LEAST_HOLE_MM = 0.55  # smaller holes are vias
TURNS_MDEG = (0, 90_000, 180_000, 270_000)


@dataclass(frozen=True)
class Fit:
    """A land pattern on the pads of the files: pad number -> pads, how far it is off, and turns that fit as well."""

    pins: dict[str, tuple[int, ...]]
    turn_mdeg: int
    off_mm: float
    also: tuple[int, ...] = ()


@dataclass
class Ground:
    """The pads of a set, and which are taken."""

    pads: Sequence[SetPad]
    taken: set[int] = field(default_factory=set)
    _tree: Any = None

    def at(self, x: float, y: float, side: str, drilled: bool) -> int | None:
        """Return the free pad at a point, on a side, with or without a hole."""
        from shapely import Point, STRtree

        if self._tree is None:
            self._tree = STRtree([p.shape.convex_hull for p in self.pads])
        for k in sorted(self._tree.query(Point(x, y), predicate="intersects").tolist()):
            pad = self.pads[k]
            if k not in self.taken and (pad.hole is not None if drilled else side in pad.layers and pad.hole is None):
                return int(k)
        return None

    def lay(self, pattern: LandPattern, spot: Placement) -> Fit | None:
        """Return how a land pattern fits at a place; None if a pad of it has no copper of its own there."""
        pins: dict[str, tuple[int, ...]] = {}
        used: set[int] = set()
        off = 0.0
        count = 0
        for pad in pattern.pads:
            if not pad.plated:
                continue
            x, y = (v / 1e6 for v in to_board(spot, pad.x_nm, pad.y_nm))
            hit = self.at(x, y, spot.side, bool(pad.drill_nm))
            if hit is None or hit in used:
                return None
            away = math.dist(self.pads[hit].at, (x, y))
            if away > OFF_MM:
                return None
            used.add(hit)
            off, count = off + away + abs(_area(pad) - self.pads[hit].shape.convex_hull.area) ** 0.5 / 4, count + 1
            pins[pad.number] = (*pins.get(pad.number, ()), hit)
        return Fit(pins, spot.angle_mdeg, off / count) if count else None

    def turned(self, pattern: LandPattern, spot: Placement) -> Fit | None:
        """Return the best fit at a place whatever the table means by its turn; as it is said where that fits too."""
        fits = [f for turn in TURNS_MDEG if (f := self.lay(pattern, _turned(spot, turn)))]
        if not fits:
            return None
        best = min(f.off_mm for f in fits)
        good = [f for f in fits if f.off_mm < best + 0.02]
        said = next((f for f in good if f.turn_mdeg == spot.angle_mdeg), good[0])
        also = tuple((f.turn_mdeg - said.turn_mdeg) % 360_000 for f in good if f is not said)
        return Fit(said.pins, said.turn_mdeg, said.off_mm, also)

    def likeliest(self, patterns: Iterable[tuple[str, LandPattern]], spot: Placement) -> tuple[str, Fit] | None:
        """Return the name and fit of the land pattern that is nearest to the pads at a place; None if none is near."""
        fits = [(n, f) for n, p in patterns if (f := self.turned(p, spot)) and f.off_mm < CLOSE_MM]
        if not fits:
            return None
        most = max(len(f.pins) for _, f in fits)
        return min((nf for nf in fits if len(nf[1].pins) == most), key=lambda nf: nf[1].off_mm)

    def searched(self, pattern: LandPattern) -> list[tuple[Placement, Fit]]:
        """Return where a land pattern fits on free pads, one place for each set of pads."""
        plated = [p for p in pattern.pads if p.plated]
        found: dict[frozenset[int], tuple[Placement, Fit]] = {}
        if len(plated) < 2:
            return []  # one pad is anywhere
        first = plated[0]
        for k, pad in enumerate(self.pads):
            if k in self.taken or (pad.hole is None) == bool(first.drill_nm) or is_via(pad):
                continue
            for side in ("top",) if first.drill_nm else pad.layers:
                for turn in TURNS_MDEG:
                    here = Placement(x_nm=0, y_nm=0, angle_mdeg=turn, side="bottom" if side == "bottom" else "top")
                    dx, dy = to_board(here, first.x_nm, first.y_nm)
                    x, y = pad.at
                    spot = Placement(x_nm=nm(x) - round(dx), y_nm=nm(y) - round(dy), angle_mdeg=turn, side=here.side)
                    fit = self.lay(pattern, spot)
                    if fit is not None:
                        key = frozenset(i for hits in fit.pins.values() for i in hits)
                        if key not in found or fit.off_mm < found[key][1].off_mm:
                            found[key] = (spot, fit)
        return list(found.values())

    def near(self, spots: dict[str, Placement]) -> dict[str, list[int]]:
        """Return ref -> the free pads that are nearer to its middle than to that of any other of `spots`."""
        found: dict[str, list[int]] = {ref: [] for ref in spots}
        for k, pad in enumerate(self.pads):
            if k in self.taken or is_via(pad):
                continue
            reach = [
                (math.dist(pad.at, (s.x_nm / 1e6, s.y_nm / 1e6)), ref)
                for ref, s in spots.items()
                if pad.hole is not None or s.side in pad.layers
            ]
            away, ref = min(reach, default=(math.inf, ""))
            if away <= NEAR_MM:
                found[ref].append(k)
        return found

    def take(self, pads: Iterable[int]) -> None:
        """Mark pads as taken."""
        self.taken.update(pads)


def is_via(pad: SetPad) -> bool:
    """Whether a pad is only that of a small hole."""
    return pad.hole is not None and not pad.hole.slot and pad.hole.diameter < LEAST_HOLE_MM


def _area(pad: Any) -> float:
    full = pad.width_nm * pad.height_nm / 1e12
    return float(full * (math.pi / 4 if pad.shape == "round" else 1.0))


def _turned(spot: Placement, by: int) -> Placement:
    return Placement(x_nm=spot.x_nm, y_nm=spot.y_nm, angle_mdeg=(spot.angle_mdeg + by) % 360_000, side=spot.side)
