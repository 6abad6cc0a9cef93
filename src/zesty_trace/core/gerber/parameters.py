"""The parameters of an image file, between percent signs: format, unit, apertures, polarity, attributes."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

from zesty_trace.core.gerber.image import PLAIN, Aperture
from zesty_trace.core.gerber.macros import Macro
from zesty_trace.core.gerber.numbers import Digits, near
from zesty_trace.core.gerber.shapes import disc, oblong, regular_polygon
from zesty_trace.core.gerber.state import State, close_repeat
from zesty_trace.errors import InputError

LARGEST_MM = 1000.0
MOST_BLOCKS, MOST_REPEATS, MOST_APERTURES = 20, 100_000, 20_000
_FORMAT = re.compile(r"^FS([LTD]?)([AI]?)(?:N\d+)?(?:G\d+)?X(\d)(\d)Y(\d)(\d)(?:Z\d\d)?(?:[DM]\d+)*$")


def take_parameter(s: State, text: str, line: int) -> None:
    """Take one command of a parameter block. InputError for what is broken or not known."""
    takers: dict[str, Callable[[State, str, int], None]] = {
        "FS": _format,
        "MO": _unit,
        "AD": _aperture,
        "AM": _macro,
        "AB": _block,
        "LP": _polarity,
        "LM": _mirror,
        "LR": _turn,
        "LS": _scale,
        "SR": _repeat,
        "IP": _image_polarity,
        "IR": _image_turn,
        "MI": _image_mirror,
        "OF": _offset,
        "SF": _image_scale,
        "AS": _axes,
        "SM": _axes,
    }
    head = text[:2]
    if head in ("TF", "TA", "TO", "TD"):
        take_attribute(s, text, line)
    elif head in takers:
        if s.contour is not None and head not in ("LP",):
            raise InputError(f"“{text[:20]}” stands within a region", s.where(line), "The file is damaged")
        takers[head](s, text, line)
    elif head in ("IN", "LN", "PF", "IJ") or text[:3] in ("ICA",):
        if head == "IJ" and text.strip("IJ") not in ("", "ALBL", "AL", "BL"):
            raise InputError(f"“{text[:30]}” shifts the image on a film", s.where(line), "Write the files without it")
        if head == "PF":
            s.odd(line, "PF names a plotter's film: passed over")
    else:
        raise InputError(f"Parameter “{text[:30]}” is not known", s.where(line), "The file is damaged")


def _format(s: State, text: str, line: int) -> None:
    match = _FORMAT.match(text)
    if match is None:
        raise InputError(f"Number format {text[:30]} is not understood", s.where(line), "The file is damaged")
    zeros, notation, *sizes = match.groups()
    xi, xd, yi, yd = map(int, sizes)
    if max(xd, yd) > 9 or xi + xd == 0:
        raise InputError(f"Number format {text[:30]} cannot be", s.where(line), "The file is damaged")
    if not zeros or zeros == "D":
        s.odd(line, "the format leaves no zeros out")
    if zeros == "T":
        s.odd(line, "zeros behind are left out, as in older files")
    if notation == "I":
        s.odd(line, "coordinates are incremental, as in older files")
    if (xi, xd) != (yi, yd):
        s.odd(line, "X and Y have different formats")
    if s.digits is not None:
        s.odd(line, "the format is set twice: what follows is read by the newer one")
    s.incremental = notation == "I"
    s.digits = tuple(Digits(a, b, zeros == "T", zeros in ("", "D")) for a, b in ((xi, xd), (yi, yd)))  # type: ignore[assignment]


def _unit(s: State, text: str, line: int) -> None:
    if text not in ("MOMM", "MOIN"):
        raise InputError(f"Unit {text[:20]} is not known", s.where(line), "It is MM or IN")
    s.unit = 25.4 if text == "MOIN" else 1.0


def numbers(text: str, s: State, line: int) -> list[float]:
    """Return the values of a definition, between X. InputError for what is no number."""
    try:
        found = [float(v) for v in text.split("X")] if text else []
    except ValueError:
        raise InputError(f"“{text[:30]}” is no size", s.where(line), "The file is damaged") from None
    if not all(math.isfinite(v) for v in found):
        raise InputError(f"“{text[:30]}” is no size", s.where(line), "The file is damaged")
    return found


def _aperture(s: State, text: str, line: int) -> None:
    if len(s.apertures) >= MOST_APERTURES:
        raise InputError(f"There are over {MOST_APERTURES:,} apertures", s.where(line), "No board needs so many")
    match = re.match(r"^ADD0*(\d{1,9})([A-Za-z_.$][\w.$-]*)(?:,(.*))?$", text)
    if match is None or int(match[1]) < 10:
        raise InputError(f"Aperture {text[:30]} is not understood", s.where(line), "The file is damaged")
    number, template, values = int(match[1]), match[2], numbers((match[3] or "").strip(), s, line)
    if number in s.apertures:
        s.odd(line, f"aperture D{number} is defined twice: what follows is drawn with the newer one")
    if template in ("C", "R", "O", "P"):
        made = _standard(s, number, template, values, line)
    elif template in s.macros:
        shape, odd = s.macros[template].shape(values, s.units(line), s.where(line))
        for words in odd:
            s.odd(s.macros[template].line, words)
        made = Aperture(number, template, tuple(values), shape, line, dict(s.of_aperture))
    else:
        raise InputError(f"Aperture macro {template[:30]} is not defined", s.where(line), "The file is damaged")
    s.apertures[number] = made


def _standard(s: State, number: int, template: str, values: list[float], line: int) -> Aperture:
    from shapely import box

    unit, where = s.units(line), s.where(line)
    lengths, least = {"C": 1, "R": 2, "O": 2, "P": 1}[template], {"C": 1, "R": 2, "O": 2, "P": 2}[template]
    most = {"C": 3, "R": 4, "O": 4, "P": 5}[template]
    sizes = [v * unit for v in values]
    if not least <= len(values) <= most or not all(0 <= v <= LARGEST_MM for v in sizes[:lengths]):
        raise InputError(f"Aperture D{number} has sizes that cannot be", where, "The file is damaged")
    if template == "C":
        shape = disc(sizes[0] / 2)
    elif template == "R":
        shape = box(-sizes[0] / 2, -sizes[1] / 2, sizes[0] / 2, sizes[1] / 2)
    elif template == "O":
        shape = oblong(sizes[0], sizes[1])
    else:
        corners = round(values[1])
        if not 3 <= corners <= 12:
            raise InputError(f"A polygon of {corners} corners cannot be", where, "It has 3 to 12")
        shape = regular_polygon(sizes[0], corners, values[2] if len(values) > 2 else 0.0)
    hole = sizes[{"C": 1, "R": 2, "O": 2, "P": 3}[template] :]
    if hole:
        if len(hole) == 2:
            s.odd(line, "an aperture has a rectangular hole, as in older files")
            cut = box(-hole[0] / 2, -hole[1] / 2, hole[0] / 2, hole[1] / 2)
        else:
            cut = disc(hole[0] / 2)
        shape = shape.difference(cut)
    if not any(sizes[:lengths]):
        s.odd(line, f"aperture D{number} has no size: what it draws leaves nothing")
    kept = sizes[:lengths] + hole if template != "P" else [sizes[0], *hole]
    return Aperture(number, template, tuple(kept), shape, line, dict(s.of_aperture))


def _macro(s: State, text: str, line: int) -> None:
    name, star, body = text[2:].partition("*")
    if not star or not re.fullmatch(r"[A-Za-z_.$][\w.$-]*", name.strip()):
        raise InputError(f"Macro “{name[:30]}” is not understood", s.where(line), "The file is damaged")
    s.macros[name.strip()] = Macro(name.strip(), body, line)


def _block(s: State, text: str, line: int) -> None:
    if text == "AB":
        if not s.outer:
            raise InputError("AB ends a block that has not begun", s.where(line), "The file is damaged")
        number, began, marks, attributes = s.outer.pop()
        made, s.marks = tuple(s.marks), marks
        s.apertures[number] = Aperture(number, "block", (), None, began, attributes, made or ())
        if not made:
            s.odd(line, f"block aperture D{number} is empty")
            s.apertures[number] = Aperture(number, "C", (0.0,), disc(0.0), began, attributes)
        return
    match = re.match(r"^ABD0*(\d{1,9})$", text)
    if match is None or int(match[1]) < 10 or len(s.outer) >= MOST_BLOCKS:
        raise InputError(f"Block {text[:20]} is not understood", s.where(line), "The file is damaged")
    s.outer.append((int(match[1]), line, s.marks, dict(s.of_aperture)))
    s.marks = []


def _polarity(s: State, text: str, line: int) -> None:
    if text not in ("LPD", "LPC"):
        raise InputError(f"Polarity {text[:20]} is not known", s.where(line), "It is D or C")
    s.dark = text == "LPD"


def _mirror(s: State, text: str, line: int) -> None:
    if text[2:] not in ("N", "X", "Y", "XY"):
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "It is N, X, Y or XY")
    s.mirror = text[2:]
    _turned(s)


def _turn(s: State, text: str, line: int) -> None:
    s.turn = _one_number(s, text[2:], line)
    _turned(s)


def _scale(s: State, text: str, line: int) -> None:
    s.scale = _one_number(s, text[2:], line)
    if not 0 < s.scale <= 1000:
        raise InputError(f"Scale {text[:20]} cannot be", s.where(line), "The file is damaged")
    _turned(s)


def _one_number(s: State, text: str, line: int) -> float:
    found = numbers(text, s, line)
    if len(found) != 1 or abs(found[0]) > 1e6:
        raise InputError(f"“{text[:20]}” is no number", s.where(line), "The file is damaged")
    return found[0]


def _turned(s: State) -> None:
    """Set the matrix of what is flashed and drawn: mirrored first, then turned, then scaled."""
    mx, my = (-1.0 if "X" in s.mirror else 1.0), (-1.0 if "Y" in s.mirror else 1.0)
    c, n = math.cos(math.radians(s.turn)), math.sin(math.radians(s.turn))
    if s.turn % 90 == 0:
        c, n = round(c), round(n)
    k = s.scale
    s.matrix = (k * c * mx, -k * n * my, k * n * mx, k * c * my)
    if (s.mirror, s.turn, s.scale) == ("N", 0.0, 1.0):
        s.matrix = PLAIN


def _repeat(s: State, text: str, line: int) -> None:
    close_repeat(s)
    if text == "SR":
        return
    match = re.match(r"^SR(?:X(\d{1,9}))?(?:Y(\d{1,9}))?(?:I([-+]?[\d.]+))?(?:J([-+]?[\d.]+))?$", text)
    if match is None:
        raise InputError(f"“{text[:30]}” is not understood", s.where(line), "The file is damaged")
    columns, rows = int(match[1] or 1), int(match[2] or 1)
    dx, dy = (_one_number(s, t, line) * s.units(line) if t else 0.0 for t in (match[3], match[4]))
    if columns < 1 or rows < 1 or columns * rows > MOST_REPEATS:
        raise InputError(f"A block is repeated {columns} x {rows} times", s.where(line), "The file is damaged")
    near(columns * dx, s.where(line)), near(rows * dy, s.where(line))
    if columns * rows > 1:
        if s.outer:
            raise InputError("A block aperture holds step-and-repeat", s.where(line), "The file is damaged")
        s.repeat = columns, rows, dx, dy, len(s.marks), line


def _image_polarity(s: State, text: str, line: int) -> None:
    if text not in ("IPPOS", "IPNEG"):
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "It is POS or NEG")
    s.negative = text == "IPNEG"
    if s.negative:
        s.odd(line, "the image is negative: dark is where nothing is drawn")


def _image_turn(s: State, text: str, line: int) -> None:
    turns = {"0": PLAIN, "90": (0.0, -1.0, 1.0, 0.0), "180": (-1.0, 0.0, 0.0, -1.0), "270": (0.0, 1.0, -1.0, 0.0)}
    if text[2:] not in turns:
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "It is 0, 90, 180 or 270")
    s.image = turns[text[2:]]
    if s.image != PLAIN:
        s.odd(line, f"the image is turned by {text[2:]} degrees (IR), as in older files")


def _image_mirror(s: State, text: str, line: int) -> None:
    match = re.match(r"^MI(?:A([01]))?(?:B([01]))?$", text)
    if match is None:
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "The file is damaged")
    fx, fy, ox, oy, swapped = s.axes
    fx, fy = (-abs(fx) if match[1] == "1" else abs(fx)), (-abs(fy) if match[2] == "1" else abs(fy))
    s.axes = fx, fy, ox, oy, swapped
    if fx < 0 or fy < 0:
        s.odd(line, "coordinates are mirrored (MI), as in older files")


def _offset(s: State, text: str, line: int) -> None:
    match = re.match(r"^OF(?:A([-+]?[\d.]+))?(?:B([-+]?[\d.]+))?$", text)
    if match is None:
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "The file is damaged")
    fx, fy, _, _, swapped = s.axes
    ox, oy = (near(_one_number(s, t, line) * s.units(line), s.where(line)) if t else 0.0 for t in match.groups())
    s.axes = fx, fy, ox, oy, swapped
    if ox or oy:
        s.odd(line, "the image is shifted (OF), as in older files")


def _image_scale(s: State, text: str, line: int) -> None:
    match = re.match(r"^SF(?:A([\d.]+))?(?:B([\d.]+))?$", text)
    if match is None:
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "The file is damaged")
    a, b = (_one_number(s, t, line) if t else 1.0 for t in match.groups())
    if not (0 < a <= 1000 and 0 < b <= 1000):
        raise InputError(f"Scale {text[:20]} cannot be", s.where(line), "The file is damaged")
    fx, fy, ox, oy, swapped = s.axes
    s.axes = math.copysign(a, fx), math.copysign(b, fy), ox, oy, swapped
    if (a, b) != (1.0, 1.0):
        s.odd(line, "coordinates are scaled (SF), as in older files")


def _axes(s: State, text: str, line: int) -> None:
    if text.startswith("SM"):
        raise InputError("SM mirrors the apertures of an old plotter", s.where(line), "Write the files without it")
    if text not in ("ASAXBY", "ASAYBX"):
        raise InputError(f"“{text[:20]}” is not understood", s.where(line), "The file is damaged")
    *rest, _ = s.axes
    s.axes = rest[0], rest[1], rest[2], rest[3], text == "ASAYBX"
    if text == "ASAYBX":
        s.odd(line, "the axes change places (AS), as in older files")


def take_attribute(s: State, text: str, line: int) -> None:
    """Take an attribute of the file, of apertures or of objects, or take one off."""
    head, _, rest = text.rstrip("*").partition(",")
    name, values = head[2:].strip(), tuple(_plain(v) for v in rest.split(",")) if rest else ()
    kept = {"TF": s.file, "TA": s.of_aperture, "TO": s.of_object}
    if head[:2] == "TD":
        for one in (s.of_aperture, s.of_object):
            if name:
                one.pop(name, None)
            else:
                one.clear()
    elif head[:2] in kept:
        if not name:
            raise InputError("An attribute has no name", s.where(line), "The file is damaged")
        kept[head[:2]][name] = values
    s.attached = dict(s.of_object)


def _plain(text: str) -> str:
    """Return a value with its escapes (a backslash, u and four hexadecimal digits) as the characters that they are."""
    return re.sub(r"\\u([0-9A-Fa-f]{4})", lambda m: chr(int(m[1], 16)), text)
