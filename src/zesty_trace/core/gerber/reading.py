"""Reading image files of any tool: RS-274X and X2 with what older ones used, as the specification has it.

What is broken is refused with its line; what is merely odd is read as well as can be, and a remark names it.
"""

from __future__ import annotations

import math
import re

from zesty_trace.core.gerber.image import PLAIN, Aperture, GerberImage, Mark, Remark, Spot
from zesty_trace.core.gerber.numbers import near
from zesty_trace.core.gerber.parameters import take_attribute, take_parameter
from zesty_trace.core.gerber.shapes import arc_points, moved, multiplied
from zesty_trace.core.gerber.state import MOST_POINTS, State, close_repeat
from zesty_trace.core.gerber.tokens import commands, parts_of
from zesty_trace.errors import InputError, own_words

MOST_BYTES = 64_000_000
UNEVEN = "an arc's centre is not as far from its end as from its start: the radius goes from one to the other"
_PLOT = re.compile(
    r"^(?:G0*([123]))?(?:X([-+]?[\d.]+))?(?:Y([-+]?[\d.]+))?(?:I([-+]?[\d.]+))?(?:J([-+]?[\d.]+))?(?:D0*([123]))?$"
)
_WORDS = re.compile(r"([A-Z])([-+]?[\d.]*)")


@own_words("image file")
def read_gerber(text: str, name: str = "file") -> GerberImage:
    """Return the image in `text`. InputError with file and line of what cannot be read."""
    if len(text) > MOST_BYTES:
        raise InputError(f"It has {len(text) / 1e6:.0f} MB", name, "No image of a board is so large")
    s = State(name)
    for line, is_parameter, command in commands(text.lstrip("\ufeff"), name):
        if s.ended:
            if command:
                s.odd(line, "something follows the end mark: it is not read")
            break
        if is_parameter:
            for at, part in parts_of(command, line):
                take_parameter(s, part, at)
        elif command:
            _take_word(s, command, line)
    if not s.ended:
        raise InputError("The file ends without M02, so it is cut off", name, "Write the fabrication files again")
    return _finished(s)


def _finished(s: State) -> GerberImage:
    if s.contour is not None:
        raise InputError("A region is not closed by G37", s.where(s.contour_line), "The file is damaged or cut off")
    if s.outer:
        raise InputError("A block aperture is not closed", s.where(s.outer[0][1]), "The file is damaged or cut off")
    close_repeat(s)
    digits = f"{s.digits[0]}" if s.digits else ""
    remarks = sorted(Remark(line, text) for text, line in s.remarks.items())
    unit = "inch" if s.unit == 25.4 else "mm"
    apertures = tuple(s.apertures[n] for n in sorted(s.apertures))
    marks = s.marks
    if s.image != PLAIN:
        marks = [
            m._replace(points=moved(m.points, s.image, (0.0, 0.0)), matrix=multiplied(s.image, m.matrix)) for m in marks
        ]
    return GerberImage(s.name, tuple(marks), apertures, dict(s.file), tuple(remarks), s.negative, unit, digits)


def _take_word(s: State, command: str, line: int) -> None:
    if command.startswith(("G04", "G4 ")) or command == "G4":
        _comment(s, command[3:].strip(), line)
        return
    word = re.sub(r"\s+", "", command)
    match = _PLOT.match(word)
    if match and word:
        _plot(s, match, line)
        return
    _old_word(s, word, line)


def _comment(s: State, text: str, line: int) -> None:
    if text.startswith("#@!"):
        take_attribute(s, text[3:].strip(), line)


def _plot(s: State, match: re.Match[str], line: int) -> None:
    shape, x, y, i, j, operation = match.groups()
    if shape:
        s.shape = int(shape)
    if operation:
        s.operation = int(operation)
    elif x is None and y is None:
        return
    else:
        if not s.operation:
            raise InputError("Coordinates come before any D01, D02 or D03", s.where(line), "The file is damaged")
        s.odd(line, "coordinates without D01, D02 or D03 do what the ones before did")
    end = _end(s, x, y, line)
    if s.operation == 2:
        _lift(s, end, line)
    elif s.operation == 1:
        _draw(s, end, i, j, line)
    else:
        _flash(s, end, line)
    s.x, s.y = end


