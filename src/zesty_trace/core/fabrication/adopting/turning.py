"""Which way round parts are whose pads lie the same in several turns."""

from __future__ import annotations

import re

from msgspec.structs import replace

from zesty_trace.core.board.rules.given import TURN_UNKNOWN
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.fabrication.adopting.coming import Adopted, One
from zesty_trace.core.fabrication.adopting.matching import Ground
from zesty_trace.core.fabrication.adopting.naming import (
    kind_of,
    letters_of,
)

SAME_EITHER_WAY = ("R", "L", "FB", "F", "Y")  # parts of these letters work either way round: common practice


def settle_turns(parts: dict[str, One], ground: Ground, catalogue: Catalogue, found: Adopted) -> None:
    """Choose among the turns for which pads lie the same: by where grounds are, by how the table turns others, as said.

    What is left open is noted: pads that do not tell, and turns that nobody knows.
    """
    for one in parts.values():
        if one.pins and one.spot is not None and one.said_mdeg is not None and not one.also:
            by = (one.spot.angle_mdeg - one.said_mdeg) % 360_000
            if by:
                found.turned[one.ref] = by
    usual = max(set(found.turned.values()), key=list(found.turned.values()).count, default=0)
    wrong = {letters_of(ref) for ref, by in found.turned.items() if by == usual}
    common = _common_piece(ground)
    for one in parts.values():
        if not one.also or one.spot is None or not one.spec:
            continue
        options = [one.spot.angle_mdeg, *one.also]
        sure = _by_ground(one, options, ground, catalogue, common)
        said = one.said_mdeg
        if sure is None and said is not None and not _same_either_way(one):
            by_habit = (said + usual) % 360_000
            if said not in options and usual and by_habit in options:
                sure = by_habit
            elif said not in options or (letters_of(one.ref) in wrong and by_habit in options):
                found.unknown_turn.append(one.ref)
                one.notes.append(TURN_UNKNOWN)
            else:
                found.unsure.append(one.ref)
        if sure is not None and sure != one.spot.angle_mdeg:
            _turn_to(one, sure, ground, catalogue)
        if said is not None and one.spot.angle_mdeg != said and one.ref not in found.unknown_turn:
            found.turned[one.ref] = (one.spot.angle_mdeg - said) % 360_000


def _same_either_way(one: One) -> bool:
    return letters_of(one.ref) in SAME_EITHER_WAY or bool(re.fullmatch(r"C\d{4}", one.spec))


def _common_piece(ground: Ground) -> int | None:
    """Return the piece of copper that most pads are on: the ground, where that is far more than any other."""
    counts: dict[int, int] = {}
    for pad in ground.pads:
        counts[pad.piece] = counts.get(pad.piece, 0) + 1
    order = sorted(counts.items(), key=lambda item: -item[1])
    clear = order and (len(order) == 1 or order[0][1] >= 1.5 * order[1][1])
    return order[0][0] if clear else None


def _by_ground(one: One, options: list[int], ground: Ground, catalogue: Catalogue, common: int | None) -> int | None:
    """Return the one turn that puts the ground pins of a known kind on the ground, and its supplies off it."""
    kind = (
        catalogue.kinds.get(kind_of(one.ref, one.value, one.words, one.spec, catalogue))
        if one.spec in catalogue.packages
        else None
    )
    if kind is None or common is None or kind.of_role("ground") is None:
        return None
    assert one.spot is not None
    hits = {k for ks in one.pins.values() for k in ks}
    beside = Ground(ground.pads, set(range(len(ground.pads))) - hits)
    pattern = land_pattern(catalogue.packages[one.spec])
    good = []
    for turn in options:
        fit = beside.lay(pattern, replace(one.spot, angle_mdeg=turn))
        pieces = {n: ground.pads[ks[0]].piece for n, ks in fit.pins.items()} if fit is not None else {}
        on = [pieces.get(p.number) == common for p in kind.pins if p.role == "ground"]
        off = [pieces.get(p.number) != common for p in kind.pins if p.role in ("supply_in", "supply_out", "output")]
        if on and all(on) and all(off):
            good.append(turn)
    return good[0] if len(good) == 1 else None


def _turn_to(one: One, turn: int, ground: Ground, catalogue: Catalogue) -> None:
    assert one.spot is not None
    hits = {k for ks in one.pins.values() for k in ks}
    beside = Ground(ground.pads, set(range(len(ground.pads))) - hits)
    spot = replace(one.spot, angle_mdeg=turn)
    fit = beside.lay(land_pattern(catalogue.packages[one.spec]), spot)
    if fit is not None:
        one.spot, one.pins = spot, {n: ks for n, ks in fit.pins.items() if n}
