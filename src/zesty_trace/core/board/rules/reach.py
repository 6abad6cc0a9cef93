"""What hands, probes and tools must reach: supplies to measure, the programming lead, pins to solder, marks to see."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

from zesty_trace.core.board.copper import (
    board_pads,
    body_shape,
    height_nm,
    hole_items,
    pad_polygons,
    pattern_of,
    to_board,
)
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, of_net, of_part, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

IRON_MM = 2.0  # room that an iron wants beside a pin to be soldered by hand: common practice
TALL_MM = 8.0  # neighbours lower than this do not keep the iron off: common practice
WARM_MM = 4.0  # heat that a large joint takes reaches so far: common practice
BIG_PAD_MM2 = 12.0
FINE_MM = 0.55  # pitch below which stencil and parts want fiducials: common practice
MOST_DRILLS = 8  # tools: some houses ask more beyond: common practice

PROBE = rule(
    "no probe on a rail",
    Severity.NOTE,
    "A supply that no probe reaches is measured on a chip's leg, where a slip shorts it.",
    "common practice",
    limits="a test point, or a pin in a hole, on each supply and on ground",
    station="layout",
)
IRON = rule(
    "no room for the iron",
    Severity.NOTE,
    "Pins behind a tall part cannot be soldered or reworked.",
    "common practice",
    limits=f"{IRON_MM:g} mm beside hand-soldered pins, on a side at least, clear of parts over {TALL_MM:g} mm",
    station="layout",
)
NEAR_HEAT = rule(
    "heat-sensitive part near a big joint",
    Severity.NOTE,
    "A joint that needs a big iron, and long, cooks what stands beside it.",
    "common practice",
    limits=f"{WARM_MM:g} mm from pads over {BIG_PAD_MM2:g} mm² that are soldered by hand",
    station="layout",
)
HIDDEN_MARK = rule(
    "mark hidden",
    Severity.FIX,
    "A part whose pin 1 or polarity cannot be seen is put in the wrong way round, and nobody notices in the picture.",
    "common practice: the mark shows once the part is on",
    limits="marks clear of other parts, of pads, and on the board",
    station="layout",
)
FIDUCIALS = rule(
    "no fiducials",
    Severity.NOTE,
    "A stencil, or a machine, lines up with nothing: fine pitches shift by a pad.",
    "common practice: two or more, 1 mm of bare copper",
    limits=f"fiducials on boards with pitches below {FINE_MM:g} mm",
    station="layout",
)
DRILLS = rule(
    "many drills",
    Severity.NOTE,
    "Each drill is a tool change; some houses ask more for them.",
    "common practice",
    limits=f"up to {MOST_DRILLS} drills",
    station="layout",
)


def check_reach(wired: Wired) -> Iterator[Finding]:
    """Yield what cannot be reached, or seen."""
    yield from _probes(wired)
    bodies = {
        r: body_shape(wired, r)
        for r in wired.design.board.placements
        if r in wired.design.parts and wired.kind(r).assembled
    }
    yield from _irons(wired, bodies)
    yield from _sensitive(wired, bodies)
    yield from _marks(wired, bodies)
    yield from _fiducials(wired)
    yield from _drills(wired)


def _probes(wired: Wired) -> Iterator[Finding]:
    reachable = {p.net for p in board_pads(wired) if p.layers and (p.drill_nm or not wired.kind(p.pin.ref).assembled)}
    for net in (*wired.rails, wired.ground):
        on = [p for p in board_pads(wired) if p.net == net]
        if net and net not in reachable and len({p.pin.ref for p in on}) > 2:
            yield PROBE.found(
                of_net(net),
                f"No probe reaches {net}",
                "Add a test point: say “add TP9 test_point” in Schematic and join it.",
                at=(Point(on[0].x_nm, on[0].y_nm),),
            )


def _irons(wired: Wired, bodies: dict[str, Any]) -> Iterator[Finding]:
    """Yield parts with leads that taller neighbours wall in on both sides of a row of pins."""
    from shapely import STRtree, unary_union

    spots = wired.design.board.placements
    tall = [r for r in bodies if mm(height_nm(wired, r)) > TALL_MM]
    if not tall:
        return
    tree = STRtree([bodies[r] for r in tall])
    for ref, body in bodies.items():
        pads = [p for p in board_pads(wired, [ref]) if p.drill_nm and p.plated]
        if not pads or mm(height_nm(wired, ref)) > TALL_MM:
            continue
        around = body.buffer(IRON_MM).difference(body)
        near = [tall[k] for k in tree.query(around, predicate="intersects").tolist() if tall[k] != ref]
        same = [r for r in near if spots[r].side == spots[ref].side]
        taken = around.intersection(unary_union([bodies[r] for r in same])).area / around.area if same else 0.0
        if taken > 0.5:
            yield IRON.found(
                Subject(refs=(ref, *same)),
                f"{ref} stands between {' and '.join(same)}: no room for an iron",
                f"Solder {ref} before them, or move them {IRON_MM:g} mm apart.",
                at=(Point(spots[ref].x_nm, spots[ref].y_nm),),
            )


def _sensitive(wired: Wired, bodies: dict[str, Any]) -> Iterator[Finding]:
    from shapely import STRtree

    shy = [r for r in bodies if wired.kind(r).heat_sensitive]
    if not shy:
        return
    tree = STRtree([bodies[r] for r in shy])
    for pad, shape in zip(board_pads(wired), pad_polygons(wired), strict=True):
        by_hand = pad.drill_nm and pad.plated
        if not by_hand or mm(pad.width_nm) * mm(pad.height_nm) < BIG_PAD_MM2:
            continue
        for k in tree.query(shape, predicate="dwithin", distance=WARM_MM).tolist():
            if shy[k] == pad.pin.ref:
                continue
            gap = float(bodies[shy[k]].distance(shape))
            yield NEAR_HEAT.found(
                Subject(refs=(shy[k],), pins=(pad.pin,)),
                f"{shy[k]} stands {gap:.1f} mm from the big joint {pad.pin}",
                f"It does not stand long heat: solder {pad.pin.ref} first, or keep {WARM_MM:g} mm.",
                at=(Point(pad.x_nm, pad.y_nm),),
                value=gap,
                limit=WARM_MM,
                unit="mm",
            )


def _marks(wired: Wired, bodies: dict[str, Any]) -> Iterator[Finding]:
    """Yield parts whose mark lies below another part."""
    from shapely import Point as Spot
    from shapely import STRtree

    refs = list(bodies)
    if not refs:
        return
    tree = STRtree(list(bodies.values()))
    for ref in refs:
        mark = pattern_of(wired, ref).mark
        if mark is None or (not wired.package(ref).polar and len(wired.kind(ref).pins) < 4):
            continue
        spot = wired.design.board.placements[ref]
        x, y = to_board(spot, *mark)
        for k in tree.query(Spot(x / 1e6, y / 1e6), predicate="intersects").tolist():
            other = refs[k]
            if other != ref and wired.design.board.placements[other].side == spot.side:
                yield HIDDEN_MARK.found(
                    Subject(refs=(ref, other)),
                    f"{other} stands on the mark of {ref}",
                    "Move one of them: the mark has to show once both are on.",
                    at=(Point(round(x), round(y)),),
                )


def _fiducials(wired: Wired) -> Iterator[Finding]:
    if any("fiducial" in wired.design.parts[r].kind for r in wired.design.board.placements if r in wired.design.parts):
        return
    for ref in wired.design.board.placements:
        if ref not in wired.design.parts:
            continue
        pads = [p for p in pattern_of(wired, ref).pads if not p.drill_nm and p.paste]
        pitch = min((math.dist(a[1:3], b[1:3]) for a, b in pairwise(pads)), default=1e9) / 1e6
        if pitch < FINE_MM and len(pads) > 4:
            yield FIDUCIALS.found(
                of_part(ref),
                f"{ref} has a pitch of {pitch:.2f} mm, and the board no fiducials",
                "Tape the stencil by eye on its pads, or add two fiducials.",
                value=pitch,
                limit=FINE_MM,
                unit="mm",
            )
            return


def _drills(wired: Wired) -> Iterator[Finding]:
    sizes = sorted({(h.drill_nm, h.plated) for h in hole_items(wired)})
    if len(sizes) > MOST_DRILLS:
        shown = ", ".join(f"{mm(size):g}" for size, _ in sizes)
        yield DRILLS.found(
            Subject(),
            f"The board needs {len(sizes)} drills",
            f"{shown} mm. Round those that are near each other up to one.",
            value=float(len(sizes)),
            limit=float(MOST_DRILLS),
            unit="drills",
        )
