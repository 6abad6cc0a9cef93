"""A design as a routing problem: its pads, what is on the board already, its nets and their widths."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator

import networkx as nx
import numpy as np

from zesty_trace.core.board.copper import BoardPad, board_pads, copper_items, keepouts_of, same_part
from zesty_trace.core.board.routing.problem import Closed, Group, Problem, Shape
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Design, LayerName, Pour, Track, Via
from zesty_trace.core.quantities import mm

ONE_SIDE_PRICE = 20  # per cent of a step on the top, where that is a wire link
PLANE_PRICE = 600
MOST_CLASSES = 4
CHORDS = 1.003  # a buffer's chords cut its circle short by up to so much
SPARE_GROUPS = 40  # of a poured net: the connections that join what its pour leaves stranded

WidthOf = Callable[[BoardPad], int]


def problem_of(wired: Wired, width_of: WidthOf, nets: Iterable[str] | None = None) -> Problem:
    """Return what is to be routed: the nets named (all of them if None) around all copper that is there.

    `width_of(pad)` is the width in nm that a track to this pad should have.
    """
    design = wired.design
    rules, stack = design.board.rules, design.board.stack
    wanted = set(design.nets if nets is None else nets)
    pads = [p for p in board_pads(wired) if p.layers or p.drill_nm]
    with_pads = {p.net for p in pads if p.net and p.layers}
    names = [n for n in design.nets if n in with_pads]
    number = {n: k for k, n in enumerate(names)}
    shapes = [_pad_shape(p, number, stack) for p in pads]
    heads = [_screw_head(wired, p, mm(rules.clearance_nm)) for p in pads if p.drill_nm and not p.plated]
    shapes += [s for t in design.board.tracks if t.layer in stack for s in track_shapes(t, number, stack)]
    shapes += [via_shape(v, number, len(stack)) for v in design.board.vias]
    shapes += heads
    shapes += [s for p in pads if p.slot_nm and not p.plated for s in _slot_ends(p)]
    least = min(rules.least_track_nm, rules.track_nm)
    widths = _classes([width_of(p) for p in pads if p.net in wanted and p.layers], rules.track_nm, least)
    poured = {p.net: stack.index(p.layer) for p in sorted(design.board.pours, key=_best_last) if p.layer in stack}
    groups = _groups(shapes, pads, width_of, [n in wanted for n in names], [n in poured for n in names])
    return Problem(
        rings=_rings(design),
        shapes=tuple(shapes),
        groups=tuple(groups),
        nets=tuple(names),
        poured_on=tuple(poured.get(n, -1) for n in names),
        clearance_mm=mm(rules.clearance_nm),
        edge_mm=mm(rules.edge_nm),
        hole_mm=mm(rules.clearance_nm) + 0.05,
        widths_mm=tuple(mm(w) for w in widths),
        via_mm=mm(rules.via_nm),
        drill_mm=mm(rules.via_drill_nm),
        closed=(*_closed(wired), *_for_voltage(wired, wanted)),
        plain_class=widths.index(rules.track_nm),
        hole_gap_mm=mm(rules.hole_gap_nm),
        hole_edge_mm=mm(rules.hole_edge_nm),
        prices=_prices(wired),
        layers=len(stack),
    )


def _prices(wired: Wired) -> tuple[int, ...]:
    """Return the price of a step on each layer, per cent of one on the top: a track cuts the plane of its layer."""
    board = wired.design.board
    if board.rules.layers == 1:
        return 100, ONE_SIDE_PRICE
    planes = {p.layer for p in board.pours if p.layer not in FACES}
    return tuple(PLANE_PRICE if layer in planes else 100 + 5 * (layer != "top") for layer in board.stack)


def _closed(wired: Wired) -> tuple[Closed, ...]:
    return tuple(
        Closed(np.array(k.outline, dtype=float) / 1e6, number, k.tracks, k.vias, k.pours)
        for k in keepouts_of(wired)
        if len(k.outline) > 2
        for number, layer in enumerate(wired.design.board.stack)
        if k.on(layer)
    )


def _for_voltage(wired: Wired, wanted: set[str]) -> Iterator[Closed]:
    """Yield the room round other nets' copper that the nets to route keep out of for their voltage.

    The nets that are routed together keep the distance of the board rules among each other.
    """
    spaced = spacings(wired)
    clearance = mm(wired.design.board.rules.clearance_nm)
    if not spaced.high:
        return
    for k, layer in enumerate(wired.design.board.stack):
        items = copper_items(wired, layer)
        mine = [i for i in items if i.net in wanted and i.node[0] == "pad"]
        for item in items:
            needs = [spaced.need_mm(item.net, n) for n in wanted if n != item.net and {item.net, n} & spaced.high]
            need = max(needs, default=0.0) if item.net and item.net not in wanted else 0.0
            beside = [i.shape.distance(item.shape) for i in mine if same_part(i, item)]
            need = min([need, *beside])  # a part's own pads are no farther apart than they are
            if need > clearance:
                ring = np.array(item.shape.buffer(need * CHORDS, quad_segs=12).exterior.coords[:-1])
                yield Closed(ring, k, True, True, True)


def _best_last(pour: Pour) -> tuple[bool, bool, LayerName]:
    """Order pours so that an inner plane comes last, the fill of the bottom before it."""
    return pour.layer not in FACES, pour.layer == "bottom", pour.layer


def _rings(design: Design) -> tuple[np.ndarray, ...]:
    rings = (design.board.outline, *design.board.cutouts)
    return tuple(np.array(ring, dtype=float) / 1e6 for ring in rings)


def _classes(widths: list[int], track: int, least: int) -> list[int]:
    """Return at most four widths, narrowest first, so that each wanted one finds one that is no narrower."""
    wide = sorted({w for w in widths if w > track})
    while len(wide) > MOST_CLASSES - 2:
        k = min(range(len(wide) - 1), key=lambda j: wide[j + 1] / wide[j])
        del wide[k]
    return sorted({least, track, *wide})


def _pad_shape(pad: BoardPad, number: dict[str, int], stack: tuple[LayerName, ...]) -> Shape:
    w, h = mm(pad.width_nm) / 2, mm(pad.height_nm) / 2
    return Shape(
        x=mm(pad.x_nm),
        y=mm(pad.y_nm),
        half_w=w,
        half_h=h,
        angle=math.radians(pad.angle_mdeg / 1000),
        corner=min(w, h) if pad.shape in ("round", "oblong") else 0.0,
        net=number.get(pad.net, -1),
        layers=tuple(stack.index(layer) for layer in pad.layers),
        hole_mm=mm(pad.drill_nm),
        copper=bool(pad.layers),
    )


def _slot_ends(pad: BoardPad) -> list[Shape]:
    """Return the ends of a bare slot as holes: its middle is one already."""
    half = mm(pad.drill_nm) / 2
    return [
        Shape(
            x=mm(end.x_nm), y=mm(end.y_nm), half_w=half, half_h=half, angle=0.0, corner=half,
            net=-1, layers=(), hole_mm=mm(pad.drill_nm), copper=False, pad=False,
        )
        for end in pad.ends
    ]  # fmt: skip


def _screw_head(wired: Wired, hole: BoardPad, clearance_mm: float) -> Shape:
    """Return the room of a screw's head, less the distance that copper keeps from bare holes anyway."""
    radius = max(mm(hole.drill_nm), wired.package(hole.pin.ref).keepout) / 2 - clearance_mm
    return Shape(
        x=mm(hole.x_nm), y=mm(hole.y_nm), half_w=radius, half_h=radius, angle=0.0, corner=radius,
        net=-1, layers=(), copper=False, pad=False,
    )  # fmt: skip