def _number(s: State, text: str, axis: int, line: int) -> float:
    if "." in text:
        s.odd(line, "coordinates have a decimal point: taken as they stand")
        try:
            value = float(text)
        except ValueError:
            raise InputError(f"“{text[:20]}” is no number", s.where(line), "The file is damaged") from None
    else:
        if s.digits is None:
            raise InputError("Coordinates come before their format (FS)", s.where(line), "The file is damaged")
        value = s.digits[axis].value(text, s.where(line))
    return near(value * s.units(line), s.where(line))


def _end(s: State, x: str | None, y: str | None, line: int) -> Spot:
    fx, fy, ox, oy, swapped = s.axes
    if swapped:
        x, y = y, x
    found = []
    for text, now, axis, factor, offset in ((x, s.x, 0, fx, ox), (y, s.y, 1, fy, oy)):
        if text is None:
            found.append(now)
        else:
            step = _number(s, text, axis, line) * factor
            found.append(near(now + step if s.incremental else step + offset, s.where(line)))
    return found[0], found[1]


def _lift(s: State, end: Spot, line: int) -> None:
    if s.contour is not None:
        close_contour(s, line)
        s.contour = [end]


def close_contour(s: State, line: int) -> None:
    """Put down the contour that is being drawn, if it has an area."""
    points = s.contour or []
    if len(points) > 2 or (len(points) == 2 and points[0] != points[1]):
        if math.dist(points[0], points[-1]) > 1e-6:
            s.odd(line, "a contour of a region does not end where it began: it is closed")
        if len(points) > 2:
            attributes = {**s.of_aperture, **s.of_object}
            s.put(Mark("region", s.dark, tuple(points), None, PLAIN, line, attributes))


def _draw(s: State, end: Spot, i: str | None, j: str | None, line: int) -> None:
    path = [end] if s.shape == 1 else _arc(s, end, i, j, line)
    if s.contour is not None:
        if not s.contour:
            s.contour = [(s.x, s.y)]
        s.contour += path
        if len(s.contour) > MOST_POINTS:
            raise InputError("A region has too many points", s.where(line), "No board needs so many")
        return
    aperture = _aperture(s, line)
    if aperture.block:
        raise InputError(
            "It draws with a block aperture", s.where(line), "Blocks are flashed only; the file is damaged"
        )
    if not aperture.round:
        if aperture.template != "R" or aperture.sizes[2:]:
            s.odd(line, "it draws with a pen that is neither round nor a rectangle: its hull is swept")
        elif s.shape != 1:
            s.odd(line, "it draws arcs with a rectangle: swept in short steps")
    s.put(Mark("stroke", s.dark, ((s.x, s.y), *path), aperture, s.matrix, line, s.attached))


def _arc(s: State, end: Spot, i: str | None, j: str | None, line: int) -> list[Spot]:
    if i is None and j is None:
        s.odd(line, "an arc has no centre: it is drawn straight")
        return [end]
    fx, fy, _, _, swapped = s.axes
    if swapped:
        i, j = j, i
    di = _number(s, i, 0, line) * fx if i else 0.0
    dj = _number(s, j, 1, line) * fy if j else 0.0
    start, counter = (s.x, s.y), (s.shape == 3) ^ (fx * fy < 0) ^ swapped
    if not s.quadrants:
        s.odd(line, "arcs come before G74 or G75: taken as G75 where their centre fits, else as G74")
    if s.quadrants == 75 or (not s.quadrants and _fits(start, end, (s.x + di, s.y + dj))):
        centre = (s.x + di, s.y + dj)
        if not _fits(start, end, centre):
            s.odd(
                line,
                UNEVEN,
            )
        return arc_points(start, end, centre, counter, full=True)
    return _quadrant(s, end, abs(di), abs(dj), counter, line)


def _fits(start: Spot, end: Spot, centre: Spot) -> bool:
    a, b = math.dist(start, centre), math.dist(end, centre)
    return abs(a - b) <= max(0.01, 0.02 * max(a, b))


