"""What a drill file holds: holes and slots with their tools and lines, and how its numbers were read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from zesty_trace.core.gerber.image import Remark, Spot

Zeros = str  # "leading" or "trailing": which are there, in the terms of the drill format; "" where it is not said


class Drilled(NamedTuple):
    """A hole, or a slot along points; mm. `line` is where it is in the file."""

    points: tuple[Spot, ...]
    diameter: float
    tool: int
    line: int

    @property
    def slot(self) -> bool:
        """Whether it is longer than wide."""
        return len(self.points) > 1


@dataclass(frozen=True)
class DrillFormat:
    """How numbers without a point are read: unit in mm, digits, and which zeros are there."""

    unit: float
    before: int
    after: int
    zeros: Zeros

    def __str__(self) -> str:
        unit = "inch" if self.unit == 25.4 else "mm"
        left_out = {"trailing": "no zeros in front", "leading": "no zeros behind"}.get(self.zeros, "")
        return f"{unit} {self.before}.{self.after}, {left_out}"


@dataclass(frozen=True)
class DrillImage:
    """One drill file: its holes, tools, and what is odd about it. `plated` is None where the file does not say."""

    name: str
    holes: tuple[Drilled, ...]
    tools: Mapping[int, float]
    plated: bool | None
    attributes: Mapping[str, tuple[str, ...]]
    remarks: tuple[Remark, ...]
    format: DrillFormat | None
    guessed: bool = False  # unit, digits or zeros are not said in the file, and some number needs them
    bare_tools: frozenset[int] = frozenset()

    def is_plated(self, hole: Drilled) -> bool | None:
        """Whether a hole is plated, as far as the file says."""
        return False if hole.tool in self.bare_tools else self.plated
