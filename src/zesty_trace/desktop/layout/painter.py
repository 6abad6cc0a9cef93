"""Drawing a board: top copper solid, bottom copper a teal hatch, inner copper dots and level lines, parts, links.

Scene units are millimetres, y up.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from zesty_trace.core.board.copper import BoardPad, board_pads, hole_shape, pad_hole, pattern_of, to_board
from zesty_trace.core.board.links import Link
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, LayerName
from zesty_trace.core.geometry import Box, box_of
from zesty_trace.core.quantities import mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import Lettering, draw_text

PATTERNS: dict[LayerName, Qt.BrushStyle] = {
    "inner1": Qt.BrushStyle.Dense6Pattern,
    "inner2": Qt.BrushStyle.HorPattern,
    "bottom": Qt.BrushStyle.BDiagPattern,
}


@dataclass(frozen=True)
class BoardView:
    """Everything the painter needs. Pours and links are worked out off the GUI thread."""

    wired: Wired
    pours: dict[LayerName, list[QPainterPath]] = field(default_factory=dict)
    links: tuple[Link, ...] = ()
    lit: frozenset[str] = frozenset()
    done: frozenset[str] = frozenset()
    marks: tuple[tuple[float, float], ...] = ()
    show_copper: bool = True
    hidden_layers: frozenset[LayerName] = frozenset()
    hidden: frozenset[str] = frozenset()
    checking: bool = False  # parts step back behind what the review has found

    @property
    def design(self) -> Design:
        """The design that is shown."""
        return self.wired.design


def shape_path(shape: Any) -> QPainterPath:
    """Return the painter path of a shapely polygon or collection, holes left open."""
    path = QPainterPath()
    path.setFillRule(Qt.FillRule.OddEvenFill)
    for piece in getattr(shape, "geoms", [shape]):
        if piece.geom_type != "Polygon" or piece.is_empty:
            continue
        for ring in (piece.exterior, *piece.interiors):
            points = list(ring.coords)
            path.moveTo(*points[0][:2])
            for x, y, *_ in points[1:]:
                path.lineTo(x, y)
            path.closeSubpath()
    return path


def pad_path(pad: BoardPad) -> QPainterPath:
    """Return the painter path of a pad, at its place."""
    w, h = mm(pad.width_nm), mm(pad.height_nm)
    path = QPainterPath()
    if pad.shape in ("round", "oblong"):
        path.addRoundedRect(QRectF(-w / 2, -h / 2, w, h), min(w, h) / 2, min(w, h) / 2)
    else:
        path.addRect(QRectF(-w / 2, -h / 2, w, h))
    turn = QTransform()
    turn.translate(mm(pad.x_nm), mm(pad.y_nm))
    turn.rotate(pad.angle_mdeg / 1000)
    return turn.map(path)


def _body_path(wired: Wired, ref: str) -> QPainterPath:
    design = wired.design
    x0, y0, x1, y1 = pattern_of(wired, ref).body
    spot = design.board.placements[ref]
    corners = [to_board(spot, x, y) for x, y in ((x0, y0), (x1, y0), (x1, y1), (x0, y1))]
    path = QPainterPath()
    path.addPolygon(QPolygonF([QPointF(x / 1e6, y / 1e6) for x, y in (*corners, corners[0])]))
    return path


def flat_text(p: QPainter, x: float, y: float, text: str, size: float, color: str, bold: bool = False) -> None:
    """Draw centred text upright although the scene's y points up."""
    p.save()
    p.translate(x, y)
    p.scale(-1 if p.transform().determinant() > 0 else 1, -1)  # seen from behind
    draw_text(p, Lettering(0, 0, text, size, color, "center", bold))
    p.restore()


_LABELS: deque[tuple[tuple[object, ...], dict[str, tuple[float, float, float]]]] = deque(maxlen=6)


