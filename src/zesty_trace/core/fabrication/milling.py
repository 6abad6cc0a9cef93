"""Tool paths for a mill at home: isolating copper, drilling, cutting out; worked out, swept back and judged.

One face is milled. What another face would join is a wire link. The copper that the tool takes is simulated from the
paths themselves: an island that stays joined to another, or copper that is cut away, is said.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any, NamedTuple

from zesty_trace.core.board.copper import BoardPad, board_pads, hole_items, hole_shape, laid_copper, outline_shape
from zesty_trace.core.board.fields.conduction import net_area
from zesty_trace.core.board.links import shortest_links
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Face
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm
from zesty_trace.errors import Cancelled, EditError
from zesty_trace.names import slug

Spot = tuple[float, float]
CAUTIONS = (
    "Glass-fibre dust harms the lungs: suck it off where it arises, wear a mask for fine dust, wipe wet, never blow.",
    "Wear eye protection: thin tools break and fly.",
    "Clamp the blank on a waste board all round; keep fingers, sleeves and hair away while the spindle turns.",
    "Set zero on the blank's surface and run the first pass in the air.",
)
RAPID_MM_MIN = 1_500.0  # how fast the mill moves above the blank, for the time that is said
CRUMB_MM2 = 1e-3
LOST_SHARE = 0.06  # of a track 0.15 mm wide the first pass takes 5 %
INTO_MM = 0.004  # of the copper's edge that the first pass takes: a gap just as wide as the tool is cut


@dataclass(frozen=True)
class MillTools:
    """What is in the spindle and how it is used: mm, feeds in mm a minute. Common practice, to be adapted."""

    cutter: float = 0.2  # width of the cut of the isolating tool at its depth
    depth: float = 0.08
    passes: int = 2
    overlap: float = 0.4  # of a pass with the one before, of its width
    feed: float = 180.0
    plunge: float = 60.0
    end_mill: float = 1.0  # for the edge
    step_down: float = 0.5
    edge_feed: float = 120.0
    tabs: int = 4
    tab: float = 2.0
    safe: float = 2.0
    rpm: int = 12_000


class Link(NamedTuple):
    """A wire that stands for copper that is not milled: net, both ends, mm."""

    net: str
    a: Spot
    b: Spot


@dataclass(frozen=True)
class Job:
    """One file: its name, what it tells the mill, and how long it takes."""

    name: str
    gcode: str
    minutes: float


@dataclass(frozen=True)
class Milled:
    """Everything for one board.

    `faults` is why it would not work; `drawn` is what the cut leaves, as SVG; `left` that copper as it lies on the
    board, mm, and `used` what of it is tracks and pads.
    """

    face: Face
    jobs: tuple[Job, ...]
    links: tuple[Link, ...]
    faults: tuple[str, ...]
    drawn: str = field(repr=False)
    left: Any = field(repr=False, default=None)
    used: Any = field(repr=False, default=None)

    @property
    def mirrored(self) -> bool:
        """Whether left and right change places, as the back lies up."""
        return self.face == "bottom"

    @property
    def minutes(self) -> float:
        """How long all jobs take, without changing tools."""
        return sum(j.minutes for j in self.jobs)


def mill(wired: Wired, face: Face | None = None, tools: MillTools | None = None, report: Report = quiet) -> Milled:
    """Return the tool paths for one face of a board, as it lies with that face up. EditError without a board.

    Without `face` it is the one on which the surface pads are, the bottom if there are none. Cancelled if `report`
    says so.
    """
    from shapely import union_all

    tools = tools or MillTools()
    _refuse(wired, tools)
    face = face or ("top" if _surface(wired, "top") > _surface(wired, "bottom") else "bottom")
    board = outline_shape(wired.design)
    nets = {net: net_area(wired, net, face) for net in wired.design.nets}
    nets = {net: area for net, area in nets.items() if not area.is_empty}
    nets |= {item.what: item.shape for item in laid_copper(wired, face).items if not item.net}
    if not report(0.3, "isolating the copper"):
        raise Cancelled
    paths = isolation(board, nets.values(), tools)
    swept = _swept(paths, tools.cutter)
    left = board.difference(swept)
    faults = [*_other_face(wired, face), *_faults(nets, left, swept, tools)]
    foil = wired.design.board.rules.foil_um(face) / 1000
    if tools.depth <= foil:
        faults.append(f"The cut of {tools.depth:g} mm is not deeper than the copper of {foil:g} mm")
    if not report(0.7, "drilling and cutting out"):
        raise Cancelled
    view = _View(board, face == "bottom")
    jobs = [
        isolation_job(view, paths, tools),
        *drill_jobs(view, wired, tools),
        edge_job(view, board, tools, mm(wired.design.board.rules.thickness_nm)),
    ]
    faults += _too_narrow(wired, board, tools)
    links = wire_links(wired, nets)
    used = left.intersection(union_all(list(nets.values())))
    return Milled(
        face, tuple(jobs), tuple(links), tuple(faults), swept_svg(view, left, used, links), left=left, used=used
    )


def mill_files(found: Milled, name: str) -> dict[str, str]:
    """Return file name -> text of what is written for one board: its jobs, last the picture of what the cut leaves."""
    base = slug(name, "board")
    files = {f"{base}-{job.name}.gcode": job.gcode for job in found.jobs}
    return {**files, f"{base}-swept.svg": found.drawn}


def _too_narrow(wired: Wired, board: Any, t: MillTools) -> list[str]:
    """Say which slots and cut-outs the end mill does not go into: they are not milled."""
    from shapely import Polygon

    slots = [h for h in hole_items(wired) if h.slot and mm(h.drill_nm) <= t.end_mill]
    found = (
        [f"{len(slots)} slots are no wider than the end mill of {t.end_mill:g} mm: they are not cut"] if slots else []
    )
    rings = [Polygon(r) for part in getattr(board, "geoms", [board]) for r in part.interiors]
    if shut := [r for r in rings if r.buffer(-t.end_mill / 2).is_empty]:
        found.append(f"{len(shut)} cut-outs are narrower than the end mill of {t.end_mill:g} mm: they are not cut")
    return found


def swept_svg(view: _View, left: Any, used: Any, links: Sequence[Link]) -> str:
    """Return what the cut leaves as it lies at the mill: copper that is used, what stays beside it, wires; 1:1."""
    from shapely import get_parts

    x0, y0, x1, y1 = left.bounds
    corners = [view.put((x, y)) for x, y in ((x0, y0), (x1, y1))]
    wide, high = (abs(corners[0][k] - corners[1][k]) for k in (0, 1))

    def area(shape: Any, colour: str) -> str:
        rings = [r for p in get_parts(shape).tolist() if p.geom_type == "Polygon" for r in (p.exterior, *p.interiors)]
        spots = ([view.put(at) for at in ring.coords] for ring in rings)
        path = " ".join("M" + " L".join(f"{x:.3f},{high - y:.3f}" for x, y in ring) + "Z" for ring in spots)
        return f'<path d="{path}" fill="{colour}" fill-rule="evenodd"/>'

    wires = []
    for link in links:
        (ax, ay), (bx, by) = view.put(link.a), view.put(link.b)
        ends = f'x1="{ax:.3f}" y1="{high - ay:.3f}" x2="{bx:.3f}" y2="{high - by:.3f}"'
        wires.append(f'<line {ends} stroke="#0b6e6e" stroke-width="0.3"/>')
    size = f'width="{wide:.3f}mm" height="{high:.3f}mm" viewBox="0 0 {wide:.3f} {high:.3f}"'
    head = f'<svg xmlns="http://www.w3.org/2000/svg" {size}>'
    return "\n".join([head, area(left, "#ecd9b0"), area(used, "#b8621b"), *wires, "</svg>", ""])


def _surface(wired: Wired, face: Face) -> int:
    return sum(p.layers == (face,) for p in board_pads(wired))


def _other_face(wired: Wired, face: Face) -> list[str]:
    """Say which parts have pads on the other face only: there will be no copper."""
    refs = sorted({p.pin.ref for p in board_pads(wired) if p.layers and face not in p.layers})
    if not refs:
        return []
    return [f"{', '.join(refs[:8])} are soldered on the other face, which is not milled: put them on the {face}"]


def _refuse(wired: Wired, t: MillTools) -> None:
    if wired.design.board.given:
        hint = "Only boards that are drawn here can be milled yet"
        raise EditError(f"The copper of this board is that of {wired.design.board.given}", "layout", hint)
    if not wired.design.board.outline:
        raise EditError("There is no board to mill yet", "layout", "Place and route the parts first")
    if not (0.05 <= t.cutter <= 3 and 0 < t.depth <= 1 and 1 <= t.passes <= 20 and 0 <= t.overlap < 1):
        raise EditError(
            "The isolating tool cannot be so", "cutter", "0.05 to 3 mm wide, up to 1 mm deep, 1 to 20 passes"
        )
    if not (0.3 <= t.end_mill <= 6 and 0.05 <= t.step_down <= 5 and t.feed > 0 and t.plunge > 0 and t.edge_feed > 0):
        raise EditError("The end mill cannot be so", "end mill", "0.3 to 6 mm wide, feeds above 0")


class _View:
    """How the board lies: mirrored left to right for its back, its lower left corner at zero."""

    def __init__(self, board: Any, mirrored: bool) -> None:
        x0, y0, x1, _ = board.bounds
        self.x, self.y, self.turn = (x1 if mirrored else x0), y0, (-1.0 if mirrored else 1.0)

    def put(self, at: Sequence[float]) -> Spot:
        return self.turn * (at[0] - self.x), at[1] - self.y


def isolation(board: Any, nets: Iterable[Any], t: MillTools) -> list[list[Spot]]:
    """Return the courses of the tool's middle round all copper, pass by pass, each further out."""
    from shapely import get_parts, union_all

    copper = union_all(list(nets))
    found: list[list[Spot]] = []
    room = board.buffer(t.cutter)
    for k in range(t.passes):
        away = t.cutter / 2 - INTO_MM + k * t.cutter * (1 - t.overlap)
        edge = copper.buffer(away, quad_segs=8).boundary.intersection(room)
        parts = get_parts(edge).tolist() if edge.geom_type.startswith("Multi") else [edge]
        found += [
            [(x, y) for x, y in line.coords] for line in parts if line.geom_type == "LineString" and line.length > 0
        ]
    return found


