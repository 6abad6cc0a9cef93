"""The sheet to work on: drag a part, drag from pin to pin to connect, pick a wire and delete it, edit a value in place."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QLineEdit, QWidget

from zesty_trace.core.design.model import Pin
from zesty_trace.core.schematic.sheet import PlacedSymbol, Wire
from zesty_trace.desktop import theme
from zesty_trace.desktop.canvas import Canvas
from zesty_trace.desktop.sheet_painter import SheetPainter, SheetView

REACH = 0.8
NOTHING_DRAWN = "Nothing is drawn yet. Import the prototype in Brief (Ctrl+1), or say a part below."


class SheetCanvas(Canvas):
    """Shows a SheetView; what the user does comes out as signals."""

    part_moved = Signal(str, int, int)
    pins_joined = Signal(object, object)
    connection_deleted = Signal(object)
    part_deleted = Signal(str)
    value_edited = Signal(str, str)
    picked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.view: SheetView | None = None
        self.selected_ref = ""
        self.selected_wire: Wire | None = None
        self._hover_pin: Pin | None = None
        self._drag_part: PlacedSymbol | None = None
        self._drag_pin: Pin | None = None
        self._from = QPointF()
        self._at = QPointF()
        self.editor = QLineEdit(self)
        self.editor.hide()
        self.editor.returnPressed.connect(self._edited)
        self.editor.editingFinished.connect(self.editor.hide)
        self.setAccessibleName("Schematic sheet")

    def show_view(self, view: SheetView) -> None:
        """Show another value."""
        first = self.view is None
        self.view = view
        self.empty_hint = (
            ""
            if view.design.parts
            else "Nothing is drawn yet. Import the prototype in Brief (Ctrl+1), or say a part below."
        )
        if self.selected_ref not in view.design.parts:
            self.selected_ref = ""
        if self.selected_wire not in view.sheet.wires:
            self.selected_wire = None
        if first:
            self.fit()
        else:
            self.refit()

    def scene_rect(self) -> QRectF:
        """Return the whole sheet."""
        if self.view is None:
            return QRectF(0, 0, 100, 60)
        s = self.view.sheet
        right = max([s.width, *(int(q.body()[2]) + 4 for q in s.symbols)])
        bottom = max([s.height - 3, *(int(q.body()[3]) + 2 for q in s.symbols)])
        return QRectF(0, 0, right, bottom)

    def paint_scene(self, p: QPainter) -> None:
        """Draw the sheet, then what is being done to it."""
        if self.view is None:
            return
        SheetPainter(self.view).draw(p)
        t = theme.current()
        if self.selected_wire:
            p.setPen(QPen(t.color("stop"), 0.4))
            p.drawPolyline([QPointF(x, y) for x, y in self.selected_wire.points])
        symbol = self.symbol(self.selected_ref)
        p.setBrush(Qt.BrushStyle.NoBrush)
        if symbol:
            left, top, right, bottom = symbol.body()
            p.setPen(QPen(t.color("lime"), 0.2, Qt.PenStyle.DashLine))
            p.drawRect(QRectF(left - 0.6, top - 0.6, right - left + 1.2, bottom - top + 1.2))
        if self._hover_pin:
            x, y = self.view.sheet.spots()[self._hover_pin]
            p.setPen(QPen(t.color("lime"), 0.25))
            p.drawEllipse(QPointF(x, y), 0.6, 0.6)
        if self._drag_pin:
            x, y = self.view.sheet.spots()[self._drag_pin]
            p.setPen(QPen(t.color("lime"), 0.25, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(x, y), self._at)
        if self._drag_part:
            left, top, right, bottom = self._drag_part.body()
            shift = self._at - self._from
            p.setPen(QPen(t.color("lime"), 0.2, Qt.PenStyle.DashLine))
            p.drawRect(QRectF(left + shift.x(), top + shift.y(), right - left, bottom - top))

    # Finding things -----------------------------------------------------------------------------------------------

    def symbol(self, ref: str) -> PlacedSymbol | None:
        """Return the symbol of a part."""
        return next((s for s in self.view.sheet.symbols if s.ref == ref), None) if self.view else None

    def pin_at(self, at: QPointF) -> Pin | None:
        """Return the pin near a scene point."""
        if self.view is None:
            return None
        for pin, (x, y) in self.view.sheet.spots().items():
            if abs(x - at.x()) < REACH and abs(y - at.y()) < REACH:
                return pin
        return None

    def part_at(self, at: QPointF) -> PlacedSymbol | None:
        """Return the part under a scene point."""
        if self.view is None:
            return None
        for s in self.view.sheet.symbols:
            left, top, right, bottom = s.body()
            if left <= at.x() <= right and top <= at.y() <= bottom:
                return s
        return None

    def wire_at(self, at: QPointF) -> Wire | None:
        """Return the wire near a scene point."""
        for wire in self.view.sheet.wires if self.view else ():
            for (x0, y0), (x1, y1) in zip(wire.points, wire.points[1:], strict=False):
                near_x = min(x0, x1) - 0.5 <= at.x() <= max(x0, x1) + 0.5
                near_y = min(y0, y1) - 0.5 <= at.y() <= max(y0, y1) + 0.5
                if near_x and near_y:
                    return wire
        return None

    # Pointer and keys ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a pan, a connection or a move, or pick what is under the pointer."""
        if self.start_pan(event) or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        self._from = self._at = self.to_scene(event.position())
        self.selected_wire = None
        self._drag_pin = self.pin_at(self._from)
        if self._drag_pin is None:
            self._drag_part = self.part_at(self._from)
            self.selected_ref = self._drag_part.ref if self._drag_part else ""
            if self._drag_part is None:
                self.selected_wire = self.wire_at(self._from)
            self.picked.emit(self.selected_ref or (self.selected_wire.net if self.selected_wire else ""))
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Follow the pointer."""
        if self.move_pan(event):
            return
        self._at = self.to_scene(event.position())
        pin = self.pin_at(self._at)
        if pin != self._hover_pin or self._drag_pin or self._drag_part:
            self._hover_pin = pin
            self.update()
        if pin and self.view:
            net = self.view.design.net_of().get(pin, "not connected")
            self.setToolTip(f"{pin}: {net}. Drag to another pin to connect.")
        else:
            self.setToolTip("")

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Finish what was begun."""
        if self.end_pan():
            return
        at = self.to_scene(event.position())
        if self._drag_pin:
            other = self.pin_at(at)
            if other and other != self._drag_pin:
                self.pins_joined.emit(self._drag_pin, other)
        elif self._drag_part:
            dx, dy = round(at.x() - self._from.x()), round(at.y() - self._from.y())
            if dx or dy:
                self.part_moved.emit(self._drag_part.ref, self._drag_part.x + dx, self._drag_part.y + dy)
        self._drag_pin = self._drag_part = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Edit the value of the part under the pointer."""
        part = self.part_at(self.to_scene(event.position()))
        if part:
            self.edit_value(part.ref)

    def edit_value(self, ref: str) -> None:
        """Open the value of a part for editing, in place."""
        symbol = self.symbol(ref)
        if symbol is None or self.view is None:
            return
        self.selected_ref = ref
        at = self.to_view(QPointF(symbol.body()[2], symbol.y))
        self.editor.setText(self.view.design.parts[ref].value)
        self.editor.setGeometry(int(at.x()), int(at.y()) - 17, 130, 34)
        self.editor.show()
        self.editor.setFocus()
        self.editor.selectAll()

    def _edited(self) -> None:
        text = self.editor.text().strip()
        self.editor.hide()
        self.setFocus()
        self.value_edited.emit(self.selected_ref, text)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Delete, Enter, arrows and Home."""
        key = Qt.Key(event.key())
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        symbol = self.symbol(self.selected_ref)
        if key == Qt.Key.Key_Delete and self.selected_wire and self.selected_wire.pin:
            self.connection_deleted.emit(self.selected_wire.pin)
        elif key == Qt.Key.Key_Delete and symbol:
            self.part_deleted.emit(symbol.ref)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and symbol:
            self.edit_value(symbol.ref)
        elif key in steps and symbol:
            dx, dy = steps[key]
            self.part_moved.emit(symbol.ref, symbol.x + dx, symbol.y + dy)
        elif key == Qt.Key.Key_Home:
            self.fit()
        else:
            super().keyPressEvent(event)
