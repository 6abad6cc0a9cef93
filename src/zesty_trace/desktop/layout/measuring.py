"""Measuring on the board: a line between two points that catch pads, holes, track ends and corners; the grid."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.quantities import NM_PER_MIL, mm
from zesty_trace.desktop.kit import theme

CATCH_MM = 0.6
DOTS_PX = 9  # nearer than that, dots of the grid are left out by tens
# What the grid offers, as written: nm.
GRIDS = {
    "0.1 mm": 100_000,
    "0.5 mm": 500_000,
    "1 mm": 1_000_000,
    "5 mil": round(5 * NM_PER_MIL),
    "25 mil": round(25 * NM_PER_MIL),
    "50 mil": round(50 * NM_PER_MIL),
    "100 mil": round(100 * NM_PER_MIL),
}


def catch(wired: Wired, at: QPointF) -> QPointF:
    """Return the middle of a pad, via or hole, end of a track or corner of the board next to a point, or the point."""
    board = wired.design.board
    spots = [(p.x_nm, p.y_nm) for p in board_pads(wired)]
    spots += [(v.x_nm, v.y_nm) for v in board.vias]
    spots += [end for t in board.tracks for end in (t.points[0], t.points[-1])]
    spots += [p for ring in (board.outline, *board.cutouts) for p in ring]
    spots += [(s.x_nm, s.y_nm) for s in board.placements.values()]
    near = min(spots, key=lambda s: math.hypot(mm(s[0]) - at.x(), mm(s[1]) - at.y()), default=None)
    if near is None or math.hypot(mm(near[0]) - at.x(), mm(near[1]) - at.y()) > CATCH_MM:
        return at
    return QPointF(mm(near[0]), mm(near[1]))


def say_distance(a: QPointF, b: QPointF) -> str:
    """Return a distance in words: mm and mil, along both axes, and the angle.

    >>> say_distance(QPointF(0, 0), QPointF(2.54, 0))
    '2.540 mm (100.0 mil), dx +2.540, dy +0.000 mm, at 0.0°'
    """
    dx, dy = b.x() - a.x(), b.y() - a.y()
    far = math.hypot(dx, dy)
    mil = far * 1e6 / NM_PER_MIL
    return f"{far:.3f} mm ({mil:.1f} mil), dx {dx:+.3f}, dy {dy:+.3f} mm, at {math.degrees(math.atan2(dy, dx)):.1f}°"


@dataclass
class Tape:
    """A measure being taken: from where, to where, and whether both are fixed."""

    start: QPointF | None = None
    end: QPointF | None = None
    done: bool = False

    def draw(self, p: QPainter, scale: float) -> None:
        """Draw it."""
        if self.start is None or self.end is None:
            return
        t = theme.current()
        pen = QPen(t.color("ink"), 1.5 / scale)
        p.setPen(pen)
        p.drawLine(QLineF(self.start, self.end))
        for at in (self.start, self.end):
            p.drawEllipse(at, 4 / scale, 4 / scale)


def draw_grid(p: QPainter, pitch_nm: int, seen: QRectF, scale: float) -> None:
    """Draw the dots of a grid, fewer where they would lie too near to each other."""
    pitch = pitch_nm / 1e6
    while pitch * scale < DOTS_PX:
        pitch *= 10
    pen = QPen(theme.current().color("muted", 90), 1.4 / scale)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    p.setPen(pen)
    x0, y0 = math.floor(seen.left() / pitch), math.floor(seen.top() / pitch)
    x1, y1 = math.ceil(seen.right() / pitch), math.ceil(seen.bottom() / pitch)
    p.drawPoints([QPointF(i * pitch, j * pitch) for i in range(x0, x1 + 1) for j in range(y0, y1 + 1)])
