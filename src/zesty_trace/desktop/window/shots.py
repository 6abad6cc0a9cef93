"""Pictures of each main view, made from the demo by doing what a user does, 1280 x 800."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

from PySide6.QtCore import QEventLoop, QPointF, QSettings
from PySide6.QtWidgets import QApplication

from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.rules.leftovers import take_off
from zesty_trace.core.design import edits
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.window.opening import open_project
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.journey.demos import DEMO, create_demo
from zesty_trace.stations import DEMOS

PATIENCE_S = 120.0


def wait_until(done: Callable[[], bool], patience_s: float = PATIENCE_S) -> None:
    """Run the event loop until `done()`. TimeoutError if it never is."""
    end = time.monotonic() + patience_s
    while not done():
        if time.monotonic() > end:
            raise TimeoutError("the window did not settle")
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        time.sleep(0.005)


def settle(window: MainWindow) -> None:
    """Wait for findings and jobs, then for the paint."""
    session: Session = window.session
    wait_until(lambda: session.settled and not session.jobs.busy())
    end = time.monotonic() + 0.15
    wait_until(lambda: time.monotonic() > end and not session.jobs.busy())


def take_shots(folder: Path, name: str = "light", demo: str = DEMO) -> list[Path]:
    """Walk the demo through all stations and draw each; return the pictures."""
    folder.mkdir(parents=True, exist_ok=True)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.use(app, name)
    made: list[Path] = []
    with tempfile.TemporaryDirectory() as place:
        project = Path(place) / DEMOS[demo]
        create_demo(project, date.today(), demo)
        settings = QSettings(str(Path(place) / "settings.ini"), QSettings.Format.IniFormat)
        window = MainWindow(open_project(project), settings)
        window.resize(1280, 800)
        window.show()

        def shot(station: str, title: str) -> None:
            window.go(station)
            settle(window)
            path = folder / f"{title}.png"
            window.grab().save(str(path))
            made.append(path)

        shot("brief", "1-brief")
        shot("schematic", "2-schematic")
        window.station.drawers.open("numbers")  # type: ignore[attr-defined]
        shot("schematic", "2b-numbers")
        window.station.drawers.open("wiring")  # type: ignore[attr-defined]
        shot("schematic", "2c-wiring-list")
        window.station.drawers.close_open()  # type: ignore[attr-defined]
        for finding in list(window.session.findings["schematic"]):
            if finding.mend:
                window.session.do(finding.mend.label, finding.mend.apply)
        _walk(window, shot)
        window.close()
        app.processEvents()
    return made


def _by_hand(window: MainWindow, shot: Callable[[str, str], None]) -> None:
    """Draw a way that is being laid, the current of the busiest net, and the board as it will be made."""
    station = window.station
    looks, tool = station.looks, station.tool  # type: ignore[attr-defined]
    before = window.session.design
    net = next(n for n in before.nets if sum(t.net == n for t in before.board.tracks) == 2)
    window.session.do("taken off", lambda d: edits.set_board(take_off(d, net), pours=d.board.pours))
    looks.turn("route")
    settle(window)
    link = next(k for k in connectivity(window.session.wired).links if k.net == net)
    tool.press(QPointF(link.ax_nm / 1e6, link.ay_nm / 1e6))
    tool.move(QPointF(link.bx_nm / 1e6, link.by_nm / 1e6))
    shot("layout", "3d-by-hand")
    tool.let_go()
    window.session.undo()
    looks.turn("place")
    looks.current.setChecked(True)
    shot("layout", "3e-current")
    looks.current.setChecked(False)
    looks.turn("made")
    shot("layout", "3f-as-made")
    looks.turn("place")
    settle(window)


def _walk(window: MainWindow, shot: Callable[[str, str], None]) -> None:
    window.go("layout")
    window.station.route()  # type: ignore[attr-defined]
    settle(window)
    shot("layout", "3-layout")
    _by_hand(window, shot)
    window.station.open_drawer("board")  # type: ignore[attr-defined]
    window.station.side_toggle.setChecked(True)  # type: ignore[attr-defined]
    shot("layout", "3b-board-and-object")
    window.station.side_toggle.setChecked(False)  # type: ignore[attr-defined]
    window.station.canvas.selected_ref = "U3"  # type: ignore[attr-defined]
    window.station.open_drawer("lands")  # type: ignore[attr-defined]
    shot("layout", "3c-land-patterns")
    window.station.open_drawer("")  # type: ignore[attr-defined]
    window.go("order")
    window.station.write()  # type: ignore[attr-defined]
    settle(window)
    shot("order", "4-order")
    window.session.do("8 Full, 4 Basic", lambda d: edits.set_batch(d, {"Full": 8, "Basic": 4}))
    window.station.turn(1)  # type: ignore[attr-defined]
    shot("order", "4b-parts")
    window.station.parts.view_box.setCurrentText("Strips to cut")  # type: ignore[attr-defined]
    shot("order", "4d-strips")
    window.station.parts.view_box.setCurrentIndex(0)  # type: ignore[attr-defined]
    window.station.turn(2)  # type: ignore[attr-defined]
    shot("order", "4c-calendar")
    window.station.turn(0)  # type: ignore[attr-defined]
    window.session.undo()
    window.go("assembly")
    settle(window)
    window.station.record()  # type: ignore[attr-defined]
    window.station.show_step(4)  # type: ignore[attr-defined]
    shot("assembly", "5-assembly")
    window.go("flash")
    settle(window)
    window.station.flash_all()  # type: ignore[attr-defined]
    settle(window)
    shot("flash", "6-flash")
    window.go("bench")
    settle(window)
    window.station.measure()  # type: ignore[attr-defined]
    settle(window)
    window.station.show_board("A-007")  # type: ignore[attr-defined]
    shot("bench", "7-bench")
    window.go("next")
    settle(window)
    window.station.add_failures()  # type: ignore[attr-defined]
    window.session.do("note", lambda d: edits.note_change(d, "A fourth LED for the humidity tray"))
    shot("next", "8-next-rev")
