"""A one-stroke alphabet for the silk screen, on a grid 4 wide and 6 high, drawn for this project."""

from __future__ import annotations

from functools import lru_cache

# Each glyph: strokes separated by spaces, points as two digits (x, y), y up.
GLYPHS: dict[str, str] = {
    "0": "100105163645413010 1145",
    "1": "152620 1030",
    "2": "051636454400 0040",
    "3": "0646234241301001",
    "4": "30360242",
    "5": "460604344341301001",
    "6": "3616050110304142330302",
    "7": "064620",
    "8": "130405163645443313 1302011030414233",
    "9": "1030414536160504133344",
    "A": "0004264440 0242",
    "B": "00063645443303 33424130 3000",
    "C": "4536160501103041",
    "D": "00062644422000",
    "E": "46060040 0333",
    "F": "460600 0333",
    "G": "453616050110304143 4323",
    "H": "0006 4046 0343",
    "I": "1030 1636 2026",
    "J": "4641301001",
    "K": "0006 4602 1340",
    "L": "060040",
    "M": "0006234640",
    "N": "00064046",
    "O": "1001051636454130 3010",
    "P": "00063645443303",
    "Q": "100105163645413010 2240",
    "R": "00063645443303 2340",
    "S": "453616050413334241301001",
    "T": "0646 2620",
    "U": "060110304146",
    "V": "062046",
    "W": "0610233046",
    "X": "0046 0640",
    "Y": "062346 2320",
    "Z": "06460040",
    "+": "0343 2125",
    "-": "0343",
    ".": "2021",
    "/": "0046",
    " ": "",
}


Stroke = tuple[tuple[float, float], ...]


@lru_cache(maxsize=4096)
def text_strokes(text: str, height: float) -> tuple[tuple[Stroke, ...], float]:
    """Return polylines of `text` with its lower left at the origin, and its width; unknown letters are left blank."""
    unit = height / 6
    lines: list[Stroke] = []
    x = 0.0
    for letter in text.upper():
        for stroke in GLYPHS.get(letter, "").split():
            lines.append(
                tuple((x + int(a) * unit, int(b) * unit) for a, b in zip(stroke[::2], stroke[1::2], strict=True))
            )
        x += 5.6 * unit
    return tuple(lines), max(0.0, x - 1.6 * unit)