class BoardPainter:
    """Draws one view of a board."""

    def __init__(self, view: BoardView) -> None:
        self.view = view
        self.pads: list[BoardPad] = board_pads(view.wired)
        self.bodies = {r: _body_path(view.wired, r) for r in view.design.board.placements if r in view.design.parts}
        self.pad_paths = [pad_path(p) for p in self.pads]
        self.labels = self._known_labels()

    def _known_labels(self) -> dict[str, tuple[float, float, float]]:
        """Return the spots of the references, those of before where parts and board are the same values."""
        design = self.view.design
        of = (design.board.placements, design.parts, design.board.outline, self.view.wired.catalogue)
        for known, spots in _LABELS:
            if all(a is b for a, b in zip(known, of, strict=True)):
                return spots
        found = self._label_spots()
        _LABELS.appendleft((of, found))
        return found

    def draw(self, p: QPainter) -> None:
        """Draw all."""
        self._board(p)
        if self.view.show_copper:
            for layer in reversed(self.view.design.board.stack):
                if layer not in self.view.hidden_layers:
                    self._layer(p, layer)
        self._zones(p)
        self._pads(p)
        if self.view.show_copper:
            self._vias(p)
        self._parts(p)
        self._links(p)
        self._marks(p)

    def _board(self, p: QPainter) -> None:
        t = theme.current()
        board = self.view.design.board
        if not board.outline:
            return
        path = QPainterPath()
        for ring in (board.outline, *board.cutouts):
            path.addPolygon(QPolygonF([QPointF(mm(x), mm(y)) for x, y in ring]))
            path.closeSubpath()
        p.setPen(QPen(t.color("ink"), 0.25))
        p.setBrush(t.color("board"))
        p.drawPath(path)

    def _hatch(self, p: QPainter, layer: LayerName, alpha: int) -> QBrush:
        brush = QBrush(theme.current().color(layer, alpha), PATTERNS[layer])
        scale = p.transform()
        brush.setTransform(QTransform.fromScale(1 / scale.m11(), 1 / scale.m22()))  # hatch lines in pixels
        return brush

    def _layer(self, p: QPainter, layer: LayerName) -> None:
        t = theme.current()
        top = layer == "top"
        p.setPen(QPen(t.color("copper" if top else layer, 60), 0.05))
        p.setBrush(t.color("copper", 42) if top else self._hatch(p, layer, 90))
        for path in self.view.pours.get(layer, []):
            p.drawPath(path)
        for track in self.view.design.board.tracks:
            if track.layer != layer:
                continue
            points = [QPointF(mm(x), mm(y)) for x, y in track.points]
            if top:
                self._stroke(p, points, t.color("copper"), mm(track.width_nm))
            else:
                self._stroke(p, points, t.color(layer, 150), mm(track.width_nm))
                p.setPen(self._hatch_pen(p, layer, mm(track.width_nm)))
                p.drawPolyline(points)

    def _hatch_pen(self, p: QPainter, layer: LayerName, width: float) -> QPen:
        pen = QPen(self._hatch(p, layer, 255), width)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        return pen

    def _stroke(self, p: QPainter, points: list[QPointF], color: QColor, width: float) -> None:
        pen = QPen(color, width)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        p.setPen(pen)
        p.drawPolyline(points)

    def _zones(self, p: QPainter) -> None:
        """Draw the keep-outs of the board: dashed, with what they are called."""
        t = theme.current()
        pen = QPen(t.color("stop"), 0.18)
        pen.setStyle(Qt.PenStyle.DashLine)
        for zone in self.view.design.board.keepouts:
            if len(zone.outline) < 3:
                continue
            p.setPen(pen)
            p.setBrush(t.color("stop", 26))
            points = [QPointF(mm(x), mm(y)) for x, y in zone.outline]
            p.drawPolygon(QPolygonF(points))
            box = box_of((q.x(), q.y()) for q in points)
            words = f"room {mm(zone.height_nm):g} mm" if zone.height_nm is not None else zone.name
            size = min(1.4, box.width / max(1, len(words)) * 1.5)
            flat_text(p, *box.middle, words, size, "stop")

    def _pads(self, p: QPainter) -> None:
        t = theme.current()
        p.setPen(Qt.PenStyle.NoPen)
        for pad, path in zip(self.pads, self.pad_paths, strict=True):
            if pad.pin.ref in self.view.hidden:
                continue
            lit = pad.pin.ref in self.view.lit
            faded = not self.view.show_copper and not lit
            if pad.layers:
                name = "copper" if "top" in pad.layers else "bottom"
                p.setBrush(t.color(name, 90 if faded else 255))
                p.drawPath(path)
            if pad.drill_nm:
                p.setBrush(t.color("sheet"))
                if pad.slot_nm:
                    p.drawPath(shape_path(hole_shape(pad_hole(pad))))
                else:
                    p.drawEllipse(QPointF(mm(pad.x_nm), mm(pad.y_nm)), mm(pad.drill_nm) / 2, mm(pad.drill_nm) / 2)

    def _vias(self, p: QPainter) -> None:
        t = theme.current()
        for via in self.view.design.board.vias:
            at = QPointF(mm(via.x_nm), mm(via.y_nm))
            p.setBrush(t.color("lemon"))
            p.drawEllipse(at, mm(via.diameter_nm) / 2, mm(via.diameter_nm) / 2)
            p.setBrush(t.color("sheet"))
            p.drawEllipse(at, mm(via.drill_nm) / 2, mm(via.drill_nm) / 2)

    def _parts(self, p: QPainter) -> None:
        t = theme.current()
        for ref, path in self.bodies.items():
            if ref in self.view.hidden:
                continue
            lit, done = ref in self.view.lit, ref in self.view.done
            spot = self.view.design.board.placements[ref]
            kind = self.view.wired.kind(ref)
            p.setBrush(t.color("lemon", 200) if lit else (t.color("part") if done else Qt.BrushStyle.NoBrush))
            ink = t.color("ink" if spot.side == "top" else "bottom", 90 if self.view.checking and not lit else 255)
            p.setPen(QPen(ink, 0.25 if lit else 0.13))
            if kind.assembled:
                p.drawPath(path)
            self._mark(p, ref)
            self._reference(p, ref, lit or not (self.view.lit or self.view.done))

    def _mark(self, p: QPainter, ref: str) -> None:
        pattern = pattern_of(self.view.wired, ref)
        if pattern.mark:
            x, y = to_board(self.view.design.board.placements[ref], *pattern.mark)
            p.setBrush(theme.current().color("ink"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawEllipse(QPointF(x / 1e6, y / 1e6), 0.22, 0.22)

    def _reference(self, p: QPainter, ref: str, strong: bool) -> None:
        x, y, size = self.labels[ref]
        flat_text(p, x, y, ref, size, "ink" if strong else "muted", True)

    def _label_spots(self) -> dict[str, tuple[float, float, float]]:
        """Return a spot and size for each reference: inside a roomy body, else the freest place around it."""
        boxes = {r: _box(path) for r, path in self.bodies.items()}
        pads = [_box(path) for pad, path in zip(self.pads, self.pad_paths, strict=True) if pad.layers]
        bodies, under = np.array(list(boxes.values())).reshape(-1, 4), np.array(pads).reshape(-1, 4)
        place = {r: k for k, r in enumerate(boxes)}
        taken: list[Box] = []
        found = {}
        board = box_of((mm(x), mm(y)) for x, y in self.view.design.board.outline)
        for ref in sorted(boxes, key=lambda r: -boxes[r].area):
            own = boxes[ref]
            small = min(own.width, own.height) < 3
            size = 1.25 if small else 1.7
            hole = not self.view.wired.kind(ref).pins
            choices = _label_choices(own, len(ref) * size * 0.66, size * 1.1, hole)
            others = np.delete(bodies, place[ref], axis=0)
            spots = np.array(choices)
            prices = 4 * _shared(spots, np.array(taken).reshape(-1, 4)) + 2 * _shared(spots, others)
            prices += 12 * _shared(spots, under) + [3 * (c.area - c.shared(board)) for c in choices]
            best = choices[int(prices.argmin())]
            taken.append(best)
            found[ref] = (*best.middle, size)
        return found

    def _links(self, p: QPainter) -> None:
        pen = QPen(theme.current().color("lime"), 0.16)
        pen.setStyle(Qt.PenStyle.DotLine)
        p.setPen(pen)
        for k in self.view.links:
            p.drawLine(QPointF(mm(k.ax_nm), mm(k.ay_nm)), QPointF(mm(k.bx_nm), mm(k.by_nm)))

    def _marks(self, p: QPainter) -> None:
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.current().color("stop"), 0.35))
        for x, y in self.view.marks:
            p.drawEllipse(QPointF(x, y), 1.6, 1.6)


