"""An SVG as a drawing program would see it: strokes, filled shapes and texts, all on the page.

Knows nothing of the sheet: only the file. Reads what Qt writes (lines, rectangles, ellipses, polygons, paths of lines
and curves, texts) with its transforms.
"""

from __future__ import annotations

import math
import re
import xml.etree.ElementTree as ET
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

Point = tuple[float, float]
Matrix = tuple[float, float, float, float, float, float]
_NUMBER = re.compile(r"-?\d*\.?\d+(?:e-?\d+)?")
_PATH = re.compile(r"([MLCZmlcz])|(-?\d*\.?\d+(?:e-?\d+)?)")
ROUND_STEPS = 24


@dataclass(frozen=True)
class Shape:
    """A stroke or a filled shape, on the page. `width` is that of its pen before the transform, 0 without one."""

    points: tuple[Point, ...]
    closed: bool
    width: float
    filled: bool
    scale: float


@dataclass(frozen=True)
class Words:
    """A text: left, top, right, bottom of its letters on the page, and its height there."""

    text: str
    left: float
    top: float
    right: float
    bottom: float


@dataclass
class Drawing:
    """All that is painted."""

    shapes: list[Shape]
    words: list[Words]


def read(path: Path) -> Drawing:
    """Return what an SVG file paints."""
    drawing = Drawing([], [])
    root = ET.parse(path).getroot()
    _walk(root, (1, 0, 0, 1, 0, 0), {}, drawing)
    return drawing


def _walk(node: ET.Element, matrix: Matrix, style: dict[str, str], drawing: Drawing) -> None:
    style = {**style, **node.attrib}
    if said := node.attrib.get("transform"):
        matrix = _times(matrix, tuple(float(n) for n in _NUMBER.findall(said)))  # type: ignore[arg-type]
    name = node.tag.rsplit("}", 1)[-1]
    if name == "text":
        _text(node, matrix, style, drawing)
    elif name in ("polyline", "polygon", "path", "rect", "ellipse", "circle", "line"):
        for points, closed in _outline(name, node):
            width = 0.0 if style.get("stroke", "none") == "none" else float(style.get("stroke-width", 1))
            on_page = tuple(_at(matrix, p) for p in points)
            filled = style.get("fill", "none") != "none"
            drawing.shapes.append(Shape(on_page, closed, width, filled, math.hypot(matrix[0], matrix[1])))
    for child in node:
        _walk(child, matrix, style, drawing)


def _times(a: Matrix, b: Matrix) -> Matrix:
    return (
        a[0] * b[0] + a[2] * b[1],
        a[1] * b[0] + a[3] * b[1],
        a[0] * b[2] + a[2] * b[3],
        a[1] * b[2] + a[3] * b[3],
        a[0] * b[4] + a[2] * b[5] + a[4],
        a[1] * b[4] + a[3] * b[5] + a[5],
    )


def _at(m: Matrix, p: Point) -> Point:
    return m[0] * p[0] + m[2] * p[1] + m[4], m[1] * p[0] + m[3] * p[1] + m[5]


def _outline(name: str, node: ET.Element) -> list[tuple[list[Point], bool]]:
    def value(key: str) -> float:
        return float(node.attrib.get(key, 0))

    if name in ("polyline", "polygon"):
        numbers = [float(n) for n in _NUMBER.findall(node.attrib["points"])]
        return [(list(zip(numbers[::2], numbers[1::2], strict=True)), name == "polygon")]
    if name == "line":
        return [([(value("x1"), value("y1")), (value("x2"), value("y2"))], False)]
    if name == "rect":
        x, y, w, h = (value(k) for k in ("x", "y", "width", "height"))
        return [([(x, y), (x + w, y), (x + w, y + h), (x, y + h)], True)]
    if name in ("ellipse", "circle"):
        rx, ry = (value("rx"), value("ry")) if name == "ellipse" else (value("r"), value("r"))
        turns = [2 * math.pi * k / ROUND_STEPS for k in range(ROUND_STEPS)]
        return [([(value("cx") + rx * math.cos(t), value("cy") + ry * math.sin(t)) for t in turns], True)]
    return _path(node.attrib["d"])


def _path(d: str) -> list[tuple[list[Point], bool]]:
    found: list[tuple[list[Point], bool]] = []
    here: list[Point] = []
    command, numbers = "", list[float]()
    for letter, number in _PATH.findall(d):
        if letter in ("Z", "z"):
            found.append((here, True))
            here = []
        elif letter:
            command, numbers = letter, []
        else:
            numbers.append(float(number))
            if command == "M" and len(numbers) == 2:
                if len(here) > 1:
                    found.append((here, False))
                here, numbers, command = [(numbers[0], numbers[1])], [], "L"
            elif command == "L" and len(numbers) == 2:
                here.append((numbers[0], numbers[1]))
                numbers = []
            elif command == "C" and len(numbers) == 6:
                here += _curve(here[-1], numbers)
                numbers = []
    if len(here) > 1:
        ends_meet = math.dist(here[0], here[-1]) < 1e-6
        found.append((here, ends_meet and len(here) > 3))
    return found


def _curve(start: Point, c: list[float]) -> list[Point]:
    found = []
    for k in range(1, 7):
        t = k / 6
        a, b, e, f = (1 - t) ** 3, 3 * (1 - t) ** 2 * t, 3 * (1 - t) * t * t, t**3
        found.append((a * start[0] + b * c[0] + e * c[2] + f * c[4], a * start[1] + b * c[1] + e * c[3] + f * c[5]))
    return found


@lru_cache(4)
def _letters(bold: bool) -> object:
    from PIL import ImageFont

    name = "Inter-Bold" if bold else "Inter-Regular"
    folder = Path(__file__).parents[1] / "src" / "zesty_trace"
    found = next((f for f in folder.rglob("*.otf") if f.stem.startswith(name)), None) or next(folder.rglob("*.otf"))
    return ImageFont.truetype(str(found), 200)


def _text(node: ET.Element, matrix: Matrix, style: dict[str, str], drawing: Drawing) -> None:
    said = "".join(node.itertext()).strip()
    if not said:
        return
    size = float(style["font-size"])
    long = _letters(int(style.get("font-weight", "400")) > 500).getlength(said) * size / 200  # type: ignore[attr-defined]
    x, y = float(style.get("x", 0)), float(style.get("y", 0))
    corners = [_at(matrix, p) for p in ((x, y - 0.73 * size), (x + long, y))]
    (x0, y0), (x1, y1) = corners
    drawing.words.append(Words(said, min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)))