def track_shapes(track: Track, number: dict[str, int], stack: tuple[LayerName, ...]) -> list[Shape]:
    """Return the straight pieces of a track."""
    half = mm(track.width_nm) / 2
    found = []
    for a, b in zip(track.points, track.points[1:], strict=False):
        dx, dy = mm(b[0] - a[0]), mm(b[1] - a[1])
        found.append(
            Shape(
                x=mm(a[0] + b[0]) / 2,
                y=mm(a[1] + b[1]) / 2,
                half_w=math.hypot(dx, dy) / 2 + half,
                half_h=half,
                angle=math.atan2(dy, dx),
                corner=half,
                net=number.get(track.net, -1),
                layers=(stack.index(track.layer),),
                pad=False,
            )
        )
    return found


def via_shape(via: Via, number: dict[str, int], layers: int) -> Shape:
    """Return a via."""
    half = mm(via.diameter_nm) / 2
    return Shape(
        x=mm(via.x_nm), y=mm(via.y_nm), half_w=half, half_h=half, angle=0.0, corner=half,
        net=number.get(via.net, -1), layers=tuple(range(layers)), hole_mm=mm(via.drill_nm), pad=False,
    )  # fmt: skip


def _polygons(shapes: list[Shape]) -> np.ndarray:
    """Return the outlines of turned rectangles with round corners, as shapely geometries."""
    from shapely import buffer, linestrings, points, polygons

    rows = np.array([(s.x, s.y, s.half_w - s.corner, s.half_h - s.corner, s.angle, s.corner) for s in shapes])
    x, y, u, v, angle, corner = rows.T
    u, v = np.maximum(u, 0.0), np.maximum(v, 0.0)
    c, s = np.cos(angle), np.sin(angle)
    along = np.stack([x[:, None] + np.stack([-u * c, u * c], 1), y[:, None] + np.stack([-u * s, u * s], 1)], axis=2)
    across = np.stack([-v * s, v * c], axis=1)[:, None, :]
    found = np.empty(len(shapes), dtype=object)
    flat, spot = v < 1e-9, (u < 1e-9) & (v < 1e-9)
    found[spot] = points(rows[spot, :2])
    found[flat & ~spot] = linestrings(along[flat & ~spot])
    solid = ~flat
    found[solid] = polygons(
        np.concatenate([along[solid] - across[solid], along[solid][:, ::-1] + across[solid]], axis=1)
    )
    grown = corner > 0
    found[grown] = buffer(found[grown], corner[grown], quad_segs=8)
    return found


