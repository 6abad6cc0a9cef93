"""Aperture macros: their primitives, variables and arithmetic, worked out to one shape (specification, section 4.5)."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import Any

from zesty_trace.core.gerber.shapes import disc, regular_polygon, ring_area
from zesty_trace.errors import InputError

MOST_STATEMENTS, MOST_VALUES, MOST_DEPTH = 2_000, 20_100, 40
LARGEST = 2_000.0  # of a size, mm
_WORD = re.compile(r"\s*(\d+\.?\d*|\.\d+|\$\d+|[-+xX/()])")


class Macro:
    """A macro as it was written."""

    def __init__(self, name: str, body: str, line: int) -> None:
        self.name, self.line = name, line
        self.statements = [s.strip() for s in body.split("*") if s.strip()]
        if len(self.statements) > MOST_STATEMENTS:
            raise InputError(f"Macro {name} has over {MOST_STATEMENTS:,} primitives", f"line {line}", "Use fewer")

    def shape(self, values: Sequence[float], unit_mm: float, where: str) -> tuple[Any, list[str]]:
        """Return the shape for the values of `%ADD…`, mm, and what is odd. InputError for what is not known."""
        from shapely import Polygon

        variables = dict(enumerate(values, 1))
        image: Any = Polygon()
        odd: list[str] = []
        for statement in self.statements:
            if statement[0] == "0":
                continue
            if match := re.match(r"^\$(\d{1,6})\s*=(.*)$", statement, re.S):
                variables[int(match[1])] = evaluate(match[2], variables, where)
                continue
            head, *words = statement.replace("\n", "").split(",")
            if len(words) > MOST_VALUES:
                raise InputError(f"Macro {self.name} has a primitive of {len(words):,} values", where, "Use fewer")
            numbers = [evaluate(w, variables, where) for w in words]
            dark, part = _primitive(head.strip(), numbers, unit_mm, where, odd)
            image = image.union(part) if dark else image.difference(part)
        return image, odd


def evaluate(text: str, variables: dict[int, float], where: str) -> float:
    """Return the value of an expression of + - x / and brackets, x and / first; unknown variables are 0."""
    words: list[str] = []
    at, text = 0, text.strip()
    while at < len(text):
        match = _WORD.match(text, at)
        if match is None:
            raise InputError(f"“{text[:40]}” is no expression", where, "The macro is damaged")
        words.append(match[1])
        at = match.end()
    value, used = _sum(words, 0, variables, where, 0)
    if used != len(words) or not math.isfinite(value):
        raise InputError(f"“{text[:40]}” is no expression", where, "The macro is damaged")
    return value


def _sum(words: list[str], at: int, variables: dict[int, float], where: str, deep: int) -> tuple[float, int]:
    value, at = _product(words, at, variables, where, deep)
    while at < len(words) and words[at] in "+-":
        sign = 1 if words[at] == "+" else -1
        more, at = _product(words, at + 1, variables, where, deep)
        value += sign * more
    return value, at


def _product(words: list[str], at: int, variables: dict[int, float], where: str, deep: int) -> tuple[float, int]:
    value, at = _atom(words, at, variables, where, deep)
    while at < len(words) and words[at] in "xX/":
        division = words[at] == "/"
        more, at = _atom(words, at + 1, variables, where, deep)
        if division and more == 0:
            raise InputError("A macro divides by zero", where, "The macro is damaged")
        value = value / more if division else value * more
    return value, at


def _atom(words: list[str], at: int, variables: dict[int, float], where: str, deep: int) -> tuple[float, int]:
    if at >= len(words) or deep > MOST_DEPTH:
        raise InputError("A macro's expression is not complete", where, "The macro is damaged")
    word = words[at]
    if word == "(":
        value, at = _sum(words, at + 1, variables, where, deep + 1)
        if at >= len(words) or words[at] != ")":
            raise InputError("A bracket of a macro is not closed", where, "The macro is damaged")
        return value, at + 1
    if word in "+-":
        value, at = _atom(words, at + 1, variables, where, deep + 1)
        return (value if word == "+" else -value), at
    if word[0] == "$":
        return variables.get(int(word[1:7]), 0.0), at + 1
    if word[0] in "0123456789.":
        return float(word), at + 1
    raise InputError(f"“{word}” is out of place in a macro", where, "The macro is damaged")


def _primitive(code: str, v: list[float], unit: float, where: str, odd: list[str]) -> tuple[bool, Any]:
    """Return whether a primitive is dark, and its shape turned about the origin of the macro, mm."""
    from shapely import affinity

    makers = {"1": _circle, "2": _vector, "20": _vector, "21": _centre, "22": _corner, "4": _outline, "5": _polygon}
    makers |= {"6": _moire, "7": _thermal}
    if code not in makers:
        raise InputError(f"Macro primitive {code[:10]} is not known", where, "The file is damaged")
    least = {"1": 4, "2": 6, "20": 6, "21": 5, "22": 5, "4": 4, "5": 5, "6": 8, "7": 5}[code]
    if len(v) < least:
        raise InputError(
            f"Macro primitive {code} has {len(v)} values, it takes {least} or more", where, "It is damaged"
        )
    if code in ("2", "6", "22"):
        odd.append(f"macro primitive {code} is withdrawn from the format")
    shape, turn, dark = makers[code](v, unit, where)
    if turn:
        shape = affinity.rotate(shape, turn, origin=(0, 0))
    return dark, shape


Made = tuple[Any, float, bool]


def _at(v: list[float], k: int) -> float:
    return v[k] if k < len(v) else 0.0


def _size(value: float, where: str) -> float:
    if not 0 <= value <= LARGEST:
        raise InputError(f"A size of {value:g} in a macro cannot be", where, "The macro is damaged")
    return value


def _circle(v: list[float], u: float, where: str) -> Made:
    from shapely import affinity

    return affinity.translate(disc(_size(v[1] * u, where) / 2), v[2] * u, v[3] * u), _at(v, 4), v[0] != 0


def _vector(v: list[float], u: float, where: str) -> Made:
    from shapely import LineString

    width = _size(v[1] * u, where)
    line = LineString([(v[2] * u, v[3] * u), (v[4] * u, v[5] * u)])
    return line.buffer(width / 2, cap_style="flat"), _at(v, 6), v[0] != 0


def _centre(v: list[float], u: float, where: str) -> Made:
    from shapely import box

    w, h = _size(v[1] * u, where) / 2, _size(v[2] * u, where) / 2
    x, y = v[3] * u, v[4] * u
    return box(x - w, y - h, x + w, y + h), _at(v, 5), v[0] != 0


def _corner(v: list[float], u: float, where: str) -> Made:
    from shapely import box

    x, y = v[3] * u, v[4] * u
    return box(x, y, x + _size(v[1] * u, where), y + _size(v[2] * u, where)), _at(v, 5), v[0] != 0


def _outline(v: list[float], u: float, where: str) -> Made:
    count = round(v[1])
    if count < 2 or len(v) < 2 + 2 * (count + 1):
        raise InputError(f"An outline of a macro says {count} edges and has fewer points", where, "It is damaged")
    points = [(v[2 + 2 * k] * u, v[3 + 2 * k] * u) for k in range(count + 1)]
    return ring_area(points), _at(v, 4 + 2 * count), v[0] != 0


def _polygon(v: list[float], u: float, where: str) -> Made:
    from shapely import affinity

    corners = round(v[1])
    if not 3 <= corners <= 100:
        raise InputError(f"A polygon of {corners} corners in a macro cannot be", where, "The macro is damaged")
    shape = regular_polygon(_size(v[4] * u, where), corners, 0.0)
    return affinity.translate(shape, v[2] * u, v[3] * u), _at(v, 5), v[0] != 0


def _moire(v: list[float], u: float, where: str) -> Made:
    from shapely import affinity, box, union_all

    x, y, across, thick, gap, most, cross, long = (n * (u if k != 5 else 1) for k, n in enumerate(v[:8]))
    rings = []
    for k in range(min(50, max(0, round(most)))):
        outer = _size(across, where) / 2 - k * (thick + gap)
        if outer <= 0:
            break
        rings.append(disc(outer).difference(disc(max(0.0, outer - thick))))
    bars = [box(-long / 2, -cross / 2, long / 2, cross / 2), box(-cross / 2, -long / 2, cross / 2, long / 2)]
    return affinity.translate(union_all([*rings, *bars]), x, y), _at(v, 8), True


def _thermal(v: list[float], u: float, where: str) -> Made:
    from shapely import affinity, box, union_all

    x, y, outer, inner, gap = (n * u for n in v[:5])
    ring = disc(_size(outer, where) / 2).difference(disc(_size(inner, where) / 2))
    cross = [box(-outer, -gap / 2, outer, gap / 2), box(-gap / 2, -outer, gap / 2, outer)]
    return affinity.translate(ring.difference(union_all(cross)), x, y), _at(v, 5), True
