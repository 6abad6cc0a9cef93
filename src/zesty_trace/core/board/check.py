"""Board review: clearances, holes, edge, missing copper, fit to the case. Geometry by shapely.

Limits come from the rules.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import combinations

from zesty_trace.core.board.copper import (
    copper_items,
    courtyard_shape,
    height_nm,
    on_board,
    outline_shape,
    pattern_of,
)
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.object import misfits
from zesty_trace.core.board.outline import rounded_rectangle
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.rules.currents import check_currents
from zesty_trace.core.board.rules.distances import check_distances
from zesty_trace.core.board.rules.holes import RULES_SOURCE, check_holes
from zesty_trace.core.board.rules.keepouts import check_keepouts
from zesty_trace.core.board.rules.leftovers import check_leftovers
from zesty_trace.core.board.rules.masks import check_masks
from zesty_trace.core.board.rules.mouths import check_antennas, check_mouths
from zesty_trace.core.board.rules.pairs import check_pairs
from zesty_trace.core.board.rules.reach import check_reach
from zesty_trace.core.board.rules.silk import check_silk
from zesty_trace.core.board.rules.spacing import check_spacing
from zesty_trace.core.board.rules.spreading import check_spreading
from zesty_trace.core.board.rules.thermals import check_thermals
from zesty_trace.core.board.rules.traces import check_traces
from zesty_trace.core.board.shorts import ROUNDING_MM, nets_too_near
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.board.values import wrong_values
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import LAYERS, Design, Placement
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, rule, worst_first
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, say_mm

IMPOSSIBLE = rule(
    "impossible value",
    Severity.STOP,
    "Nothing can be measured on a board with values that cannot be.",
    RULES_SOURCE,
    limits="widths, drills and rules above zero, an outline of three points or more",
    station="layout",
)
UNPLACED = rule(
    "unplaced",
    Severity.STOP,
    "Only parts on the board can be routed and ordered.",
    RULES_SOURCE,
    limits="every part on the board",
    station="layout",
)
NO_PAD = rule(
    "pin without a pad",
    Severity.STOP,
    "A pin that has no pad is joined to nothing, whatever the schematic says.",
    RULES_SOURCE,
    limits="a pad for each connected pin",
    station="layout",
)
UNROUTED = rule(
    "unrouted",
    Severity.STOP,
    "A connection without copper is an open circuit on every board of the batch.",
    RULES_SOURCE,
    limits="copper for every connection",
    station="layout",
)
CLEARANCE = rule(
    "clearance",
    Severity.STOP,
    "Copper that is too near etches together, or shorts under solder.",
    RULES_SOURCE,
    limits="clearance of the board rules",
    station="layout",
)
EDGE = rule(
    "edge",
    Severity.FIX,
    "The cutter tears copper at the edge, and bare copper there can short against the case.",
    RULES_SOURCE,
    limits="edge distance of the board rules",
    station="layout",
)
OVERLAP = rule(
    "overlap",
    Severity.FIX,
    "Parts that touch cannot be placed, soldered or reworked.",
    "courtyard excess of IPC-7351, nominal level",
    limits="no shared courtyard",
    station="layout",
)
OUTSIDE = rule(
    "outside",
    Severity.FIX,
    "It will not fit the case, or break off.",
    RULES_SOURCE,
    limits="the outline",
    station="layout",
)
TEMPLATE = rule(
    "template",
    Severity.FIX,
    "The holes in the case are already there.",
    "template of the brief",
    limits="0.05 mm and 0.1°, or the tolerance of the hole",
    station="layout",
)
SIZE = rule(
    "size",
    Severity.FIX,
    "The case was made, or bought, for one size.",
    "size in the brief",
    limits="the size in the brief",
    station="layout",
)
HEIGHT = rule(
    "height",
    Severity.FIX,
    "The lid will not close.",
    "case depth of the brief less the board",
    limits="the room in the case",
    station="layout",
)
SIDES = rule(
    "sides",
    Severity.FIX,
    "Two sides mean two stencils and two heatings.",
    "common practice",
    limits="surface-mount parts on one side",
    station="layout",
)


def check_board(wired: Wired) -> list[Finding]:
    """Return the findings of the board review, worst first. Empty while nothing is placed."""
    design = wired.design
    if not design.board.outline or not design.board.placements:
        return []
    wrong = [IMPOSSIBLE.found(Subject(which=w.where), w.text, f"{w.where}: {w.hint}.") for w in wrong_values(design)]
    if wrong:
        return worst_first(wrong)  # nothing else can be measured on it
    found = [
        *_shapes(wired),
        *_unplaced(wired),
        *_padless(wired),
        *_template(design),
        *_size(design),
        *_heights(wired),
        *check_currents(wired),
        *check_distances(wired),
        *check_spacing(wired),
        *check_spreading(wired),
    ]
    return worst_first(found)


@worked_out_from(on_board)
def _shapes(wired: Wired) -> tuple[Finding, ...]:
    """Return the findings that depend on shapes alone: an edit that moves none of them leaves them as they are."""
    with ThreadPoolExecutor(1) as beside:
        printed = beside.submit(_without_pours, wired)
        for layer in LAYERS:
            pour_shapes(wired, layer)
        silk = printed.result()
    return (
        *_links(wired),
        *_clearances(wired),
        *_edges(wired),
        *check_holes(wired),
        *check_leftovers(wired),
        *check_keepouts(wired),
        *check_mouths(wired),
        *check_antennas(wired),
        *silk,
        *check_thermals(wired),
        *check_masks(wired),
        *check_traces(wired),
        *check_pairs(wired),
        *check_reach(wired),
        *_courtyards(wired),
        *_good_news(wired),
    )


def _without_pours(wired: Wired) -> tuple[Finding, ...]:
    """Work out what asks for no pour, while those are filled; return what the silk says."""
    for layer in LAYERS:
        _ = layer_copper(wired, layer).pairs
    return tuple(check_silk(wired))


def _unplaced(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    missing = [r for r in design.parts if r not in design.board.placements]
    if missing:
        yield UNPLACED.found(
            Subject(),
            f"{len(missing)} parts are not on the board",
            f"{', '.join(missing[:10])}{' ...' if len(missing) > 10 else ''}. Place the rest (Ctrl+P).",
            refs=tuple(missing),
            value=float(len(missing)),
            limit=0.0,
            unit="parts",
        )


def _padless(wired: Wired) -> Iterator[Finding]:
    """Yield the parts of which a connected pin has no pad in their package."""
    connected: dict[str, set[str]] = {}
    for pins in wired.design.nets.values():
        for pin in pins:
            connected.setdefault(pin.ref, set()).add(pin.number)
    for ref, numbers in connected.items():
        if ref not in wired.design.parts or wired.kind(ref).external:
            continue
        missing = sorted(numbers - {p.number for p in pattern_of(wired, ref).pads if p.plated})
        if missing:
            yield NO_PAD.found(
                of_part(ref),
                f"{ref} has no pad for pin {', '.join(missing[:8])}",
                f"Its package {wired.package(ref).id} does not have them. Choose another package.",
                value=float(len(missing)),
                limit=0.0,
                unit="pins",
            )


def _links(wired: Wired) -> Iterator[Finding]:
    state = connectivity(wired)
    if state.links:
        first = state.links[0]
        yield UNROUTED.found(
            Subject(),
            f"{len(state.links)} of {state.wanted} connections have no copper",
            f"First: {first.net} from {first.a} to {first.b}. Route the board (Ctrl+R).",
            nets=tuple(dict.fromkeys(k.net for k in state.links)),
            at=tuple(Point(k.ax_nm, k.ay_nm) for k in state.links[:20]),
            value=float(len(state.links)),
            limit=0.0,
            unit="connections",
        )


def _clearances(wired: Wired) -> Iterator[Finding]:
    """Yield pairs of copper of different nets that are nearer than the rule, one finding a pair of nets and layer."""
    rules = wired.design.board.rules
    for pair in nets_too_near(wired):
        ends = ((pair.net_a, pair.what_a), (pair.net_b, pair.what_b))
        loose = " ".join(sorted(what for net, what in ends if not net))
        names = " and ".join(net or what for net, what in ends)
        subject = Subject(nets=tuple(sorted(pair.nets)), which=f"{pair.layer} {loose}".strip())
        gap = f"are {pair.gap_mm:.2f} mm apart" if pair.gap_mm > 0 else "touch"
        yield CLEARANCE.found(
            subject,
            f"{names} {gap} on {pair.layer}",
            f"{pair.what_a} and {pair.what_b} need {say_mm(rules.clearance_nm)}. Move one, or route again.",
            nets=pair.nets,
            at=(pair.at,),
            value=pair.gap_mm,
            limit=mm(rules.clearance_nm),
            unit="mm",
        )


def _edges(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    inside = outline_shape(design).buffer(-mm(design.board.rules.edge_nm) + ROUNDING_MM)
    seen = set()
    for layer in LAYERS:
        for item in copper_items(wired, layer):
            if inside.covers(item.shape) or (item.net, item.what) in seen:
                continue
            seen.add((item.net, item.what))
            p = item.shape.difference(inside).representative_point()
            yield EDGE.found(
                Subject(nets=(item.net,) if item.net else (), which=item.what),
                f"Copper of {item.net or item.what} is at the board's edge",
                f"{item.what} comes nearer than {say_mm(design.board.rules.edge_nm)}. Move it inwards.",
                at=(Point(round(p.x * 1e6), round(p.y * 1e6)),),
                limit=mm(design.board.rules.edge_nm),
                unit="mm",
            )


def _courtyards(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    refs = [r for r in design.board.placements if r in design.parts]
    shapes = {r: courtyard_shape(wired, r) for r in refs}
    outline = outline_shape(design)
    for a, b in combinations(refs, 2):
        if not shapes[a].intersects(shapes[b]):
            continue
        overlap = shapes[a].intersection(shapes[b]).area
        same = design.board.placements[a].side == design.board.placements[b].side
        through = any(p.drill_nm for r in (a, b) for p in pattern_of(wired, r).pads)
        if overlap > 0.02 and (same or through):
            at = shapes[a].intersection(shapes[b]).representative_point()
            yield OVERLAP.found(
                Subject(refs=(a, b)),
                f"{a} and {b} stand on each other's room",
                f"Their courtyards share {overlap:.1f} mm². Move one.",
                at=(Point(round(at.x * 1e6), round(at.y * 1e6)),),
                value=overlap,
                limit=0.0,
                unit="mm²",
            )
    for ref in refs:
        kind = wired.kind(ref)
        over = kind.connector or wired.package(ref).looks
        if kind.assembled and not over and not outline.covers(shapes[ref].buffer(-0.3)):
            yield OUTSIDE.found(
                of_part(ref),
                f"{ref} reaches over the board's edge",
                "Move it inwards.",
                at=(Point(design.board.placements[ref].x_nm, design.board.placements[ref].y_nm),),
            )


def _template(design: Design) -> Iterator[Finding]:
    holes = {h.ref: h for h in design.brief.template}
    for off in misfits(design):
        if off.fits:
            continue
        hole, spot = holes[off.ref], design.board.placements[off.ref]
        wanted = Placement(x_nm=hole.x_nm, y_nm=hole.y_nm, angle_mdeg=hole.angle_mdeg, side=spot.side, fixed=True)
        turned = f", turned by {off.turn_deg:g}°" if abs(off.turn_deg) > off.turn_tolerance_deg else ""
        yield TEMPLATE.found(
            of_part(off.ref),
            f"{off.ref} sits {off.off_mm:.2f} mm off its hole in the case{turned}",
            f"dx {off.dx_mm:+.2f} mm, dy {off.dy_mm:+.2f} mm, turn {off.turn_deg:+g}°; {off.tolerance_mm:g} mm and "
            f"{off.turn_tolerance_deg:g}° are tolerated. The hole is at {mm(hole.x_nm):.2f}, {mm(hole.y_nm):.2f} mm, "
            f"turned {hole.angle_mdeg / 1000:g}°.",
            at=(Point(spot.x_nm, spot.y_nm),),
            value=off.off_mm,
            limit=off.tolerance_mm,
            unit="mm",
            mend=Mend(f"Move {off.ref} back", partial(edits.place, ref=off.ref, placement=wanted)),
        )


def _size(design: Design) -> Iterator[Finding]:
    xs, ys = zip(*design.board.outline, strict=True)
    width, height = max(xs) - min(xs), max(ys) - min(ys)
    wanted = (design.brief.case_width_nm, design.brief.case_height_nm)
    if (width, height) != wanted:
        yield SIZE.found(
            Subject(),
            f"The board is {mm(width):.1f} × {mm(height):.1f} mm, the brief says {mm(wanted[0]):.1f} × "
            f"{mm(wanted[1]):.1f} mm",
            "Use the size of the brief, or change the brief.",
            value=mm(width),
            limit=mm(wanted[0]),
            unit="mm",
            mend=Mend("Use the brief's size", partial(edits.set_outline, points=rounded_rectangle(*wanted))),
        )


def _heights(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    room = design.brief.case_depth_nm - design.board.rules.thickness_nm
    for ref in design.board.placements:
        height = height_nm(wired, ref) if ref in design.parts else 0
        if height > room:
            raised = design.parts[ref].raised_nm
            how = f", {mm(raised):.1f} mm of it its socket," if raised else ""
            yield HEIGHT.found(
                of_part(ref),
                f"{ref} is {mm(height):.1f} mm tall{how} the case has {mm(room):.1f} mm".replace(
                    "tall the", "tall, the"
                ),
                "Lay it down, choose a lower part, leave its socket out, or take a deeper case.",
                value=mm(height),
                limit=mm(room),
                unit="mm",
            )


def _good_news(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    surface = {
        design.board.placements[r].side
        for r in design.board.placements
        if r in design.parts and pattern_of(wired, r).surface_mount and wired.kind(r).assembled
    }
    if len(surface) == 1:
        yield SIDES.found(
            Subject(),
            f"All surface-mount parts are on the {surface.pop()}",
            "One stencil and one heating will do.",
            severity=Severity.NOTE,
        )
    elif len(surface) == 2:
        yield SIDES.found(
            Subject(), "Surface-mount parts are on both sides", "Flip them to one side if the room allows."
        )
