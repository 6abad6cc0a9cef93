"""Room for flags and local marks: where one fits between bodies, texts, wires and other flags."""

from __future__ import annotations

import math
from collections import defaultdict

from zesty_trace.core.geometry import Box

CELL = 8
AIR = 0.35  # between a text or a body and a wire


def cover(box: Box) -> tuple[range, range]:
    """Return the columns and rows of the grid on which a wire would touch a rectangle."""
    return (
        range(math.ceil(box.x0 - AIR), math.floor(box.x1 + AIR) + 1),
        range(math.ceil(box.y0 - AIR), math.floor(box.y1 + AIR) + 1),
    )


class Rooms:
    """Rectangles that are taken, found by place."""

    def __init__(self) -> None:
        self._cells: dict[tuple[int, int], list[Box]] = defaultdict(list)

    @staticmethod
    def _over(box: Box) -> list[tuple[int, int]]:
        return [
            (x, y)
            for x in range(math.floor(box.x0 / CELL), math.floor(box.x1 / CELL) + 1)
            for y in range(math.floor(box.y0 / CELL), math.floor(box.y1 / CELL) + 1)
        ]

    def add(self, box: Box) -> None:
        """Take a rectangle."""
        for cell in self._over(box):
            self._cells[cell].append(box)

    def free(self, box: Box) -> bool:
        """Whether it meets none that is taken."""
        return not any(box.meets(other) for cell in self._over(box) for other in self._cells.get(cell, ()))