def _swept(paths: Iterable[Sequence[Spot]], width: float) -> Any:
    from shapely import LineString, union_all

    return union_all([LineString(p).buffer(width / 2, quad_segs=8) for p in paths if len(p) > 1])


def _faults(nets: dict[str, Any], left: Any, swept: Any, t: MillTools) -> list[str]:
    """Say which nets stay joined, and where copper is cut away: what is left is asked, not the drawing."""
    from shapely import STRtree, get_parts

    pieces = [p for p in get_parts(left).tolist() if p.area > CRUMB_MM2]
    tree = STRtree(pieces)
    owner: dict[int, list[str]] = {}
    found = []
    for net, area in nets.items():
        kept = area.difference(swept)
        for k in tree.query(kept.buffer(-0.02), predicate="intersects").tolist():
            owner.setdefault(k, []).append(net)
        lost = area.area - kept.area
        if lost > LOST_SHARE * area.area + 0.05:
            found.append(f"{net} loses {lost:.2f} mm² of {area.area:.2f}: the cut of {t.cutter:g} mm is too wide there")
    for names in owner.values():
        if len(set(names)) > 1:
            some = ", ".join(sorted(set(names))[:4])
            found.append(f"{some} stay joined: the gap between them is narrower than the cut of {t.cutter:g} mm")
    return sorted(set(found))


