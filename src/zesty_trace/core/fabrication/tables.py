"""Tables for assembly and buying: where each part sits, and what to buy, for one variant."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from msgspec.structs import replace

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import CentroidForm, Placement
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.quantities import mm
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, shorten


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


SAID: dict[tuple[str, str], tuple[str, object]] = {
    ("origin", "files"): ("origin", "files"), ("origin", "corner"): ("origin", "corner"),
    ("unit", "mm"): ("unit", "mm"), ("unit", "mil"): ("unit", "mil"),
    ("turns", "counter"): ("clockwise", False), ("turns", "clockwise"): ("clockwise", True),
    ("bottom", "top"): ("bottom", "top"), ("bottom", "below"): ("bottom", "below"),
}  # fmt: skip
MM_PER = {"mm": 1.0, "mil": 0.0254}


def centroid_csv(wired: Wired, variant: str = "") -> str:
    """Return middle, turn and side of each part that is put on, as the build's form of the table has it.

    The head of the columns names the unit; see `centroid_words` for what the turns mean.
    """
    unit = wired.design.build.centroid.unit
    head = ("ref", "value", "package", f"x_{unit}", f"y_{unit}", "rotation_deg", "side")
    return csv_text([head, *centroid_rows(wired, variant)])


def centroid_rows(wired: Wired, variant: str = "") -> list[tuple[str, ...]]:
    """Return the rows of the table of places."""
    design = wired.design
    known_variant(design, variant)
    form = design.build.centroid
    corner = (0, 0)
    if form.origin == "corner" and design.board.outline:
        xs, ys = zip(*design.board.outline, strict=True)
        corner = min(xs), min(ys)
    places = 4 if form.unit == "mm" else 2
    rows: list[tuple[str, ...]] = []
    for ref, part in design.fitted(variant).parts.items():
        spot = design.board.placements.get(ref)
        if spot and wired.kind(ref).assembled:
            x, y = ((mm(v) - mm(o)) / MM_PER[form.unit] for v, o in zip((spot.x_nm, spot.y_nm), corner, strict=True))
            turn = f"{stated_turn(spot, part.package, form):.1f}"
            rows.append((ref, part.value, part.package, f"{x:.{places}f}", f"{y:.{places}f}", turn, spot.side))
    return rows


def stated_turn(spot: Placement, package: str, form: CentroidForm) -> float:
    """Return the turn of a part as a form of the table counts it, degrees from 0 to below 360."""
    turn = spot.angle_mdeg / 1000
    if spot.side == "bottom" and form.bottom == "below":
        turn = -turn  # seen from behind, what turns one way turns the other
    if form.clockwise:
        turn = -turn
    turn = round((turn + form.added_deg.get(package, 0.0)) % 360, 1)
    return 0.0 if turn == 360.0 else turn


def read_form(words: Iterable[str], form: CentroidForm) -> CentroidForm:
    """Return a form changed by words: origin=corner, unit=mil, turns=clockwise, bottom=below, SOIC-8=+90.

    InputError for a word that says none of these.
    """
    for word in words:
        name, equals, value = word.partition("=")
        fact = SAID.get((name.lower(), value.lower()))
        if fact is not None:
            form = replace(form, **dict([fact]))
            continue
        try:
            if not equals or name.lower() in {n for n, _ in SAID}:
                raise ValueError
            added = float(value)
        except ValueError:
            hint = "Write origin=files|corner, unit=mm|mil, turns=counter|clockwise, bottom=top|below, or PACKAGE=+90"
            raise InputError(f"“{shorten(word)}” is not understood", word, hint) from None
        form = replace(form, added_deg={**form.added_deg, name: added})
    return form


def centroid_words(form: CentroidForm) -> list[str]:
    """Return what the numbers of the table of places mean, as sentences."""
    origin = "the origin of all files" if form.origin == "files" else "the lower left corner of the board"
    way = "clockwise" if form.clockwise else "counter-clockwise"
    seen = "the top, bottom parts too (mirrored left to right, then turned)"
    if form.bottom == "below":
        seen = "the face that the part is on"
    words = [
        f"Places: middles of parts as seen from the top, {form.unit}, from {origin}.",
        f"Turns: degrees {way} as seen from {seen}; 0 degrees as IPC-7351B has it (pin 1 upper left).",
    ]
    if form.added_deg:
        said = ", ".join(f"{p} {a:+g}" for p, a in sorted(form.added_deg.items()))
        words.append(f"Added for this house, degrees: {said}.")
    return words
