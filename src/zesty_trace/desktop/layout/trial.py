"""What is shown while a part is held: its links where it would go, the room it keeps, what it runs into."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from zesty_trace.core.board.copper import board_pads, pad_shapes
from zesty_trace.core.board.live import LiveReview
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding
from zesty_trace.core.quantities import mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import shape_path


@dataclass(frozen=True)
class Trial:
    """A part where it would go."""

    links: tuple[QLineF, ...]
    halo: QPainterPath
    findings: tuple[Finding, ...]

    def draw(self, p: QPainter) -> None:
        """Draw links, the room round its pads, and rings where it runs into something."""
        t = theme.current()
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color("stop" if self.findings else "lime"), 0.1))
        p.drawPath(self.halo)
        p.setPen(QPen(t.color("lime"), 0.22, Qt.PenStyle.DotLine))
        p.drawLines(list(self.links))
        p.setPen(QPen(t.color("stop"), 0.3))
        for finding in self.findings:
            for at in finding.at[:3]:
                p.drawEllipse(QPointF(mm(at.x_nm), mm(at.y_nm)), 1.3, 1.3)


def try_part(live: LiveReview, wired: Wired, ref: str) -> Trial:
    """Return what a part does where it stands in a board that is only tried; a few milliseconds."""
    found = live.moved(wired, (ref,))
    links = [k for k in live.links().links if ref in (k.a.ref, k.b.ref)]
    lines = tuple(QLineF(mm(k.ax_nm), mm(k.ay_nm), mm(k.bx_nm), mm(k.by_nm)) for k in links)
    halo = QPainterPath()
    pads = [p for p in board_pads(wired, (ref,)) if p.layers]
    for shape in pad_shapes(pads, mm(wired.design.board.rules.clearance_nm)) if pads else ():
        halo.addPath(shape_path(shape))
    return Trial(lines, halo, tuple(found))
