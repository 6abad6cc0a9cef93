"""A set of fabrication files to look at: layers over each other, or the board as it will be made, from both sides."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QTransform
from PySide6.QtWidgets import QWidget

from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.gerber.image import GerberImage
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.kit.still import Still
from zesty_trace.desktop.layout.made import LAMINATE, MASKS, TIN
from zesty_trace.desktop.layout.measuring import Tape, say_distance
from zesty_trace.desktop.layout.painter import shape_path

Key = tuple[str, str]  # role and side
AS_MADE = {"Top as made": "top", "Bottom as made": "bottom"}
NAMES = {"copper": "copper", "mask": "mask openings", "paste": "paste", "silk": "silk"}
COLOURS = {"top": "copper", "bottom": "bottom", "inner1": "inner1", "inner2": "inner2"}
INKS = {"mask": "lemon", "paste": "ground"}


@dataclass(frozen=True)
class Patch:
    """An area that a view of its own shows: in a colour of the theme, hatched or solid; a line if `pen` is wide, mm."""

    path: QPainterPath
    colour: str
    alpha: int = 255
    hatched: bool = False
    pen: float = 0.0


@dataclass(frozen=True)
class SetLook:
    """A set as paths, mm; worked out off the GUI thread. `extra` has views of its own, shown before the others."""

    board: BoardSet
    paths: dict[Key, QPainterPath]
    edge: QPainterPath
    holes: QPainterPath
    tin: dict[str, QPainterPath]  # of each side: copper that the mask leaves bare
    trees: dict[Key, Any] = field(default_factory=dict)
    extra: dict[str, tuple[Patch, ...]] = field(default_factory=dict)

    def views(self) -> dict[str, tuple[Key, ...]]:
        """Return what can be looked at: a name, and the layers that it shows, lowest first."""
        found: dict[str, tuple[Key, ...]] = dict.fromkeys(self.extra, ())
        for name, side in AS_MADE.items():
            if ("copper", side) in self.paths:
                found[name] = tuple(k for k in ((r, side) for r in ("copper", "mask", "silk")) if k in self.paths)
        layers = self.board.layers
        if len(layers) > 1:
            found["All copper"] = tuple(("copper", k) for k in reversed(layers))
        for role, words in NAMES.items():
            for side in layers if role == "copper" else ("top", "bottom"):
                if (role, side) in self.paths:
                    title = f"Inner copper {side[5:]}" if side.startswith("inner") else f"{side.capitalize()} {words}"
                    found[title] = ((role, side),)
        found["Holes"] = ()
        return found


def set_look(board: BoardSet) -> SetLook:
    """Work out how a set looks; for a worker's thread."""
    from shapely import STRtree, union_all

    paths = {k: shape_path(i.shape) for k, i in board.images.items() if k[0] != "outline"}
    paths |= {("copper", k): shape_path(board.copper(k)) for k in board.layers}
    edges = board.edges
    edge = shape_path(edges.board) if edges.board is not None else QPainterPath()
    if edges.board is None and ("outline", "") in board.images:
        edge = shape_path(board.images["outline", ""].shape)
    holes = shape_path(union_all([h.shape for h in board.holes])) if board.holes else QPainterPath()
    outer = [k for k in board.layers if ("mask", k) in board.images]
    tin = {k: shape_path(board.copper(k).intersection(board.shape("mask", k))) for k in outer}
    return SetLook(board, paths, edge, holes, tin, {k: STRtree(i.shapes) for k, i in board.images.items()})


