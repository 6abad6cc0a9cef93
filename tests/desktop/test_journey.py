"""One board, all the way, through the real widgets; once offscreen and once in a real window under Xvfb."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from functools import partial
from pathlib import Path

import pytest
from PySide6.QtCore import Qt

from zesty_trace.core.design.edits import accept
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.findings import Severity
from zesty_trace.desktop.window.shell import MainWindow


def click(qtbot, widget) -> None:
    assert widget.isVisible()
    assert widget.isEnabled()
    qtbot.mouseClick(widget, Qt.MouseButton.LeftButton)


def test_the_demo_board_travels_through_all_stations(window: MainWindow, qtbot, settle) -> None:
    session = window.session

    def station(key: str):
        window.go(key)
        settle(window)
        return window.station

    station("schematic")
    assert {c.finding.rule for c in window.findings.cards} == {"heat", "level clash", "bus address"}
    for _ in range(3):
        click(qtbot, window.findings.cards[0].mend_button)
        settle(window)
    assert window.findings.cards == []

    layout = station("layout")
    click(qtbot, layout.route_button)
    settle(window)
    assert "All 120 connections have copper" in layout.hint.text()
    worth_a_fix = [f for f in session.findings["layout"] if f.severity is not Severity.NOTE]
    assert {f.rule for f in worth_a_fix} <= {"regulator capacitor"}, "one capacitor cannot stand at both regulators"
    for finding in worth_a_fix:
        session.do("accepted", partial(accept, acceptance=finding.acceptance("the rail is short and slow")))
    settle(window)

    order = station("order")
    click(qtbot, order.write_button)
    settle(window)
    files = read_zip(session.zip_path().read_bytes())
    assert {"copper-top.gbr", "drill-plated.xnc", "bom-full.csv"} <= files.keys()
    assert order.files.verdict.text().startswith("Intake: Accepted: nothing found in 18 checks")
    assert "Cheapest in time" in order.summary.text()

    assembly = station("assembly")
    placed = set()
    while assembly.next_button.isEnabled():
        placed |= assembly.canvas.view.lit
        click(qtbot, assembly.next_button)
    placed |= assembly.canvas.view.lit
    assert len(placed) == sum(len(s.refs) for s in assembly.steps)
    click(qtbot, assembly.build_button)

    flash = station("flash")
    click(qtbot, flash.all_button)
    settle(window)
    assert flash.left() == []
    assert flash.left_count.text() == "0"

    bench = station("bench")
    click(qtbot, bench.run_button)
    settle(window)
    boards = session.records.boards("A")
    failed = {b.serial: b.last("measured").summary for b in boards if b.verdict == "fail"}
    assert failed.keys() == {"A-004", "A-007", "A-010"}
    assert failed["A-004"].startswith("3V3 to GND")
    assert "no answer at 0x45" in failed["A-007"]
    assert failed["A-010"].startswith("SENSE_12V")
    assert bench.yield_label.text() == "9 of 12"

    next_rev = station("next")
    assert next_rev.yield_label.text() == "75%"
    click(qtbot, next_rev.from_faults)
    assert len(session.design.changes) == 3
    for board in boards:
        assert [e.kind for e in board.events] == ["assembled", "flashing", "flashed", "measured"]
        assert all(e.simulated for e in board.events[1:])
        assert board.last("flashed").flash.sha256 == flash.image.sha256
    assert window.trace.done == 7
    click(qtbot, next_rev.start_button)
    settle(window)
    assert session.design.revision == "B"
    assert len(session.records.boards("A")) == 12


REAL = """
import sys
from pathlib import Path
from PySide6.QtWidgets import QApplication
from zesty_trace.desktop.window.app import make_application
from zesty_trace.desktop.window.opening import open_project
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.desktop.window.shots import settle
app = make_application()
assert app.platformName() == "xcb", app.platformName()
window = MainWindow(open_project(Path(sys.argv[1])))
window.show()
from zesty_trace.desktop.window.shots import wait_until
wait_until(lambda: bool(window.current))
settle(window)
window.go("schematic")
settle(window)
for card in list(window.findings.cards):
    card.mend_button.click()
settle(window)
screen = window.screen().grabWindow(window.winId())
assert screen.width() > 1000
assert window.findings.cards == [], [c.finding.title for c in window.findings.cards]
window.close()
print("journey in a real window done")
"""


@pytest.mark.window
@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed")
def test_a_real_window_under_xvfb(demo_project: Path, tmp_path: Path) -> None:
    from zesty_trace.desktop.window.app import start_xvfb

    path = tmp_path / "cabinet"
    shutil.copytree(demo_project, path)
    server, name = start_xvfb(shutil.which("Xvfb"))
    try:
        clean = {k: v for k, v in os.environ.items() if k not in ("QT_QPA_PLATFORM", "WAYLAND_DISPLAY")}
        env = {**clean, "DISPLAY": name, "XDG_CONFIG_HOME": str(tmp_path / "config")}
        done = subprocess.run(
            [sys.executable, "-c", REAL, str(path)], env=env, capture_output=True, text=True, timeout=120, check=False
        )
    finally:
        server.terminate()
        server.wait(5)
    assert "done" in done.stdout, done.stderr
