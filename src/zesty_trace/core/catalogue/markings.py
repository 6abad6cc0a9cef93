"""Markings on parts and preferred values, so that a part in the hand can be identified.

Colour bands, three and four digit codes: IEC 60062. E series: IEC 60063. The three-character code of 1 % chip
resistors (EIA-96): two digits for the place in E96, one letter for the multiplier.
"""

from __future__ import annotations

import math
import re

from zesty_trace.errors import InputError

COLOURS = ("black", "brown", "red", "orange", "yellow", "green", "blue", "violet", "grey", "white")
MULTIPLIERS = {**{c: 10.0**k for k, c in enumerate(COLOURS)}, "gold": 0.1, "silver": 0.01}
TOLERANCES = {
    "brown": 0.01,
    "red": 0.02,
    "green": 0.005,
    "blue": 0.0025,
    "violet": 0.001,
    "grey": 0.0005,
    "gold": 0.05,
    "silver": 0.1,
}
EIA96_LETTERS = {
    "Z": 1e-3,
    "Y": 1e-2,
    "R": 1e-2,
    "X": 1e-1,
    "S": 1e-1,
    "A": 1.0,
    "B": 10.0,
    "H": 10.0,
    "C": 100.0,
    "D": 1e3,
    "E": 1e4,
    "F": 1e5,
}
E24 = (
    1.0,
    1.1,
    1.2,
    1.3,
    1.5,
    1.6,
    1.8,
    2.0,
    2.2,
    2.4,
    2.7,
    3.0,
    3.3,
    3.6,
    3.9,
    4.3,
    4.7,
    5.1,
    5.6,
    6.2,
    6.8,
    7.5,
    8.2,
    9.1,
)


def series(count: int) -> tuple[float, ...]:
    """Return one decade of an E series: 3, 6, 12, 24, 48, 96 or 192 values. ValueError for another count.

    Up to E24 the values are historic; from E48 on they are 10^(k/n) rounded to three digits (IEC 60063), with the
    one listed exception of E192, 9.20.
    """
    if count in (3, 6, 12, 24):
        return E24[:: 24 // count]
    if count not in (48, 96, 192):
        raise ValueError(f"there is no E{count}")
    values = [round(10 ** (k / count), 2) for k in range(count)]
    return tuple(9.2 if count == 192 and v == 9.19 else v for v in values)


def nearest(value: float, count: int = 24) -> float:
    """Return the value of an E series nearest to `value`, by ratio. ValueError if it is not above zero.

    >>> nearest(4800, 12)
    4700.0
    """
    if not value > 0 or math.isinf(value):
        raise ValueError("the value must be above zero")
    decade = 10.0 ** math.floor(math.log10(value))
    choices = [v * decade * scale for scale in (0.1, 1.0, 10.0) for v in series(count)]
    return float(f"{min(choices, key=lambda c: abs(math.log(c / value))):.4g}")


def at_least(value: float, count: int = 12) -> float:
    """Return the smallest value of an E series that is not below `value`. ValueError if it is not above zero.

    >>> at_least(101.0)
    120.0
    """
    if not value > 0 or math.isinf(value):
        raise ValueError("the value must be above zero")
    decade = 10.0 ** math.floor(math.log10(value))
    choices = (v * decade * scale for scale in (0.1, 1.0, 10.0) for v in series(count))
    return float(f"{min(c for c in choices if c >= value * 0.9999):.4g}")


def read_bands(text: str) -> tuple[float, float]:
    """Return (ohm, tolerance) of 3 to 6 colour bands: `yellow violet red gold`. InputError naming the band at fault.

    Three bands mean 20 %; a sixth band, the temperature coefficient, is passed over.
    """
    bands = re.split(r"[\s,\-]+", text.strip().lower().replace("gray", "grey"))
    if not 3 <= len(bands) <= 6:
        raise InputError(f"{len(bands)} bands are not a resistor", text, "Name 3 to 6 colours, the lone one last")
    digits = bands[: 2 if len(bands) < 5 else 3]
    for band in digits:
        if band not in COLOURS:
            raise InputError(f"“{band}” is not a digit band", band, f"Digits are {', '.join(COLOURS)}")
    multiplier = bands[len(digits)]
    if multiplier not in MULTIPLIERS:
        raise InputError(f"“{multiplier}” is not a multiplier band", multiplier, f"Known: {', '.join(MULTIPLIERS)}")
    tolerance = bands[len(digits) + 1] if len(bands) > len(digits) + 1 else ""
    if tolerance and tolerance not in TOLERANCES:
        raise InputError(f"“{tolerance}” is not a tolerance band", tolerance, f"Known: {', '.join(TOLERANCES)}")
    number = int("".join(str(COLOURS.index(b)) for b in digits))
    return number * MULTIPLIERS[multiplier], TOLERANCES.get(tolerance, 0.2)


def write_bands(ohm: float, digits: int = 2, tolerance: float = 0.05) -> tuple[str, ...]:
    """Return the colour bands of a resistor. InputError if the value has more digits than bands, or is out of range."""
    exponent = math.floor(math.log10(ohm)) - digits + 1 if ohm > 0 else 0
    number = round(ohm / 10.0**exponent)
    if number == 10**digits:
        number, exponent = number // 10, exponent + 1
    multiplier = next((c for c, m in MULTIPLIERS.items() if math.isclose(m, 10.0**exponent)), None)
    exact = math.isclose(number * 10.0**exponent, ohm, rel_tol=1e-6)
    band = next((c for c, t in TOLERANCES.items() if math.isclose(t, tolerance)), None)
    if multiplier is None or band is None or not exact:
        raise InputError(f"{ohm:g} ohm cannot be shown with {digits} digit bands", f"{ohm:g}", "Use 3 digit bands")
    return (*(COLOURS[int(d)] for d in str(number)), multiplier, band)


def read_chip(text: str) -> float:
    """Return the ohms of a chip marking: `472`, `4702`, `4R7`, `R47`, `0`, or EIA-96 such as `01C`. InputError."""
    mark = text.strip().upper()
    if re.fullmatch(r"0{1,4}", mark):
        return 0.0
    if match := re.fullmatch(r"(\d{2,3})(\d)", mark):
        return float(f"{int(match.group(1)) * 10.0 ** int(match.group(2)):.6g}")
    if match := re.fullmatch(r"(\d*)([RKM])(\d*)", mark):
        whole, letter, part = match.groups()
        if whole or part:
            return float(f"{whole or 0}.{part or 0}") * {"R": 1.0, "K": 1e3, "M": 1e6}[letter]
    if match := re.fullmatch(r"(\d{2})([A-Z])", mark):
        place, letter = int(match.group(1)), match.group(2)
        if 1 <= place <= 96 and letter in EIA96_LETTERS:
            return float(f"{series(96)[place - 1] * 100 * EIA96_LETTERS[letter]:.4g}")
    raise InputError(f"“{text}” is no chip marking", text, "Type it as it stands: 472, 4702, 4R7 or 01C")


def write_chip(ohm: float, digits: int = 2) -> str:
    """Return the marking with `digits` digits and a count of zeros, or with R for the point below that."""
    if ohm == 0:
        return "0" * (digits + 1)
    exponent = math.floor(math.log10(ohm)) - digits + 1
    number = round(ohm / 10.0**exponent)
    if number == 10**digits:
        number, exponent = number // 10, exponent + 1
    if exponent >= 0:
        return f"{number}{exponent}"
    whole = f"{ohm:.{-exponent}f}"
    return whole.replace("0.", "R", 1) if whole.startswith("0.") else whole.replace(".", "R")
