"""Copper that belongs to nothing: of nets and parts that are gone, track ends in the air, vias that join nothing."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

from zesty_trace.core.board.copper import copper_items
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import LAYERS, Design, LayerName
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

GONE = rule(
    "copper of nothing",
    Severity.FIX,
    "Copper that is left over from something removed shorts what comes next, and reads as a connection.",
    "common practice",
    limits="copper belongs to a net of the schematic",
    station="layout",
)
DANGLING = rule(
    "dangling end",
    Severity.NOTE,
    "A track that ends in the air is an aerial, or a connection that was forgotten.",
    "common practice",
    limits="both ends of a track on copper of its net",
    station="layout",
)
LOOSE_VIA = rule(
    "loose via",
    Severity.NOTE,
    "A via that joins nothing costs a hole and hides that a connection is missing.",
    "common practice",
    limits="copper of its net on two layers at each via",
    station="layout",
)


def check_leftovers(wired: Wired) -> Iterator[Finding]:
    """Yield copper that joins nothing."""
    yield from _gone(wired)
    trees = {layer: _tree(wired, layer) for layer in LAYERS}
    yield from _dangling(wired, trees)
    yield from _loose(wired, trees)


def take_off(design: Design, net: str) -> Design:
    """Take all tracks, vias and pours of a net off the board."""
    board = design.board
    return edits.set_copper(
        design,
        [t for t in board.tracks if t.net != net],
        [v for v in board.vias if v.net != net],
        [p for p in board.pours if p.net != net],
    )


def _gone(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    used = {net for net, pins in design.nets.items() if any(p.ref in design.board.placements for p in pins)}
    board = design.board
    laid: dict[str, Point] = {v.net: Point(v.x_nm, v.y_nm) for v in board.vias}
    laid |= {t.net: Point(*t.points[0]) for t in board.tracks if t.points}
    for net, at in laid.items():
        if net in used:
            continue
        why = "is not in the schematic any more" if net not in design.nets else "has no part on the board any more"
        yield GONE.found(
            of_net(net) if net in design.nets else Subject(which=net),
            f"There is copper of {net}, which {why}",
            "Take it off.",
            at=(at,),
            mend=Mend(f"Take the copper of {net} off", partial(take_off, net=net)),
        )


class _Tree:
    """All copper of a layer, to be asked what touches a spot."""

    def __init__(self, items: list[tuple[str, object, Any]]) -> None:
        from shapely import STRtree

        self.items = items
        self.tree = STRtree([shape for _, _, shape in items])

    def touching(self, spot: Any, net: str, but: object) -> int:
        """Return how many other pieces of a net touch a spot."""
        found = self.tree.query(spot, predicate="intersects").tolist()
        return sum(self.items[k][0] == net and self.items[k][1] != but for k in found)


def _tree(wired: Wired, layer: LayerName) -> _Tree:
    items: list[tuple[str, object, Any]] = [(i.net, i.node, i.shape) for i in copper_items(wired, layer)]
    for net, area in pour_shapes(wired, layer):
        items += [(net, ("pour", k), piece) for k, piece in enumerate(area.geoms)]
    return _Tree(items)


def _dangling(wired: Wired, trees: dict[LayerName, _Tree]) -> Iterator[Finding]:
    from shapely import Point as Spot

    seen: set[str] = set()
    for k, track in enumerate(wired.design.board.tracks):
        if track.net in seen or len(track.points) < 2:
            continue
        for x, y in (track.points[0], track.points[-1]):
            spot = Spot(mm(x), mm(y)).buffer(mm(track.width_nm) / 2)
            if trees[track.layer].touching(spot, track.net, ("track", k)):
                continue
            seen.add(track.net)
            yield DANGLING.found(
                of_net(track.net, "end"),
                f"A track of {track.net} ends in the air on {track.layer}",
                "Join it, or take it off.",
                at=(Point(x, y),),
            )
            break


def _loose(wired: Wired, trees: dict[LayerName, _Tree]) -> Iterator[Finding]:
    from shapely import Point as Spot

    seen: set[str] = set()
    for via in wired.design.board.vias:
        if via.net in seen:
            continue
        spot = Spot(mm(via.x_nm), mm(via.y_nm)).buffer(mm(via.diameter_nm) / 2)
        node = ("via", via.x_nm, via.y_nm)
        joined = [layer for layer in LAYERS if trees[layer].touching(spot, via.net, node)]
        if len(joined) < len(LAYERS):
            seen.add(via.net)
            where = f"only on {joined[0]}" if joined else "on no layer"
            yield LOOSE_VIA.found(
                of_net(via.net, "via"),
                f"A via of {via.net} joins copper {where}",
                "Take it off, or draw what it was for.",
                at=(Point(via.x_nm, via.y_nm),),
            )
