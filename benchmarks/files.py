"""Fabrication files of the demo boards: python -m benchmarks.files

Reading against pygerber's parser on the same file in one run, writing the package, tracing, intake, and a frame of the
viewer while it is panned.
"""

from __future__ import annotations

from collections.abc import Callable
from statistics import median
from time import perf_counter

from tests.corpus import cases

from zesty_trace.core.board.placing.arrange import arrange_parts
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.contacts import contacts_of
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.looking.intake import intake
from zesty_trace.core.fabrication.looking.tracing import trace
from zesty_trace.core.fabrication.package import fabrication_files, zip_bytes
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.gerber.reading import read_gerber

FRAMES = 60


def seconds(act: Callable[[], object], times: int = 3) -> float:
    """Return the median time of an act, s."""
    found = []
    for _ in range(times):
        start = perf_counter()
        act()
        found.append(perf_counter() - start)
    return median(found)


def demo_boards() -> dict[str, Wired]:
    """Return the demo boards, placed and routed."""
    found = {}
    for prototype in cases.prototypes():
        if prototype.demo:
            wired = cases.faultless(prototype)
            wired = wired.with_design(arrange_parts(wired))
            found[prototype.demo] = wired.with_design(route(wired).design)
    return found


def panning_ms(files: dict[str, str]) -> tuple[float, float]:
    """Return the median and the worst frame of the viewer while all copper is panned, ms."""
    from PySide6.QtCore import QPointF
    from PySide6.QtWidgets import QApplication

    from zesty_trace.desktop.kit import theme
    from zesty_trace.desktop.order.set_view import SetCanvas, set_look

    app = QApplication.instance() or QApplication([])
    theme.use(app, "light")  # type: ignore[arg-type]
    canvas = SetCanvas()
    canvas.resize(900, 700)
    canvas.show_look(set_look(read_set(files)), "All copper")
    canvas.grab()
    found = []
    for k in range(FRAMES):
        canvas.origin += QPointF(3 if k % 20 < 10 else -3, 2 if k % 8 < 4 else -2)
        start = perf_counter()
        canvas.grab()
        found.append((perf_counter() - start) * 1e3)
    return median(found), max(found)


def main() -> None:
    """Print the table."""
    from pygerber.gerberx3.api.v2 import GerberFile

    print("board         read all s  copper: own s  pygerber s  ratio   write s  trace s  intake s   panning ms, worst")
    for name, wired in demo_boards().items():
        fresh = Wired(wired.design, wired.catalogue)
        start = perf_counter()
        files = fabrication_files(fresh)
        data = zip_bytes(files)
        written = perf_counter() - start
        text = files["copper-top.gbr"]
        own = seconds(lambda text=text: read_gerber(text).shape)  # type: ignore[misc]
        theirs = seconds(lambda text=text: GerberFile.from_str(text).parse(), 1)  # type: ignore[misc]
        board = read_set(read_zip(data))
        read = seconds(lambda data=data: read_set(read_zip(data)))  # type: ignore[misc]
        traced = seconds(lambda data=data, w=wired: trace(read_set(read_zip(data)), contacts_of(w), ""), 2)  # type: ignore[misc]
        asked = seconds(lambda board=board: intake(board), 1)  # type: ignore[misc]
        middle, worst = panning_ms(files)
        print(
            f"{name:13} {read:10.2f} {own:14.3f} {theirs:11.2f} {theirs / own:6.0f} {written:9.2f} {traced:8.2f} "
            f"{asked:9.2f} {middle:18.1f} {worst:5.1f}"
        )


if __name__ == "__main__":
    main()