def _groups(
    shapes: list[Shape], pads: list[BoardPad], width_of: WidthOf, wanted: list[bool], poured: list[bool]
) -> list[Group]:
    """Return what is in one piece already, net by net; of nets that are not wanted one group that asks for nothing."""
    by_net: dict[int, list[int]] = {}
    for k, shape in enumerate(shapes):
        if shape.net >= 0 and shape.copper:
            by_net.setdefault(shape.net, []).append(k)
    found = []
    for net in range(len(wanted)):
        members = by_net.get(net, [])
        if not wanted[net]:
            found.append(Group(net, tuple(members), 0.0))
            continue
        own = []
        for piece in _pieces(shapes, members):
            widths = [width_of(pads[k]) for k in piece if k < len(pads)]
            if widths:
                own.append(Group(net, tuple(piece), mm(max(widths))))
        found += sorted(own, key=lambda g: -g.width_mm)  # the tree grows from the first: from the widest
        if poured[net]:
            found += [Group(net, (), 0.0)] * (SPARE_GROUPS + len(members) // 2)
    return found


def _pieces(shapes: list[Shape], members: list[int]) -> list[list[int]]:
    if all(shapes[k].pad for k in members):
        return [[k] for k in members]
    from shapely import STRtree

    graph = nx.Graph()
    graph.add_nodes_from(members)
    layers = sorted({layer for k in members for layer in shapes[k].layers})
    for layer in layers:
        here = [k for k in members if layer in shapes[k].layers]
        polygons = _polygons([shapes[k] for k in here])
        left, right = STRtree(polygons).query(polygons, predicate="intersects")
        graph.add_edges_from((here[a], here[b]) for a, b in zip(left.tolist(), right.tolist(), strict=True) if a < b)
    return [sorted(piece) for piece in nx.connected_components(graph)]
