"""Text in a drawing.

As large as it is in the scene, but never too small to read, laid out once and drawn many times.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QPaintEngine, QPainter, QStaticText, QTransform

from zesty_trace.desktop.kit import theme

LARGEST_SHARE = 2.1  # far out, text may grow to this many scene units, so that it stays in its room
SHARES = {"left": 0.0, "right": 1.0}  # of the width that stands left of the spot


@dataclass(frozen=True, order=True)
class Lettering:
    """A text at a spot of the scene, its vertical middle at y; `size` in scene units.

    Far out, text stays at least `least_px` high, or is left out where it would be under `hide_px`.
    """

    x: float
    y: float
    text: str
    size: float
    color: str
    align: str = "left"
    bold: bool = False
    least_px: float = 0.0
    hide_px: float = 0.0

    def at_zoom(self, scale: float) -> Lettering | None:
        """Return it as large as it is drawn at `scale` px per scene unit; None where it is left out."""
        if self.size * scale < self.hide_px:
            return None
        return replace(self, size=max(self.size, min(self.least_px, LARGEST_SHARE * scale) / scale))


@lru_cache(64)
def text_font(bold: bool = False, quarter_px: int = 80, dpi: int = 0) -> QFont:
    """Return the drawing font, by default 20 units high, to be scaled."""
    font = theme.plain_font()
    if dpi:
        font.setPointSizeF(quarter_px / 4.0 * 72.0 / dpi)
    else:
        font.setPixelSize(quarter_px // 4)
    font.setBold(bold)
    font.setHintingPreference(QFont.HintingPreference.PreferNoHinting)  # widths that follow the size exactly
    return font


@lru_cache(8192)
def _laid_out(text: str, quarter_px: int, bold: bool, dpi: int) -> tuple[QStaticText, float, float]:
    """Return text that is laid out once, with its width and height in pixels."""
    made = QStaticText(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.prepare(QTransform(), text_font(bold, quarter_px, dpi))
    size = made.size()
    return made, size.width(), size.height()


def draw_text(p: QPainter, words: Lettering) -> None:
    """Draw one text as it stands in the scene."""
    world = p.transform()
    seen = words.at_zoom(abs(world.m11()) or abs(world.m12()) or 1.0)
    if seen is None:
        return
    p.setPen(theme.current().color(seen.color))
    k = seen.size / 20.0
    p.translate(seen.x, seen.y)
    p.scale(k, k)
    p.setFont(text_font(seen.bold))
    flag = {"left": Qt.AlignmentFlag.AlignLeft, "right": Qt.AlignmentFlag.AlignRight}.get(
        seen.align, Qt.AlignmentFlag.AlignHCenter
    )
    p.drawText(
        QRectF(-800.0 * SHARES.get(seen.align, 0.5), -20, 800, 40), flag | Qt.AlignmentFlag.AlignVCenter, seen.text
    )
    p.setTransform(world)


def on_screen(p: QPainter) -> bool:
    """Whether what is drawn becomes pixels at once, upright: text may then be laid out in pixels."""
    world = p.transform()
    return world.m11() == world.m22() > 0 and not world.m12() and p.paintEngine().type() == QPaintEngine.Type.Raster


def draw_in_pixels(p: QPainter, texts: list[Lettering]) -> None:
    """Draw texts laid out in pixels, those of one font after each other: most of a drawing's time would go there."""
    if not texts:
        return
    world, dpi, t = p.transform(), p.device().logicalDpiY(), theme.current()
    dx, dy, scale = world.dx(), world.dy(), abs(world.m11()) or 1.0
    seen = [s for s in (words.at_zoom(scale) for words in texts) if s is not None]
    p.resetTransform()
    last: tuple[bool, int, str] | None = None
    for quarter_px, s in sorted(
        ((max(round(s.size * scale * 4), 4), s) for s in seen), key=lambda e: (e[1].bold, e[0], e[1].color, e[1])
    ):
        if last != (s.bold, quarter_px, s.color):
            last = (s.bold, quarter_px, s.color)
            p.setFont(text_font(s.bold, quarter_px, dpi))
            p.setPen(t.color(s.color))
        laid_out, width, height = _laid_out(s.text, quarter_px, s.bold, dpi)
        left = dx + s.x * scale - width * SHARES.get(s.align, 0.5)
        p.drawStaticText(QPointF(left, dy + s.y * scale - height / 2), laid_out)
    p.setTransform(world)
