"""Values of a board that cannot be: refused where they enter, said where they are, never a traceback later."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import msgspec

from zesty_trace.core.design.model import Design, Outline, Rules
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

MOST_NM = 2_000_000_000  # 2 m
POSITIVE = ("track_nm", "least_track_nm", "drill_nm", "copper_um", "inner_um", "thickness_nm", "temperature_rise_c")


@dataclass(frozen=True)
class Wrong:
    """A value that cannot be: what, where, and what to do."""

    text: str
    where: str
    hint: str


def wrong_values(design: Design) -> Iterator[Wrong]:
    """Yield what is impossible on the board of a design."""
    board = design.board
    yield from wrong_rules(board.rules)
    if board.outline:
        yield from wrong_outline(board.outline, "outline")
    for k, ring in enumerate(board.cutouts):
        yield from wrong_outline(ring, f"cut-out {k + 1}", 0.05)
    for k, zone in enumerate(board.keepouts):
        yield from wrong_outline(zone.outline, zone.name or f"keep-out {k + 1}", 0.05)
    for k, track in enumerate(board.tracks):
        if not 0 < track.width_nm < MOST_NM:
            yield Wrong(
                f"A track of {track.net} is {mm(track.width_nm):g} mm wide", f"tracks[{k}].width_nm", "Give it a width"
            )
        if len(track.points) < 2:
            yield Wrong(f"A track of {track.net} has {len(track.points)} points", f"tracks[{k}].points", "Take it off")
    for k, via in enumerate(board.vias):
        if not 0 < via.drill_nm < via.diameter_nm < MOST_NM:
            text = f"A via of {via.net} is {mm(via.diameter_nm):g} mm with a drill of {mm(via.drill_nm):g} mm"
            yield Wrong(text, f"vias[{k}]", "The drill must be smaller than the via, and both above zero")


def refuse_wrong_values(design: Design) -> None:
    """EditError for the first value that cannot be."""
    for wrong in wrong_values(design):
        raise EditError(wrong.text, wrong.where, wrong.hint)


def refuse_unroutable(design: Design, nets: Iterable[str] | None = None) -> None:
    """EditError for a board that cannot be routed: without an outline, with impossible values, or such nets."""
    if not design.board.outline:
        raise EditError("The board has no outline yet", "outline", "Set its size in the brief first")
    refuse_wrong_values(design)
    for name in nets or ():
        if name not in design.nets:
            raise EditError(f"There is no net {name}", name, "See the nets of the schematic")


def wrong_rules(rules: Rules) -> Iterator[Wrong]:
    """Yield board rules that cannot be."""
    for name in (f.name for f in msgspec.structs.fields(Rules)):
        value = getattr(rules, name)
        if not isinstance(value, int | float):
            continue
        least = 0 if name not in POSITIVE else math.nextafter(0, 1)
        if not math.isfinite(value) or value < least or value > MOST_NM:
            shown = f"{mm(value):g} mm" if name.endswith("_nm") and math.isfinite(value) else f"{value:g}"
            what = name.removesuffix("_nm").replace("_", " ")
            yield Wrong(f"The board rule {what} is {shown}", f"rules.{name}", "Give it a value above zero")


def wrong_outline(outline: Outline, where: str, least_mm2: float = 1.0) -> Iterator[Wrong]:
    """Yield why points are no outline: too few, no area, crossing itself."""
    from shapely import Polygon

    if len(set(outline)) < 3:
        yield Wrong(f"The {where} has {len(set(outline))} points", where, "An outline needs three or more")
        return
    shape = Polygon([(mm(x), mm(y)) for x, y in outline])
    if shape.area < least_mm2:
        yield Wrong(f"The {where} holds {shape.area:.2f} mm²", where, "Give it a size")
    elif not shape.is_valid:
        yield Wrong(f"The {where} crosses itself", where, "Draw it as one line round the board")
