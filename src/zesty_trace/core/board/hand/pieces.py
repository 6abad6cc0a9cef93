"""Tracks and vias by their place in the design: which is at a point, which ends in the air, which go together."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, field
from typing import Any

from zesty_trace.core.board.copper import laid_copper
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, LayerName, Track, Via
from zesty_trace.core.quantities import mm

Key = tuple[str, int]  # ("track", 3): what it is, and its place in the design
TOUCH_MM = 1e-4


@dataclass(frozen=True)
class Picked:
    """A track or via at a point; of a track also which of its straight pieces."""

    what: str
    index: int
    segment: int = 0

    @property
    def key(self) -> Key:
        """What it is, and its place in the design."""
        return self.what, self.index


def piece_at(
    wired: Wired, x_mm: float, y_mm: float, layers: Collection[LayerName], reach_mm: float = 0.2
) -> Picked | None:
    """Return the via, else the nearest track of some layers within reach of a point."""
    from shapely import LineString, Point

    spot, board = Point(x_mm, y_mm), wired.design.board
    for k, via in enumerate(board.vias):
        if spot.distance(Point(mm(via.x_nm), mm(via.y_nm))) <= mm(via.diameter_nm) / 2:
            return Picked("via", k)
    best: tuple[float, Picked] | None = None
    for k, track in enumerate(board.tracks):
        if track.layer not in layers:
            continue
        half = mm(track.width_nm) / 2 + reach_mm
        xs, ys = [mm(p[0]) for p in track.points], [mm(p[1]) for p in track.points]
        if not (min(xs) - half <= x_mm <= max(xs) + half and min(ys) - half <= y_mm <= max(ys) + half):
            continue
        for n, (a, b) in enumerate(zip(track.points, track.points[1:], strict=False)):
            away = spot.distance(LineString([(mm(a[0]), mm(a[1])), (mm(b[0]), mm(b[1]))]))
            if away <= half and (best is None or away < best[0]):
                best = away, Picked("track", k, n)
    return best[1] if best else None


def copper_at(wired: Wired, x_mm: float, y_mm: float, layers: Collection[LayerName]) -> tuple[str, LayerName] | None:
    """Return the net and the layer of the copper under a point, on the first of these layers that has some there."""
    from shapely import Point

    spot = Point(x_mm, y_mm)
    for layer in layers:
        poured = pour_shapes(wired, layer)
        for item in laid_copper(wired, layer).items:
            x0, y0, x1, y1 = item.shape.bounds
            if x0 <= x_mm <= x1 and y0 <= y_mm <= y1 and item.shape.covers(spot):
                return item.net, layer
        for net, area in poured:
            if area.covers(spot):
                return net, layer
    return None


@dataclass
class NetCopper:
    """All copper of one net, by layer: shapes with what each is. Pads are ("pad", k), fills ("pour", k)."""

    tracks: dict[int, Track]
    vias: dict[int, Via]
    shapes: dict[LayerName, list[tuple[Key, Any]]] = field(default_factory=dict)

    @classmethod
    def of(cls, wired: Wired, net: str, fills: bool = True) -> NetCopper:
        """Return the copper of a net; without its fills where these are not to be worked out."""
        board = wired.design.board
        found = cls(
            {k: t for k, t in enumerate(board.tracks) if t.net == net},
            {k: v for k, v in enumerate(board.vias) if v.net == net},
        )
        for layer in board.stack:
            here: list[tuple[Key, Any]] = []
            for n, item in enumerate(laid_copper(wired, layer).items):
                if item.net == net:
                    what, number = str(item.node[0]), item.node[1]
                    here.append(((what, number) if isinstance(number, int) else (what, n), item.shape))
            poured = pour_shapes(wired, layer) if fills else ()
            areas = [piece for name, area in poured if name == net for piece in area.geoms]
            here += [(("pour", n), piece) for n, piece in enumerate(areas)]
            found.shapes[layer] = here
        return found

    def loose(self, gone: Collection[Key]) -> set[Key]:
        """Return the tracks with an end in the air, and the vias that join fewer than two pieces, without `gone`."""
        found: set[Key] = set()
        for k, track in self.tracks.items():
            if ("track", k) not in gone and any(
                not self._others(track.layer, end, mm(track.width_nm) / 2, ("track", k), gone)
                for end in (track.points[0], track.points[-1])
            ):
                found.add(("track", k))
        for k, via in self.vias.items():
            key, at, radius = ("via", k), (via.x_nm, via.y_nm), mm(via.diameter_nm) / 2
            if key in gone:
                continue
            met = {(layer, o) for layer in self.shapes for o in self._others(layer, at, radius, key, gone)}
            if len({layer for layer, _ in met}) < 2:
                found.add(key)
        return found

    def _others(
        self, layer: LayerName, at: tuple[int, int], radius: float, own: Key, gone: Collection[Key]
    ) -> set[Key]:
        from shapely import Point

        disc = Point(mm(at[0]), mm(at[1])).buffer(radius - TOUCH_MM)
        return {key for key, shape in self.shapes[layer] if key != own and key not in gone and shape.intersects(disc)}


def with_what_hangs_on(wired: Wired, gone: Iterable[Key], fills: bool = True) -> set[Key]:
    """Return pieces with all that leads nowhere without them; what ended in the air before is left.

    Without `fills`, what ends in a pour alone counts as ending in the air already.
    """
    board = wired.design.board
    lost = set(gone)
    nets = {board.tracks[k].net if what == "track" else board.vias[k].net for what, k in lost}
    for net in sorted(nets):
        copper = NetCopper.of(wired, net, fills)
        loose_before = copper.loose(())
        while more := copper.loose(lost) - loose_before - lost:
            lost |= {key for key in more if not _locked(wired, key)}
            if all(_locked(wired, key) for key in more):
                break
    return lost


def _locked(wired: Wired, key: Key) -> bool:
    board = wired.design.board
    return board.tracks[key[1]].locked if key[0] == "track" else board.vias[key[1]].locked


def taken(design: Design, gone: Collection[Key]) -> Design:
    """Return the design without some tracks and vias."""
    board = design.board
    return edits.set_copper(
        design,
        [t for k, t in enumerate(board.tracks) if ("track", k) not in gone],
        [v for k, v in enumerate(board.vias) if ("via", k) not in gone],
        board.pours,
    )


def take_piece(wired: Wired, picked: Picked) -> Design:
    """Take a via, or one straight piece of a track, off the board; the rest of the track stays."""
    from msgspec.structs import replace

    design = wired.design
    if picked.what == "via":
        return taken(design, {picked.key})
    track = design.board.tracks[picked.index]
    rests = (track.points[: picked.segment + 1], track.points[picked.segment + 1 :])
    kept = [replace(track, points=points) for points in rests if len(points) > 1]
    tracks = [t for k, t in enumerate(design.board.tracks) if k != picked.index]
    return edits.set_copper(design, [*tracks, *kept], design.board.vias, design.board.pours)


def take_connection(wired: Wired, picked: Picked) -> Design:
    """Take a piece off, with all of its connection: up to the pads and to where it branches."""
    return taken(wired.design, with_what_hangs_on(wired, {picked.key}))


def net_of_piece(design: Design, picked: Picked) -> str:
    """Return the net of a piece."""
    board = design.board
    return board.tracks[picked.index].net if picked.what == "track" else board.vias[picked.index].net