class SetCanvas(Canvas):
    """Draws a SetLook; a click says what is there, M measures."""

    tapped = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, y_up=True)
        self.look: SetLook | None = None
        self.name, self.layers = "", ()
        self.colour = "green"
        self.marks: tuple[tuple[float, float], ...] = ()
        self.tape: Tape | None = None
        self.still = Still(self, self._draw)
        self.empty_hint = "Nothing to look at yet: write the fabrication zip, or drop one here."
        self.setAccessibleName("Fabrication files")

    layers: tuple[Key, ...]

    def show_look(self, look: SetLook | None, name: str = "", colour: str = "green") -> None:
        """Show one view of a set."""
        first = self.look is None or look is None or self.look.edge.boundingRect() != look.edge.boundingRect()
        self.look, self.name, self.colour = look, name, colour
        self.layers = look.views().get(name, ()) if look is not None else ()
        self.empty_hint = "" if look else "Nothing to look at yet: write the fabrication zip, or drop one here."
        self.flipped = name.startswith("Bottom")
        self.still.forget()
        if first:
            self.fit()
        self.refit()

    def show_marks(self, marks: tuple[tuple[float, float], ...]) -> None:
        """Ring places; bring a single one into view."""
        self.marks = marks
        if len(marks) == 1:
            self.center_on(QPointF(*marks[0]), 18.0)
        self.update()

    def scene_rect(self) -> QRectF:
        """Return the rectangle round everything."""
        if self.look is None:
            return QRectF(0, 0, 80, 56)
        rect = self.look.edge.boundingRect()
        for path in self.look.paths.values() if rect.isEmpty() else ():
            rect = rect.united(path.boundingRect())
        return rect.adjusted(-1.5, -1.5, 1.5, 1.5) if not rect.isEmpty() else QRectF(0, 0, 80, 56)

    def paint_scene(self, p: QPainter) -> None:
        """Put down the layers, then what is marked and measured."""
        if self.look is None:
            return
        self.still.put(p, self.look, self.name, self.colour)
        if self.marks:
            pen = QPen(theme.current().color("stop"), 2.5 / self.scale)
            p.setPen(pen)
            p.setBrush(Qt.BrushStyle.NoBrush)
            for x, y in self.marks:
                p.drawEllipse(QPointF(x, y), 11 / self.scale, 11 / self.scale)
        if self.tape is not None:
            self.tape.draw(p, self.scale)

    def _draw(self, p: QPainter) -> None:
        if self.look is None:
            return
        p.setPen(Qt.PenStyle.NoPen)
        if self.name in self.look.extra:
            self._draw_patches(p, self.look, self.look.extra[self.name])
        elif self.name in AS_MADE:
            self._draw_made(p, self.look, AS_MADE[self.name])
        else:
            self._draw_layers(p, self.look)

    def _draw_made(self, p: QPainter, look: SetLook, side: str) -> None:
        mask, copper, silk = (QColor(c) for c in MASKS.get(self.colour, MASKS["green"]))
        p.setBrush(mask if ("mask", side) in look.paths else QColor(LAMINATE))
        p.drawPath(look.edge)
        p.setBrush(copper if ("mask", side) in look.paths else QColor(TIN))
        p.drawPath(look.paths["copper", side])
        if side in look.tin:
            for colour, path in ((LAMINATE, look.paths["mask", side]), (TIN, look.tin[side])):
                p.setBrush(QColor(colour))
                p.drawPath(path)
        p.setBrush(silk)
        p.drawPath(look.paths.get(("silk", side), QPainterPath()))
        p.setBrush(theme.current().color("sheet"))
        p.drawPath(look.holes)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(QColor(LAMINATE), 0.25))
        p.drawPath(look.edge)

    def _draw_patches(self, p: QPainter, look: SetLook, patches: tuple[Patch, ...]) -> None:
        t = theme.current()
        for patch in patches:
            colour = t.color(patch.colour, patch.alpha)
            p.setPen(QPen(colour, patch.pen) if patch.pen else Qt.PenStyle.NoPen)
            brush = QBrush(colour, Qt.BrushStyle.BDiagPattern if patch.hatched else Qt.BrushStyle.SolidPattern)
            if patch.hatched:
                scale = p.worldTransform()
                brush.setTransform(QTransform.fromScale(1 / scale.m11(), 1 / scale.m22()))  # hatch lines in pixels
            p.setBrush(Qt.BrushStyle.NoBrush if patch.pen else brush)
            p.drawPath(patch.path)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color("ink"), 0.1))
        p.drawPath(look.edge)

    def _draw_layers(self, p: QPainter, look: SetLook) -> None:
        t = theme.current()
        for role, side in self.layers:
            colour = COLOURS.get(side, "inner1") if role == "copper" else INKS.get(role, "ink")
            p.setBrush(t.color(colour, 175 if len(self.layers) > 1 else 230))
            p.drawPath(look.paths[role, side])
        p.setPen(QPen(t.color("ink"), 0.1))
        p.setBrush(t.color("sheet") if not self.layers or self.layers[0][0] == "copper" else Qt.BrushStyle.NoBrush)
        p.drawPath(look.holes)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPath(look.edge)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Say what is under the pointer, or take a measure."""
        if self.start_pan(event) or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        at = self.to_scene(event.position())
        if self.tape is not None:
            self._measure(at, True)
        else:
            self.tapped.emit(self.say_at(at.x(), at.y()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Pan, or follow a measure."""
        if not self.move_pan(event) and self.tape is not None:
            self._measure(self.to_scene(event.position()), False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End panning."""
        self.end_pan()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """M measures, Home shows everything."""
        if event.key() == Qt.Key.Key_M or (event.key() == Qt.Key.Key_Escape and self.tape is not None):
            self.measure(self.tape is None)
        elif event.key() == Qt.Key.Key_Home:
            self.fit()
        else:
            super().keyPressEvent(event)

    def measure(self, on: bool) -> None:
        """Begin to measure, or stop it."""
        self.tape = Tape() if on else None
        self.tapped.emit("Click where to measure from. M or Esc ends it." if on else "")
        self.update()

    def _measure(self, at: QPointF, pressed: bool) -> None:
        assert self.tape is not None
        if pressed and (self.tape.start is None or self.tape.done):
            self.tape = Tape(at, at)
        elif self.tape.start is not None and not self.tape.done:
            self.tape.end, self.tape.done = at, pressed
            self.tapped.emit(say_distance(self.tape.start, at))
        self.update()

    def say_at(self, x: float, y: float) -> str:
        """Return what the files have at a place: holes, then the marks of the layers that are shown."""
        if self.look is None:
            return ""
        from shapely import Point

        spot = Point(x, y)
        found = []
        for hole in self.look.board.holes:
            if hole.shape.covers(spot):
                plated = {True: "plated", False: "bare", None: "not said whether plated"}[hole.plated]
                what = "Slot" if hole.slot else "Hole"
                found.append(f"{what} {hole.diameter:.3f} mm, {plated} (T{hole.tool}, {hole.file} line {hole.line})")
        for key in reversed(self.layers):
            image = self.look.board.images[key]
            hits = self.look.trees[key].query(spot, predicate="intersects").tolist()
            found += [say_mark(image, k) for k in sorted(hits)[-1:]]
        return " · ".join(found) or f"Nothing at {x:.2f}, {y:.2f} mm on these layers."


def say_mark(image: GerberImage, number: int) -> str:
    """Return what a mark is in words."""
    mark = image.marks[number]
    kind = {"flash": "Flash", "stroke": "Stroke", "region": "Filled area"}[mark.kind]
    words = [f"{kind} {mark.aperture}" if mark.aperture else kind]
    if not mark.dark:
        words.append("clears")
    if mark.aperture is not None and mark.aperture.function:
        words.append(mark.aperture.function)
    if mark.net:
        words.append(f"net {mark.net}")
    if mark.pin:
        words.append(f"pin {'.'.join(mark.pin)}")
    return f"{', '.join(words)} ({image.name} line {mark.line})"
