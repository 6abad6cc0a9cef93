"""What an image file holds: apertures and marks in the order of the file, with lines and attributes, before any shape.

Terms of the Gerber layer format specification (revision 2023.08): dark and clear, flash, draw, region, aperture.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

Spot = tuple[float, float]
Matrix = tuple[float, float, float, float]  # x' = a x + b y, y' = c x + d y
PLAIN: Matrix = (1.0, 0.0, 0.0, 1.0)
Attributes = Mapping[str, tuple[str, ...]]
NONE: Attributes = {}


class Remark(NamedTuple):
    """Something odd about a file that was read as well as can be: the line where it is first, and what it is."""

    line: int
    text: str

    def __str__(self) -> str:
        return f"line {self.line}: {self.text}" if self.line else self.text


@dataclass(frozen=True)
class Aperture:
    """A pen or a stamp: its template, sizes in mm, its shape about the origin, and where it is defined.

    A block has marks of its own instead of a shape.
    """

    number: int
    template: str
    sizes: tuple[float, ...]
    shape: Any
    line: int
    attributes: Attributes = field(default_factory=dict)
    block: tuple[Mark, ...] = ()

    @property
    def function(self) -> str:
        """What it is used for, by its attribute; "" if it has none."""
        return ",".join(self.attributes.get(".AperFunction", ()))

    @property
    def round(self) -> bool:
        """Whether it is a plain disc."""
        return self.template == "C" and len(self.sizes) == 1

    def __str__(self) -> str:
        names = {"C": "round", "R": "rectangle", "O": "oblong", "P": "polygon"}
        size = " x ".join(f"{s:.3f}" for s in self.sizes[:2]) if self.template in "CRO" else ""
        return f"D{self.number} {names.get(self.template, self.template)} {size}".strip() + (" mm" if size else "")


class Mark(NamedTuple):
    """One thing that a file puts on the image: a flash, a stroke along points, or a filled contour; mm."""

    kind: str  # "flash", "stroke" or "region"
    dark: bool
    points: tuple[Spot, ...]
    aperture: Aperture | None
    matrix: Matrix
    line: int
    attributes: Attributes

    @property
    def net(self) -> str | None:
        """The net that the file says it is of; None if it says nothing."""
        found = self.attributes.get(".N")
        return ",".join(found) if found is not None else None

    @property
    def pin(self) -> tuple[str, str] | None:
        """Part and pin that the file says it is of."""
        found = self.attributes.get(".P", ())
        return (found[0], found[1]) if len(found) > 1 else None


@dataclass(frozen=True)
class GerberImage:
    """One image file: its marks, and what is odd about it. `negative` images are dark where nothing is drawn."""

    name: str
    marks: tuple[Mark, ...]
    apertures: tuple[Aperture, ...]
    attributes: Attributes = field(default_factory=dict)
    remarks: tuple[Remark, ...] = ()
    negative: bool = False
    unit: str = "mm"
    format: str = ""
    _kept: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def function(self) -> str:
        """What the file says that it is; "" if it does not."""
        return ",".join(self.attributes.get(".FileFunction", ()))

    @property
    def shapes(self) -> list[Any]:
        """The shape of each mark, mm, clear ones too; an empty one for a mark without width."""
        from zesty_trace.core.gerber.shapes import shapes_of

        if "shapes" not in self._kept:
            self._kept["shapes"] = shapes_of(self.marks)
        found: list[Any] = self._kept["shapes"]
        return found

    @property
    def shape(self) -> Any:
        """What is dark at the end, mm; of a negative image what is drawn."""
        from zesty_trace.core.gerber.shapes import painted

        if "shape" not in self._kept:
            self._kept["shape"] = painted([m.dark for m in self.marks], self.shapes)
        return self._kept["shape"]

    @property
    def lines(self) -> list[Any]:
        """The middle lines of all dark strokes and the edges of contours, mm, whatever their width."""
        from zesty_trace.core.gerber.shapes import middle_lines

        return middle_lines(self.marks)
