"""How long an edit of a large design takes to be on screen.

From the edit to the end of the paint, in the real window.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

from benchmarks.large import large
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.wording.sentences import say
from zesty_trace.store.project import ProjectFolder

EDITS = {
    "a value": ["R9 = 2k2", "R9 = 3k3", "R9 = 2k2"],
    "a chain of two new parts": [f"U3.P{15 + k} - R9{k} 330 - D9{k} red - GND" for k in range(3)],
    "a part deleted": ["delete R6", "delete R7", "delete R8"],
    "a pin moved to another net": ["U5.ADR to GND", "U5.ADR to 3V3", "U5.ADR to GND"],
}


def measure() -> dict[str, float]:
    """Return edit -> median seconds to the end of the paint. The job that arranges afterwards runs between edits."""
    from PySide6.QtCore import QSettings

    from zesty_trace.desktop.window.app import make_application
    from zesty_trace.desktop.window.opening import open_project
    from zesty_trace.desktop.window.shell import MainWindow
    from zesty_trace.desktop.window.shots import settle

    app = make_application()
    catalogue = shipped()
    found = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "large"
        ProjectFolder.create(folder, large(catalogue)).close()
        settings = QSettings(str(Path(place) / "s.ini"), QSettings.Format.IniFormat)
        window = MainWindow(open_project(folder), settings)
        window.resize(1280, 800)
        window.show()
        settle(window)
        window.go("schematic")
        settle(window)
        canvas = window.station.canvas  # type: ignore[attr-defined]

        def timed(change: object) -> float:
            settle(window)
            start = time.perf_counter()
            window.session.do("edit", change)  # type: ignore[arg-type]
            app.sendPostedEvents()
            app.processEvents()
            return time.perf_counter() - start

        for name, sentences in EDITS.items():
            took = [timed(lambda d, s=s: say(s, Wired(d, catalogue))) for s in sentences]
            found[name] = statistics.median(took)

        def moved(design: Design, step: int) -> Design:
            symbol = canvas.symbol("R14")
            return edits.move_on_sheet(design, {"R14": (symbol.x, symbol.y + step)})

        found["a part dragged"] = statistics.median(timed(lambda d, k=k: moved(d, k)) for k in (3, -2, 4))
        window.close()
        app.processEvents()
    return found


if __name__ == "__main__":
    for name, seconds in measure().items():
        print(f"{name:30} {seconds * 1e3:6.1f} ms")
