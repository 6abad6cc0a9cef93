"""Short sentences that place parts on the board.

R5 at 20, 14.5          turn U3 22.5        flip C4
D1..D12 on circle 40mm  D4..D6 in line 42, 4.5 to 54, 4.5
D1..D12 on circle 40mm start 90 facing in
D1..D12 with R1..R12 on circle 60mm about 47.5, 47.5 from 90 to 270
"""

from __future__ import annotations

import math
import re

from zesty_trace.core.board.words.say_arrange import arrange_several, speaks_of_several
from zesty_trace.core.board.words.say_outline import change_board, speaks_of_the_board
from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.design import edits
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.geometry import rotate
from zesty_trace.core.quantities import parse_length_nm
from zesty_trace.core.wording.sentences import Spoken
from zesty_trace.errors import InputError, own_words

_NUMBER = r"-?\d+(?:\.\d+)?"
_CIRCLE = re.compile(
    r"^(?P<refs>.+?)(?: with (?P<more>.+?))? on circle (?P<size>\S+(?: ?mm| ?mil)?)"
    rf"(?: about (?P<x>\S+?), ?(?P<y>\S+))?(?: (?:from|start) (?P<first>{_NUMBER})°?(?: to (?P<last>{_NUMBER})°?)?)?"
    r"(?: facing (?P<facing>out|in))?$",
    re.I,
)
HELP = "Try: R5 at 20, 14.5, or D1..D12 on circle 40mm, or turn U3 90"
_RANGE = re.compile(r"^([A-Za-z]{1,4})(\d+)\.\.([A-Za-z]{1,4})?(\d+)$")


@own_words("sentence")
def understand_placing(sentence: str, design: Design) -> Spoken:
    """Return what a placing sentence would do. InputError naming the word that is not understood."""
    text = " ".join(sentence.split())
    if speaks_of_the_board(text):
        after = change_board(text, design)
        return Spoken(after, tuple(describe_changes(design, after)) or ("Changes the board",))
    if speaks_of_several(text):
        after = arrange_several(text, design, _several)
        return Spoken(after, tuple(describe_changes(design, after)) or ("Changes nothing",))
    if match := re.match(r"^(\S+) at (.+?), ?(.+)$", text, re.I):
        after = _move(
            design, _one(match.group(1), design), parse_length_nm(match.group(2)), parse_length_nm(match.group(3))
        )
    elif match := re.match(r"^turn (\S+) (-?\d{1,6}(?:\.\d{1,3})?)°?$", text, re.I):
        after = edits.nudge(design, _one(match.group(1), design), turn_mdeg=round(float(match.group(2)) * 1000))
    elif match := re.match(r"^flip (\S+)$", text, re.I):
        after = edits.nudge(design, _one(match.group(1), design), flip=True)
    elif match := _CIRCLE.match(text):
        after = _circle(design, match)
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


def _circle(design: Design, match: re.Match[str]) -> Design:
    """Spread parts evenly on a circle, clockwise from the top or from one angle to another, each turned outwards.

    With `facing in` they are turned inwards. The circle's middle is the board's, or where it is said. Parts `with`
    others: each takes its own along, as they stand about the first one now.
    """
    refs = _several(match["refs"], design)
    more = [_several(group, design) for group in re.split(r" and ", match["more"])] if match["more"] else []
    for group in more:
        if len(group) != len(refs):
            raise InputError(f"{len(group)} parts go with {len(refs)}", group[0], "Name as many of each")
    radius = parse_length_nm(match["size"]) / 2
    xs, ys = ([p[k] for p in design.board.outline] or [0] for k in (0, 1))
    cx = parse_length_nm(match["x"]) if match["x"] else (min(xs) + max(xs)) / 2
    cy = parse_length_nm(match["y"]) if match["y"] else (min(ys) + max(ys)) / 2
    first = float(match["first"]) if match["first"] else 90.0
    inwards = (match["facing"] or "").lower() == "in"
    apart = len(refs) - 1 or 1
    steps = (float(match["last"]) - first) / apart if match["last"] else -360.0 / len(refs)
    followers = [_relative(design, refs[0], group[0]) for group in more]
    for k, ref in enumerate(refs):
        a = math.radians(first + steps * k)
        turn = round(math.degrees(a) * 1000 + (90_000 if inwards else -90_000)) % 360_000
        design = _move(design, ref, round(cx + radius * math.cos(a)), round(cy + radius * math.sin(a)), turn)
        spot = design.board.placements[ref]
        for group, (dx, dy, more_turn) in zip(more, followers, strict=True):
            ox, oy = rotate(dx, dy, turn)
            angle = (turn + more_turn) % 360_000
            design = _move(design, group[k], round(spot.x_nm + ox), round(spot.y_nm + oy), angle)
    return design


def _relative(design: Design, ref: str, other: str) -> tuple[float, float, int]:
    """Return where a part stands in another one's own frame, nm and millidegrees."""
    spots = design.board.placements
    for one in (ref, other):
        if one not in spots:
            raise InputError(
                f"{one} is not on the board yet", one, f"Place {ref} and {other} first, as they should stand"
            )
    a, b = spots[ref], spots[other]
    dx, dy = rotate(b.x_nm - a.x_nm, b.y_nm - a.y_nm, -a.angle_mdeg)
    return dx, dy, (b.angle_mdeg - a.angle_mdeg) % 360_000


def _line(design: Design, refs: list[str], x0: int, y0: int, x1: int, y1: int) -> Design:
    for k, ref in enumerate(refs):
        share = k / max(1, len(refs) - 1)
        design = _move(design, ref, round(x0 + share * (x1 - x0)), round(y0 + share * (y1 - y0)))
    return design
