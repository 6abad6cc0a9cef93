"""The pieces of one layer of copper in a coarse raster, to find what is near a piece without looking at all."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.copper import Copper, Laid
from zesty_trace.core.board.cores import F64, TOUCH_MM, Cores, between

CELL_MM = 2.0


class Sheet:
    """One layer: pieces are put on and taken off, and asked for what is near them."""

    def __init__(self) -> None:
        self.items: dict[int, Copper] = {}
        self.lines: dict[int, tuple[Any, float]] = {}
        self.rows: dict[int, list[int]] = {}
        self._cells: dict[tuple[int, int], set[int]] = {}
        self._of_row: dict[int, list[tuple[int, int]]] = {}
        self._table = np.zeros((256, 7))
        self._free: list[int] = []
        self._next_row = self._next_item = 0

    def put(self, items: Iterable[Copper], lines: Any, radii: F64, cores: Cores) -> list[int]:
        """Add pieces, their cores numbered from 0; return the numbers that they have here."""
        numbers = []
        for item, line, radius in zip(items, lines, radii.tolist(), strict=True):
            self.items[self._next_item] = item
            self.lines[self._next_item] = (line, radius)
            self.rows[self._next_item] = []
            numbers.append(self._next_item)
            self._next_item += 1
        block = np.column_stack((cores.a, cores.b, cores.radius, cores.bound, np.array(numbers)[cores.item]))
        for row in block:
            self._put_row(row)
        return numbers

    def _put_row(self, row: npt.NDArray[np.float64]) -> None:
        at = self._free.pop() if self._free else self._next_row
        if at == self._next_row:
            self._next_row += 1
            if at >= len(self._table):
                self._table = np.vstack([self._table, np.zeros_like(self._table)])
        self._table[at] = row
        self.rows[int(row[6])].append(at)
        x0, y0, x1, y1, reach = row[:5].tolist()
        cells = [
            (i, j)
            for i in range(int((min(x0, x1) - reach) // CELL_MM), int((max(x0, x1) + reach) // CELL_MM) + 1)
            for j in range(int((min(y0, y1) - reach) // CELL_MM), int((max(y0, y1) + reach) // CELL_MM) + 1)
        ]
        self._of_row[at] = cells
        for cell in cells:
            self._cells.setdefault(cell, set()).add(at)

    def take(self, number: int) -> None:
        """Take a piece off."""
        for at in self.rows.pop(number):
            for cell in self._of_row.pop(at):
                self._cells[cell].discard(at)
            self._free.append(at)
        del self.items[number], self.lines[number]

    def within(self, room: tuple[float, float, float, float]) -> Laid:
        """Return the pieces in the cells that a box, mm, lies on."""
        x0, y0, x1, y1 = (int(v // CELL_MM) for v in room)
        rows = [at for i in range(x0, x1 + 1) for j in range(y0, y1 + 1) for at in self._cells.get((i, j), ())]
        numbers = sorted({int(self._table[at, 6]) for at in rows})
        lines = np.empty(len(numbers), dtype=object)
        lines[:] = [self.lines[n][0] for n in numbers]
        radii = np.array([self.lines[n][1] for n in numbers])
        return Laid(tuple(self.items[n] for n in numbers), lines, radii)

    def near(self, numbers: list[int], within_mm: float) -> Iterator[tuple[int, int, float]]:
        """Yield pairs of pieces, one of `numbers` first, and their gap, mm: each pair of two of them once."""
        ahead: list[int] = []
        other: list[int] = []
        for at in (at for n in numbers for at in self.rows[n]):
            found = self._round(at, within_mm)
            other += found
            ahead += [at] * len(found)
        if not ahead:
            return
        one, two = np.array(ahead, dtype=np.int64), np.array(other, dtype=np.int64)
        table = self._cores()
        gaps = between(table, one, table, two)
        close = gaps <= within_mm
        own = set(numbers)
        least: dict[tuple[int, int], float] = {}
        pairs = (table.item[one[close]].tolist(), table.item[two[close]].tolist(), gaps[close].tolist())
        for a, b, gap in zip(*pairs, strict=True):
            if a != b and not (b in own and b < a):
                least[a, b] = min(gap, least.get((a, b), 1e9))
        for (a, b), gap in least.items():
            exact = self._exact(a, b, gap)
            if exact <= within_mm:
                yield a, b, exact

    def _round(self, at: int, within_mm: float) -> list[int]:
        """Return the rows in the cells round a row."""
        x0, y0, x1, y1, reach = self._table[at, :5].tolist()
        grow = reach + within_mm
        found: set[int] = set()
        for i in range(int((min(x0, x1) - grow) // CELL_MM), int((max(x0, x1) + grow) // CELL_MM) + 1):
            for j in range(int((min(y0, y1) - grow) // CELL_MM), int((max(y0, y1) + grow) // CELL_MM) + 1):
                found |= self._cells.get((i, j), set())
        return list(found)

    def _cores(self) -> Cores:
        t = self._table
        return Cores(t[:, :2], t[:, 2:4], t[:, 4], t[:, 5] > 0, t[:, 6].astype(np.int64))

    def _exact(self, a: int, b: int, gap: float) -> float:
        """Return the gap of two pieces, mm, 0 where they touch; what is a bound is measured."""
        if self._table[self.rows[a][0], 5] or self._table[self.rows[b][0], 5]:
            (line, r), (other, s) = self.lines[a], self.lines[b]
            gap = float(line.distance(other)) - r - s
        return 0.0 if gap < TOUCH_MM else gap
