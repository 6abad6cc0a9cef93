"""A zooming, panning drawing area; what it draws is a value that its subclass is given."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QResizeEvent, QTransform, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from zesty_trace.desktop.kit import theme

ZOOM_STEP = 1.2


class Canvas(QWidget):
    """Wheel zooms about the pointer, with Shift it scrolls; middle or Ctrl drag pans, Home goes back to the start."""

    def __init__(self, parent: QWidget | None = None, y_up: bool = False) -> None:
        super().__init__(parent)
        self.y_up, self.flipped = y_up, False  # flipped: seen from behind, left and right exchanged
        self.scale, self.origin = 1.0, QPointF(0, 0)
        self._fitted = True
        self._pan_from: QPointF | None = None
        self.empty_hint = ""
        self.seen: QRectF | None = None  # what is being painted, in scene units
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        """Return the natural size."""
        return QSize(640, 420)

    def scene_rect(self) -> QRectF:
        """Return the rectangle to show; for the subclass to give."""
        return QRectF(0, 0, 100, 100)

    def paint_scene(self, p: QPainter) -> None:
        """Draw in scene units; for the subclass to give."""

    def transform(self) -> QTransform:
        """Return scene to pixels."""
        t = QTransform()
        t.translate(self.origin.x(), self.origin.y())
        t.scale(-self.scale if self.flipped else self.scale, -self.scale if self.y_up else self.scale)
        return t

    def to_scene(self, at: QPointF) -> QPointF:
        """Return the scene point under a pixel."""
        y = (at.y() - self.origin.y()) / self.scale
        x = (at.x() - self.origin.x()) / self.scale
        return QPointF(-x if self.flipped else x, -y if self.y_up else y)

    def to_view(self, at: QPointF) -> QPointF:
        """Return the pixel at a scene point."""
        return self.transform().map(at)

    def fit(self) -> None:
        """Show everything."""
        self.show_rect(self.scene_rect())
        self._fitted = True

    def show_rect(self, rect: QRectF) -> None:
        """Show a rectangle of the scene, as large as it goes."""
        self._aim(rect)
        self.update()

    def _aim(self, rect: QRectF) -> None:
        if rect.isEmpty():
            return
        margin = 14
        self.scale = min((self.width() - 2 * margin) / rect.width(), (self.height() - 2 * margin) / rect.height())
        self.scale = max(self.scale, 1e-6)
        center = rect.center()
        self._middle_on(center)
        self._fitted = False

    def refit(self) -> None:
        """Show everything again, unless the user has zoomed in."""
        if self._fitted:
            self.fit()
        self.update()

    def center_on(self, at: QPointF, scale: float | None = None) -> None:
        """Bring a scene point to the middle, zooming in to `scale` if that is nearer."""
        if scale and scale > self.scale:
            self.scale = scale
        self._middle_on(at)
        self._fitted = False
        self.update()

    def _middle_on(self, at: QPointF) -> None:
        x, y = -at.x() if self.flipped else at.x(), -at.y() if self.y_up else at.y()
        self.origin = QPointF(self.width() / 2 - x * self.scale, self.height() / 2 - y * self.scale)

    def zoom(self, factor: float, about: QPointF | None = None) -> None:
        """Zoom by a factor about a pixel, by default the middle."""
        about = about or QPointF(self.width() / 2, self.height() / 2)
        self.origin = about + (self.origin - about) * factor
        self.scale *= factor
        self._fitted = False
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the scene, then what lies over it."""
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(event.rect(), theme.current().color("sheet"))
        self.seen = self.transform().inverted()[0].mapRect(QRectF(event.rect()))
        p.save()
        p.setTransform(self.transform(), True)
        self.paint_scene(p)
        p.restore()
        if self.empty_hint:
            p.setPen(theme.current().color("muted"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty_hint)
        p.end()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep showing everything if that is what we did."""
        if self._fitted:
            self.fit()

    def scroll_by(self, dx: float, dy: float) -> None:
        """Move what is shown, in pixels."""
        self.origin += QPointF(dx, dy)
        self._fitted = False
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom about the pointer; with Shift scroll down, with Alt sideways."""
        step = event.angleDelta()
        if event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.AltModifier):
            down = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            far = float(step.y() or step.x())
            self.scroll_by(0.0 if down else far, far if down else 0.0)
            return
        factor = ZOOM_STEP ** (step.y() / 120)
        self.zoom(factor, event.position())

    def start_pan(self, event: QMouseEvent) -> bool:
        """Begin to pan if the button asks for it."""
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if event.button() == Qt.MouseButton.MiddleButton or (event.button() == Qt.MouseButton.LeftButton and control):
            self._pan_from = event.position()
            return True
        return False

    def move_pan(self, event: QMouseEvent) -> bool:
        """Go on panning, if we are."""
        if self._pan_from is None:
            return False
        self.origin += event.position() - self._pan_from
        self._pan_from = event.position()
        self._fitted = False
        self.update()
        return True

    def end_pan(self) -> bool:
        """Stop panning, if we were."""
        was = self._pan_from is not None
        self._pan_from = None
        return was
