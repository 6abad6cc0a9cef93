"""The board to work on: drag a part, turn it, flip it; lay copper by hand; measure."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from zesty_trace.core.board.fields.heat import HeatPicture
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.kit.still import Still
from zesty_trace.desktop.layout.current import FlowPicture
from zesty_trace.desktop.layout.hand import HandTool, draw_net
from zesty_trace.desktop.layout.heat import draw_heat
from zesty_trace.desktop.layout.made import MadeLook, draw_holes_from_corner, draw_made, draw_size, made_rect
from zesty_trace.desktop.layout.measuring import Tape, catch, draw_grid, say_distance
from zesty_trace.desktop.layout.painter import BoardPainter, BoardView, outline_rect
from zesty_trace.desktop.layout.trial import Trial

SNAP_NM = 100_000


class BoardCanvas(Canvas):
    """Shows a BoardView; what the user does comes out as signals. `read_only` boards are only looked at."""

    part_moved = Signal(str, int, int)
    part_tried = Signal(str, int, int)
    part_turned = Signal(str)
    part_flipped = Signal(str)
    picked = Signal(str)
    spotted = Signal(float, float)  # a place where no part is, or with Alt any place
    measured = Signal(str)
    taped = Signal(QPointF, QPointF)  # both ends of a measure

    def __init__(self, parent: QWidget | None = None, read_only: bool = False) -> None:
        super().__init__(parent, y_up=True)
        self.read_only = read_only
        self.view: BoardView | None = None
        self.painter: BoardPainter | None = None
        self.selected_ref = ""
        self._dragging = False
        self.trial: Trial | None = None
        self.lit_net = ""
        self.hand: HandTool | None = None  # while copper is laid by hand
        self.tape: Tape | None = None  # while something is measured
        self.grid_nm, self.show_grid = SNAP_NM, False
        self.made: MadeLook | None = None  # the board as it will be made, instead of its parts and copper
        self.heat: HeatPicture | None = None
        self.flow: FlowPicture | None = None
        self.still = Still(self, self._draw)
        self._from = self._at = QPointF()
        self.setAccessibleName("Board")

    def show_view(self, view: BoardView) -> None:
        """Show another value."""
        first = self.view is None or self.view.design.board.outline != view.design.board.outline
        self.view, self.painter = view, BoardPainter(view)
        self.empty_hint = (
            "" if view.design.board.outline else "There is no board yet. Place the parts in Layout (Ctrl+3)."
        )
        if self.selected_ref not in view.design.board.placements:
            self.selected_ref = ""
        if self.lit_net not in view.design.nets:
            self.lit_net = ""
        if first:
            self.fit()
        else:
            self.refit()

    def scene_rect(self) -> QRectF:
        """Return the board with a margin."""
        if self.view is None:
            return QRectF(0, 0, 80, 56)
        if self.made is not None and self.view.design.board.outline:
            return made_rect(self.view.design)
        return outline_rect(self.view.design)

    def paint_scene(self, p: QPainter) -> None:
        """Draw the board, then the part that is held."""
        if self.painter is None:
            return
        self.still.put(p, self.painter, self.made)
        if self.heat is not None and self.view is not None:
            draw_heat(p, self.view.wired, self.heat)
        if self.flow is not None:
            self.flow.draw(p)
        path = self.painter.bodies.get(self.selected_ref)
        if path is not None:
            t = theme.current()
            dx, dy = self._shift_nm() if self._dragging else (0, 0)
            shift = QPointF(dx / 1e6, dy / 1e6)
            p.setBrush(t.color("lemon", 70))
            p.setPen(QPen(t.color("lime"), 0.3))
            p.drawPath(path.translated(shift))
        if self.trial is not None:
            self.trial.draw(p)
        if self.hand is not None:
            self.hand.draw(p)
        elif self.lit_net and self.view is not None and self.made is None:
            draw_net(p, self.view.wired, self.lit_net)
        if self.show_grid:
            draw_grid(p, self.grid_nm, self._seen(), self.scale)
        if self.tape is not None:
            self.tape.draw(p, self.scale)

    def _seen(self) -> QRectF:
        return self.transform().inverted()[0].mapRect(QRectF(self.rect()))

    def _draw(self, p: QPainter) -> None:
        """Draw the board, or how it will be made."""
        if self.made is not None and self.view is not None:
            draw_made(p, self.view.design, self.made)
            draw_size(p, self.view.design)
            draw_holes_from_corner(p, self.view.design, self.made.bare_holes)
        elif self.painter is not None:
            self.painter.draw(p)

    def show_made(self, look: MadeLook | None) -> None:
        """Show a face as it will be made, or parts and copper again."""
        if (look is None) != (self.made is None):
            self.made = look
            self.refit()
        self.made = look
        self.update()

    def flip(self, on: bool) -> None:
        """Show the board from behind, or from the front."""
        self.flipped = on
        self.still.forget()
        self.fit()

    def show_heat(self, picture: HeatPicture | None) -> None:
        """Show how warm the board gets, or no longer."""
        self.heat = picture
        self.update()

    def show_flow(self, picture: FlowPicture | None) -> None:
        """Show how dense the current of a net is, or no longer."""
        self.flow = picture
        self.update()

    def show_trial(self, trial: Trial | None) -> None:
        """Show what the held part does where it is."""
        self.trial = trial
        self.update()

    def _shift_nm(self) -> tuple[int, int]:
        """Return how far the held part would go, in whole steps."""
        shift, step = self._at - self._from, self.grid_nm
        spot = self.view.design.board.placements.get(self.selected_ref) if self.view else None
        if spot is None or step == SNAP_NM:
            return round(shift.x() * 1e6 / step) * step, round(shift.y() * 1e6 / step) * step
        x, y = (round((at + d * 1e6) / step) * step for at, d in ((spot.x_nm, shift.x()), (spot.y_nm, shift.y())))
        return x - spot.x_nm, y - spot.y_nm

    def part_at(self, at: QPointF) -> str:
        """Return the smallest part under a scene point, or ""."""
        if self.painter is None:
            return ""
        hits = [
            (b.boundingRect().width() * b.boundingRect().height(), r)
            for r, b in self.painter.bodies.items()
            if b.boundingRect().adjusted(-0.4, -0.4, 0.4, 0.4).contains(at)
        ]
        return min(hits)[1] if hits else ""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Pick up the part under the pointer."""
        if self.start_pan(event) or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        self._from = self._at = self.to_scene(event.position())
        if self._measure_at(self._from, True):
            return
        if self.hand is not None:
            self.hand.press(self._from)
            return
        below = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self.selected_ref = "" if below else self.part_at(self._from)
        self._dragging = bool(self.selected_ref) and not self.read_only and self.made is None
        self.lit_net = ""
        self.picked.emit(self.selected_ref)
        if not self.selected_ref:
            self.spotted.emit(self._from.x(), self._from.y())
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Follow the pointer."""
        if self.move_pan(event):
            return
        self._at = self.to_scene(event.position())
        if self._measure_at(self._at, False):
            return
        if self.hand is not None:
            self.hand.move(self._at)
        elif self._dragging:
            self.part_tried.emit(self.selected_ref, *self._shift_nm())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Put the part down."""
        if self.end_pan():
            return
        if self.hand is not None:
            self.hand.release()
            return
        if not self._dragging:
            return
        self._dragging = False
        self._at = self.to_scene(event.position())
        self.trial = None
        dx, dy = self._shift_nm()
        if dx or dy:
            self.part_moved.emit(self.selected_ref, dx, dy)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """End a way where the pointer is."""
        if self.hand is not None and self.hand.laying is not None:
            self.hand.finish()
        else:
            self.mousePressEvent(event)

    def _measure_at(self, at: QPointF, pressed: bool) -> bool:
        """Set the start of a measure, or its end, at what is next to a point; whether something is measured."""
        if self.tape is None or self.view is None:
            return False
        spot = catch(self.view.wired, at)
        if pressed and (self.tape.start is None or self.tape.done):
            self.tape = Tape(spot, spot)
            self.measured.emit("Now the other end: the pointer catches pads, holes, track ends and corners.")
        elif self.tape.start is not None and not self.tape.done:
            self.tape.end, self.tape.done = spot, pressed
            self.measured.emit(say_distance(self.tape.start, spot))
            if pressed:
                self.taped.emit(self.tape.start, spot)
        self.update()
        return True

    def measure(self, on: bool) -> None:
        """Begin to measure, or stop it."""
        self.tape = Tape() if on else None
        self.measured.emit("Click where to measure from. M or Esc ends it." if on else "")
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """R turns, F flips, arrows nudge by 0.1 mm (with Shift by 1 mm), M measures, Home shows everything."""
        key = Qt.Key(event.key())
        step = SNAP_NM * (10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if key == Qt.Key.Key_M or (key == Qt.Key.Key_Escape and self.tape is not None):
            self.measure(self.tape is None)
        elif key == Qt.Key.Key_Home:
            self.fit()
        elif self.hand is not None:
            if not self.hand.key(key, shift, control):
                super().keyPressEvent(event)
        elif self.selected_ref and not self.read_only and key == Qt.Key.Key_R:
            self.part_turned.emit(self.selected_ref)
        elif self.selected_ref and not self.read_only and key == Qt.Key.Key_F:
            self.part_flipped.emit(self.selected_ref)
        elif self.selected_ref and not self.read_only and key in ways:
            dx, dy = ways[key]
            self.part_moved.emit(self.selected_ref, dx * step, dy * step)
        else:
            super().keyPressEvent(event)
