"""The arithmetic of IPC-7351B: from the least and largest dimensions of a part to the extent of its lands.

Z (over the lands), G (between them) and X (their width) leave, in the worst of parts, boards and placings, a fillet
of solder at the toe, the heel and the sides of each terminal. Goals are those of tables 3-2 to 3-22 (from memory), the
tolerances of fabrication and placing those that its own examples use.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

Density = Literal["most", "nominal", "least"]
DENSITIES: tuple[Density, ...] = ("most", "nominal", "least")
FABRICATION_MM = 0.05
PLACING_MM = 0.05


class Goals(NamedTuple):
    """Fillets at toe, heel and side, courtyard excess, and what dimensions are rounded to, mm."""

    toe: float
    heel: float
    side: float
    courtyard: float
    step: float = 0.05


def _three(
    toe: tuple[float, ...],
    heel: tuple[float, ...],
    side: tuple[float, ...],
    room: tuple[float, ...] = (0.5, 0.25, 0.1),
    step: float = 0.05,
) -> dict[Density, Goals]:
    return {d: Goals(toe[k], heel[k], side[k], room[k], step) for k, d in enumerate(DENSITIES)}


GOALS: dict[str, dict[Density, Goals]] = {
    "gull wing": _three((0.55, 0.35, 0.15), (0.45, 0.35, 0.25), (0.05, 0.03, 0.01)),
    "fine gull wing": _three((0.55, 0.35, 0.15), (0.45, 0.35, 0.25), (0.01, -0.02, -0.04)),
    "J lead": _three((0.10, 0.0, -0.10), (0.55, 0.35, 0.15), (0.05, 0.03, 0.01)),
    "inward L": _three((0.25, 0.15, 0.07), (0.80, 0.50, 0.20), (0.01, -0.05, -0.10)),
    "chip": _three((0.55, 0.35, 0.15), (0.0, 0.0, 0.0), (0.05, 0.0, -0.05)),
    "small chip": _three((0.30, 0.20, 0.10), (0.0, 0.0, 0.0), (0.05, 0.0, -0.05), (0.2, 0.15, 0.1), 0.02),
    "cylinder": _three((0.60, 0.40, 0.20), (0.20, 0.10, 0.02), (0.10, 0.05, 0.01)),
    "castellation": _three((0.65, 0.55, 0.45), (0.25, 0.15, 0.05), (0.05, -0.05, -0.15)),
    "no lead": _three((0.40, 0.30, 0.20), (0.0, 0.0, 0.0), (-0.04, -0.04, -0.04)),
    "can up to 10 mm": _three((0.7, 0.5, 0.3), (0.0, -0.1, -0.2), (0.5, 0.4, 0.3), (1.0, 0.5, 0.25)),
    "can over 10 mm": _three((1.0, 0.7, 0.4), (0.0, -0.05, -0.1), (0.6, 0.5, 0.4), (1.0, 0.5, 0.25)),
    "ball": _three((0.0,) * 3, (0.0,) * 3, (0.0,) * 3, (2.0, 1.0, 0.5), 0.01),
}
# nominal ball and land, mm: table 14-5 of IPC-7351B (collapsing balls, from memory)
BALL_LANDS = (
    (0.75, 0.55), (0.65, 0.50), (0.60, 0.45), (0.55, 0.42), (0.50, 0.40), (0.45, 0.35), (0.40, 0.30), (0.35, 0.27),
    (0.30, 0.25), (0.25, 0.20), (0.20, 0.15), (0.17, 0.13), (0.15, 0.10),
)  # fmt: skip


class Span(NamedTuple):
    """The least and the largest of a dimension, mm."""

    least: float
    largest: float

    @property
    def tolerance(self) -> float:
        """How much it may differ."""
        return self.largest - self.least


class Lands(NamedTuple):
    """Two lands, or two rows of them: `across` from middle to middle, `length` along that way, `width`, mm."""

    across: float
    length: float
    width: float

    @property
    def over(self) -> float:
        """Z: over both lands."""
        return self.across + self.length

    @property
    def between(self) -> float:
        """G: from one to the other."""
        return self.across - self.length


def inside(over: Span, foot: Span) -> Span:
    """Return S, between the terminals, from L over them and the length T of each: least, and largest as likely.

    The tolerance of S is the root of the sum of squares of those of L and both T (IPC-7351B, 3.1.4): half of what that
    takes off the worst case comes off the largest, half goes onto the least.
    """
    least, largest = over.least - 2 * foot.largest, over.largest - 2 * foot.least
    likely = math.sqrt(over.tolerance**2 + 2 * foot.tolerance**2)
    shift = max(0.0, (largest - least) - likely) / 2
    return Span(least + shift, largest - shift)


def lands(over: Span, foot: Span, width: Span, goals: Goals) -> Lands:
    """Return the lands of a part `over` its terminals, which are `foot` long and `width` wide, all mm."""
    noise = FABRICATION_MM**2 + PLACING_MM**2
    gap = inside(over, foot)
    z = over.least + 2 * goals.toe + math.sqrt(over.tolerance**2 + noise)
    g = gap.largest - 2 * goals.heel - math.sqrt(gap.tolerance**2 + noise)
    x = width.least + 2 * goals.side + math.sqrt(width.tolerance**2 + noise)
    length = to_step((z - g) / 2, goals.step)
    return Lands(to_step((z + g) / 2, goals.step), length, to_step(x, goals.step))


def turned(goals: Goals) -> Goals:
    """Return the goals of terminals that are bent inwards: their heel is outside, their toe below the body."""
    return goals._replace(toe=goals.heel, heel=goals.toe)


def to_step(value: float, step: float) -> float:
    """Return a dimension rounded to a step.

    >>> to_step(0.913, 0.05)
    0.9
    """
    return round(round(value / step) * step, 4)


def ball_land(ball_mm: float) -> float:
    """Return the diameter of the land of a ball: that of the nearest one in the table, in proportion, mm."""
    ball, land = min(BALL_LANDS, key=lambda entry: abs(entry[0] - ball_mm))
    return round(land * ball_mm / ball, 2)
