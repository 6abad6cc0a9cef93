"""Copper that belongs to nothing: of nets and parts that are gone, track ends in the air, vias that join nothing."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from zesty_trace.core.board.cores import line_cores
from zesty_trace.core.board.touch import layer_copper
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_net, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import say_count

GONE = rule(
    "copper of nothing",
    Severity.FIX,
    "Copper that is left over from something removed shorts what comes next, and reads as a connection.",
    "common practice",
    limits="copper belongs to a net of the schematic",
    station="layout",
)
NO_LAYER = rule(
    "copper on no layer",
    Severity.STOP,
    "Copper on a layer that the board does not have is in no file: what it joins on the screen is open on the board.",
    "layers of the board's rules",
    limits="all copper on the layers of the stack",
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
    yield from _off_the_stack(wired)
    yield from _gone(wired)
    yield from _dangling(wired)
    yield from _loose(wired)


def take_off(design: Design, net: str) -> Design:
    """Take all tracks, vias and pours of a net off the board."""
    board = design.board
    return edits.set_copper(
        design,
        [t for t in board.tracks if t.net != net],
        [v for v in board.vias if v.net != net],
        [p for p in board.pours if p.net != net],
    )


def _off_the_stack(wired: Wired) -> Iterator[Finding]:
    board = wired.design.board
    laid = [(t.net, t.layer, Point(*t.points[0])) for t in board.tracks if t.points]
    laid += [(p.net, p.layer, Point(*p.outline[0]) if p.outline else Point(0, 0)) for p in board.pours]
    off = [piece for piece in laid if piece[1] not in board.stack]
    if off:
        layers = ", ".join(sorted({layer for _, layer, _ in off}))
        yield NO_LAYER.found(
            Subject(),
            f"{say_count(len(off), 'piece')} of copper on {layers}, which this board does not have",
            f"It has {say_count(board.rules.layers, 'layer')}. Choose rules with more (Board drawer), or take it off.",
            nets=tuple(sorted({net for net, *_ in off})),
            at=tuple(at for *_, at in off[:20]),
            value=float(len(off)),
            limit=0.0,
            unit="pieces",
            mend=Mend("Take it off", off_the_stack_taken),
        )


def off_the_stack_taken(design: Design) -> Design:
    """Take off what lies on layers that the board does not have."""
    board = design.board
    return edits.set_board(
        design,
        tracks=tuple(t for t in board.tracks if t.layer in board.stack),
        pours=tuple(p for p in board.pours if p.layer in board.stack),
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


def _dangling(wired: Wired) -> Iterator[Finding]:
    """Yield tracks with an end in the air, one finding a net."""
    import numpy as np

    seen: set[str] = set()
    for layer in wired.design.board.stack:
        copper = layer_copper(wired, layer)
        place = {i.node: k for k, i in enumerate(copper.items)}
        mine = [(k, t) for k, t in enumerate(wired.design.board.tracks) if t.layer == layer and len(t.points) > 1]
        ends = [(t, p, place[("track", k)]) for k, t in mine for p in (t.points[0], t.points[-1])]
        if not ends:
            continue
        spots = line_cores([(p,) for _, p, _ in ends], [t.width_nm for t, *_ in ends])
        nets = np.array([copper.number.get(t.net, -3) for t, *_ in ends])
        joined = copper.touched(spots, nets, np.array([own for *_, own in ends]))
        for k in np.flatnonzero(~joined).tolist():
            track, (x, y), _ = ends[k]
            if track.net in seen:
                continue
            seen.add(track.net)
            yield DANGLING.found(
                of_net(track.net, "end"),
                f"A track of {track.net} ends in the air on {track.layer}",
                "Join it, or take it off.",
                at=(Point(x, y),),
            )


def _loose(wired: Wired) -> Iterator[Finding]:
    """Yield vias that do not join copper of two layers, one finding a net."""
    import numpy as np

    vias = wired.design.board.vias
    if not vias:
        return
    spots = line_cores([((v.x_nm, v.y_nm),) for v in vias], [v.diameter_nm for v in vias])
    joined = []
    for layer in wired.design.board.stack:
        copper = layer_copper(wired, layer)
        place = {i.node: k for k, i in enumerate(copper.items)}
        nets = np.array([copper.number.get(v.net, -3) for v in vias])
        own = np.array([place[("via", k)] for k in range(len(vias))])
        joined.append(copper.touched(spots, nets, own))
    seen: set[str] = set()
    for k in np.flatnonzero(np.sum(joined, axis=0) < 2).tolist():
        via = vias[k]
        if via.net in seen:
            continue
        seen.add(via.net)
        where = [layer for layer, there in zip(wired.design.board.stack, joined, strict=True) if there[k]]
        yield LOOSE_VIA.found(
            of_net(via.net, "via"),
            f"A via of {via.net} joins copper {f'only on {where[0]}' if where else 'on no layer'}",
            "Take it off, or draw what it was for.",
            at=(Point(via.x_nm, via.y_nm),),
        )
