"""Symbols by IEC 60617, drawn about the middle of a part: a two-pin part stands, its first pin on top.

The caller has set the pen, the fill and the turn.
"""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.schematic.symbols import Symbol

HALF = 1.2  # of a two-pin body, along its leads
CROSS = 0.3  # half of the cross at an open pin


def line(p: QPainter, *points: float) -> None:
    """Draw a line through points, given as x, y, x, y, …"""
    spots = [QPointF(x, y) for x, y in zip(points[::2], points[1::2], strict=True)]
    p.drawPolyline(QPolygonF(spots))


def leads(p: QPainter, near: float = HALF) -> None:
    """Draw both leads of a standing part, from `near` to where wires end."""
    line(p, 0, -2, 0, -near)
    line(p, 0, near, 0, 2)


def resistor(p: QPainter) -> None:
    """Draw a rectangle."""
    leads(p)
    p.drawRect(QRectF(-0.55, -HALF, 1.1, 2 * HALF))


def adjustable(p: QPainter) -> None:
    """Draw a resistor that something sets: a line across it, bent at its foot (S00557 and its kin)."""
    resistor(p)
    line(p, -0.85, 1.15, -0.85, 0.75, 0.85, -0.9)


def lit_resistor(p: QPainter) -> None:
    """Draw a resistor on which light falls."""
    resistor(p)
    _rays(p, -1, inwards=True)


def fuse(p: QPainter) -> None:
    """Draw a rectangle with its line through."""
    resistor(p)
    line(p, 0, -HALF, 0, HALF)


def coil(p: QPainter) -> None:
    """Draw four half turns."""
    leads(p)
    for k in range(4):
        p.drawArc(QRectF(-0.3, -HALF + 0.6 * k, 0.6, 0.6), -90 * 16, 180 * 16)


def capacitor(p: QPainter, plus: int) -> None:
    """Draw two plates; `plus` is -1 where the upper one is positive, 1 for the lower, 0 for neither."""
    leads(p, 0.3)
    pen = p.pen()
    thick = QPen(pen)
    thick.setWidthF(pen.widthF() * 1.8)
    p.setPen(thick)
    line(p, -0.9, -0.3, 0.9, -0.3)
    line(p, -0.9, 0.3, 0.9, 0.3)
    p.setPen(pen)
    if plus:
        y = plus * 1.0
        line(p, -0.95, y, -0.35, y)
        line(p, -0.65, y - 0.3, -0.65, y + 0.3)


def crystal(p: QPainter) -> None:
    """Draw a plate between two electrodes."""
    leads(p, 0.85)
    line(p, -0.8, -0.85, 0.8, -0.85)
    line(p, -0.8, 0.85, 0.8, 0.85)
    p.drawRect(QRectF(-0.75, -0.5, 1.5, 1.0))


def diode(p: QPainter, kind: Kind) -> None:
    """Draw a diode that conducts downwards: its bar tells a Zener, a Schottky and a clamp apart."""
    leads(p, 0.8)
    if clamps_both_ways(kind):
        p.drawPolygon(QPolygonF([QPointF(-0.8, -0.8), QPointF(0.8, -0.8), QPointF(0, 0)]))
        p.drawPolygon(QPolygonF([QPointF(-0.8, 0.8), QPointF(0.8, 0.8), QPointF(0, 0)]))
        line(p, -0.85, 0.3, -0.85, 0, 0.85, 0, 0.85, -0.3)
        return
    p.drawPolygon(QPolygonF([QPointF(-0.85, -0.8), QPointF(0.85, -0.8), QPointF(0, 0.7)]))
    if kind.is_a(m.Zener):
        line(p, -0.85, 0.35, -0.85, 0.7, 0.85, 0.7)
    elif is_clamp(kind):
        line(p, -0.85, 0.35, -0.85, 0.7, 0.85, 0.7, 0.85, 1.05)
    elif "schottky" in kind.id:
        line(p, -0.6, 0.35, -0.85, 0.35, -0.85, 0.7, 0.85, 0.7, 0.85, 1.05, 0.6, 1.05)
    else:
        line(p, -0.85, 0.7, 0.85, 0.7)


def led(p: QPainter, side: int) -> None:
    """Draw a diode that gives light, to the right (1) or to the left (-1)."""
    leads(p, 0.8)
    p.drawPolygon(QPolygonF([QPointF(-0.85, -0.8), QPointF(0.85, -0.8), QPointF(0, 0.7)]))
    line(p, -0.85, 0.7, 0.85, 0.7)
    _rays(p, side, inwards=False)


def _rays(p: QPainter, side: int, inwards: bool) -> None:
    """Draw two arrows beside a part, to it or away from it."""
    for y in (-0.3, 0.5):
        near, far = (side * 0.9, y), (side * 1.7, y - 0.7)
        tip, back = (near, 0.35) if inwards else (far, -0.35)
        line(p, *near, *far)
        line(p, tip[0] + side * back, tip[1], *tip, tip[0], tip[1] - back)


def is_clamp(kind: Kind) -> bool:
    """Whether a diode is there to clamp a surge."""
    return kind.id.startswith("tvs") or "clamp" in kind.title.lower() or "surge" in kind.title.lower()


def clamps_both_ways(kind: Kind) -> bool:
    """Whether it clamps in both directions."""
    return is_clamp(kind) and "bidirectional" in kind.id


