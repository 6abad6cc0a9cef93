"""How long after an edit on the routed demo the findings of each station are on the screen."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

EDITS = ("a value", "a part moved on the board", "a part moved on the sheet")


def findings_rows() -> list[tuple[str, str]]:
    """Return, for each kind of edit, when the electrical and the board findings were those of the new design."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QSettings
    from PySide6.QtWidgets import QApplication

    from zesty_trace.core.board.router import route
    from zesty_trace.core.design import edits
    from zesty_trace.core.design.model import Design
    from zesty_trace.desktop.window.app import make_application
    from zesty_trace.desktop.window.opening import open_project
    from zesty_trace.desktop.window.shell import MainWindow
    from zesty_trace.journey.demos import create_demo

    app = QApplication.instance() or make_application()
    changes: dict[str, Callable[[Design, int], Design]] = {
        EDITS[0]: lambda d, k: edits.change_part(d, "R14", value=f"{330 + k}"),
        EDITS[1]: lambda d, k: edits.nudge(d, "R14", dx_nm=1000 * (k + 1)),
        EDITS[2]: lambda d, k: edits.move_on_sheet(d, {"R14": (k, k)}),
    }
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "demo"
        create_demo(path, date.today())
        settings = QSettings(str(Path(folder) / "s.ini"), QSettings.Format.IniFormat)
        window = MainWindow(open_project(path, ask=False), settings)
        window.resize(1280, 800)
        window.show()
        session = window.session

        def wait(until: Callable[[], bool]) -> None:
            while not until():
                app.processEvents()
                time.sleep(0.001)

        wait(lambda: session.settled and not session.jobs.busy())
        for finding in [f for f in session.findings["schematic"] if f.mend]:
            session.do("mend", finding.mend.apply if finding.mend else lambda d: d)
        session.do("routed", lambda d: route(session.wired).design)
        window.go("layout")
        wait(lambda: session.settled and not session.jobs.busy())
        for name, change in changes.items():
            took: dict[str, list[float]] = {"schematic": [], "layout": []}
            for k in range(3):
                start = time.perf_counter()
                session.do(name, lambda d, k=k, change=change: change(d, k))
                for station, times in took.items():
                    wait(lambda station=station: session.is_current(station))
                    times.append(time.perf_counter() - start)
                wait(lambda: session.settled and not session.jobs.busy())
            said = ", ".join(f"{s} {sorted(t)[1]:.2f} s" for s, t in took.items())
            rows.append((f"findings after {name}", said))
        window.close()
    return rows


if __name__ == "__main__":
    for title, value in findings_rows():
        print(f"{title:45} {value}")
