"""The order of placing, one face after the other, what is soldered late last.

Schools: surface-mount first (default), lowest first, or as listed (common practice).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from zesty_trace.core.board.copper import pattern_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Face
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.quantities import mm

School = Literal["surface-mount first", "lowest first", "as listed"]
SCHOOLS: tuple[School, ...] = ("surface-mount first", "lowest first", "as listed")


@dataclass(frozen=True)
class PlacingStep:
    """Parts of one kind and value, placed one after the other."""

    number: int
    title: str
    refs: tuple[str, ...]
    how: Literal["paste", "iron"]
    face: Face
    height_mm: float
    cautions: tuple[str, ...]


@dataclass(frozen=True)
class _Group:
    face: Face
    paste: bool
    late: bool
    area_mm2: float
    height_mm: float
    order: int
    title: str
    refs: tuple[str, ...]
    cautions: tuple[str, ...]


def placing_sequence(wired: Wired, variant: str = "", school: School = "surface-mount first") -> list[PlacingStep]:
    """Return the steps for one board of `variant`: each fitted part exactly once.

    What goes into paste comes first, the face with less on it before the other: its parts hang below in the second
    pass (common practice). What is late is last in every school. InputError for a variant that there is not.
    """
    known_variant(wired.design, variant)
    groups = _groups(wired, variant)
    weight = {
        face: sum(g.area_mm2 * g.height_mm * len(g.refs) for g in groups if g.face == face and not g.late)
        for face in FACES
    }
    by_school: dict[School, Callable[[_Group], tuple[Any, ...]]] = {
        "surface-mount first": lambda g: (not g.paste, g.area_mm2 if g.paste else g.height_mm, g.height_mm, g.title),
        "lowest first": lambda g: (g.height_mm, g.area_mm2, g.title),
        "as listed": lambda g: (g.order,),
    }
    inner = by_school[school]
    pasted_first = school == "surface-mount first"
    groups.sort(key=lambda g: (g.late, pasted_first and not g.paste, weight[g.face], g.face, inner(g)))
    return [
        PlacingStep(k, g.title, g.refs, "paste" if g.paste else "iron", g.face, g.height_mm, g.cautions)
        for k, g in enumerate(groups, 1)
    ]


def _groups(wired: Wired, variant: str) -> list[_Group]:
    design = wired.design
    found: dict[tuple[str, str, str, Face], list[str]] = {}
    for ref, part in design.fitted(variant).parts.items():
        if wired.kind(ref).assembled:
            spot = design.board.placements.get(ref)
            face: Face = spot.side if spot else "top"
            found.setdefault((part.kind, part.value, part.package, face), []).append(ref)
    groups = []
    for order, ((kind_id, value, package, face), refs) in enumerate(found.items()):
        kind, pattern = wired.catalogue.kind(kind_id), pattern_of(wired, refs[0])
        x0, y0, x1, y1 = pattern.body
        title = f"{kind.title.split(',')[0]} {value.split()[0] if value else ''}".strip() + f", {package}"
        cautions = []
        if kind.polarity:
            cautions.append(f"Polarity: {kind.polarity}")
        elif len(kind.pins) > 2 and not kind.connector:
            cautions.append("Pin 1 to the ring on the board")
        if kind.assembly:
            cautions.append(kind.assembly)
        if kind.heat_sensitive:
            cautions.append(f"Heat-sensitive: not above {kind.heat_max_c:.0f} °C")
        groups.append(
            _Group(
                face,
                pattern.surface_mount and not kind.late,
                kind.late or (kind.heat_sensitive and not pattern.surface_mount),
                mm(x1 - x0) * mm(y1 - y0),
                mm(pattern.height_nm),
                order,
                title,
                tuple(refs),
                tuple(cautions),
            )
        )
    return groups
