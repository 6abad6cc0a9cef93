"""Giving parts their pads: by what the files say, by land patterns, by searching, by nearness."""

from __future__ import annotations

import math
from collections.abc import Mapping

from msgspec.structs import replace

from zesty_trace.core.board.rules.given import FOUND_BY_PADS, NEAREST_PADS
from zesty_trace.core.catalogue.kind import PadRow
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.design.model import Placement
from zesty_trace.core.fabrication.adopting.coming import Adopted, One, face_of, few
from zesty_trace.core.fabrication.adopting.matching import Fit, Ground
from zesty_trace.core.fabrication.adopting.naming import (
    letters_of,
    own_package,
    packages_named,
    packages_of_letter,
)
from zesty_trace.core.fabrication.adopting.set_pads import SetPad
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.quantities import nm

TWO_PINS = ("R", "C", "L", "FB", "F", "Y")


def take_named(parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Take pads that say in the files whose they are."""
    named: dict[str, dict[str, list[int]]] = {}
    for k, pad in enumerate(ground.pads):
        if pad.name is not None:
            named.setdefault(pad.name[0], {}).setdefault(pad.name[1], []).append(k)
    for ref, pins in named.items():
        one = parts.get(ref)
        if one is None:
            continue
        one.pins = {n: tuple(hits) for n, hits in pins.items()}
        ground.take(k for hits in pins.values() for k in hits)
        _settle(one, ground, catalogue, found)


def _settle(one: One, ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Find the package of a part whose pads are known, and its place if no table has it."""
    hits = {k for ks in one.pins.values() for k in ks}
    beside = Ground(ground.pads, set(range(len(ground.pads))) - hits)
    for package in packages_named(one.package, one.ref, catalogue):
        pattern = land_pattern(catalogue.packages[package])
        if one.spot is not None:
            fits = [(one.spot, f)] if (f := beside.turned(pattern, one.spot)) else []
        else:
            fits = beside.searched(pattern)
        for spot, fit in fits:
            if {k for ks in fit.pins.values() for k in ks} == hits:
                turn = next((t for t in (fit.turn_mdeg, *((fit.turn_mdeg + a) % 360_000 for a in fit.also))
                             if _agrees(one, beside, pattern, spot, t)), None)  # fmt: skip
                if turn is not None:
                    one.spot, one.spec = replace(spot, angle_mdeg=turn, fixed=True), package
                    return
    spot = one.spot or _middle(one, ground)
    one.spot = replace(spot, fixed=True)
    one.spec = made_package(one, one.spot, ground, catalogue, found)


def _agrees(one: One, beside: Ground, pattern: object, spot: Placement, turn: int) -> bool:
    """Whether a land pattern turned so has each of its numbers on the pads that the files call by it."""
    fit = beside.lay(pattern, replace(spot, angle_mdeg=turn))  # type: ignore[arg-type]
    return fit is not None and all(set(fit.pins.get(n, ())) == set(ks) for n, ks in one.pins.items())


def _middle(one: One, ground: Ground) -> Placement:
    xs, ys = zip(*(ground.pads[k].at for ks in one.pins.values() for k in ks), strict=True)
    sides = {layer for ks in one.pins.values() for k in ks for layer in ground.pads[k].layers}
    side = face_of("bottom" if sides == {"bottom"} else "top")
    return Placement(x_nm=nm((min(xs) + max(xs)) / 2), y_nm=nm((min(ys) + max(ys)) / 2), side=side)


def take_by_pattern(parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Lay land patterns where the table places the parts: those of named packages, the largest first, then any."""
    waiting = [p for p in parts.values() if not p.pins and p.spot is not None]
    tries = []
    for one in waiting:
        for rank, package in enumerate(packages_named(one.package, one.ref, catalogue)):
            assert one.spot is not None
            fit = ground.turned(land_pattern(catalogue.packages[package]), one.spot)
            if fit is not None:
                tries.append((-len(fit.pins), round(fit.off_mm, 1), rank, one.ref, package))
    for _, _, _, ref, package in sorted(tries):
        one = parts[ref]
        if one.pins or one.spot is None:
            continue
        again = ground.turned(land_pattern(catalogue.packages[package]), one.spot)
        if again is not None:
            _take(one, one.spot, package, again, ground, found)
    for one in waiting:
        if one.pins or one.spot is None:
            continue
        known = [(n, land_pattern(catalogue.packages[n])) for n in packages_of_letter(one.ref, catalogue)]
        hit = ground.likeliest(known, one.spot)
        if hit is not None:
            _take(one, one.spot, *hit, ground, found)
            found.guessed.append(f"{one.ref} {hit[0]}")
            one.notes.append("its package was told from its pads: check it")


def _take(one: One, spot: Placement, package: str, fit: Fit, ground: Ground, found: Adopted) -> None:
    one.spot, one.spec = replace(spot, angle_mdeg=fit.turn_mdeg, fixed=True), package
    one.pins = {n: ks for n, ks in fit.pins.items() if n}
    one.also = tuple((fit.turn_mdeg + by) % 360_000 for by in fit.also)
    ground.take(k for ks in fit.pins.values() for k in ks)


def take_by_search(parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Look where parts fit that no table places: parts in holes are often left out of it."""
    waiting = [p for p in parts.values() if not p.pins and p.spot is None]
    patterns = {
        p.ref: [(n, land_pattern(catalogue.packages[n])) for n in packages_named(p.package, p.ref, catalogue)[:3]]
        for p in waiting
    }
    order = sorted(waiting, key=lambda p: (-max((len(g.pads) for _, g in patterns[p.ref]), default=0), p.ref))
    for one in order:  # the largest first: small patterns fit on the pads of large ones
        alike = [p for p in waiting if p is not one and not p.pins and p.package == one.package]
        for package, pattern in () if alike else patterns[one.ref]:
            places = ground.searched(pattern)
            if len(places) == 1:
                spot, fit = places[0]
                _take(one, spot, package, fit, ground, found)
                one.notes.append(FOUND_BY_PADS)
                found.sought.append(one.ref)
                break


def take_nearest(parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Give parts that no land pattern fits the free pads that are nearest to them; say so."""
    waiting = {p.ref: p.spot for p in parts.values() if not p.pins and p.spot is not None}
    for ref, hits in ground.near(waiting).items():
        one = parts[ref]
        assert one.spot is not None
        if not hits or (letters_of(ref) in TWO_PINS and len(hits) != 2):
            continue
        ground.take(hits)
        one.pins = {str(n): (k,) for n, k in enumerate(_in_order(one.spot, hits, ground), 1)}
        one.spec = made_package(one, one.spot, ground, catalogue, found)
        found.nearness.append(ref)
        one.notes.append(NEAREST_PADS)


def take_test_pads(
    board: BoardSet, parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted
) -> None:
    """Take free pads on a face that get no paste for test pads: a probe can be set on them."""
    from shapely import STRtree, get_parts

    pastes = {side: STRtree(get_parts(board.shape("paste", side))) for side in ("top", "bottom")}
    if not any(len(tree) for tree in pastes.values()):
        return  # without a paste file nothing tells them from pads of parts
    made = []
    for k, pad in enumerate(ground.pads):
        side = pad.layers[0]
        if k in ground.taken or pad.hole is not None or len(pastes[side].query(pad.shape, predicate="intersects")):
            continue
        ref = pad.name[0] if pad.name is not None and pad.name[0] not in parts else _free_ref("TP", parts)
        one = One(ref, spot=Placement(x_nm=nm(pad.at[0]), y_nm=nm(pad.at[1]), side=face_of(side), fixed=True))
        one.package = "test-pad"
        one.pins = {"1": (k,)}
        assert one.spot is not None
        one.spec = made_package(one, one.spot, ground, catalogue, found)
        one.notes = ["taken for a test pad: it gets no paste, and no table has it"]
        ground.take([k])
        parts[ref] = one
        made.append(ref)
    if made:
        found.notes.append(f"Free pads without paste were taken for test pads: {few(made)}")


def _free_ref(letter: str, parts: Mapping[str, object]) -> str:
    return next(f"{letter}{k}" for k in range(1, 100_000) if f"{letter}{k}" not in parts)


def _in_order(spot: Placement, hits: list[int], ground: Ground) -> list[int]:
    """Return pads counter-clockwise about a part's middle, from the upper left."""

    def turn(k: int) -> float:
        x, y = ground.pads[k].at
        return (math.atan2(y - spot.y_nm / 1e6, x - spot.x_nm / 1e6) - math.radians(100)) % math.tau

    return sorted(hits, key=turn)


def made_package(one: One, spot: Placement, ground: Ground, catalogue: Catalogue, found: Adopted) -> str:
    """Return the package that a part's pads make."""
    rows = [_row(number, ground.pads[k], spot) for number, ks in sorted(one.pins.items(), key=_by_number) for k in ks]
    spec = own_package(one.package or one.value or one.ref, rows, catalogue, found.packages)
    found.packages[spec.id] = spec
    one.notes.append(f"its package is made from its pads: a height of {spec.height:g} mm is a guess")
    return spec.id


def _by_number(item: tuple[str, object]) -> tuple[bool, int, str]:
    number = item[0]
    return not number.isdigit(), int(number) if number.isdigit() else 0, number


def _row(number: str, pad: SetPad, spot: Placement) -> PadRow:
    """Return a pad in the frame of its part."""
    from shapely import affinity

    ox, oy = spot.x_nm / 1e6, spot.y_nm / 1e6
    shape = affinity.rotate(affinity.translate(pad.shape, -ox, -oy), -spot.angle_mdeg / 1000, origin=(0, 0))
    if spot.side == "bottom":
        shape = affinity.scale(shape, -1, 1, origin=(0, 0))
    x0, y0, x1, y1 = shape.bounds
    w, h = x1 - x0, y1 - y0
    filled = shape.convex_hull.area / (w * h)
    form = "rect" if filled > 0.93 else "round" if abs(w - h) < 0.02 else "oblong"
    hole = pad.hole
    drill = round(hole.diameter, 4) if hole is not None else 0.0
    slot = round(math.dist(hole.points[0], hole.points[-1]) + drill, 4) if hole is not None and hole.slot else 0.0
    return PadRow(number, round((x0 + x1) / 2, 4), round((y0 + y1) / 2, 4), round(w, 4), round(h, 4), form, drill, slot)  # type: ignore[arg-type]
