"""The sheet to work on.

Drag parts, drag from pin to pin to connect, pick a wire and delete it, edit a value in place.
"""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QLineEdit, QWidget

from zesty_trace.core.design.model import Pin
from zesty_trace.core.schematic.labels import tag_box
from zesty_trace.core.schematic.letters import REF_SIZE
from zesty_trace.core.schematic.sheet import PlacedSymbol, Wire
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.schematic.dirty import changed_rect
from zesty_trace.desktop.schematic.painter import RAIL_NAMES, SheetPainter
from zesty_trace.desktop.schematic.view import SheetView

REACH = 0.8
MARGIN_PX = 14.0
KIND_FORMAT = "application/x-zesty-trace-kind"
NOTHING_DRAWN = (
    "Nothing is drawn yet. Import the prototype in Brief (Ctrl+1), add parts from the shelf (Ctrl+Shift+8), "
    "or say a part below."
)
LEAST_REF_PX, MOST_REF_PX = 9.0, 17.0  # how high references are when a sheet opens
SCROLL_PX = 90.0
SCROLLS = {
    Qt.Key.Key_Left: (1.0, 0.0),
    Qt.Key.Key_Right: (-1.0, 0.0),
    Qt.Key.Key_Up: (0.0, 1.0),
    Qt.Key.Key_Down: (0.0, -1.0),
    Qt.Key.Key_PageUp: (0.0, 5.0),
    Qt.Key.Key_PageDown: (0.0, -5.0),
}
STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class SheetCanvas(Canvas):
    """Shows a SheetView; what the user does comes out as signals."""

    parts_moved = Signal(object)  # {ref: (x, y)}
    pins_joined = Signal(object, object)
    connection_deleted = Signal(object)
    parts_deleted = Signal(object)  # [ref]
    value_edited = Signal(str, str)
    picked = Signal(str)  # a net, or ""
    selection_changed = Signal()
    kind_dropped = Signal(str, object)  # a kind from the shelf, (x, y)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.view: SheetView | None = None
        self._painter: SheetPainter | None = None
        self.selection: list[str] = []
        self.selected_wire: Wire | None = None
        self._hover_pin: Pin | None = None
        self._drag_part: PlacedSymbol | None = None
        self._drag_pin: Pin | None = None
        self._band = False
        self._from = QPointF()
        self._at = QPointF()
        self.editor = QLineEdit(self)
        self.editor.hide()
        self.editor.returnPressed.connect(self._edited)
        self.editor.editingFinished.connect(self.editor.hide)
        self._edits = ""
        self.setAccessibleName("Schematic sheet")
        self.setAcceptDrops(True)

    def show_view(self, view: SheetView, keep_zoom: bool = True) -> None:
        """Show another value."""
        first = self.view is None or not keep_zoom
        dirty = changed_rect(self.view, view) if self.view is not None else None
        before = (self.scale, self.origin)
        self.view = view
        self.empty_hint = "" if view.design.parts else NOTHING_DRAWN
        if any(r not in view.design.parts for r in self.selection):
            self.select([r for r in self.selection if r in view.design.parts])
        if self.selected_wire not in view.sheet.wires:
            self.selected_wire = None
        if first:
            self.fit()
        elif self._fitted:
            self._aim_to_read()
        if dirty is None or before != (self.scale, self.origin):
            self.update()
        elif not dirty.isEmpty():
            self.update(self.transform().mapRect(dirty).toAlignedRect())

    def select(self, refs: Iterable[str]) -> None:
        """Make these parts the selected ones."""
        fresh = list(dict.fromkeys(refs))
        if fresh != self.selection:
            self.selection = fresh
            self.selection_changed.emit()
            self.update()

    def scene_rect(self) -> QRectF:
        """Return the whole sheet."""
        if self.view is None:
            return QRectF(0, 0, 100, 60)
        s = self.view.sheet
        right = max([s.width, *(int(q.body()[2]) + 4 for q in s.symbols)])
        bottom = max([s.height - 3, *(int(q.body()[3]) + 3 for q in s.symbols)])
        return QRectF(-RAIL_NAMES, 0, right + RAIL_NAMES, bottom)

    def fit(self) -> None:
        """Show the sheet at a size that can be read: all of it if it fits, else from its upper left corner."""
        self._aim_to_read()
        self.update()

    def _aim_to_read(self) -> None:
        rect = self.scene_rect()
        self._aim(rect)
        scale = min(max(self.scale, LEAST_REF_PX / REF_SIZE), MOST_REF_PX / REF_SIZE)
        if scale != self.scale:
            self.scale = scale
            spare_x = self.width() - rect.width() * scale
            spare_y = self.height() - rect.height() * scale
            left, top = max(spare_x / 2, MARGIN_PX), max(spare_y / 2, MARGIN_PX)
            self.origin = QPointF(left - rect.left() * scale, top - rect.top() * scale)
        self._fitted = True

    def overview(self) -> None:
        """Show the whole sheet, however small, or go back to a size that can be read."""
        if self.fits_whole:
            self.fit()
        else:
            self.show_rect(self.scene_rect())

    @property
    def fits_whole(self) -> bool:
        """Whether the whole sheet is in view."""
        seen = self.transform().mapRect(self.scene_rect())
        return seen.width() <= self.width() + 1 and seen.height() <= self.height() + 1

    def paint_scene(self, p: QPainter) -> None:
        """Draw the sheet, then what is being done to it."""
        if self.view is None:
            return
        if self._painter is None or self._painter.view is not self.view or self._painter.theme is not theme.current():
            self._painter = SheetPainter(self.view)
        self._painter.draw(p, self.seen)
        t = theme.current()
        if self.selected_wire:
            p.setPen(QPen(t.color("stop"), 0.4))
            p.drawPolyline([QPointF(x, y) for x, y in self.selected_wire.points])
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color("lime"), 0.2, Qt.PenStyle.DashLine))
        shift = self._at - self._from if self._drag_part else QPointF()
        for ref in self.selection:
            symbol = self.symbol(ref)
            if symbol:
                left, top, right, bottom = symbol.body()
                p.drawRect(QRectF(left - 0.6, top - 0.6, right - left + 1.2, bottom - top + 1.2))
                if self._drag_part:
                    p.drawRect(QRectF(left + shift.x(), top + shift.y(), right - left, bottom - top))
        if self._hover_pin and self._hover_pin in (spots := self.view.sheet.spots()):
            p.setPen(QPen(t.color("lime"), 0.25))
            p.drawEllipse(QPointF(*spots[self._hover_pin]), 0.6, 0.6)
        if self._drag_pin and self._drag_pin in (spots := self.view.sheet.spots()):
            p.setPen(QPen(t.color("lime"), 0.25, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(*spots[self._drag_pin]), self._at)
        if self._band:
            p.setPen(QPen(t.color("teal"), 1.0 / self.scale, Qt.PenStyle.DashLine))
            p.setBrush(t.color("teal", 30))
            p.drawRect(QRectF(self._from, self._at).normalized())

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

    def net_at(self, at: QPointF) -> str:
        """Return the net of the wire, supply line or tag near a scene point, or ""."""
        wire = self.wire_at(at)
        if wire or self.view is None:
            return wire.net if wire else ""
        for rail in self.view.sheet.rails:
            if rail.left <= at.x() <= rail.right and abs(rail.y - at.y()) < 1.0:
                return rail.net
        for tag in self.view.sheet.tags:
            left, top, right, bottom = tag_box(tag)
            if left <= at.x() <= right and top <= at.y() <= bottom:
                return tag.net
        return ""

    # Pointer and keys ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a pan, a connection, a move or a selection, or pick what is under the pointer."""
        if self.start_pan(event) or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        self._from = self._at = self.to_scene(event.position())
        self.selected_wire = None
        more = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._drag_pin = None if more else self.pin_at(self._from)
        if self._drag_pin is None:
            part = self.part_at(self._from)
            if part and more:
                self._toggle(part.ref)
            elif part:
                self._drag_part = part
                if part.ref not in self.selection:
                    self.select([part.ref])
                self.picked.emit("")
            else:
                self._press_beside(more)
        self.update()

    def _press_beside(self, more: bool) -> None:
        self.selected_wire = self.wire_at(self._from)
        net = self.net_at(self._from)
        if not more:
            self.select([])
        self.picked.emit(net)
        self._band = not net

    def _toggle(self, ref: str) -> None:
        self.select([r for r in self.selection if r != ref] if ref in self.selection else [*self.selection, ref])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Follow the pointer."""
        if self.move_pan(event):
            return
        self._at = self.to_scene(event.position())
        pin = self.pin_at(self._at)
        if pin != self._hover_pin or self._drag_pin or self._drag_part or self._band:
            self._hover_pin = pin
            self.update()
        if pin and self.view:
            net = self.view.design.net_of().get(pin, "not connected")
            self.setToolTip(tip(f"{pin}: {net}. Drag to another pin to connect."))
        else:
            self.setToolTip("")

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Finish what was begun."""
        if self.end_pan():
            return
        at = self.to_scene(event.position())
        part, pin, band = self._drag_part, self._drag_pin, self._band
        self._drag_pin = self._drag_part = None
        self._band = False
        if pin:
            other = self.pin_at(at)
            if other and other != pin:
                self.pins_joined.emit(pin, other)
        elif part:
            self._move(round(at.x() - self._from.x()), round(at.y() - self._from.y()))
        elif band:
            self._take_band(QRectF(self._from, at).normalized())
        self.update()

    def _take_band(self, rect: QRectF) -> None:
        if self.view and rect.width() > REACH and rect.height() > REACH:
            inside = [s.ref for s in self.view.sheet.symbols if rect.contains(QPointF(s.x, s.y))]
            self.select([*self.selection, *inside])

    def _move(self, dx: int, dy: int) -> None:
        symbols = [s for s in map(self.symbol, self.selection) if s]
        if (dx or dy) and symbols:
            self.parts_moved.emit({s.ref: (s.x + dx, s.y + dy) for s in symbols})

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take kinds from the shelf."""
        if event.mimeData().hasFormat(KIND_FORMAT):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Put a kind where it is dropped."""
        at = self.to_scene(event.position())
        kind = bytes(event.mimeData().data(KIND_FORMAT).data()).decode()
        event.acceptProposedAction()
        self.kind_dropped.emit(kind, (round(at.x()), round(at.y())))

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
        self.select([ref])
        self._edits = ref
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
        self.value_edited.emit(self._edits, text)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Delete, Enter, arrows, pages, Esc, Home and End."""
        key = Qt.Key(event.key())
        if key == Qt.Key.Key_Delete and self.selected_wire and self.selected_wire.pin:
            self.connection_deleted.emit(self.selected_wire.pin)
        elif key == Qt.Key.Key_Delete and self.selection:
            self.parts_deleted.emit(list(self.selection))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self.selection) == 1:
            self.edit_value(self.selection[0])
        elif key in STEPS and self.selection:
            self._move(*STEPS[key])
        elif key == Qt.Key.Key_Escape:
            self.select([])
            self.picked.emit("")
        elif key in SCROLLS:
            self.scroll_by(SCROLLS[key][0] * SCROLL_PX, SCROLLS[key][1] * SCROLL_PX)
        elif key == Qt.Key.Key_Home:
            self.fit()
        elif key == Qt.Key.Key_End:
            self.overview()
        else:
            super().keyPressEvent(event)
