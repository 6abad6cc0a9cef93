"""Short sentences about the board itself.

outline 80 x 56 corner 3      outline ring 95 36       outline polygon 6 80
cut-out 10 x 5 at 20, 20      cut-out circle 8 at 20, 20
slot 20, 20 to 30, 20 wide 2  keep-out 10 x 5 at 40, 10 height 3
raise U1 4.3                  rules milled
stand U5 on J3, J4            stand U5 on nothing
class power: 12V, 5V width 1 gap 0.4
pour GND on bottom            pour 5V on inner2 in 30 x 20 at 10, 5 gap 0.3 priority 2
no pour on inner2
"""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec.structs import replace

from zesty_trace.core.board.outline import circle_ring, rectangle_ring, set_form, slot_ring
from zesty_trace.core.board.rule_sets import set_rules
from zesty_trace.core.board.values import wrong_outline
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Form, KeepOut, LayerName, NetClass, Outline, Pour
from zesty_trace.core.quantities import mm, parse_length_nm
from zesty_trace.errors import EditError, InputError
from zesty_trace.names import suggest

MOST_CLASS_NM = 20_000_000
_L = r"(\S+?(?: ?mm| ?mil)?)"  # a length
_SENTENCES: list[tuple[re.Pattern[str], Callable[[Design, re.Match[str]], Design]]] = []
WORDS = (
    "outline",
    "cut-out",
    "cutout",
    "slot",
    "keep-out",
    "keepout",
    "raise",
    "rules",
    "class",
    "pour",
    "no",
    "stand",
)


def speaks_of_the_board(text: str) -> bool:
    """Whether a sentence begins with one of the words for the board itself."""
    return text.split(" ", 1)[0].lower() in WORDS


def change_board(text: str, design: Design) -> Design:
    """Return the design after a sentence about the board. InputError naming what is not understood, EditError."""
    for pattern, run in _SENTENCES:
        if match := pattern.match(text):
            return run(design, match)
    word = text.split(" ", 1)[0].lower()
    examples = [line.strip() for line in re.split(r"\n|\s{2,}", __doc__ or "") if line.strip().startswith(word)]
    hint = f"Write for example: {examples[0]}" if examples else f"Begin with {', '.join(WORDS)}"
    raise InputError(f"“{text}” is not understood", word, hint)


def _says(
    pattern: str,
) -> Callable[[Callable[[Design, re.Match[str]], Design]], Callable[[Design, re.Match[str]], Design]]:
    def keep(run: Callable[[Design, re.Match[str]], Design]) -> Callable[[Design, re.Match[str]], Design]:
        _SENTENCES.append((re.compile(pattern, re.I), run))
        return run

    return keep


@_says(rf"^outline {_L} ?[x×] ?{_L}(?: corner {_L})?$")
def _rectangle(design: Design, match: re.Match[str]) -> Design:
    wide, high = parse_length_nm(match[1]), parse_length_nm(match[2])
    corner = parse_length_nm(match[3]) if match[3] else 0
    return set_form(design, Form(shape="rectangle", width_nm=wide, height_nm=high, corner_nm=corner))


@_says(rf"^outline circle {_L}$")
def _circle(design: Design, match: re.Match[str]) -> Design:
    return set_form(design, Form(shape="circle", width_nm=parse_length_nm(match[1])))


@_says(rf"^outline ring {_L} {_L}$")
def _ring(design: Design, match: re.Match[str]) -> Design:
    outside, inside = parse_length_nm(match[1]), parse_length_nm(match[2])
    return set_form(design, Form(shape="ring", width_nm=outside, inside_nm=inside))


@_says(rf"^outline polygon (\d{{1,3}}) {_L}$")
def _polygon(design: Design, match: re.Match[str]) -> Design:
    return set_form(design, Form(shape="polygon", sides=int(match[1]), width_nm=parse_length_nm(match[2])))


@_says(rf"^cut-?out {_L} ?[x×] ?{_L} at {_L}, ?{_L}(?: corner {_L})?$")
def _cutout(design: Design, match: re.Match[str]) -> Design:
    wide, high, x, y = (parse_length_nm(match[k]) for k in (1, 2, 3, 4))
    corner = parse_length_nm(match[5]) if match[5] else 0
    return add_cutout(design, rectangle_ring(x, y, wide, high, corner))


@_says(rf"^cut-?out circle {_L} at {_L}, ?{_L}$")
def _round_cutout(design: Design, match: re.Match[str]) -> Design:
    size, x, y = (parse_length_nm(match[k]) for k in (1, 2, 3))
    return add_cutout(design, circle_ring(x, y, size))


@_says(rf"^slot {_L}, ?{_L} to {_L}, ?{_L} wide {_L}$")
def _slot(design: Design, match: re.Match[str]) -> Design:
    x0, y0, x1, y1, wide = (parse_length_nm(match[k]) for k in (1, 2, 3, 4, 5))
    return add_cutout(design, slot_ring(x0, y0, x1, y1, wide))


@_says(rf"^keep-?out {_L} ?[x×] ?{_L} at {_L}, ?{_L}(?: height {_L})?(?: called (.+))?$")
def _keepout(design: Design, match: re.Match[str]) -> Design:
    wide, high, x, y = (parse_length_nm(match[k]) for k in (1, 2, 3, 4))
    ring = rectangle_ring(x, y, wide, high, 0)
    _refuse_ring(ring, "keep-out")
    if match[5]:
        room = parse_length_nm(match[5])
        if room < 0:
            raise InputError(f"A height of {mm(room):g} mm cannot be", match[5], "Give it 0 mm or more")
        name = match[6] or f"a zone with {mm(room):g} mm of room"
        zone = KeepOut(name=name, outline=ring, layers=("top",), tracks=False, vias=False, pours=False, height_nm=room)
    else:
        zone = KeepOut(name=match[6] or f"keep-out {len(design.board.keepouts) + 1}", outline=ring, parts=True)
    return replace(design, board=replace(design.board, keepouts=(*design.board.keepouts, zone)))