def sounder(p: QPainter) -> None:
    """Draw a disc that sounds to the right."""
    leads(p, 0.85)
    p.drawEllipse(QPointF(0, 0), 0.85, 0.85)
    p.drawArc(QRectF(-0.45, -0.45, 0.9, 0.9), -60 * 16, 120 * 16)


def button(p: QPainter) -> None:
    """Draw a make contact that a finger closes."""
    leads(p, 0.9)
    line(p, 0, 0.9, -0.7, -0.75)
    line(p, -0.37, 0.02, 0.5, 0.02)
    line(p, 0.5, -0.35, 0.5, 0.4)


def point(p: QPainter, y: float) -> None:
    """Draw a place for a probe."""
    line(p, 0, y, 0, y * 0.35)
    p.drawEllipse(QPointF(0, 0), 0.7, 0.7)


def generic(p: QPainter) -> None:
    """Draw a two-pin part that has no symbol of its own: a square with leads."""
    leads(p, 0.9)
    p.drawRect(QRectF(-0.9, -0.9, 1.8, 1.8))


def box(p: QPainter, b: Symbol, joined: frozenset[str]) -> None:
    """Draw a box with its leads; a pin that is on no net has a cross at its end."""
    for pin in b.pins:
        line(p, pin.x, pin.y, min(max(pin.x, b.left), b.right), min(max(pin.y, b.top), b.bottom))
    p.drawRoundedRect(QRectF(b.left, b.top, b.right - b.left, b.bottom - b.top), 0.5, 0.5)
    crosses(p, b, joined)


def crosses(p: QPainter, b: Symbol, joined: frozenset[str]) -> None:
    """Draw a cross at each pin that is on no net."""
    for pin in b.pins:
        if pin.number not in joined:
            line(p, pin.x - CROSS, pin.y - CROSS, pin.x + CROSS, pin.y + CROSS)
            line(p, pin.x - CROSS, pin.y + CROSS, pin.x + CROSS, pin.y - CROSS)


def transistor(p: QPainter, b: Symbol, kind: Kind) -> None:
    """Draw a transistor: control left, or on top where it passes a signal from left to right."""
    p.drawEllipse(QPointF(0, 0), 1.9, 1.9)
    p.save()
    if b.turned:  # drawn as if its control were left: a quarter turn
        p.rotate(90)
    upper_first = [pin for pin in b.pins if pin.name not in ("G", "B")]
    if b.turned:
        upper_first = upper_first[::-1]  # what is right comes on top before the turn
    names = [pin.name for pin in upper_first]
    if kind.is_a(m.FieldEffect):
        _field_effect(p, kind.is_a(m.Pmos), source_up=names[0] == "S")
    else:
        _bipolar(p, kind.is_a(m.Pnp), emitter_up=names[0] == "E")
    p.restore()


def _arrow(p: QPainter, x0: float, y0: float, x1: float, y1: float, size: float = 0.5) -> None:
    """Draw a filled arrow head at (x1, y1), coming from (x0, y0)."""
    far = ((x1 - x0) ** 2 + (y1 - y0) ** 2) ** 0.5
    ux, uy = (x1 - x0) / far, (y1 - y0) / far
    fill = p.brush()
    p.setBrush(p.pen().color())
    back = QPointF(x1 - size * ux, y1 - size * uy)
    half = QPointF(-uy * size * 0.45, ux * size * 0.45)
    p.drawPolygon(QPolygonF([QPointF(x1, y1), back + half, back - half]))
    p.setBrush(fill)


def _bipolar(p: QPainter, pnp: bool, emitter_up: bool) -> None:
    """Draw base bar, collector and emitter, whose arrow points out of an NPN and into a PNP."""
    line(p, -3, 0, -0.7, 0)
    line(p, -0.7, -1.05, -0.7, 1.05)
    for up in (True, False):
        s = -1 if up else 1
        line(p, -0.7, s * 0.45, 0, s * 1.25, 0, s * 3)
        if up == emitter_up:
            ends = ((-0.7, s * 0.45), (0.0, s * 1.25))
            _arrow(p, *(ends[::-1] if pnp else ends)[0], *(ends[::-1] if pnp else ends)[1])


def _field_effect(p: QPainter, p_type: bool, source_up: bool) -> None:
    """Draw an enhancement transistor: a broken channel, the arrow of its body, the body diode."""
    s = -1 if source_up else 1  # where the source is
    line(p, -3, 0, -1.15, 0)
    line(p, -1.15, -1.0, -1.15, 1.0)
    for y in (-0.85, 0.0, 0.85):
        line(p, -0.8, y - 0.3, -0.8, y + 0.3)
    line(p, -0.8, -s * 0.85, 0, -s * 0.85, 0, -s * 3)
    line(p, -0.8, s * 0.85, 0, s * 0.85, 0, s * 3)
    line(p, -0.8, 0, 0, 0, 0, s * 0.85)
    _arrow(p, *((-0.8, 0.0, -0.05, 0.0) if p_type else (0.0, 0.0, -0.75, 0.0)), size=0.45)
    body = 0.85
    line(p, 0, -body, 1.0, -body, 1.0, body, 0, body)
    up = (s > 0) != p_type  # an N type's diode conducts from its source to its drain
    tip, foot = (-0.3, 0.3) if up else (0.3, -0.3)
    p.drawPolygon(QPolygonF([QPointF(1.0, tip), QPointF(0.65, foot), QPointF(1.35, foot)]))
    line(p, 0.65, tip, 1.35, tip)
