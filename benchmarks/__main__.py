"""Speed and drawing quality of the demo board, printed as a table: `./run bench`. Ratios are taken in one run."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


from benchmarks.edit_to_screen import measure as edit_to_screen
from benchmarks.large import demo, large, mended
from benchmarks.solver import solver_rows
from zesty_trace.core.bench.plan import make_plan
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.router import route
from zesty_trace.core.catalogue.kinds import Catalogue, shipped
from zesty_trace.core.circuit.build import build_network
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.layers import all_files
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.journey.assembling import heat_run
from zesty_trace.journey.demos import create_demo
from zesty_trace.stations import DEMOS

EMPTY = """
import time; start = time.perf_counter()
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([]); window = QMainWindow(); window.resize(1280, 800); window.show(); app.processEvents()
print(time.perf_counter() - start)
"""
OURS = """
import sys, time; start = time.perf_counter()
from pathlib import Path
from zesty_trace.desktop.window.app import make_application
from zesty_trace.desktop.window.opening import open_project
from zesty_trace.desktop.window.shell import MainWindow
app = make_application(); window = MainWindow(open_project(Path(sys.argv[1]))); window.show(); app.processEvents()
print(time.perf_counter() - start); window.close()
"""


def median_s(run: Callable[[], object], times: int) -> float:
    """Return the median wall time of `run`, s."""
    found = []
    for _ in range(times):
        start = time.perf_counter()
        run()
        found.append(time.perf_counter() - start)
    return statistics.median(found)


def start_ratio(times: int = 9) -> tuple[float, float]:
    """Return seconds to the first window: an empty Qt window, and ours; alternating, medians."""
    with tempfile.TemporaryDirectory() as folder:
        project = Path(folder) / "demo"
        create_demo(project, date.today())
        environment = {**os.environ, "XDG_CONFIG_HOME": folder}
        empty, ours = [], []
        for _ in range(times):
            for code, into in ((EMPTY, empty), (OURS, ours)):
                done = subprocess.run(
                    [sys.executable, "-c", code, str(project)],
                    capture_output=True,
                    text=True,
                    check=True,
                    env=environment,
                )
                into.append(float(done.stdout))
        return statistics.median(empty), statistics.median(ours)


def _large_rows(catalogue: Catalogue) -> list[tuple[str, str]]:
    """Return the figures of a design of 150 parts."""
    design = large(catalogue)
    pins = sum(len(catalogue.kind(p.kind).pins) for p in design.parts.values())
    name = f"{len(design.parts)} parts, {pins} pins"
    review(Wired(design, catalogue))
    fresh = iter(edits.set_brief(design, ambient_c=20 + k / 10) for k in range(30))
    rows = [
        (f"{name}: review, nothing kept", f"{median_s(lambda: review(Wired(next(fresh), catalogue)), 9) * 1e3:.0f} ms"),
        (f"{name}: arranged anew", f"{median_s(lambda: arrange(Wired(design, catalogue)), 3):.2f} s"),
    ]
    return rows + [(f"{name}: {edit}, on screen", f"{took * 1e3:.0f} ms") for edit, took in edit_to_screen().items()]


def _sheet_rows(catalogue: Catalogue) -> list[tuple[str, str]]:
    """Return how well the sheets of the demos are drawn."""
    designs = {name: mended(demo(name, catalogue), catalogue) for name in DEMOS}
    rows = []
    for name, design in {**designs, "150 parts": large(catalogue)}.items():
        sheet = arrange(Wired(design, catalogue))
        quality = ", ".join(f"{v} {k}" for k, v in wire_quality(sheet.wires, sheet.symbols).items())
        rows.append((f"sheet of {name}", f"{quality}, {len(sheet.tags)} tags, {sheet.width} x {sheet.height} units"))
    return rows


def main() -> None:
    """Print the table."""
    catalogue = shipped()
    design = mended(demo("proofing", catalogue), catalogue)
    network = build_network(Wired(design, catalogue))
    rows: list[tuple[str, str]] = []
    solve(network)
    rows.append(("solve the demo, all on", f"{median_s(lambda: solve(network), 15) * 1e3:.1f} ms"))
    fresh = iter(edits.set_brief(design, ambient_c=20 + k / 10) for k in range(20))
    rows.append(
        (
            "electrical review, nothing kept",
            f"{median_s(lambda: review(Wired(next(fresh), catalogue)), 5) * 1e3:.0f} ms",
        )
    )
    rows.append(
        ("arrange and wire the sheet", f"{median_s(lambda: arrange(Wired(design, catalogue)), 5) * 1e3:.0f} ms")
    )
    rows += solver_rows()
    rows += _large_rows(catalogue)
    placed = place_rest(Wired(design, catalogue))
    rows.append(("place 60 parts", f"{median_s(lambda: place_rest(Wired(design, catalogue)), 2):.2f} s"))
    result = route(Wired(placed, catalogue))
    rows.append(
        (
            f"route {result.connections} connections, {result.passes} passes",
            f"{median_s(lambda: route(Wired(placed, catalogue)), 2):.2f} s",
        )
    )
    rows.append(
        ("board review with pours", f"{median_s(lambda: check_board(Wired(result.design, catalogue)), 3):.2f} s")
    )
    files = all_files(Wired(result.design, catalogue))
    rows.append(
        ("write all fabrication files", f"{median_s(lambda: all_files(Wired(result.design, catalogue)), 3):.2f} s")
    )
    rows.append(("read top copper back", f"{median_s(lambda: read_gerber(files['copper-top.gbr']), 3):.2f} s"))
    rows.append(("simulate the oven", f"{median_s(lambda: heat_run(Wired(result.design, catalogue)), 5) * 1e3:.0f} ms"))
    rows.append(
        ("make the test plan", f"{median_s(lambda: make_plan(Wired(design, catalogue), 'Full'), 3) * 1e3:.0f} ms")
    )
    empty, ours = start_ratio()
    rows.append(("first window, empty Qt window", f"{empty:.2f} s"))
    rows.append(("first window, ours", f"{ours:.2f} s, ratio {ours / empty:.2f}"))
    rows += _sheet_rows(catalogue)
    rows.append(
        ("board of the demo", f"{len(result.design.board.tracks)} tracks, {len(result.design.board.vias)} vias")
    )
    wide = max(len(name) for name, _ in rows)
    for name, value in rows:
        print(f"{name:{wide}}  {value}")


if __name__ == "__main__":
    main()