@_says(rf"^raise (\S+) {_L}$")
def _raise(design: Design, match: re.Match[str]) -> Design:
    height = parse_length_nm(match[2])
    if height < 0:
        raise InputError(f"A part is not raised by {mm(height):g} mm", match[2], "Give it 0 mm or more")
    return edits.change_part(design, match[1], raised_nm=height)


@_says(r"^stand (\S+) on (.+)$")
def _stand(design: Design, match: re.Match[str]) -> Design:
    words = [] if match[2].strip().lower() in ("nothing", "the board") else re.split(r"[,\s]+", match[2].strip())
    headers = tuple(dict.fromkeys(word for word in words if word != "and"))
    for ref in (match[1], *headers):
        if ref not in design.parts:
            raise InputError(f"There is no part {ref}", ref, suggest(ref, design.parts))
        if ref in headers and (ref == match[1] or design.parts[ref].stands_on):
            raise InputError(
                f"{match[1]} cannot stand on {ref}", ref, "Name the headers that are soldered to the board"
            )
    return edits.change_part(design, match[1], stands_on=headers)


@_says(r"^rules (.+)$")
def _rules(design: Design, match: re.Match[str]) -> Design:
    return set_rules(design, match[1].strip())


@_says(rf"^class ([^:]+): ?([^:]+?)(?: width {_L})?(?: gap {_L})?$")
def _class(design: Design, match: re.Match[str]) -> Design:
    nets = [_net(design, word) for word in re.split(r"[,\s]+", match[2].strip())]
    width, gap = (parse_length_nm(match[k]) if match[k] else 0 for k in (3, 4))
    if not 0 <= width <= MOST_CLASS_NM or not 0 <= gap <= MOST_CLASS_NM:
        raise InputError("A class has a width and a gap from 0 to 20 mm", match[1], "For example width 1 gap 0.4")
    made = NetClass(name=match[1].strip(), nets=tuple(dict.fromkeys(nets)), width_nm=width, clearance_nm=gap)
    kept = tuple(c for c in design.board.classes if c.name.lower() != made.name.lower())
    return replace(design, board=replace(design.board, classes=(*kept, made)))


@_says(
    rf"^pour (\S+) on (top|inner ?[12]|bottom)(?: in {_L} ?[x×] ?{_L} at {_L}, ?{_L})?(?: gap {_L})?"
    r"(?: priority (\d{1,3}))?$"
)
def _pour(design: Design, match: re.Match[str]) -> Design:
    layer, net = _layer(design, match[2]), _net(design, match[1])
    ring: Outline = ()
    if match[3]:
        wide, high, x, y = (parse_length_nm(match[k]) for k in (3, 4, 5, 6))
        ring = rectangle_ring(x, y, wide, high, 0)
        _refuse_ring(ring, "pour")
    gap = parse_length_nm(match[7]) if match[7] else 0
    if not 0 <= gap <= MOST_CLASS_NM:
        raise InputError("A pour keeps a gap from 0 to 20 mm", match[7], "For example gap 0.3")
    made = Pour(net=net, layer=layer, outline=ring, clearance_nm=gap, priority=int(match[8] or 0))
    kept = tuple(p for p in design.board.pours if (p.layer, p.outline) != (layer, ring))
    return edits.set_board(design, pours=(*kept, made))


@_says(r"^no pour on (top|inner ?[12]|bottom)$")
def _no_pour(design: Design, match: re.Match[str]) -> Design:
    layer = _layer(design, match[1])
    return edits.set_board(design, pours=tuple(p for p in design.board.pours if p.layer != layer))


def _layer(design: Design, word: str) -> LayerName:
    wanted = word.lower().replace(" ", "")
    for layer in design.board.stack:
        if layer == wanted:
            return layer
    raise InputError(f"This board has no layer {wanted}", word, "Say “rules four-layers” first")


def _net(design: Design, word: str) -> str:
    found = {n.lower(): n for n in design.nets}.get(word.lower())
    if found is None:
        raise InputError(f"There is no net {word}", word, "See the nets of the schematic")
    return found


def add_cutout(design: Design, ring: Outline) -> Design:
    """Cut a ring out of the board. EditError for one that is none, or does not lie inside the outline."""
    from shapely import Polygon

    _refuse_ring(ring, "cut-out")
    outline = design.board.outline
    if len(outline) < 3:
        raise EditError("The board has no outline yet", "cut-out", "Set its outline first")
    hole = Polygon(ring)
    if not Polygon(outline).contains(hole):
        raise EditError(
            "The cut-out does not lie inside the outline", "cut-out", "Move it inwards, or change the outline"
        )
    if any(Polygon(old).intersects(hole) for old in design.board.cutouts):
        raise EditError("It meets another cut-out", "cut-out", "Draw both as one")
    return replace(design, board=replace(design.board, cutouts=(*design.board.cutouts, ring)))


def _refuse_ring(ring: Outline, what: str) -> None:
    for wrong in wrong_outline(ring, what, least_mm2=0.05):
        raise EditError(wrong.text, wrong.where, wrong.hint)
