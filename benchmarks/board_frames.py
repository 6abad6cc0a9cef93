"""How long a frame of the board takes while panning and dragging: `python -m benchmarks.board_frames [parts]`."""

from __future__ import annotations

import os
import statistics
import sys
import time
from collections.abc import Callable

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QApplication

from benchmarks.random_boards import random_board
from zesty_trace.core.board.live import LiveReview
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import route
from zesty_trace.core.design import edits
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.canvas import BoardCanvas
from zesty_trace.desktop.layout.painter import BoardView, shape_path
from zesty_trace.desktop.layout.trial import try_part

FRAMES = 60


def main() -> None:
    """Print a table."""
    app = QApplication([])
    theme.load_fonts(app)
    theme.use(app, "light")
    parts = int(sys.argv[1]) if len(sys.argv) > 1 else 120
    wired = random_board(parts, 1)
    wired = wired.with_design(route(wired).design)
    pours = {layer: [shape_path(s) for _, s in pour_shapes(wired, layer)] for layer in ("top", "bottom")}
    canvas = BoardCanvas()
    canvas.resize(900, 520)
    canvas.show()
    app.processEvents()  # a window that is not there yet paints nothing
    start = time.perf_counter()
    canvas.show_view(BoardView(wired, pours))
    canvas.repaint()
    print(f"{parts} parts: shown anew in {(time.perf_counter() - start) * 1000:.0f} ms")
    live, ref = LiveReview(wired), "U1"
    canvas.selected_ref, canvas._dragging = ref, True

    def held(k: int) -> None:
        moved = wired.edited(edits.nudge, ref, dx_nm=100_000 * k).after(wired)
        canvas._at = canvas._from + QPointF(0.1 * k, 0)
        canvas.show_trial(try_part(live, moved, ref))

    for name, step in (("panning", lambda k: canvas.scroll_by(2, 1)), ("a part held", held)):
        found = _frames(canvas, step)
        print(f"{name:12} {statistics.median(found):6.1f} ms a frame in the median, {max(found):6.1f} at worst")


def _frames(canvas: BoardCanvas, step: Callable[[int], None]) -> list[float]:
    found = []
    for k in range(FRAMES):
        start = time.perf_counter()
        step(k)
        canvas.repaint()
        found.append((time.perf_counter() - start) * 1000)
    return found


if __name__ == "__main__":
    main()
