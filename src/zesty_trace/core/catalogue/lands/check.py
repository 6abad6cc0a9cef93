"""Is a package whole: its dimensions can be, and a land pattern comes out of them."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from math import isfinite
from typing import NamedTuple

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.land_patterns import FAMILIES, land_pattern
from zesty_trace.core.catalogue.lands.holes import ALLOWANCE_MM
from zesty_trace.core.catalogue.lands.ipc7351 import DENSITIES, GOALS
from zesty_trace.core.catalogue.lands.pattern import LandPattern, Pad
from zesty_trace.errors import InputError
from zesty_trace.names import is_name, shorten, suggest

MOST_MM = 200.0
MOST_PADS = 1200
FACINGS = ("", "right", "up", "left", "down")
LIMITS = ("length", "length_y", "foot", "width", "tab", "tab_foot")
SIZES = ("pad", "body", "centre")
NUMBERS = ("height", "pitch", "span", "drill", "diameter", "keepout", "reach", "ball", "lead", "slot", "splay")
NEEDS = {
    "balls": ("ball", "pitch"),
    "castellated": ("length", "foot", "width", "pitch"),
    "tab": ("length", "foot", "width", "tab"),
    "hole": ("drill",),
    "radial": ("span", "diameter"),
    "axial": ("span",),
    "dip": ("span", "pitch"),
    "strip2": ("span", "pitch"),
}
FORMS = {"can", "gull wing", "chip", *(f for f in GOALS if not f.startswith(("can", "small", "fine", "ball")))}
Problem = tuple[str, str, str]  # field, what is wrong, what to do


class Wrong(NamedTuple):
    """What is wrong with a land pattern that came out."""

    text: str
    hint: str


def check_package(spec: PackageSpec, where: str) -> LandPattern:
    """Return the land pattern of a package. InputError with the field at fault where it cannot be."""
    for field, words, hint in _problems(spec):
        raise InputError(f"{spec.id}: {words}", f"{where}{field and ' '}{field}", hint)
    try:
        pattern = land_pattern(spec)
    except (KeyError, ValueError, IndexError, ZeroDivisionError) as error:
        raise InputError(f"{spec.id}: no land pattern comes out of its dimensions", where, "Check them") from error
    for wrong in wrong_pattern(pattern):
        raise InputError(f"{spec.id}: {wrong.text}", where, wrong.hint)
    return pattern


def _problems(spec: PackageSpec) -> Iterator[Problem]:
    if not is_name(spec.id, "package"):
        yield "", f"“{shorten(spec.id)}” cannot name a package", "Use letters, digits and _ - ."
    for field, known in (
        ("family", FAMILIES),
        ("density", DENSITIES),
        ("fit", ALLOWANCE_MM),
        ("facing", FACINGS),
        ("first", ("corner", "middle")),
        ("form", {"", *FORMS}),
    ):
        said = getattr(spec, field)
        if said not in known:
            yield field, f"there is no {field} “{shorten(said)}”", suggest(said, [k for k in known if k])
    yield from _numbers(spec)
    for field in NEEDS.get(spec.family, ()):
        value = getattr(spec, field)
        if not (value[1] if isinstance(value, tuple) else value):
            yield field, f"a package of family {spec.family} needs its {field}", "Measure it, or look it up"
    yield from _terminals(spec)


def _numbers(spec: PackageSpec) -> Iterator[Problem]:
    for field in NUMBERS:
        value = getattr(spec, field)
        if not isfinite(value) or not 0 <= value <= MOST_MM:
            yield field, f"a {field} of {value:g} mm cannot be", f"Between 0 and {MOST_MM:g} mm"
    for field in (*LIMITS, *SIZES):
        a, b = getattr(spec, field)
        if not (isfinite(a) and isfinite(b) and 0 <= a <= MOST_MM and 0 <= b <= MOST_MM):
            yield field, f"{field} is {a:g}, {b:g} mm", f"Between 0 and {MOST_MM:g} mm"
        elif field in LIMITS and a > b:
            yield field, f"{field} is from {a:g} to {b:g} mm", "The least comes first"
    if not 1 <= spec.count <= MOST_PADS:
        yield "count", f"{spec.count} pads cannot be", f"From 1 to {MOST_PADS}"
    unit = {"gull": 2, "dip": 2, "strip2": 2, "quad": 4}.get(spec.family, 1)
    if spec.count % unit and not spec.sides:
        yield "count", f"{spec.count} terminals do not go onto {unit} sides evenly", "Say sides=3,2 and so on"
    if spec.family in ("quad", "balls") and len(spec.sides) not in ((0, 2) if spec.family == "quad" else (2,)):
        yield "sides", "it needs two counts", "Say sides=7,9: down the left, along the bottom (balls: columns, rows)"
    if any(n < 0 for n in spec.sides) or sum(spec.sides) > MOST_PADS:
        yield "sides", f"sides of {spec.sides} cannot be", "Count the terminals of each side"
    if len(spec.pads) > MOST_PADS:
        yield "pads", f"{len(spec.pads)} pads are too many", f"At most {MOST_PADS}"


def _terminals(spec: PackageSpec) -> Iterator[Problem]:
    if not spec.length[1]:
        if spec.family == "table" and not spec.pads:
            yield "pads", "it has no pads", "Name at least one"
        return
    for field in ("foot", "width"):
        if not getattr(spec, field)[1]:
            yield field, f"the {field} of its terminals is missing", "Measure it, or look it up"
    if 2 * spec.foot[0] >= spec.length[1]:
        words = f"terminals {spec.foot[0]:g} mm long leave nothing between them in {spec.length[1]:g} mm"
        yield "foot", words, "Give the length of one terminal's end"
    if spec.family in ("gull", "quad") and not spec.pitch:
        yield "pitch", "its pitch is missing", "Measure it over several terminals and divide"


def wrong_pattern(pattern: LandPattern) -> Iterator[Wrong]:
    """Yield what is wrong with a land pattern: pads without size, holes without ring, pads that touch."""
    copper = [p for p in pattern.pads if p.plated]
    if not pattern.pads:
        yield Wrong("it has no pad", "Name at least one")
    for p in pattern.pads:
        if min(p.width_nm, p.height_nm) <= 0 or p.drill_nm < 0:
            yield Wrong(f"pad {p.number} has no size", "Give width and height above zero")
        long, short = max(p.width_nm, p.height_nm), min(p.width_nm, p.height_nm)
        if p.plated and p.drill_nm and (p.drill_nm >= short or p.slot_nm >= long):
            yield Wrong(f"the hole of pad {p.number} is as large as its pad", "Use a smaller hole or a larger pad")
        if max(abs(p.x_nm), abs(p.y_nm)) > MOST_MM * 1e6:
            yield Wrong(f"pad {p.number} lies {MOST_MM:g} mm off", "Check its place")
    if len(copper) <= MOST_PADS:
        yield from _touching(copper)


def _touching(pads: list[Pad]) -> Iterator[Wrong]:
    reach = max((max(p.width_nm, p.height_nm) for p in pads), default=0)
    ordered = sorted(pads, key=lambda p: p.x_nm)
    near = (
        (a, b)
        for k, a in enumerate(ordered)
        for b in ordered[k + 1 : k + 200]
        if b.x_nm - a.x_nm <= reach and a.number != b.number
    ) if len(pads) > 60 else ((a, b) for a, b in combinations(ordered, 2) if a.number != b.number)  # fmt: skip
    for a, b in near:
        dx = abs(a.x_nm - b.x_nm) - (a.width_nm + b.width_nm) / 2
        dy = abs(a.y_nm - b.y_nm) - (a.height_nm + b.height_nm) / 2
        if dx < 0 and dy < 0:
            yield Wrong(f"pads {a.number} and {b.number} lie on each other", "Check pitch and width")
            return
