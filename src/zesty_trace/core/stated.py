"""What a value field states, as people write it: `10 k`, `100 nF`, `4,7k 1%`, `100u 6,3 V`, `0R`, `3V6`.

The letter-for-point notation is that of IEC 60062. What could be read two ways, a thousand apart, is refused: `1,000`,
`1 000`, `10 kilo`, a bare `100` for a capacitor. Ratings that follow (`25 V`, `1/4 W`, `400 mAh`, `1%`) are kept.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field
from functools import lru_cache

from zesty_trace.errors import InputError
from zesty_trace.names import shorten

PREFIX = {
    "f": 1e-15,
    "p": 1e-12,
    "n": 1e-9,
    "u": 1e-6,
    "µ": 1e-6,
    "μ": 1e-6,
    "m": 1e-3,
    "": 1.0,
    "k": 1e3,
    "K": 1e3,
    "M": 1e6,
    "Meg": 1e6,
    "meg": 1e6,
    "MEG": 1e6,
    "G": 1e9,
}
UNITS = {
    "ohm": "Ω",
    "ohms": "Ω",
    "r": "Ω",
    "ω": "Ω",
    "Ω": "Ω",
    "f": "F",
    "h": "H",
    "hz": "Hz",
    "v": "V",
    "vdc": "V",
    "vac": "V",
    "a": "A",
    "ah": "Ah",
    "w": "W",
    "%": "%",
    "s": "s",
    "°c": "°C",
}
SMALLEST, LARGEST = 1e-18, 1e15  # beyond these nothing on a board is measured
RANGES = {  # what a part of a board can be; a value outside was misread or mistyped
    "Ω": (1e-4, 1e11),
    "F": (1e-14, 20.0),
    "H": (1e-10, 100.0),
    "A": (1e-7, 1000.0),
    "V": (1e-3, 5000.0),
    "Hz": (1e-2, 1e11),
}
NEEDS_LETTER = {"F": "100n or 100p", "H": "10u or 2m2"}  # a bare number says nothing of these
EXAMPLES = "Write it like 4k7, 100n, 0.1u or 330"

_NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|[.,]\d+)(?:[eE][-+]?\d{1,4})?"
_SCALE = r"(?:Meg|meg|MEG|[fpnuµμmkKMG])"
_UNIT = r"(?:[Oo]hms?|OHMS?|Ω|Ω|R|[Hh][Zz]|[Vv](?:DC|AC|dc|ac)?|[Aa][Hh]|[Aa]|[Ff]|[Hh]|[Ww]|%|s|°C)"
_PLAIN = re.compile(rf"^({_NUMBER})(?:({_SCALE})?({_UNIT})?)$")
_POINT = re.compile(rf"^([-+]?\d*)([pnuµμmkKMGRVF])(\d+)({_UNIT})?$")
_SUFFIX = re.compile(rf"^({_SCALE})?({_UNIT})?$")
_COMMA = re.compile(r"^[-+]?[1-9]\d{0,2},\d{3}$")
_TRAILING = re.compile(r"^[-+]?[1-9]\d{0,2}\.\d\d0$")
_FRACTION = re.compile(r"^(\d{1,2})/(\d{1,2})(W|w)?$")
_LIST = re.compile(r"[±/;()\[\]]+|,\s+")
_DIELECTRIC = re.compile(r"^(?:[XYZCNU][0-9][A-Z0-9]|NP0|NPO|COG|C0G|FK[GP]|MK[PST])$", re.I)


@dataclass(frozen=True)
class Rating:
    """A further figure in a value field: 25 V, 0.25 W, 1 %."""

    value: float
    unit: str


@dataclass(frozen=True)
class Stated:
    """What a value field says. `unit` is "" where none is written; `lettered` tells that a prefix letter is."""

    value: float
    unit: str = ""
    lettered: bool = False
    ratings: tuple[Rating, ...] = ()
    words: tuple[str, ...] = field(default=())

    def rating(self, unit: str) -> float | None:
        """Return the first further figure in this unit; the value itself if that is in it."""
        found = next((r.value for r in self.ratings if r.unit == unit), None)
        return self.value if found is None and self.unit == unit else found


def _bad(text: str, why: str, where: str, hint: str = EXAMPLES) -> InputError:
    return InputError(f"“{shorten(text)}” {why}", where, hint)


def _number(text: str, scale: str, unit: str, whole: str, where: str) -> float:
    """Return a number; one that groups thousands as likely as it does not is refused."""
    comma = _COMMA.match(text) and not scale and unit not in ("V", "A")
    if comma or (_TRAILING.match(text) and not scale and not unit):
        raise _bad(whole, "could mean a thousand times more or less", where, "Write 1000, 1k or 1.0")
    return float(text.replace(",", "."))


def _unit(text: str | None) -> str:
    return UNITS.get((text or "").lower(), UNITS.get(text or "", "")) if text else ""


def _first(words: list[str], whole: str, where: str) -> tuple[float, str, bool, int]:
    """Return value, unit, whether a prefix letter is written, and how many words that took."""
    word = words[0]
    if match := _POINT.match(word):
        before, letter, after, unit = match.groups()
        sign = "-" if before.startswith("-") else ""
        number = float(f"{sign}{before.lstrip('+-') or '0'}.{after}")
        of_letter = {"R": "Ω", "V": "V", "F": "F"}.get(letter, "")
        return number * PREFIX.get(letter, 1.0), _unit(unit) or of_letter, not of_letter, 1
    match = _PLAIN.match(word)
    if not match:
        raise _bad(whole, "is not a value", where)
    scale, unit = match.group(2), match.group(3)
    taken = 1
    if not scale and not unit and len(words) > 1 and (far := _SUFFIX.match(words[1])):
        scale, unit, taken = far.group(1), far.group(2), 2
        if len(words) > 2 and not unit and (last := _SUFFIX.match(words[2])) and last.group(2) and not last.group(1):
            unit, taken = last.group(2), 3  # 10 k ohm
    elif scale and not unit and len(words) > 1 and (far := _SUFFIX.match(words[1])) and not far.group(1):
        unit, taken = far.group(2), 2  # 10k ohm
    number = _number(match.group(1), scale or "", _unit(unit), whole, where)
    return number * PREFIX[scale or ""], _unit(unit), bool(scale), taken


def _rest(words: list[str], whole: str, where: str) -> tuple[tuple[Rating, ...], tuple[str, ...]]:
    """Return the ratings and the plain words after a value."""
    ratings: list[Rating] = []
    plain: list[str] = []
    k = 0
    while k < len(words):
        word = words[k]
        if match := _FRACTION.match(word):
            if match.group(3) or (k + 1 < len(words) and words[k + 1].lower() == "w"):
                k += 0 if match.group(3) else 1
                ratings.append(Rating(int(match.group(1)) / max(int(match.group(2)), 1), "W"))
            else:
                raise _bad(whole, f"leaves open what {word} is", where, "Write 1/4 W")
        elif match := _PLAIN.match(word):
            value, unit, _, taken = _first(words[k:], whole, where)
            if not unit:
                raise _bad(whole, f"leaves open what {word} is", where, "Give each number its unit")
            ratings.append(Rating(value, unit))
            k += taken - 1
        else:
            plain.append(word)
        k += 1
    return tuple(ratings), tuple(plain)


@lru_cache(4096)
def read_stated(text: str, where: str = "") -> Stated:
    """Return what a value field states. InputError if it begins with no value, or can be read in two ways.

    >>> read_stated("10 k").value, read_stated("100 nF 50 V").rating("V"), read_stated("2k2 1%").value
    (10000.0, 50.0, 2200.0)
    """
    words = _LIST.sub(" ", _keep_fractions(text)).replace("\x00", "/").split()
    if not words:
        raise _bad(text, "is not a value", where)
    value, unit, lettered, taken = _first(words, text, where)
    if not math.isfinite(value) or (value and not SMALLEST <= abs(value) <= LARGEST):
        raise _bad(text, "is out of range", where, f"From {SMALLEST:g} to {LARGEST:g}, or 0")
    if not unit and not lettered and taken < len(words):
        after = words[taken]
        if after[:1] in "pnuµμmkKMG" and not _PLAIN.match(after) and not _DIELECTRIC.match(after):
            raise _bad(text, f"leaves open what “{shorten(after)}” is", where)
    ratings, plain = _rest(words[taken:], text, where)
    return Stated(value, unit, lettered, ratings, plain)


def _keep_fractions(text: str) -> str:
    return re.sub(r"(?<!\S)(\d{1,2})/(\d{1,2})(?=\s*[Ww]?(?:\s|$))", "\\1\x00\\2", text)


def parse_value(text: str, where: str = "") -> float:
    """Return the SI value of `text`: `4k7`, `4.7k`, `100n`, `0.1 uF`, `330`. InputError if it is more or less than one.

    >>> parse_value("4k7"), parse_value("2R2")
    (4700.0, 2.2)
    """
    found = read_stated(text, where)
    if found.words:
        raise _bad(text, "is not a value", where)
    if found.ratings:
        raise _bad(text, "is more than one value", where)
    return found.value


def leading_value(text: str) -> float | None:
    """Return the value that `text` begins with, or None: `100u 25 V` gives 1e-4, `10 k` gives 1e4."""
    if not text or not text.strip():
        return None
    try:
        return read_stated(text).value
    except InputError:
        return None


def rating(text: str, unit: str) -> float | None:
    """Return the figure in this unit that a value field states, or None."""
    try:
        return read_stated(text).rating(unit)
    except InputError:
        return None


def stated_problem(text: str, unit: str) -> tuple[str, str] | None:
    """Return (what is wrong, what to do) with a value that should be in `unit`; None if it is one."""
    try:
        found = read_stated(text)
    except InputError as error:
        return error.message, error.hint
    if found.unit and found.unit != unit:
        return f"“{shorten(text)}” is in {found.unit}, it should be in {unit}", EXAMPLES
    if unit in NEEDS_LETTER and not found.lettered and not found.unit:
        return f"“{shorten(text)}” says no unit: {found.value:g} what?", f"Write {NEEDS_LETTER[unit]}"
    low, high = RANGES.get(unit, (SMALLEST, LARGEST))
    if unit == "F" and re.match(r"^\s*[\d.,]+\s*m", text):
        return f"“{shorten(text)}”: some write mF for millionths", f"Write {found.value * 1e6:g}u if it is thousandths"
    if found.value == 0 and unit == "Ω":
        return None
    if found.value <= 0:
        return f"{shorten(text)} is not above zero", EXAMPLES
    if not low <= found.value <= high:
        return f"“{shorten(text)}” would be {found.value:g} {unit}, which no part is", EXAMPLES
    return None
