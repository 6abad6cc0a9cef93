"""Short sentences that place parts on the board.

R5 at 20, 14.5          turn U3 90          flip C4
D1..D12 on circle 40mm  D4..D6 in line 42, 4.5 to 54, 4.5
"""

from __future__ import annotations

import math
import re

from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.design import edits
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.quantities import parse_length_nm
from zesty_trace.core.wording.sentences import Spoken
from zesty_trace.errors import InputError, own_words

HELP = "Try: R5 at 20, 14.5, or D1..D12 on circle 40mm, or turn U3 90"
_RANGE = re.compile(r"^([A-Za-z]{1,4})(\d+)\.\.([A-Za-z]{1,4})?(\d+)$")


@own_words("sentence")
def understand_placing(sentence: str, design: Design) -> Spoken:
    """Return what a placing sentence would do. InputError naming the word that is not understood."""
    text = " ".join(sentence.split())
    if match := re.match(r"^(\S+) at (.+?), ?(.+)$", text, re.I):
        after = _move(
            design, _one(match.group(1), design), parse_length_nm(match.group(2)), parse_length_nm(match.group(3))
        )
    elif match := re.match(r"^turn (\S+) (-?\d{1,6})$", text, re.I):
        after = edits.nudge(design, _one(match.group(1), design), turn_mdeg=int(match.group(2)) * 1000)
    elif match := re.match(r"^flip (\S+)$", text, re.I):
        after = edits.nudge(design, _one(match.group(1), design), flip=True)
    elif match := re.match(r"^(.+) on circle (\S+(?: ?mm| ?mil)?)$", text, re.I):
        after = _circle(design, _several(match.group(1), design), parse_length_nm(match.group(2)))
    elif match := re.match(r"^(.+) in line (\S+?), ?(\S+) to (\S+?), ?(\S+)$", text, re.I):
        after = _line(design, _several(match.group(1), design), *(parse_length_nm(g) for g in match.groups()[1:]))
    else:
        raise InputError(f"“{text}” is not understood", (text.split() or [""])[0], HELP)
    return Spoken(after, tuple(describe_changes(design, after)))


def _one(ref: str, design: Design) -> str:
    if ref not in design.parts:
        raise InputError(f"There is no part {ref}", ref, suggest(ref, design.parts))
    return ref


def _several(words: str, design: Design) -> list[str]:
    found = []
    for word in re.split(r"[,\s]+", words.strip()):
        if match := _RANGE.match(word):
            first, last = int(match.group(2)[:9]), int(match.group(4)[:9])
            found += [_one(f"{match.group(1)}{k}", design) for k in range(first, last + 1)]
        else:
            found.append(_one(word, design))
    return found


def _move(design: Design, ref: str, x_nm: int, y_nm: int, angle_mdeg: int | None = None) -> Design:
    old = design.board.placements.get(ref, Placement(x_nm=0, y_nm=0))
    turn = old.angle_mdeg if angle_mdeg is None else angle_mdeg
    return edits.place(design, ref, Placement(x_nm=x_nm, y_nm=y_nm, angle_mdeg=turn, side=old.side, fixed=old.fixed))


def _circle(design: Design, refs: list[str], diameter_nm: int) -> Design:
    """Spread parts evenly on a circle about the board's middle, clockwise from the top, each turned outwards."""
    xs = [p[0] for p in design.board.outline] or [0]
    ys = [p[1] for p in design.board.outline] or [0]
    cx, cy = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
    for k, ref in enumerate(refs):
        a = math.pi / 2 - 2 * math.pi * k / len(refs)
        x, y = round(cx + diameter_nm / 2 * math.cos(a)), round(cy + diameter_nm / 2 * math.sin(a))
        turn = round(math.degrees(a) * 1000 - 90_000) % 360_000
        design = _move(design, ref, x, y, turn)
    return design


def _line(design: Design, refs: list[str], x0: int, y0: int, x1: int, y1: int) -> Design:
    for k, ref in enumerate(refs):
        share = k / max(1, len(refs) - 1)
        design = _move(design, ref, round(x0 + share * (x1 - x0)), round(y0 + share * (y1 - y0)))
    return design
