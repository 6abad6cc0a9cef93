"""Route what is missing where it is missing: each gap is closed in a cut-out of the board; nothing else is moved."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from zesty_trace.core.board.copper import board_pads, pad_node
from zesty_trace.core.board.graph import CopperGraph
from zesty_trace.core.board.links import Link
from zesty_trace.core.board.routing.problem import Group, Problem, Shape
from zesty_trace.core.board.widths import widths_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm, say_count
from zesty_trace.errors import Cancelled

ROUNDS = ((4.0, True), (6.0, False), (18.0, False), (18.0, False))  # mm round a gap; whether vias go down to pours
MOST_LINKS = 40


@dataclass(frozen=True)
class Repaired:
    """The design with what could be joined, how many links that were, and those that are left."""

    design: Design
    joined: int
    left: tuple[Link, ...]


def repair(wired: Wired, report: Report = quiet, nets: set[str] | None = None) -> Repaired:
    """Join what is open, of these nets or of all, without touching copper that is there; a second or two for ten links.

    What cannot be joined so is left: the whole router may move the machine's copper out of the way. Cancelled if
    `report` returns False.
    """
    from zesty_trace.core.board.routing.reading import problem_of

    graph = CopperGraph(wired)
    near_before = set(graph.too_near)

    def still_open() -> list[Link]:
        return [k for k in graph.connectivity().links if nets is None or k.net in nets]

    asked = left = still_open()
    design, width_of = wired.design, widths_of(wired)
    before, last = design, 0.0
    for around, down in ROUNDS:
        if not left or len(left) > MOST_LINKS or (around == last and design is before):
            break
        if not report(0.2, f"joining {say_count(len(left), 'link')}"):
            raise Cancelled
        before, last = design, around
        now = wired.with_design(design).after(graph.wired)
        whole = problem_of(now, width_of, {k.net for k in left})
        if not down:
            whole = as_joined(graph, now, whole)
        for window, links in windows(left, around):
            design = _with_more(design, whole, window, {k.net for k in links}, report)
        design = _without_conflicts(graph, wired, design, near_before)
        if design is not before:
            graph.refill()
        left = still_open()
    return Repaired(design, len(asked) - len(left), tuple(left))


def windows(links: list[Link], around_mm: float) -> list[tuple[Any, list[Link]]]:
    """Return boxes round links, mm, those that overlap taken together, each with its links."""
    from shapely import box

    found: list[tuple[Any, list[Link]]] = []
    for link in links:
        xs, ys = sorted((mm(link.ax_nm), mm(link.bx_nm))), sorted((mm(link.ay_nm), mm(link.by_nm)))
        mine = [link]
        area = box(xs[0] - around_mm, ys[0] - around_mm, xs[1] + around_mm, ys[1] + around_mm)
        while meeting := [w for w in found if w[0].intersects(area)]:
            for other in meeting:
                found.remove(other)
                area, mine = box(*area.union(other[0]).bounds), [*mine, *other[1]]
        found.append((area, mine))
    return found


def _with_more(design: Design, whole: Problem, window: Any, nets: set[str], report: Report) -> Design:
    """Return the design with new copper that joins nets within a window, round all that is there.

    What is laid in one window keeps off its sides, so that windows that share nothing may be filled one by one.
    """
    from zesty_trace.core.board.routing.negotiate import Negotiation
    from zesty_trace.core.board.routing.problem import lay_out
    from zesty_trace.core.board.routing.tracks import copper_of

    problem = cropped(whole, window, nets)
    if problem is None:
        return design
    work = Negotiation(lay_out(problem), report)
    work.run(retries=0)
    board = design.board
    tracks, vias = copper_of(work.board, board.stack)
    if not tracks and not vias:
        return design
    return edits.set_copper(design, [*board.tracks, *tracks], [*board.vias, *vias], board.pours)


def as_joined(graph: CopperGraph, wired: Wired, problem: Problem) -> Problem:
    """Return a problem in which pads that fill joins are one group: what is open is joined by tracks alone."""
    pads = [p for p in board_pads(wired) if p.layers or p.drill_nm]
    wanted = {problem.nets[g.net] for g in problem.groups if g.width_mm > 0}
    piece_of: dict[int, int] = {}
    for net in wanted:
        own = [k for k, p in enumerate(pads) if p.net == net and p.layers]
        for k in own:
            if k not in piece_of:
                reached = graph.together(pad_node(pads[k]))
                piece_of |= {n: k for n in own if pad_node(pads[n]) in reached}
    merged: dict[tuple[int, int], Group] = {}
    for n, group in enumerate(problem.groups):
        piece = next((piece_of[k] for k in group.shapes if k in piece_of), -1 - n)
        old = merged.get((group.net, piece))
        shapes = group.shapes if old is None else (*old.shapes, *group.shapes)
        merged[group.net, piece] = Group(group.net, shapes, max(group.width_mm, old.width_mm if old else 0.0))
    return replace(problem, groups=tuple(g for g in merged.values() if g.shapes), poured_on=(-1,) * len(problem.nets))


def cropped(problem: Problem, window: Any, nets: set[str]) -> Problem | None:
    """Return the part of a problem within a window; None if no board is there."""
    from shapely import Polygon, make_valid

    outline = make_valid(Polygon(problem.rings[0], problem.rings[1:])).intersection(window)
    parts = [p for p in getattr(outline, "geoms", [outline]) if p.geom_type == "Polygon" and not p.is_empty]
    if not parts:
        return None
    rings = [np.array(ring.coords[:-1]) for p in parts for ring in (p.exterior, *p.interiors)]
    shapes: list[Shape] = []
    place: dict[int, int] = {}
    for k in _near(problem, window):
        place[k] = len(shapes)
        shapes.append(_within(problem.shapes[k], window))
    groups = []
    for group in problem.groups:
        own = tuple(place[k] for k in group.shapes if k in place and _covered(shapes[place[k]], window))
        if problem.nets[group.net] in nets and (own or not group.shapes):
            groups.append(Group(group.net, own, group.width_mm))
    widest = max([problem.widths_mm[problem.plain_class], *(g.width_mm for g in groups)])
    widths = tuple(w for w in problem.widths_mm if w <= widest + 1e-9)
    return replace(problem, rings=tuple(rings), shapes=tuple(shapes), groups=tuple(groups), widths_mm=widths)


def _near(problem: Problem, window: Any) -> list[int]:
    """Return the numbers of the shapes that may reach into a window."""
    x0, y0, x1, y1 = window.bounds
    x, y, reach = np.array([(s.x, s.y, s.half_w + s.half_h) for s in problem.shapes]).reshape(-1, 3).T
    near = (x0 - reach <= x) & (x <= x1 + reach) & (y0 - reach <= y) & (y <= y1 + reach)
    return np.flatnonzero(near).tolist()


def _within(shape: Shape, window: Any) -> Shape:
    """Return a shape near a window, a track cut off at its edge."""
    from shapely import LineString

    if shape.pad or shape.hole_mm or not shape.copper or _covered(shape, window):
        return shape
    half = shape.half_w - shape.corner
    dx, dy = half * math.cos(shape.angle), half * math.sin(shape.angle)
    room = window.buffer(-shape.corner, join_style="mitre")
    cut = LineString([(shape.x - dx, shape.y - dy), (shape.x + dx, shape.y + dy)]).intersection(room)
    if cut.is_empty or cut.geom_type != "LineString":
        return shape
    middle = cut.interpolate(0.5, normalized=True)
    return replace(shape, x=middle.x, y=middle.y, half_w=cut.length / 2 + shape.corner)


def _covered(shape: Shape, window: Any) -> bool:
    x0, y0, x1, y1 = window.bounds
    c, s = abs(math.cos(shape.angle)), abs(math.sin(shape.angle))
    wide, high = shape.half_w * c + shape.half_h * s, shape.half_w * s + shape.half_h * c
    return bool(x0 <= shape.x - wide and shape.x + wide <= x1 and y0 <= shape.y - high and shape.y + high <= y1)


def _without_conflicts(graph: CopperGraph, wired: Wired, design: Design, near_before: set[Any]) -> Design:
    """Take off what was laid and exact shapes find too near to something; the graph follows."""
    old = {id(piece) for piece in (*wired.design.board.tracks, *wired.design.board.vias)}
    while True:
        graph.update(wired.with_design(design).after(graph.wired))
        bad = {node for key in graph.too_near if key not in near_before for node in key[1:]}
        pieces = {id(node[1]) for node in bad if node[0] == "copper"} - old
        if not pieces:
            return design
        board = design.board
        tracks = [t for t in board.tracks if id(t) not in pieces]
        vias = [v for v in board.vias if id(v) not in pieces]
        if len(tracks) == len(board.tracks) and len(vias) == len(board.vias):
            return design
        design = edits.set_copper(design, tracks, vias, board.pours)
