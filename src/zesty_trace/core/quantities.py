"""Lengths and bus addresses as people write them, and numbers back into words with units.

Electrical values are SI floats (`core/stated.py` reads them). Lengths on the board are integer nanometres.
"""

from __future__ import annotations

import math
import re

from zesty_trace.core.stated import parse_value
from zesty_trace.errors import InputError
from zesty_trace.names import shorten

NM_PER_MM = 1_000_000
NM_PER_MIL = 25_400
FAR_NM = 2_000_000_000
_LENGTH = re.compile(r"^\s*([-+]?\d+(?:[.,]\d+)?)\s*(mm|mil|mils|um|µm|in|\")?\s*$")
_STEPS = [(1e9, "G"), (1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"), (1e-12, "p")]


def parse_length_nm(text: str, where: str = "") -> int:
    """Return a length in nanometres; without a unit it is millimetres. InputError otherwise.

    >>> parse_length_nm("12 mil"), parse_length_nm("1.6")
    (304800, 1600000)
    """
    match = _LENGTH.match(text)
    if not match:
        raise InputError(f"“{shorten(text)}” is not a length", where, "Write it like 1.6, 1.6 mm or 12 mil")
    number = float(match.group(1).replace(",", "."))
    per_unit = {"mil": NM_PER_MIL, "mils": NM_PER_MIL, "um": 1000, "µm": 1000, "in": 25_400_000, '"': 25_400_000}
    length = number * per_unit.get(match.group(2) or "mm", NM_PER_MM)
    if not abs(length) <= FAR_NM:
        raise InputError(f"“{shorten(text)}” is too long", where, "Lengths go up to 2 m")
    return round(length)


def parse_address(text: str, where: str = "") -> int:
    """Return a 7-bit bus address written in hex (`0x44`) or decimal (`68`). InputError if out of 0..127."""
    try:
        address = int(text.strip()[:12], 0)
    except ValueError:
        raise InputError(f"“{shorten(text)}” is not a bus address", where, "Write it like 0x44 or 68") from None
    if not 0 <= address <= 0x7F:
        raise InputError(f"{address} does not fit in 7 bits", where, "Bus addresses run from 0x00 to 0x7F (0 to 127)")
    return address


_OPEN_WORDS = ("ol", "o.l", "0l", "open", "over", "inf", "infinite", "-")


def read_off(text: str, unit: str) -> float:
    """Return a number that a person read off a meter: `4k7`, `3,31 V`; `OL` for ohms is infinite. InputError.

    >>> read_off("3,31 V", "V"), read_off("OL", "Ω")
    (3.31, inf)
    """
    plain = text.strip()
    if unit == "Ω" and plain.lower() in _OPEN_WORDS:
        return math.inf
    if unit and plain.endswith(unit):
        plain = plain[: -len(unit)].strip()
    return parse_value(plain, "reading")


def read_addresses(text: str) -> list[int]:
    """Return bus addresses that a person typed: `0x3C 0x44`, `60, 68`, or `none`. InputError if they are none."""
    words = text.replace(",", " ").split()
    if [w.lower() for w in words] in ([], ["none"], ["no"]):
        return []
    return [parse_address(w, "addresses") for w in words]


def say_count(count: int, one: str, many: str = "") -> str:
    """Return a number of things in words.

    >>> say_count(1, "board"), say_count(12, "board")
    ('1 board', '12 boards')
    """
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def nm(length_mm: float) -> int:
    """Return millimetres as integer nanometres."""
    return round(length_mm * NM_PER_MM)


def mm(length_nm: float) -> float:
    """Return nanometres as millimetres."""
    return length_nm / NM_PER_MM


def say_mm(length_nm: float) -> str:
    """Return a length for reading: `0.25 mm (10 mil)`."""
    return f"{mm(length_nm):.2f} mm ({length_nm / NM_PER_MIL:.0f} mil)"


def say(value: float, unit: str = "", digits: int = 3) -> str:
    """Return a value in engineering notation with `digits` significant digits: `4.70 kΩ`, `6.1 mA`.

    >>> say(0.0061, "A", 2), say(4700, "Ω", 2)
    ('6.1 mA', '4.7 kΩ')
    """
    if not math.isfinite(value):
        return f"— {unit}".strip()
    if value == 0:
        return f"0 {unit}".strip()
    size = abs(value)
    step = next(((scale, letter) for scale, letter in _STEPS if size >= scale * 0.9995), None)
    if step is None:
        return f"0 {unit}".strip()
    scale, letter = step
    scaled = value / scale
    decimals = max(0, digits - 1 - math.floor(math.log10(abs(scaled))))
    return f"{scaled:.{decimals}f} {letter}{unit}".strip()


def say_part_value(value: float) -> str:
    """Return a part value the short way people mark it: 4700 gives `4k7`, 1e-7 gives `100n`."""
    if value == 0:
        return "0"
    scale, letter = next(((s, a) for s, a in _STEPS if abs(value) >= s * 0.9995), (1e-12, "p"))
    letter = "u" if letter == "µ" else letter
    number = f"{value / scale:.3g}"
    if "." in number and letter:
        return number.replace(".", letter)
    return number + letter


def say_address(address: int) -> str:
    """Return a bus address both ways, since people mix them: `0x44 (68)`."""
    return f"0x{address:02X} ({address})"