def _quadrant(s: State, end: Spot, di: float, dj: float, counter: bool, line: int) -> list[Spot]:
    """Return an arc of at most a quarter: of the four centres that its distances allow, the one that fits."""
    start = (s.x, s.y)
    best: tuple[float, Spot] | None = None
    for sx in (1, -1):
        for sy in (1, -1):
            centre = (s.x + sx * di, s.y + sy * dj)
            a, b = (math.atan2(p[1] - centre[1], p[0] - centre[0]) for p in (start, end))
            sweep = ((b - a) if counter else (a - b)) % (2 * math.pi)
            if sweep > 2 * math.pi - 1e-6:
                sweep = 0.0
            off = abs(math.dist(start, centre) - math.dist(end, centre))
            if sweep <= math.pi / 2 + 1e-3 and (best is None or off < best[0]):
                best = off, centre
    if best is None:
        raise InputError("An arc of one quadrant (G74) spans more than a quarter", s.where(line), "The file is damaged")
    if not _fits(start, end, best[1]):
        s.odd(
            line,
            UNEVEN,
        )
    return arc_points(start, end, best[1], counter, full=False)


def _aperture(s: State, line: int) -> Aperture:
    if s.current is None:
        raise InputError("It draws before an aperture is chosen", s.where(line), "The file is damaged")
    return s.current


def _flash(s: State, end: Spot, line: int) -> None:
    if s.contour is not None:
        raise InputError("It flashes within a region", s.where(line), "The file is damaged")
    aperture = _aperture(s, line)
    if not aperture.block:
        s.put(Mark("flash", s.dark, (end,), aperture, s.matrix, line, s.attached))
        return
    s.room_for(len(aperture.block), line)
    for mark in aperture.block:
        dark = mark.dark if s.dark else not mark.dark
        points = moved(mark.points, s.matrix, end)
        attributes = {**mark.attributes, **s.attached} if s.attached else mark.attributes
        s.put(Mark(mark.kind, dark, points, mark.aperture, multiplied(s.matrix, mark.matrix), line, attributes))


def _old_word(s: State, word: str, line: int) -> None:
    """Take words that older files run together: N10, G54D10, G70, G90, M02 and the like."""
    at, plot = 0, ""
    while at < len(word):
        match = _WORDS.match(word, at)
        if match is None:
            raise InputError(f"“{word[:30]}” is not understood", s.where(line), "The file is damaged")
        letter, number = match[1], match[2]
        at = match.end()
        if letter in "XYIJ" or (letter == "D" and number.isdigit() and int(number[:9]) in (1, 2, 3)):
            plot += letter + number
        elif letter == "G" and number.isdigit() and int(number[:9]) in (1, 2, 3):
            s.shape = int(number)
        elif letter == "G" and number.isdigit() and int(number[:9]) == 4:
            return
        else:
            _code(s, letter, number, word, line)
    if plot:
        found = _PLOT.match(plot)
        if found is None:
            raise InputError(f"“{word[:30]}” is not understood", s.where(line), "The file is damaged")
        _plot(s, found, line)


def _code(s: State, letter: str, number: str, word: str, line: int) -> None:
    if letter == "N":
        return
    code = int(number) if number.isdigit() and len(number) < 10 else -1
    if letter == "D" and code >= 10:
        if code not in s.apertures:
            raise InputError(f"Aperture D{code} is used but not defined", s.where(line), "The file is damaged")
        s.current = s.apertures[code]
    elif letter == "G":
        _general(s, code, word, line)
    elif letter == "M" and code in (0, 1, 2, 30):
        s.ended = code != 1
        if code != 2:
            s.odd(line, f"M{code:02d} is taken as the end" if s.ended else "an optional stop (M01) is passed over")
    else:
        raise InputError(f"“{word[:30]}” is not understood", s.where(line), "The file is damaged")


def _general(s: State, code: int, word: str, line: int) -> None:
    if code == 36:
        if s.contour is not None:
            raise InputError("A region begins within a region", s.where(line), "The file is damaged")
        s.contour, s.contour_line = [], line
    elif code == 37:
        if s.contour is None:
            raise InputError("G37 ends a region that has not begun", s.where(line), "The file is damaged")
        close_contour(s, line)
        s.contour = None
    elif code in (74, 75):
        s.quadrants = code
    elif code in (70, 71):
        s.odd(line, f"G{code} sets the unit, as older files do")
        s.unit = 25.4 if code == 70 else 1.0
    elif code in (90, 91):
        s.odd(line, f"G{code} sets absolute or incremental coordinates, as older files do")
        s.incremental = code == 91
    elif code in (54, 55):
        s.odd(line, f"G{code} before a D code, as older files have it")
    elif code == 0:
        s.odd(line, "G00 is taken as a straight line")
        s.shape = 1
    else:
        raise InputError(f"“{word[:30]}” is not understood", s.where(line), "The file is damaged")
