"""Board review: clearances, holes, edge, missing copper, fit to the case. Geometry by shapely.

Limits come from the rules.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

from zesty_trace.core.board.copper import (
    copper_items,
    on_board,
    outline_shape,
    pattern_of,
)
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.rules.access import check_access
from zesty_trace.core.board.rules.clearances import check_clearances
from zesty_trace.core.board.rules.currents import check_currents
from zesty_trace.core.board.rules.distances import check_distances
from zesty_trace.core.board.rules.fit import check_heights, check_room, check_sides, check_template
from zesty_trace.core.board.rules.given import check_given
from zesty_trace.core.board.rules.holes import RULES_SOURCE, check_holes
from zesty_trace.core.board.rules.impossible import check_values
from zesty_trace.core.board.rules.keepouts import check_keepouts
from zesty_trace.core.board.rules.leftovers import check_leftovers
from zesty_trace.core.board.rules.masks import check_masks
from zesty_trace.core.board.rules.mates import check_mates
from zesty_trace.core.board.rules.mouths import check_antennas, check_mouths
from zesty_trace.core.board.rules.pairs import check_pairs
from zesty_trace.core.board.rules.reach import check_reach
from zesty_trace.core.board.rules.silk import check_silk
from zesty_trace.core.board.rules.spacing import check_spacing
from zesty_trace.core.board.rules.spreading import check_spreading
from zesty_trace.core.board.rules.thermals import check_thermals
from zesty_trace.core.board.rules.traces import check_traces
from zesty_trace.core.board.shorts import ROUNDING_MM
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.circuit.wired import Wired, worked_out_from
from zesty_trace.core.findings import Finding, Severity, Subject, of_part, rule, worst_first
from zesty_trace.core.geometry import Point, buffered
from zesty_trace.core.quantities import mm, say_mm

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
EDGE = rule(
    "edge",
    Severity.FIX,
    "The cutter tears copper at the edge, and bare copper there can short against the case.",
    RULES_SOURCE,
    limits="edge distance of the board rules",
    station="layout",
)


def check_board(wired: Wired) -> list[Finding]:
    """Return the findings of the board review, worst first. Empty while nothing is placed."""
    design = wired.design
    if not design.board.outline or not design.board.placements:
        return []
    if wrong := list(check_values(design)):
        return worst_first(wrong)  # nothing else can be measured on it
    if design.board.given:
        return worst_first([*check_given(wired), *check_template(design), *check_heights(wired)])
    found = [
        *_shapes(wired),
        *_unplaced(wired),
        *_padless(wired),
        *check_template(design),
        *check_heights(wired),
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
        for layer in wired.design.board.stack:
            pour_shapes(wired, layer)
        silk = printed.result()
    return (
        *_links(wired),
        *check_clearances(wired),
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
        *check_access(wired),
        *check_room(wired),
        *check_sides(wired),
        *check_mates(wired),
    )


def _without_pours(wired: Wired) -> tuple[Finding, ...]:
    """Work out what asks for no pour, while those are filled; return what the silk says."""
    for layer in wired.design.board.stack:
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
        if ref not in wired.design.parts or wired.kind(ref).external or ref in wired.standing:
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


def _edges(wired: Wired) -> Iterator[Finding]:
    design = wired.design
    inside = buffered(outline_shape(design), -mm(design.board.rules.edge_nm) + ROUNDING_MM)
    seen = set()
    for layer in wired.design.board.stack:
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
