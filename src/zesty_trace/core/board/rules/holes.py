"""Holes against copper, pads, rings, the edge and each other."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from zesty_trace.core.board.copper import (
    BoardPad,
    Copper,
    board_pads,
    hole_items,
    hole_shape,
    hole_shapes,
    outline_shape,
    pad_hole,
    pad_polygons,
)
from zesty_trace.core.board.cores import Exact, hole_cores, near_pairs
from zesty_trace.core.board.shorts import ROUNDING_MM
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, LayerName
from zesty_trace.core.findings import Finding, Severity, Subject, of_net, of_pin, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, say_mm

RULES_SOURCE = "board rules of the project (comfortable two-layer class, common practice)"

ANNULAR_RING = rule(
    "annular ring",
    Severity.FIX,
    "A drill that wanders breaks a thin ring.",
    RULES_SOURCE,
    limits="annular ring of the board rules",
    station="layout",
)
DRILL_IN_PAD = rule(
    "drill and pad",
    Severity.STOP,
    "A hole as large as its pad leaves no copper to solder to.",
    RULES_SOURCE,
    limits="a drill smaller than its pad",
    station="layout",
)
LEAST_DRILL = rule(
    "least drill",
    Severity.FIX,
    "Thinner drills break; the house asks more for them, or refuses.",
    RULES_SOURCE,
    limits="drill of the board rules",
    station="layout",
)
HOLES = rule(
    "holes",
    Severity.FIX,
    "The drill breaks through, or breaks.",
    "common practice",
    limits="0.25 mm of board between two holes",
    station="layout",
)
HOLE_COPPER = rule(
    "hole and copper",
    Severity.STOP,
    "A hole drilled through a track cuts it, and a screw in it shorts it.",
    RULES_SOURCE,
    limits="clearance of the board rules from a bare hole to copper",
    station="layout",
)
SCREW_HEAD = rule(
    "screw head",
    Severity.FIX,
    "A screw's head or washer scrapes through the mask onto the copper below it.",
    "common practice: no copper but ground below a head",
    limits="the room of the screw's head",
    station="layout",
)
HOLE_EDGE = rule(
    "hole and edge",
    Severity.FIX,
    "Thin board between a hole and the edge breaks out.",
    "common practice",
    limits="0.5 mm of board from a hole to the edge",
    station="layout",
)
VIA_IN_PAD = rule(
    "via in pad",
    Severity.FIX,
    "Solder flows down the hole, and the joint above stays dry.",
    "common practice",
    limits="no hole in a pad that is soldered from above",
    station="layout",
)


def check_holes(wired: Wired) -> Iterator[Finding]:
    """Yield what is wrong with holes."""
    yield from _rings(wired)
    yield from _vias(wired)
    yield from _near_each_other(wired)
    yield from _near_copper(wired)
    yield from _near_edge(wired)


def _rings(wired: Wired) -> Iterator[Finding]:
    rules = wired.design.board.rules
    for pad in board_pads(wired):
        if not pad.drill_nm:
            continue
        at = (Point(pad.x_nm, pad.y_nm),)
        long, short = max(pad.width_nm, pad.height_nm), min(pad.width_nm, pad.height_nm)
        ring = min(short - pad.drill_nm, long - max(pad.drill_nm, pad.slot_nm)) / 2
        if pad.drill_nm < rules.drill_nm:
            yield _thin_drill(of_pin(pad.pin), str(pad.pin), pad.drill_nm, rules.drill_nm, at)
        if not pad.plated:
            continue
        if ring <= 0:
            yield DRILL_IN_PAD.found(
                of_pin(pad.pin),
                f"The hole of {pad.pin} is as large as its pad",
                f"A drill of {say_mm(pad.drill_nm)} in a pad of {say_mm(min(pad.width_nm, pad.height_nm))}. "
                "Use a larger pad or a smaller drill.",
                at=at,
                value=mm(pad.drill_nm),
                limit=mm(min(pad.width_nm, pad.height_nm)),
                unit="mm",
            )
        elif ring < rules.annular_nm:
            yield _thin_ring(of_pin(pad.pin), str(pad.pin), ring, rules.annular_nm, at)


def _thin_ring(about: Subject, what: str, ring: float, least: int, at: tuple[Point, ...]) -> Finding:
    return ANNULAR_RING.found(
        about,
        f"{what} has a ring of {mm(int(ring)):.2f} mm",
        f"The rule asks for {say_mm(least)}. Use a larger pad.",
        at=at,
        value=mm(int(ring)),
        limit=mm(least),
        unit="mm",
    )


def _thin_drill(about: Subject, what: str, drill: int, least: int, at: tuple[Point, ...]) -> Finding:
    return LEAST_DRILL.found(
        about,
        f"{what} has a drill of {mm(drill):.2f} mm",
        f"The house drills from {say_mm(least)}. Use a thicker one.",
        at=at,
        value=mm(drill),
        limit=mm(least),
        unit="mm",
    )


def _vias(wired: Wired) -> Iterator[Finding]:
    """Yield rings, drills and places of vias, one finding a net of each sort."""
    from shapely import STRtree

    board = wired.design.board
    rules = board.rules
    ringed: dict[str, Finding] = {}
    for via in board.vias:
        at = (Point(via.x_nm, via.y_nm),)
        ring = (via.diameter_nm - via.drill_nm) / 2
        what = f"A via of {via.net}"
        if ring < rules.annular_nm:
            ringed.setdefault(f"ring {via.net}", _thin_ring(of_net(via.net, "via"), what, ring, rules.annular_nm, at))
        if via.drill_nm < rules.drill_nm:
            found = _thin_drill(of_net(via.net, "via"), what, via.drill_nm, rules.drill_nm, at)
            ringed.setdefault(f"drill {via.net}", found)
    yield from ringed.values()
    pads = zip(board_pads(wired), pad_polygons(wired), strict=True)
    surface = [(p, s) for p, s in pads if p.layers and not p.drill_nm]
    if not surface or not board.vias:
        return
    shapes = [s for _, s in surface]
    holes = hole_shapes(hole_items(wired)[-len(board.vias) :])
    left, right = STRtree(shapes).query(holes, predicate="intersects")
    for a, b in zip(left.tolist(), right.tolist(), strict=True):
        via, pad = board.vias[a], surface[b][0]
        yield VIA_IN_PAD.found(
            Subject(pins=(pad.pin,), which=f"via at {via.x_nm}, {via.y_nm} nm"),
            f"A via lies in the pad of {pad.pin}",
            "Move it out of the pad, or have it filled and capped.",
            nets=(via.net,),
            at=(Point(via.x_nm, via.y_nm),),
        )


def _near_each_other(wired: Wired) -> Iterator[Finding]:
    holes = hole_items(wired)
    if not holes:
        return
    least = mm(wired.design.board.rules.hole_gap_nm)
    cores = hole_cores(holes)
    left, right, gaps = near_pairs(cores, Exact(np.empty(0, dtype=object), np.empty(0)), least - ROUNDING_MM)
    for a, b, gap in zip(left.tolist(), right.tolist(), gaps.tolist(), strict=True):
        yield HOLES.found(
            Subject(which=f"{holes[a].x_nm}, {holes[a].y_nm} and {holes[b].x_nm}, {holes[b].y_nm} nm"),
            f"Two holes are {gap:.2f} mm apart",
            f"Holes need {least:g} mm of board between them. Move one.",
            at=(Point(holes[a].x_nm, holes[a].y_nm),),
            value=gap,
            limit=least,
            unit="mm",
        )


def _near_copper(wired: Wired) -> Iterator[Finding]:
    """Yield copper at bare holes, and below the heads of screws."""
    least = mm(wired.design.board.rules.clearance_nm)
    for pad in board_pads(wired):
        if not pad.drill_nm or pad.plated:
            continue
        ref, at = pad.pin.ref, (Point(pad.x_nm, pad.y_nm),)
        free = wired.package(ref).keepout
        seen: set[str] = set()
        for layer, item, gap, middle in _round_hole(wired, pad, max(free / 2, mm(pad.drill_nm) / 2 + least)):
            name = item.net or item.what
            if gap < least - ROUNDING_MM and f"hole {name}" not in seen:
                seen.add(f"hole {name}")
                where = "runs through" if gap <= 0 else f"is {gap:.2f} mm from"
                yield HOLE_COPPER.found(
                    Subject(refs=(ref,), nets=(item.net,) if item.net else (), which=item.what),
                    f"Copper of {name} {where} the hole of {ref}",
                    f"{item.what} on {layer} needs {say_mm(round(least * 1e6))}. Move one of them.",
                    at=at,
                    value=gap,
                    limit=least,
                    unit="mm",
                )
            elif layer in FACES and item.net != wired.ground and middle <= free / 2 and name not in seen:
                seen.add(name)
                yield SCREW_HEAD.found(
                    Subject(refs=(ref,), nets=(item.net,) if item.net else (), which="head"),
                    f"{name} runs below the screw head of {ref}",
                    f"A head needs {free:g} mm free of copper but ground. Move the track.",
                    at=at,
                    limit=free,
                    unit="mm",
                )


def _round_hole(wired: Wired, pad: BoardPad, reach_mm: float) -> Iterator[tuple[LayerName, Copper, float, float]]:
    """Yield the copper round a hole, pours as well: its layer, it, how far it is from the hole and from its middle."""
    from shapely import Point as Spot

    hole, middle = hole_shape(pad_hole(pad)), Spot(mm(pad.x_nm), mm(pad.y_nm))
    room = hole.union(middle).buffer(reach_mm)
    for layer in wired.design.board.stack:
        copper = layer_copper(wired, layer)
        near = np.unique(copper.cores.item[copper.tree.query(room)])
        found = [copper.items[k] for k in near.tolist()]
        found += [Copper(p.net, layer, p.shape, "pour", p.node) for p in copper.pours if p.shape.intersects(room)]
        for item in found:
            yield layer, item, float(item.shape.distance(hole)), float(item.shape.distance(middle))


def _near_edge(wired: Wired) -> Iterator[Finding]:
    from shapely import covers, distance, prepare

    board, least = outline_shape(wired.design), mm(wired.design.board.rules.hole_edge_nm)
    holes = hole_items(wired)
    circles = hole_shapes(holes)
    prepare(board)
    gaps = np.where(covers(board, circles), distance(board.boundary, circles), 0.0)
    for k in np.flatnonzero(gaps < least - ROUNDING_MM).tolist():
        hole, gap = holes[k], float(gaps[k])
        yield HOLE_EDGE.found(
            Subject(which=f"{hole.x_nm}, {hole.y_nm} nm"),
            f"A hole of {say_mm(hole.drill_nm)} is {gap:.2f} mm from the edge",
            f"It needs {least:g} mm of board. Move it inwards.",
            at=(Point(hole.x_nm, hole.y_nm),),
            value=gap,
            limit=least,
            unit="mm",
        )
