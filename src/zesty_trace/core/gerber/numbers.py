"""Coordinates as image and drill files write them: whole digits with zeros left out, or with a point."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.errors import InputError

FAR_MM = 20_000.0  # a board of half a metre in a file that is read in inches lies so far
MOST_DIGITS = 15


@dataclass(frozen=True)
class Digits:
    """How many digits stand before and after the point, and whether zeros behind are left out instead of in front."""

    before: int
    after: int
    trailing_left_out: bool = False
    all_there: bool = False

    def value(self, text: str, where: str) -> float:
        """Return a number in the unit of the file. InputError for more digits than can be."""
        sign = -1.0 if text.startswith("-") else 1.0
        digits = text.lstrip("+-")
        if not digits.isdigit() or len(digits) > MOST_DIGITS:
            raise InputError(f"“{text[:20]}” is no number", where, "The file is damaged")
        total = self.before + self.after
        if self.trailing_left_out:
            if len(digits) > total:
                raise InputError(
                    f"“{text[:20]}” has {len(digits)} digits, the format has {total}", where, "The file is damaged"
                )
            digits = digits.ljust(total, "0")
        return sign * int(digits) / 10.0**self.after

    def __str__(self) -> str:
        zeros = "all zeros" if self.all_there else "no zeros behind" if self.trailing_left_out else "no zeros in front"
        return f"{self.before}.{self.after}, {zeros}"


def near(value_mm: float, where: str) -> float:
    """Return a coordinate that a board can have, mm. InputError for one that is too far away."""
    if not -FAR_MM <= value_mm <= FAR_MM:
        raise InputError(f"A point lies {abs(value_mm):.0f} mm away", where, "Check the units of the file")
    return value_mm