def wire_links(wired: Wired, nets: Mapping[str, Any]) -> list[Link]:
    """Return the wires that join what the milled face leaves apart: of each net the shortest, from pad to pad.

    What other faces would join, tracks or pours, is not there; `nets` is the copper that is.
    """
    from shapely import Point, STRtree, get_parts

    found = []
    for net, area in nets.items():
        parts = get_parts(area).tolist()
        tree = STRtree(parts)
        pieces: dict[int, list[BoardPad]] = {}
        for pad in (p for p in board_pads(wired) if p.net == net):
            for k in tree.query(Point(mm(pad.x_nm), mm(pad.y_nm)), predicate="intersects").tolist():
                pieces.setdefault(k, []).append(pad)
        for wire in shortest_links(net, list(pieces.values())):
            found.append(Link(net, (mm(wire.ax_nm), mm(wire.ay_nm)), (mm(wire.bx_nm), mm(wire.by_nm))))
    return found


def _head(name: str, tool: str, t: MillTools) -> list[str]:
    lines = [f"({name}: {tool})", *(f"({c})" for c in CAUTIONS)]
    return [*lines, "G21", "G90", "G17", "G94", f"G0 Z{t.safe:.3f}", f"M3 S{t.rpm}", "G4 P2"]


def _tail(t: MillTools) -> list[str]:
    return [f"G0 Z{t.safe:.3f}", "M5", "G0 X0.000 Y0.000", "M2", ""]


