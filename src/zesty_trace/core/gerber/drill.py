"""Reading drill files of any tool: XNC and Excellon, inches and millimetres, every way of leaving zeros out, slots.

What the file does not say (unit, format, zeros) is taken as is usual, and a remark names it; what is broken is refused
with its line.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field

from zesty_trace.core.gerber.drill_image import Drilled, DrillFormat, DrillImage, Zeros
from zesty_trace.core.gerber.image import Remark, Spot
from zesty_trace.core.gerber.numbers import Digits, near
from zesty_trace.core.gerber.shapes import arc_points
from zesty_trace.errors import InputError, own_words

# Words that change nothing in what is drilled: how the machine counts, spins, feeds, detects and rewinds.
_PASSED = re.compile(
    r"^(FMAT,?[12]|VER,\d|FORMAT,\d|(DETECT|ATC|BLKD|SBK|SG|TCST|UP|OSTOP|RTSET)(,.*)?|M47.*|M45.*|G40|G41|G42|M06|M09|"
    r"[SF]\d+|OM48|FSB)$"
)
MOST_HOLES = 300_000
MOST_BYTES = 64_000_000
LARGEST_MM = 100.0


@dataclass
class _State:
    name: str
    forced: DrillFormat | None
    unit: float = 0.0
    digits: tuple[int, int] | None = None
    zeros: Zeros = ""
    incremental: bool = False
    tools: dict[int, float] = field(default_factory=dict)
    raw_tools: dict[int, tuple[float, int]] = field(default_factory=dict)
    current: int = 0
    x: float = 0.0
    y: float = 0.0
    holes: list[Drilled] = field(default_factory=list)
    header: bool = False
    ended: bool = False
    mode: str = "drill"  # or "rout"
    down: bool = False
    shape: int = 1
    path: list[Spot] = field(default_factory=list)
    path_line: int = 0
    zero: Spot = (0.0, 0.0)
    pattern: int = -1  # first hole of the pattern that is being repeated
    pattern_end: int = -1
    step: Spot = (0.0, 0.0)
    attributes: dict[str, tuple[str, ...]] = field(default_factory=dict)
    bare: set[int] = field(default_factory=set)
    typed: bool | None = None  # plated or not, by comments before the tools
    plated_tools: set[int] = field(default_factory=set)
    remarks: dict[str, int] = field(default_factory=dict)
    guessed: bool = False

    def odd(self, line: int, text: str) -> None:
        self.remarks.setdefault(text, line)

    def where(self, line: int) -> str:
        return f"{self.name} line {line}"

    def fail(self, line: int, text: str, hint: str = "The file is damaged") -> InputError:
        return InputError(text, self.where(line), hint)


@own_words("drill file")
def read_drill(text: str, name: str = "file", as_format: DrillFormat | None = None) -> DrillImage:
    """Return the holes in `text`; `as_format` says what the file does not. InputError with file and line."""
    if len(text) > MOST_BYTES:
        raise InputError(f"It has {len(text) / 1e6:.0f} MB", name, "No drill file of a board is so large")
    s = _State(name, as_format)
    if as_format is not None:
        s.unit, s.digits, s.zeros = as_format.unit, (as_format.before, as_format.after), as_format.zeros
    for line, raw in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        word, _, comment = raw.partition(";")
        if comment:
            _comment(s, comment.strip(), line)
        if word.strip() and not s.ended:
            _line(s, re.sub(r"\s+", "", word).upper(), line)
        elif word.strip():
            s.odd(line, "something follows the end mark: it is not read")
    if s.path:
        raise s.fail(s.path_line, "A slot is not ended (M16 or G05)", "The file is damaged or cut off")
    if not s.ended:
        raise InputError("The file ends without M30, so it is cut off", name, "Write the fabrication files again")
    return _finished(s)


def _finished(s: _State) -> DrillImage:
    plated = _plating(s)
    form = DrillFormat(s.unit or 1.0, *_digits(s), s.zeros or "trailing")
    remarks = tuple(sorted(Remark(line, text) for text, line in s.remarks.items()))
    bare = frozenset(s.bare) if plated is not False else frozenset()
    return DrillImage(s.name, tuple(s.holes), dict(s.tools), plated, s.attributes, remarks, form, s.guessed, bare)


def _plating(s: _State) -> bool | None:
    function = s.attributes.get(".FileFunction", ("",))[0]
    if function in ("Plated", "NonPlated"):
        return function == "Plated"
    if s.plated_tools or (s.bare and function == "MixedPlating"):
        return True
    return False if s.bare and set(s.tools) <= s.bare else None


def _comment(s: _State, text: str, line: int) -> None:
    """Take what comments say: attributes, the format, whether the tools that follow are plated."""
    body = re.sub(r"^#@!\s*", "", text)
    if body.startswith("TF."):
        head, *values = body.rstrip("*").split(",")
        s.attributes[head[2:]] = tuple(v.strip() for v in values)
    elif body.startswith("TA.AperFunction"):
        s.typed = ",Plated" in body if "Plated" in body else None
        s.typed = False if "NonPlated" in body else s.typed
    elif body.startswith("TD"):
        s.typed = None
    elif match := re.match(r"^(?:FILE_)?FORMAT\s*[=:{]\s*(\d)\s*[:.]\s*(\d)", text, re.I):
        if s.forced is None:
            s.digits = int(match[1]), int(match[2])
    elif match := re.match(r"^TYPE\s*=\s*(NON_?PLATED|PLATED)", text, re.I):
        s.typed = match[1].upper() == "PLATED"


def _line(s: _State, word: str, line: int) -> None:
    if word in ("M48", "M48*"):
        s.header = True
    elif word in ("%", "M95"):
        s.header = False
    elif word in ("M30", "M00", "M02") or (word == "M2" and not s.header):
        _close_path(s, line)
        s.ended = True
        if word != "M30":
            s.odd(line, f"{word} is taken as the end")
    elif _header_word(s, word, line):
        return
    elif word.startswith("T"):
        _tool(s, word, line)
    else:
        _body(s, word, line)


def _header_word(s: _State, word: str, line: int) -> bool:
    """Take what sets up the file; whether it was that."""
    if match := re.match(r"^(METRIC|INCH|M71|M72)((?:,[^,]*)*)$", word):
        _set_unit(s, 1.0 if match[1] in ("METRIC", "M71") else 25.4, line)
        for part in match[2].split(",")[1:]:
            _unit_part(s, part, line)
        return True
    if word in ("ICI", "ICI,ON", "ICI,OFF"):
        s.incremental = word != "ICI,OFF"
        if s.incremental:
            s.odd(line, "coordinates are incremental")
        return True
    if _PASSED.match(word):
        if word.startswith(("G41", "G42")):
            s.odd(line, "the cutter runs beside its line (G41, G42): its middle is taken on the line")
        if word.startswith("FMAT") and word.endswith("1"):
            s.odd(line, "format 1 of the drill language: read as format 2")
        return True
    return False


def _set_unit(s: _State, unit: float, line: int) -> None:
    if s.forced is not None:
        return
    if s.unit and s.unit != unit:
        s.odd(line, "the unit changes within the file: what follows is read in the new one")
    s.unit = unit
    for number, (size, at) in list(s.raw_tools.items()):
        s.tools[number] = _sane(s, size * unit, at)
        del s.raw_tools[number]


def _unit_part(s: _State, part: str, line: int) -> None:
    if s.forced is not None:
        return
    if part in ("LZ", "TZ"):
        s.zeros = "leading" if part == "LZ" else "trailing"
    elif re.fullmatch(r"0{1,6}\.0{1,6}", part):
        s.digits = part.index("."), len(part) - part.index(".") - 1
    elif part:
        raise s.fail(line, f"“{part[:20]}” of the unit is not understood")


def _sane(s: _State, size: float, line: int) -> float:
    if not 0 < size <= LARGEST_MM:
        raise s.fail(line, f"A drill of {size:g} mm cannot be")
    return size


def _tool(s: _State, word: str, line: int) -> None:
    match = re.match(r"^T(\d{1,6})((?:[CFSBHZ][-+]?[\d.]+)*)(?:,.*)?((?:[XY].*)?)$", word)
    if match is None:
        raise s.fail(line, f"“{word[:30]}” is not understood")
    number, rest = int(match[1]), match[2]
    size = re.search(r"C([-+]?[\d.]+)", rest)
    if size:
        _define(s, number, size[1], line)
        if s.header:
            return
    elif s.header:
        s.odd(line, f"drill T{number} is named in the head without a size")
        return
    if number == 0:
        return
    if number not in s.tools and number not in s.raw_tools and number > 99 and number // 100 in s.tools:
        number //= 100  # T0101: tool and its place in the rack
        s.odd(line, "drills are chosen with their place in the rack")
    _close_path(s, line)
    if number not in s.tools:
        if number not in s.raw_tools:
            raise s.fail(line, f"Drill T{number} is used but not defined")
        _assume_unit(s, line)
    s.current = number
    if match[3]:
        _body(s, match[3], line)


def _define(s: _State, number: int, text: str, line: int) -> None:
    try:
        size = float(text)
    except ValueError:
        raise s.fail(line, f"“{text[:20]}” is no size") from None
    if s.typed is not None:
        (s.plated_tools if s.typed else s.bare).add(number)
        (s.bare if s.typed else s.plated_tools).discard(number)
    if number in s.tools:
        s.odd(line, f"drill T{number} is defined twice: what follows is drilled with the newer one")
    if s.unit:
        s.tools[number] = _sane(s, size * s.unit, line)
    else:
        s.raw_tools[number] = size, line


def _assume_unit(s: _State, line: int) -> None:
    """Take a unit for a file that names none: no board is drilled with nothing but drills under 0.25 mm."""
    largest = max((size for size, _ in s.raw_tools.values()), default=1.0)
    unit = 25.4 if largest < 0.25 else 1.0
    name = "inches" if unit == 25.4 else "millimetres"
    s.odd(line, f"the file names no unit: {name} are taken, for the size of its drills")
    s.guessed = True
    _set_unit(s, unit, line)


def _digits(s: _State) -> tuple[int, int]:
    return s.digits or ((2, 4) if s.unit == 25.4 else (3, 3))


def _number(s: _State, text: str, line: int) -> float:
    """Return a coordinate, mm."""
    if not s.unit:
        _assume_unit(s, line)
    if "." in text:
        try:
            return near(float(text) * s.unit, s.where(line))
        except ValueError:
            raise s.fail(line, f"“{text[:20]}” is no number") from None
    before, after = _digits(s)
    if not s.zeros:
        if text.strip("+-0"):
            s.guessed = True
            s.odd(
                line,
                f"the file does not say which zeros are left out: those in front are taken to be, {before}.{after}",
            )
        zeros = "trailing"
    else:
        zeros = s.zeros
    found = Digits(before, after, zeros == "leading").value(text, s.where(line))
    return near(found * s.unit, s.where(line))


_AT = re.compile(r"^(?:X([-+]?[\d.]+))?(?:Y([-+]?[\d.]+))?$")
_PLACE = r"((?:X[-+]?[\d.]+)?(?:Y[-+]?[\d.]+)?)"


def _place(s: _State, text: str, line: int) -> Spot:
    match = _AT.match(text)
    if match is None:
        raise s.fail(line, f"“{text[:30]}” is not understood")
    found = []
    for part, now, zero in ((match[1], s.x, s.zero[0]), (match[2], s.y, s.zero[1])):
        if part is None:
            found.append(now)
        else:
            value = _number(s, part, line)
            found.append(near(now + value if s.incremental else value + zero, s.where(line)))
    return found[0], found[1]


def _body(s: _State, word: str, line: int) -> None:
    takers: tuple[tuple[str, Callable[[_State, re.Match[str], int], None]], ...] = (
        (rf"^{_PLACE}G85{_PLACE}$", _straight_slot),
        (rf"^R(\d{{1,6}}){_PLACE}$", _repeat),
        (r"^(M25|M01|M08)$", _pattern),
        (rf"^M02{_PLACE}(M70|M80|M90)*$", _pattern_again),
        (rf"^G93{_PLACE}$", _set_zero),
        (rf"^(?:G0*0){_PLACE}$", _rout_to),
        (rf"^(?:G0*([123])){_PLACE}((?:A[-+]?[\d.]+)?(?:I[-+]?[\d.]+)?(?:J[-+]?[\d.]+)?)$", _rout_along),
        (r"^(M15|M16|M17|M14)$", _cutter),
        (r"^(G0*5|G81|G90|G91|G0*4.*|N\d+|M0*6|M0*9|G80)$", _mode),
    )
    for pattern, take in takers:
        if match := re.match(pattern, word):
            take(s, match, line)
            return
    if match := re.match(r"^(?:N\d+)?(?:G0*5|G81)?(X.*|Y.*)$", word):
        _at(s, match[1], line)
        return
    raise s.fail(line, f"“{word[:30]}” is not understood")


def _size(s: _State, line: int) -> float:
    if s.current not in s.tools:
        raise s.fail(line, "A hole comes before its drill is chosen")
    return s.tools[s.current]


def _put(s: _State, points: tuple[Spot, ...], line: int) -> None:
    s.holes.append(Drilled(points, _size(s, line), s.current, line))
    if len(s.holes) > MOST_HOLES:
        raise s.fail(line, f"There are over {MOST_HOLES:,} holes", "No board needs so many")


def _at(s: _State, text: str, line: int) -> None:
    """Drill a hole, or move the cutter along while it is down."""
    end = _place(s, text, line)
    if s.mode == "rout":
        if s.down:
            s.path.append(end)
        else:
            s.odd(line, "coordinates alone while routing: the cutter moves there")
    else:
        _put(s, (end,), line)
    s.x, s.y = end


def _straight_slot(s: _State, match: re.Match[str], line: int) -> None:
    if match[1]:
        s.x, s.y = _place(s, match[1], line)
    end = _place(s, match[2], line)
    _put(s, ((s.x, s.y), end), line)
    s.x, s.y = end


def _repeat(s: _State, match: re.Match[str], line: int) -> None:
    """Drill so many more holes, each a step further."""
    times = int(match[1])
    if times > MOST_HOLES or not s.holes:
        raise s.fail(line, f"“{match[0][:30]}” repeats nothing, or too often")
    at = _AT.match(match[2])
    assert at is not None
    dx, dy = (_number(s, part, line) if part else 0.0 for part in at.groups())
    for _ in range(times):
        s.x, s.y = near(s.x + dx, s.where(line)), near(s.y + dy, s.where(line))
        _put(s, ((s.x, s.y),), line)


def _pattern(s: _State, match: re.Match[str], line: int) -> None:
    if match[1] == "M25":
        s.pattern, s.pattern_end, s.step = len(s.holes), -1, (0.0, 0.0)
    elif s.pattern < 0:
        raise s.fail(line, f"{match[1]} ends a pattern that has not begun")
    elif match[1] == "M01":
        s.pattern_end = len(s.holes)
    else:
        s.pattern = s.pattern_end = -1


def _pattern_again(s: _State, match: re.Match[str], line: int) -> None:
    if s.pattern < 0 or s.pattern_end < 0 or match[2]:
        raise s.fail(line, f"“{match[0][:30]}” is not understood", "Write each hole by itself")
    at = _AT.match(match[1])
    assert at is not None
    dx, dy = (_number(s, part, line) if part else 0.0 for part in at.groups())
    s.step = s.step[0] + dx, s.step[1] + dy
    for hole in s.holes[s.pattern : s.pattern_end]:
        points = tuple((near(x + s.step[0], s.where(line)), near(y + s.step[1], s.where(line))) for x, y in hole.points)
        s.holes.append(hole._replace(points=points, line=line))
        if len(s.holes) > MOST_HOLES:
            raise s.fail(line, f"There are over {MOST_HOLES:,} holes", "No board needs so many")


def _set_zero(s: _State, match: re.Match[str], line: int) -> None:
    s.zero = (0.0, 0.0)
    kept = s.incremental
    s.incremental = False
    s.zero = _place(s, match[1], line)
    s.incremental = kept
    if any(s.zero):
        s.odd(line, "the zero of the coordinates is moved (G93)")


def _rout_to(s: _State, match: re.Match[str], line: int) -> None:
    _close_path(s, line)
    s.mode = "rout"
    s.x, s.y = _place(s, match[1], line)


def _rout_along(s: _State, match: re.Match[str], line: int) -> None:
    s.shape = int(match[1])
    end = _place(s, match[2], line)
    if s.mode != "rout":
        raise s.fail(line, "The cutter moves before routing begins (G00)")
    if not s.down:
        s.odd(line, "the cutter moves along while it is up: nothing is cut there")
        s.x, s.y = end
        return
    s.path += [end] if s.shape == 1 else _arc(s, end, match[3], line)
    s.x, s.y = end


def _arc(s: _State, end: Spot, how: str, line: int) -> list[Spot]:
    start, counter = (s.x, s.y), s.shape == 3
    if match := re.match(r"^A([-+]?[\d.]+)$", how):
        radius = abs(_number(s, match[1], line))
        half = math.dist(start, end) / 2
        if half == 0 or radius < half * 0.98:
            raise s.fail(line, f"An arc of {radius:g} mm does not reach its end")
        off = math.sqrt(max(0.0, radius**2 - half**2))
        mx, my = (start[0] + end[0]) / 2, (start[1] + end[1]) / 2
        ux, uy = (end[0] - start[0]) / (2 * half), (end[1] - start[1]) / (2 * half)
        side = 1 if counter else -1
        return arc_points(start, end, (mx - side * uy * off, my + side * ux * off), counter, full=False)
    match = re.match(r"^(?:I([-+]?[\d.]+))?(?:J([-+]?[\d.]+))?$", how)
    if match is None or not how:
        raise s.fail(line, "An arc has no radius and no centre")
    di, dj = (_number(s, part, line) if part else 0.0 for part in match.groups())
    return arc_points(start, end, (s.x + di, s.y + dj), counter, full=True)


def _cutter(s: _State, match: re.Match[str], line: int) -> None:
    if match[1] in ("M15", "M14"):
        if s.mode != "rout":
            raise s.fail(line, "The cutter goes down before routing begins (G00)")
        s.down, s.path, s.path_line = True, [(s.x, s.y)], line
    else:
        _close_path(s, line)


def _close_path(s: _State, line: int) -> None:
    """Put down the slot that the cutter has made."""
    if s.down and len(s.path) > 1:
        _put(s, tuple(s.path), s.path_line)
    elif s.down and s.path:
        _put(s, (s.path[0],), s.path_line)
    s.down, s.path = False, []


def _mode(s: _State, match: re.Match[str], line: int) -> None:
    if re.match(r"^G0*5$|^G81$", match[1]):
        _close_path(s, line)
        s.mode = "drill"
    elif match[1] in ("G90", "G91"):
        s.incremental = match[1] == "G91"
        if s.incremental:
            s.odd(line, "coordinates are incremental")
