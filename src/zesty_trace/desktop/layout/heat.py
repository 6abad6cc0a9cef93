"""The heat picture over the board: warmer is redder, and the warmest parts carry their rise over the air."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from zesty_trace.core.board.fields.heat import HeatPicture
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.quantities import mm, say
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import flat_text

FAINT, STRONG = 12, 190  # how much of the colour covers the board, of 255, where it is coolest and warmest
NAMED = 4
LEAST_W = 1e-3


def heat_image(picture: HeatPicture) -> QImage:
    """Return the picture as pixels of one colour, more of it where it is warmer; clear off the board."""
    colour = theme.current().color("stop")
    share = np.nan_to_num(picture.rise_k / max(picture.hottest_k, 1e-9))
    alpha = np.where(np.isfinite(picture.rise_k), FAINT + share * (STRONG - FAINT), 0).astype(np.uint32)
    pixels = (alpha << 24) | (colour.red() << 16) | (colour.green() << 8) | colour.blue()
    rows, columns = pixels.shape
    data = np.ascontiguousarray(pixels[::-1].astype(np.uint32))  # the first row of an image is at its top
    return QImage(data.tobytes(), columns, rows, 4 * columns, QImage.Format.Format_ARGB32).copy()


def draw_heat(p: QPainter, wired: Wired, picture: HeatPicture) -> None:
    """Draw the picture over the board, in scene units, and the rise below the parts that heat it."""
    rows, columns = picture.rise_k.shape
    room = QRectF(picture.x0_mm, picture.y0_mm, columns * picture.cell_mm, rows * picture.cell_mm)
    p.save()
    p.translate(room.left(), room.bottom())
    p.scale(1, -1)
    p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    p.drawImage(QRectF(0, 0, room.width(), room.height()), heat_image(picture))
    p.restore()
    placements = wired.design.board.placements
    for part in [q for q in picture.parts if q.power_w > LEAST_W][:NAMED]:
        spot = placements[part.ref]
        flat_text(p, mm(spot.x_nm), mm(spot.y_nm) - 1.6, f"+{part.rise_k:.0f} °C", 1.7, "ink", True)


def heat_words(picture: HeatPicture) -> str:
    """Return the picture in a sentence."""
    heating = [q for q in picture.parts if q.power_w > LEAST_W]
    if not heating:
        return "Nothing on the board gives off heat worth a picture."
    first = heating[0]
    return (
        f"Up to {picture.hottest_k:.0f} °C over the air below {first.ref} ({say(first.power_w, 'W')}), in still air "
        "with both faces free; in a closed case more."
    )
