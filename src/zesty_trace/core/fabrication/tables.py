"""Tables for assembly and buying: where each part sits, and what to buy, for one variant."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.quantities import mm
from zesty_trace.names import csv_text


@dataclass(frozen=True)
class BomLine:
    """One thing to buy for one board."""

    count: int
    title: str
    value: str
    package: str
    refs: tuple[str, ...]


def bill_of_materials(wired: Wired, variant: str = "") -> list[BomLine]:
    """Return what one board of `variant` takes, most pieces first."""
    design = wired.design
    known_variant(design, variant)
    groups: dict[tuple[str, str, str], list[str]] = {}
    for ref, part in design.fitted(variant).parts.items():
        kind = wired.kind(ref)
        if kind.assembled:
            groups.setdefault((kind.title, part.value, part.package), []).append(ref)
    lines = [BomLine(len(refs), *key, tuple(refs)) for key, refs in groups.items()]
    return sorted(lines, key=lambda b: (-b.count, b.title, b.value))


def bom_csv(wired: Wired, variant: str = "") -> str:
    """Return the bill of materials as CSV."""
    rows: list[tuple[object, ...]] = [("count", "part", "value", "package", "refs")]
    for line in bill_of_materials(wired, variant):
        rows.append((line.count, line.title, line.value, line.package, " ".join(line.refs)))
    return csv_text(rows)


def centroid_csv(wired: Wired, variant: str = "") -> str:
    """Return centre, turn and side of each surface-mount or through-hole part, mm and degrees."""
    design = wired.design
    known_variant(design, variant)
    rows = [("ref", "value", "package", "x_mm", "y_mm", "rotation_deg", "side")]
    for ref, part in design.fitted(variant).parts.items():
        spot = design.board.placements.get(ref)
        if spot and wired.kind(ref).assembled:
            x, y, turn = f"{mm(spot.x_nm):.4f}", f"{mm(spot.y_nm):.4f}", f"{spot.angle_mdeg / 1000:.1f}"
            rows.append((ref, part.value, part.package, x, y, turn, spot.side))
    return csv_text(rows)
