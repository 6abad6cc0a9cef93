"""Where the reading of an image file is: the graphics state of the specification, and what is collected."""

from __future__ import annotations

from dataclasses import dataclass, field

from zesty_trace.core.gerber.image import PLAIN, Aperture, Attributes, Mark, Matrix, Spot
from zesty_trace.core.gerber.macros import Macro
from zesty_trace.core.gerber.numbers import Digits
from zesty_trace.core.gerber.shapes import moved
from zesty_trace.errors import InputError

MOST_MARKS = 400_000
MOST_POINTS = 4_000_000


@dataclass
class State:
    """Where the reading is: the graphics state of the specification, and what is collected."""

    name: str
    unit: float = 0.0  # mm
    digits: tuple[Digits, Digits] | None = None
    incremental: bool = False
    x: float = 0.0
    y: float = 0.0
    shape: int = 1  # 1 straight, 2 clockwise, 3 counter-clockwise
    quadrants: int = 0  # 74 or 75, 0 where the file has not said
    operation: int = 0
    dark: bool = True
    matrix: Matrix = PLAIN
    mirror: str = "N"
    turn: float = 0.0
    scale: float = 1.0
    current: Aperture | None = None
    apertures: dict[int, Aperture] = field(default_factory=dict)
    macros: dict[str, Macro] = field(default_factory=dict)
    contour: list[Spot] | None = None  # while in a region
    contour_line: int = 0
    marks: list[Mark] = field(default_factory=list)
    outer: list[tuple[int, int, list[Mark], dict[str, tuple[str, ...]]]] = field(default_factory=list)  # open blocks
    repeat: tuple[int, int, float, float, int, int] | None = None  # columns, rows, dx, dy, first mark, line
    file: dict[str, tuple[str, ...]] = field(default_factory=dict)
    of_aperture: dict[str, tuple[str, ...]] = field(default_factory=dict)
    of_object: dict[str, tuple[str, ...]] = field(default_factory=dict)
    attached: Attributes = field(default_factory=dict)
    remarks: dict[str, int] = field(default_factory=dict)
    negative: bool = False
    image: Matrix = PLAIN
    axes: tuple[float, float, float, float, bool] = (1.0, 1.0, 0.0, 0.0, False)  # factors, offsets mm, swapped
    points: int = 0
    ended: bool = False

    def odd(self, line: int, text: str) -> None:
        """Remark on something, at the first line where it is."""
        self.remarks.setdefault(text, line)

    def where(self, line: int) -> str:
        """Return file and line as an error names them."""
        return f"{self.name} line {line}"

    def units(self, line: int) -> float:
        """Return the unit, mm. A file that names none is in inches, as the oldest ones were."""
        if not self.unit:
            self.odd(line, "the file names no unit: inches are taken, as in the oldest files")
            self.unit = 25.4
        return self.unit

    def put(self, mark: Mark) -> None:
        """Add a mark. InputError for more than any board has."""
        self.room_for(1, mark.line)
        self.marks.append(mark)
        self.points += len(mark.points)

    def room_for(self, more: int, line: int) -> None:
        """Raise InputError if so many more marks are more than any board has."""
        if len(self.marks) + more > MOST_MARKS or self.points > MOST_POINTS:
            raise InputError(f"There are over {MOST_MARKS:,} shapes", self.where(line), "No board needs so many")


def close_repeat(s: State) -> None:
    """Put down the copies of a step-and-repeat block."""
    if s.repeat is None:
        return
    columns, rows, dx, dy, first, line = s.repeat
    s.repeat = None
    block = s.marks[first:]
    if len(block) * columns * rows > MOST_MARKS:
        raise InputError(
            f"A block is repeated {columns} x {rows} times: over {MOST_MARKS:,} shapes", s.where(line), "It is damaged"
        )
    for i in range(columns):
        for j in range(rows):
            for mark in block if i or j else ():
                s.put(mark._replace(points=moved(mark.points, PLAIN, (i * dx, j * dy))))
