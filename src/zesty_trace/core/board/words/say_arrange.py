"""Short sentences about several placed parts: lined up, spread, in a grid, exchanged, held.

align R1..R6 left         (right, top, bottom, or on x or y of the first)
spread R1..R6 across      (or down: equal gaps between the outer two)
grid D1..D9 3 at 10, 10 step 8, 6
swap R1 R2                lock J1, J2                unlock J1
repeat R1, C1, U2 as R4, C3, U5 at 40, 10 turn 90         (or mirrored, or onto the other face)
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from zesty_trace.core.board.hand.repeat import repeat_block
from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.quantities import parse_length_nm
from zesty_trace.errors import InputError

WORDS = ("align", "spread", "grid", "swap", "lock", "unlock", "repeat")
HELP = "Try: align R1..R6 left, spread R1..R6 across, grid D1..D9 3 at 10, 10 step 8, 6, swap R1 R2, lock J1"
_REPEAT = re.compile(
    r"^repeat (.+) as (.+) at (\S+?), ?(\S+)(?: turn (-?\d{1,3}(?:\.\d{1,3})?)°?)?( mirrored)?( onto the other face)?$",
    re.I,
)
Refs = Callable[[str, Design], list[str]]


def speaks_of_several(text: str) -> bool:
    """Whether a sentence begins with one of the words for several parts."""
    return text.split(" ", 1)[0].lower() in WORDS


def arrange_several(text: str, design: Design, refs_of: Refs) -> Design:
    """Return the design after a sentence; `refs_of` reads lists of references. InputError naming what is not known."""
    if match := re.match(r"^align (.+) (left|right|top|bottom|x|y)$", text, re.I):
        return _align(design, _placed(design, refs_of(match[1], design)), match[2].lower())
    if match := re.match(r"^spread (.+) (across|down)$", text, re.I):
        return _spread(design, _placed(design, refs_of(match[1], design)), match[2].lower() == "across")
    if match := re.match(r"^grid (.+) (\d{1,3}) at (\S+?), ?(\S+) step (\S+?), ?(\S+)$", text, re.I):
        lengths = [parse_length_nm(match[k]) for k in (3, 4, 5, 6)]
        return _grid(design, refs_of(match[1], design), int(match[2]), *lengths)
    if match := re.match(r"^swap (\S+?),? (\S+)$", text, re.I):
        return _swap(design, _placed(design, [*refs_of(match[1], design), *refs_of(match[2], design)]))
    if match := _REPEAT.match(text):
        x, y = (parse_length_nm(match[k]) for k in (3, 4))
        like, others = refs_of(match[1], design), refs_of(match[2], design)
        turn = round(float(match[5] or 0) * 1000)
        return repeat_block(design, like, others, x, y, turn, bool(match[6]), bool(match[7]))
    if match := re.match(r"^(lock|unlock) (.+)$", text, re.I):
        return _hold(design, _placed(design, refs_of(match[2], design)), match[1].lower() == "lock")
    raise InputError(f"“{text}” is not understood", text.split(maxsplit=1)[0], HELP)


def _placed(design: Design, refs: list[str]) -> list[str]:
    for ref in refs:
        if ref not in design.board.placements:
            raise InputError(f"{ref} is not on the board yet", ref, suggest(ref, design.board.placements))
    return refs


def _put(design: Design, ref: str, x_nm: int, y_nm: int) -> Design:
    old = design.board.placements.get(ref, Placement(x_nm=0, y_nm=0))
    return edits.place(design, ref, replace(old, x_nm=x_nm, y_nm=y_nm))


def _align(design: Design, refs: list[str], to: str) -> Design:
    spots = [design.board.placements[r] for r in refs]
    xs, ys = [s.x_nm for s in spots], [s.y_nm for s in spots]
    wanted_x = {"left": min(xs), "right": max(xs), "x": xs[0]}.get(to)
    wanted_y = {"top": max(ys), "bottom": min(ys), "y": ys[0]}.get(to)
    for ref, spot in zip(refs, spots, strict=True):
        x = spot.x_nm if wanted_x is None else wanted_x
        y = spot.y_nm if wanted_y is None else wanted_y
        design = _put(design, ref, x, y)
    return design


def _spread(design: Design, refs: list[str], across: bool) -> Design:
    if len(refs) < 3:
        raise InputError("Two parts have one gap between them", refs[0], "Name three or more")
    spots = design.board.placements
    order = sorted(refs, key=lambda r: spots[r].x_nm if across else spots[r].y_nm)
    first, last = spots[order[0]], spots[order[-1]]
    low, high = (first.x_nm, last.x_nm) if across else (first.y_nm, last.y_nm)
    for k, ref in enumerate(order):
        at = round(low + (high - low) * k / (len(order) - 1))
        old = spots[ref]
        design = _put(design, ref, at if across else old.x_nm, old.y_nm if across else at)
    return design


def _grid(design: Design, refs: Sequence[str], wide: int, x: int, y: int, dx: int, dy: int) -> Design:
    if wide < 1:
        raise InputError("A grid has one column or more", str(wide), HELP)
    for k, ref in enumerate(refs):
        row, column = divmod(k, wide)
        design = _put(design, ref, x + column * dx, y + row * dy)
    return design


def _swap(design: Design, refs: list[str]) -> Design:
    if len(refs) != 2 or refs[0] == refs[1]:
        raise InputError("Two parts are exchanged", refs[0], "For example: swap R1 R2")
    one, two = refs
    a, b = design.board.placements[one], design.board.placements[two]
    return edits.place(edits.place(design, one, b), two, a)


def _hold(design: Design, refs: list[str], held: bool) -> Design:
    for ref in refs:
        design = edits.place(design, ref, replace(design.board.placements[ref], fixed=held))
    return design