def isolation_job(view: _View, paths: list[list[Spot]], t: MillTools) -> Job:
    """Return the file that isolates the copper, courses in an order with short ways between them."""
    lines = _head("isolation", f"{t.cutter:g} mm wide at {t.depth:g} mm depth", t)
    minutes, at = 0.1, (0.0, 0.0)
    for path in ordered([[view.put(p) for p in path] for path in paths]):
        minutes += math.dist(at, path[0]) / RAPID_MM_MIN + (t.safe + t.depth) / t.plunge
        lines += [f"G0 {_xy(path[0])}", f"G1 Z{-t.depth:.3f} F{t.plunge:.0f}"]
        lines += [f"G1 {_xy(p)} F{t.feed:.0f}" for p in path[1:]]
        lines.append(f"G0 Z{t.safe:.3f}")
        minutes += sum(math.dist(a, b) for a, b in pairwise(path)) / t.feed
        at = path[-1]
    return Job("isolation", "\n".join([*lines, *_tail(t)]), minutes)


def ordered(paths: list[list[Spot]]) -> list[list[Spot]]:
    """Return courses so that each begins near where the last one ended."""
    import numpy as np
    from scipy.spatial import cKDTree

    if len(paths) < 3:
        return paths
    starts = np.array([p[0] for p in paths])
    left = set(range(len(paths)))
    at, found = np.zeros(2), []
    tree = cKDTree(starts)
    while left:
        near: list[int] = []
        many = 8
        while not near and many < 2 * len(paths) + 8:
            near = [k for k in np.atleast_1d(tree.query(at, min(many, len(paths)))[1]).tolist() if k in left]
            many *= 4
        k = near[0] if near else min(left)
        left.discard(k)
        found.append(paths[k])
        at = np.array(paths[k][-1])
    return found