def _box(path: QPainterPath) -> Box:
    r = path.boundingRect()
    return Box(r.left(), r.top(), r.right(), r.bottom())


def _shared(spots: npt.NDArray[np.float64], boxes: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return how much area each spot shares with all boxes together, mm²; both are rows of x0, y0, x1, y1."""
    low = np.maximum(spots[:, None, :2], boxes[None, :, :2])
    high = np.minimum(spots[:, None, 2:], boxes[None, :, 2:])
    found: npt.NDArray[np.float64] = np.clip(high - low, 0.0, None).prod(axis=2).sum(axis=1)
    return found


def _label_choices(own: Box, wide: float, high: float, hole: bool) -> list[Box]:
    """Return places for a label: inside if it fits, then around the body, near before far."""
    (cx, cy), gap = own.middle, 0.25

    def at(x: float, y: float) -> Box:
        return Box(x - wide / 2, y - high / 2, x + wide / 2, y + high / 2)

    choices = [at(cx, cy)] if hole or (own.width > wide and own.height > high) else []
    for far in (gap, gap + 0.7):
        choices += [at(cx, own.y1 + far + high / 2), at(cx, own.y0 - far - high / 2)]
        choices += [at(own.x1 + far + wide / 2, cy), at(own.x0 - far - wide / 2, cy)]
    return choices


def outline_rect(design: Design) -> QRectF:
    """Return the rectangle round a board and its parts' bodies, mm."""
    if not design.board.outline:
        return QRectF(0, 0, 80, 56)
    edge = box_of((mm(x), mm(y)) for x, y in design.board.outline).grown(1.5)
    return QRectF(edge.x0, edge.y0, edge.width, edge.height)
