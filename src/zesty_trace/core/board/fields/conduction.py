"""Resistance of a net's copper between two places: sheet conduction in two dimensions, by finite elements.

Each layer's copper is a mesh of triangles on which the potential is linear; plated holes join the layers. A bar of n
squares has n times the sheet resistance, 0.49 mohm a square at 35 um (resistivity of IEC 60028, at 20 °C).
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import board_pads, laid_copper, pad_shape
from zesty_trace.core.board.hand.pieces import copper_at
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LayerName, Pin
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

RESISTIVITY_OHM_M = 1.7241e-8  # annealed copper at 20 °C, IEC 60028
PLATING_UM = 25.0
PROBE_MM = 0.5  # across the tip of a test probe: common practice
PREPREG_MM = 0.2
EDGE_MM = 0.1  # of the mesh along the copper's outline
INNER_MM = 0.6  # between the points inside wide copper
F64 = npt.NDArray[np.float64]
I64 = npt.NDArray[np.int64]


class Mesh(NamedTuple):
    """Triangles (n, 3) over points (m, 2), mm, and where the points of a layer begin."""

    points: F64
    triangles: I64
    layer_of: I64


class Conduction(NamedTuple):
    """The resistance between two pads, ohm, and the mesh with the potential at its points for 1 A, V."""

    resistance_ohm: float
    mesh: Mesh
    potential_v: F64


def sheet_ohm(copper_um: float) -> float:
    """Return the resistance of a square of copper, ohm."""
    return RESISTIVITY_OHM_M / (copper_um * 1e-6)


def barrel_ohm(drill_mm: float, thickness_mm: float) -> float:
    """Return the resistance of the plating of a hole from face to face, ohm."""
    area_m2 = math.pi * drill_mm * PLATING_UM * 1e-9
    return RESISTIVITY_OHM_M * thickness_mm * 1e-3 / area_m2


class Probe(NamedTuple):
    """A place where a tip of PROBE_MM touches the copper of a layer, mm."""

    x_mm: float
    y_mm: float
    layer: LayerName

    def __str__(self) -> str:
        return f"{self.x_mm:g}, {self.y_mm:g} mm on {self.layer}"


def resistance(wired: Wired, a: Pin | Probe, b: Pin | Probe) -> Conduction:
    """Return the resistance of the copper between two places of a net: pins, or where the tip of a probe touches.

    EditError if there is no copper, if they are not on one net, or if no copper joins them.
    """
    (net, one), (other, two) = _end(wired, a), _end(wired, b)
    if a == b or not net or net != other:
        raise EditError(f"{a} and {b} are not two places of one net", str(b), "Name two pins or places of one net")
    rules = wired.design.board.rules
    areas = {layer: net_area(wired, net, layer) for layer in wired.design.board.stack}
    holes = list(holes_of(wired, net))
    foils = [sheet_ohm(rules.foil_um(k)) for k in areas]
    solved = solve(areas, holes, (one, two), foils, mm(rules.thickness_nm))
    if solved is None:
        raise EditError(f"No copper joins {a} and {b}", net, "Route the net first")
    return solved


def _end(wired: Wired, place: Pin | Probe) -> tuple[str, list[tuple[LayerName, Any]]]:
    """Return the net of a place, and the shapes through which current goes in."""
    from shapely import Point

    if isinstance(place, Pin):
        pads = [p for p in board_pads(wired) if p.pin == place and p.layers]
        if not pads:
            raise EditError(f"{place} has no pad on the board", str(place), "Place its part first")
        return pads[0].net, [(layer, pad_shape(p)) for p in pads for layer in p.layers]
    found = copper_at(wired, place.x_mm, place.y_mm, [place.layer])
    if found is None:
        raise EditError(f"There is no copper at {place}", str(place), "Name a place on a track, pad or pour")
    tip = Point(place.x_mm, place.y_mm).buffer(PROBE_MM / 2)
    return found[0], [(place.layer, tip.intersection(net_area(wired, found[0], place.layer)))]


def holes_of(wired: Wired, net: str) -> Iterator[_Hole]:
    """Yield the plated holes of a net: its vias and its pads that go through."""
    for v in wired.design.board.vias:
        if v.net == net:
            yield _Hole(mm(v.x_nm), mm(v.y_nm), mm(v.diameter_nm), mm(v.drill_nm))
    for p in board_pads(wired):
        if p.net == net and p.drill_nm and p.plated and len(p.layers) > 1:
            yield _Hole(mm(p.x_nm), mm(p.y_nm), mm(min(p.width_nm, p.height_nm)), mm(p.drill_nm))


def net_area(wired: Wired, net: str, layer: LayerName) -> Any:
    """Return all copper of a net on a layer as one shape, mm."""
    from shapely import union_all

    shapes = [i.shape for i in laid_copper(wired, layer).items if i.net == net]
    return union_all([*shapes, *(area for name, area in pour_shapes(wired, layer) if name == net)])


class _Hole(NamedTuple):
    x: float
    y: float
    across: float
    drill: float


Ends = tuple[list[tuple[LayerName, Any]], list[tuple[LayerName, Any]]]


def solve(
    areas: dict[LayerName, Any], holes: list[_Hole], ends: Ends, square_ohm: list[float], thickness_mm: float
) -> Conduction | None:
    """Return what flows between two sets of pads through copper areas and plated holes; None if nothing joins them.

    `square_ohm` is the resistance of a square of each layer, in the order of `areas`.
    """
    from scipy.sparse.csgraph import connected_components
    from scipy.sparse.linalg import spsolve

    marks = {layer: [s for end in ends for on, s in end if on == layer] for layer in areas}
    mesh = mesh_of_layers(areas, marks, holes)
    terminals = [inside_pads(mesh, end, list(areas)) for end in ends]
    if not len(mesh.triangles) or not all(map(len, terminals)):
        return None
    groups, barrels = joints(mesh, holes, depths_mm(len(areas), thickness_mm))
    owner = merged(len(mesh.points), [*groups, *terminals])
    matrix = laplacian(mesh, square_ohm, owner, barrels)
    start, end = (int(owner[t[0]]) for t in terminals)
    _, piece = connected_components(matrix, directed=False)
    if piece[start] != piece[end]:
        return None
    volts = np.zeros(matrix.shape[0])
    if start != end:
        live = np.flatnonzero((piece == piece[start]) & (np.arange(len(volts)) != end))
        current = np.zeros(len(volts))
        current[start] = 1.0
        volts[live] = spsolve(matrix[live][:, live].tocsc(), current[live])
    return Conduction(float(volts[start]), mesh, volts[owner])


def laplacian(mesh: Mesh, square_ohm: list[float], owner: I64, barrels: list[tuple[int, int, float]]) -> Any:
    """Return the matrix of conductances between the nodes, siemens."""
    from scipy.sparse import coo_matrix

    i, j, g = _stiffness(mesh, square_ohm)
    if barrels:
        ends = np.array([(p, q) for p, q, _ in barrels])
        i, j, g = np.r_[i, ends[:, 0]], np.r_[j, ends[:, 1]], np.r_[g, [c for *_, c in barrels]]
    i, j = owner[i], owner[j]
    count = int(owner.max()) + 1
    rows, columns, values = np.r_[i, j, i, j], np.r_[i, j, j, i], np.r_[g, g, -g, -g]
    return coo_matrix((values, (rows, columns)), (count, count)).tocsr()


def mesh_of_layers(areas: dict[LayerName, Any], marks: dict[LayerName, list[Any]], holes: list[_Hole]) -> Mesh:
    """Return triangles over the copper of all layers, the outlines of pads and holes among their edges."""
    points: list[F64] = []
    triangles: list[I64] = []
    layers: list[I64] = []
    first = 0
    for k, (layer, area) in enumerate(areas.items()):
        if area.is_empty:
            continue
        spots, found = mesh_of(area, [*marks[layer], *(_disc(h) for h in holes)])
        points.append(spots)
        triangles.append(found + first)
        layers.append(np.full(len(spots), k))
        first += len(spots)
    if not points:
        return Mesh(np.zeros((0, 2)), np.zeros((0, 3), dtype=np.int64), np.zeros(0, dtype=np.int64))
    return Mesh(np.concatenate(points), np.concatenate(triangles), np.concatenate(layers))


def mesh_of(area: Any, marks: list[Any]) -> tuple[F64, I64]:
    """Return points and triangles of an area, with points along the outlines of `marks` in it too."""
    from scipy.spatial import Delaunay
    from shapely import contains_xy, get_coordinates, prepare, segmentize

    outline = get_coordinates(segmentize(area, EDGE_MM))
    inner = [get_coordinates(segmentize(m, EDGE_MM)) for m in marks]
    inner += [get_coordinates(m.centroid) for m in marks]
    x0, y0, x1, y1 = area.bounds
    gx, gy = np.meshgrid(np.arange(x0, x1, INNER_MM), np.arange(y0, y1, INNER_MM))
    grid = np.column_stack((gx.ravel(), gy.ravel()))
    prepare(area)
    extra = np.concatenate([*inner, grid]) if inner else grid
    spots = np.unique(
        np.round(np.concatenate([outline, extra[contains_xy(area, extra[:, 0], extra[:, 1])]]), 6), axis=0
    )
    found = Delaunay(spots).simplices.astype(np.int64)
    middle = spots[found].mean(axis=1)
    kept = found[contains_xy(area, middle[:, 0], middle[:, 1])]
    return spots, kept


def _stiffness(mesh: Mesh, square_ohm: list[float]) -> tuple[I64, I64, F64]:
    """Return the conductances along the edges of all triangles, siemens: half the cotangent of the angle across."""
    p = mesh.points[mesh.triangles]
    ends_i, ends_j, values = [], [], []
    ohm = np.array(square_ohm)[mesh.layer_of[mesh.triangles[:, 0]]]
    for a, b, c in ((0, 1, 2), (1, 2, 0), (2, 0, 1)):
        u, v = p[:, a] - p[:, c], p[:, b] - p[:, c]
        cross = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
        cot = np.einsum("ij,ij->i", u, v) / np.maximum(cross, 1e-12)
        ends_i.append(mesh.triangles[:, a])
        ends_j.append(mesh.triangles[:, b])
        values.append(cot / 2 / ohm)
    return np.concatenate(ends_i), np.concatenate(ends_j), np.concatenate(values)


def _disc(hole: _Hole) -> Any:
    from shapely import Point

    return Point(hole.x, hole.y).buffer(hole.across / 2, quad_segs=6)


def depths_mm(layers: int, thickness_mm: float) -> list[float]:
    """Return how deep each layer of copper lies, mm: inner ones next to the outer (common practice)."""
    return [0.0, PREPREG_MM, thickness_mm - PREPREG_MM, thickness_mm] if layers == 4 else [0.0, thickness_mm]


def joints(mesh: Mesh, holes: list[_Hole], depths: list[float]) -> tuple[list[I64], list[tuple[int, int, float]]]:
    """Return the points of each hole's ring on each layer, which are one, and the barrels between them."""
    groups: list[I64] = []
    barrels: list[tuple[int, int, float]] = []
    for hole in holes:
        off = np.hypot(mesh.points[:, 0] - hole.x, mesh.points[:, 1] - hole.y)
        rings = [np.flatnonzero((off <= hole.across / 2 + 1e-6) & (mesh.layer_of == k)) for k in range(len(depths))]
        groups += [r for r in rings if len(r)]
        there = [k for k, r in enumerate(rings) if len(r)]
        for a, b in pairwise(there):
            through = 1 / barrel_ohm(hole.drill, depths[b] - depths[a])
            barrels.append((int(rings[a][0]), int(rings[b][0]), through))
    return groups, barrels


def inside_pads(mesh: Mesh, end: list[tuple[LayerName, Any]], layers: list[LayerName]) -> I64:
    """Return the points of the mesh in the pads of an end."""
    from shapely import intersects_xy

    found = [np.zeros(0, dtype=np.int64)]
    for layer, shape in end:
        here = mesh.layer_of == layers.index(layer)
        grown = shape.buffer(1e-5)
        found.append(np.flatnonzero(here & intersects_xy(grown, mesh.points[:, 0], mesh.points[:, 1])))
    return np.concatenate(found)


def merged(count: int, groups: list[I64]) -> I64:
    """Return for each point the number of the node that it is, points of a group being one."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    rows = np.concatenate([g[:-1] for g in groups if len(g) > 1] or [np.zeros(0, dtype=np.int64)])
    columns = np.concatenate([g[1:] for g in groups if len(g) > 1] or [np.zeros(0, dtype=np.int64)])
    _, owner = connected_components(coo_matrix((np.ones(len(rows)), (rows, columns)), (count, count)), directed=False)
    return np.asarray(owner, dtype=np.int64)