def drill_jobs(view: _View, wired: Wired, t: MillTools) -> list[Job]:
    """Return a file for each drill; slots and what is wider than the end mill are milled by it."""
    from shapely import get_parts

    through = mm(wired.design.board.rules.thickness_nm) + 0.3
    holes = hole_items(wired)
    jobs = []
    for size in sorted({h.drill_nm for h in holes if not h.slot and mm(h.drill_nm) <= max(t.end_mill, 1.5)}):
        spots = ordered([[view.put((mm(h.x_nm), mm(h.y_nm)))] for h in holes if h.drill_nm == size and not h.slot])
        name = f"drill-{mm(size):.2f}"
        lines, minutes, at = _head(name, f"drill {mm(size):g} mm", t), 0.1, (0.0, 0.0)
        for (spot,) in spots:
            lines += [f"G0 {_xy(spot)}", f"G1 Z{-through:.3f} F{t.plunge:.0f}", f"G0 Z{t.safe:.3f}"]
            minutes += math.dist(at, spot) / RAPID_MM_MIN + (through + t.safe) / t.plunge
            at = spot
        jobs.append(Job(name, "\n".join([*lines, *_tail(t)]), minutes))
    rest = [h for h in holes if h.slot or mm(h.drill_nm) > max(t.end_mill, 1.5)]
    courses: list[list[Spot]] = []
    for hole in rest:
        inner = hole_shape(hole).buffer(-t.end_mill / 2)
        edges = get_parts(inner.boundary).tolist() if not inner.is_empty else []
        courses += [[(x, y) for x, y in e.coords] for e in edges if e.geom_type in ("LineString", "LinearRing")]
    if courses:
        jobs.append(_deep_job("slots-and-large-holes", view, courses, t, through, 0))
    return jobs


def edge_job(view: _View, board: Any, t: MillTools, thickness_mm: float) -> Job:
    """Return the file that cuts the board out, cut-outs first, with tabs that hold it to the end."""
    from shapely import Polygon, get_parts

    through = thickness_mm + 0.3
    inner = [
        edge
        for part in getattr(board, "geoms", [board])
        for ring in part.interiors
        for edge in get_parts(Polygon(ring).buffer(-t.end_mill / 2).boundary).tolist()
    ]
    outer = [Polygon(part.exterior).buffer(t.end_mill / 2).exterior for part in getattr(board, "geoms", [board])]
    courses = [[(x, y) for x, y in e.coords] for e in (*inner, *outer)]
    return _deep_job("edge", view, courses, t, through, t.tabs)


def _deep_job(name: str, view: _View, courses: list[list[Spot]], t: MillTools, through: float, tabs: int) -> Job:
    from shapely import LineString

    lines = _head(name, f"end mill {t.end_mill:g} mm", t)
    minutes = 0.1
    downs = [min(through, t.step_down * (k + 1)) for k in range(math.ceil(through / t.step_down))]
    for course in courses:
        path = [view.put(p) for p in course]
        line = LineString(path)
        held = tabs if line.length > 3 * tabs * t.tab else 0
        tab_at = [line.length * (k + 0.5) / held for k in range(held)]
        lines.append(f"G0 {_xy(path[0])}")
        for down in downs:
            lines.append(f"G1 Z{-down:.3f} F{t.plunge:.0f}")
            top = through / 2 if down > through / 2 else down
            lines += _with_tabs(line, tab_at, t, down, top)
            minutes += line.length / t.edge_feed + t.step_down / t.plunge
        lines.append(f"G0 Z{t.safe:.3f}")
    return Job(name, "\n".join([*lines, *_tail(t)]), minutes)


def _with_tabs(line: Any, tabs: list[float], t: MillTools, down: float, top: float) -> list[str]:
    """Return the moves along a course at one depth, lifted where tabs are left."""
    if not tabs or top >= down:
        return [f"G1 {_xy(p)} F{t.edge_feed:.0f}" for p in list(line.coords)[1:]]
    half = (t.tab + t.end_mill) / 2
    marks = sorted(
        {0.0, line.length, *(s for at in tabs for s in (at - half, at + half))}
        | {line.project(_point(p)) for p in list(line.coords)[1:-1]}
    )
    found = []
    lifted = False
    for a, b in pairwise(marks):
        over = any(at - half < (a + b) / 2 < at + half for at in tabs)
        if over != lifted:
            found.append(f"G1 Z{-(top if over else down):.3f} F{t.plunge:.0f}")
            lifted = over
        end = line.interpolate(b)
        found.append(f"G1 {_xy((end.x, end.y))} F{t.edge_feed:.0f}")
    return found


def _point(at: Sequence[float]) -> Any:
    from shapely import Point

    return Point(at[0], at[1])


def _xy(at: Sequence[float]) -> str:
    return f"X{at[0]:.3f} Y{at[1]:.3f}"
