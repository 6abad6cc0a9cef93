"""The shapes of marks: flashes, strokes and contours all at once, and the image that they make in their order."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from zesty_trace.core.gerber.image import PLAIN, Aperture, Mark, Matrix, Spot

SAG_MM = 0.001  # of chords within arcs
MOST_CHORDS = 2_000


def arc_points(start: Spot, end: Spot, centre: Spot, counter: bool, full: bool) -> list[Spot]:
    """Return points along an arc from after its start to its end; `full` is a whole turn where both are one."""
    (x0, y0), (x1, y1), (cx, cy) = start, end, centre
    first, last = math.atan2(y0 - cy, x0 - cx), math.atan2(y1 - cy, x1 - cx)
    sweep = (last - first) if counter else (first - last)
    sweep %= 2 * math.pi
    if math.dist(start, end) < 1e-9 or sweep < 1e-12:
        sweep = 2 * math.pi if full else 0.0
    r0, r1 = math.dist(start, centre), math.dist(end, centre)
    if sweep == 0 or r0 == 0:
        return [end]
    step = 2 * math.acos(max(-1.0, 1 - min(1.0, SAG_MM / max(r0, r1))))
    count = min(MOST_CHORDS, max(4, math.ceil(sweep / step)))
    turn = sweep if counter else -sweep
    found = []
    for k in range(1, count):
        share = k / count
        r, a = r0 + (r1 - r0) * share, first + turn * share
        found.append((cx + r * math.cos(a), cy + r * math.sin(a)))
    return [*found, end]


def quad_segments(radius: float) -> int:
    """Return how many chords a quarter of a circle needs."""
    if radius <= 0:
        return 1
    step = 2 * math.acos(max(0.0, 1 - min(1.0, SAG_MM / radius)))
    return min(256, max(8, math.ceil(math.pi / 2 / step)))


def disc(radius: float) -> Any:
    """Return a disc about the origin."""
    from shapely import Point

    return Point(0, 0).buffer(radius, quad_segs=quad_segments(radius))


def oblong(width: float, height: float) -> Any:
    """Return a rectangle with round ends about the origin."""
    from shapely import LineString

    half = abs(width - height) / 2
    if half == 0:
        return disc(width / 2)
    ends = [(-half, 0), (half, 0)] if width > height else [(0, -half), (0, half)]
    return LineString(ends).buffer(min(width, height) / 2, quad_segs=quad_segments(min(width, height) / 2))


def regular_polygon(diameter: float, corners: int, turn_deg: float) -> Any:
    """Return a regular polygon within a circle about the origin, a corner on the x axis before it is turned."""
    from shapely import Polygon

    angles = [math.radians(turn_deg) + 2 * math.pi * k / corners for k in range(corners)]
    return Polygon([(diameter / 2 * math.cos(a), diameter / 2 * math.sin(a)) for a in angles])


def ring_area(points: Sequence[Spot]) -> Any:
    """Return the area within a contour; what it goes round twice is a hole, as of a cut-in."""
    from shapely import MultiPolygon, Polygon, get_parts, is_valid, make_valid, union_all

    if len(points) < 3:
        return MultiPolygon()
    area = Polygon(points)
    if is_valid(area):
        return area
    parts = [p for p in get_parts(make_valid(area)).tolist() if p.geom_type in ("Polygon", "MultiPolygon")]
    return union_all(parts) if parts else MultiPolygon()


def multiplied(a: Matrix, b: Matrix) -> Matrix:
    """Return the matrix of b first, then a."""
    return (
        a[0] * b[0] + a[1] * b[2],
        a[0] * b[1] + a[1] * b[3],
        a[2] * b[0] + a[3] * b[2],
        a[2] * b[1] + a[3] * b[3],
    )


def moved(points: Sequence[Spot], matrix: Matrix, by: Spot) -> tuple[Spot, ...]:
    """Return points through a matrix, then shifted."""
    a, b, c, d = matrix
    return tuple((a * x + b * y + by[0], c * x + d * y + by[1]) for x, y in points)


def scale_of(matrix: Matrix) -> float:
    """Return how much larger a matrix makes lengths."""
    return math.sqrt(abs(matrix[0] * matrix[3] - matrix[1] * matrix[2]))


def shapes_of(marks: Sequence[Mark]) -> list[Any]:
    """Return the shape of each mark, mm."""
    from shapely import MultiPolygon

    found: list[Any] = [MultiPolygon()] * len(marks)
    groups: dict[tuple[str, int, Matrix], list[int]] = {}
    for k, mark in enumerate(marks):
        if mark.kind == "region":
            found[k] = ring_area(mark.points)
        else:
            groups.setdefault((mark.kind, id(mark.aperture), mark.matrix), []).append(k)
    for (kind, _, own), numbers in groups.items():
        aperture = marks[numbers[0]].aperture
        assert aperture is not None
        make = _flashes if kind == "flash" else _strokes
        for k, shape in zip(numbers, make([marks[n] for n in numbers], aperture, own), strict=True):
            found[k] = shape
    return found


def _flashes(marks: list[Mark], aperture: Aperture, matrix: Matrix) -> list[Any]:
    """Return the stamp at each place: plain polygons all at once."""
    from shapely import MultiPolygon, affinity, polygons

    stamp = aperture.shape
    if matrix != PLAIN:
        stamp = affinity.affine_transform(stamp, [*matrix, 0.0, 0.0])
    if stamp.is_empty:
        return [MultiPolygon()] * len(marks)
    at = np.array([m.points[0] for m in marks])
    if stamp.geom_type == "Polygon" and not stamp.interiors:
        ring = np.asarray(stamp.exterior.coords)
        return list(polygons(ring[None, :, :] + at[:, None, :]))
    return [affinity.translate(stamp, x, y) for x, y in at.tolist()]


def _strokes(marks: list[Mark], aperture: Aperture, matrix: Matrix) -> list[Any]:
    """Return what a pen covers along each path: round pens all at once, others swept from point to point."""
    from shapely import MultiPolygon, affinity, buffer, linestrings

    if aperture.round:
        radius = aperture.sizes[0] / 2 * scale_of(matrix)
        if radius <= 0:
            return [MultiPolygon()] * len(marks)
        points = np.array([p for m in marks for p in _two(m.points)])
        lines = linestrings(points, indices=np.repeat(np.arange(len(marks)), [len(_two(m.points)) for m in marks]))
        return list(buffer(lines, radius, quad_segs=quad_segments(radius)))
    pen = affinity.affine_transform(aperture.shape, [*matrix, 0.0, 0.0])
    return [_swept(pen, mark.points) for mark in marks]


def _two(points: tuple[Spot, ...]) -> tuple[Spot, ...]:
    return points if len(points) > 1 else (points[0], points[0])


def _swept(pen: Any, points: Sequence[Spot]) -> Any:
    """Return what a pen covers from point to point; the hull of a pen that is not convex is taken."""
    from shapely import MultiPoint, MultiPolygon, get_coordinates, union_all

    at = get_coordinates(pen)
    if not len(at):
        return MultiPolygon()
    pairs = list(pairwise(points)) or [(points[0], points[0])]
    return union_all([MultiPoint(np.concatenate([at + np.array(a), at + np.array(b)])).convex_hull for a, b in pairs])


def painted(dark: Sequence[bool], shapes: Sequence[Any]) -> Any:
    """Return what is dark after all shapes in their order: runs of one polarity are joined first."""
    from shapely import Polygon, union_all

    image: Any = Polygon()
    start = 0
    for k in range(1, len(shapes) + 1):
        if k < len(shapes) and dark[k] == dark[start]:
            continue
        joined = union_all(shapes[start:k])
        if dark[start]:
            image = joined if image.is_empty else image.union(joined)
        elif not image.is_empty:
            image = image.difference(joined)
        start = k
    return image


def middle_lines(marks: Sequence[Mark]) -> list[Any]:
    """Return the middle lines of strokes and the edges of contours."""
    from shapely import LineString

    found = []
    for mark in marks:
        if mark.dark and mark.kind != "flash" and len(mark.points) > 1:
            found.append(LineString(mark.points))
    return found
