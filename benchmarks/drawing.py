"""What is wrong on painted sheets: `python -m benchmarks.drawing [designs] [first seed]`.

Arranges made-up designs and those of the corpus, paints them to SVG, reads the netlist back from the strokes, and
prints how many faults of each sort there are, how many crossings, and how long arranging takes.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections import Counter
from datetime import date
from pathlib import Path

from benchmarks.painted import RAIL, WIRE, Painted, Reading
from benchmarks.random_designs import random_design
from benchmarks.svg_strokes import Point, read
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.sheet import Sheet

HARMLESS = ("crossings", "crossings of supply lines")
DESIGNS = 200


def paint(wired: Wired, sheet: Sheet, path: Path) -> Painted:
    """Return a sheet as it is painted to an SVG, read back."""
    from zesty_trace.desktop.schematic.paper import PrintedPage, write_svg
    from zesty_trace.desktop.schematic.view import SheetView

    view = SheetView(wired, sheet, wired.ground)
    write_svg(path, [PrintedPage(view, "")], date(2026, 1, 1), cut=False)
    return Painted(read(path))


def origin(painted: Painted, sheet: Sheet) -> Point:
    """Return where the page has the sheet's (0, 0)."""
    if sheet.rails:
        at, stroke = (sheet.rails[0].left, sheet.rails[0].y), painted.strokes[RAIL][0]
        x, y = min(stroke.a, stroke.b)
    else:
        at, (x, y) = sheet.wires[0].points[0], painted.strokes[WIRE][0].a
    return x - at[0] * painted.scale, y - at[1] * painted.scale


def faults(wired: Wired, sheet: Sheet, folder: Path) -> Reading:
    """Return what is wrong with the picture of a sheet."""
    painted = paint(wired, sheet, folder / "sheet.svg")
    left, top = origin(painted, sheet)
    spots = sheet.spots().items()
    pins = {str(pin): (left + x * painted.scale, top + y * painted.scale) for pin, (x, y) in spots}
    nets = {net: [str(p) for p in members if str(p) in pins] for net, members in wired.design.nets.items()}
    reading = Reading(painted, pins, nets, wired.ground)
    reading.run()
    return reading


def _count(name: str, designs: list[Wired], folder: Path) -> None:
    total, bad, seconds, most = Counter[str](), Counter[str](), 0.0, 0.0
    for wired in designs:
        start = time.perf_counter()
        sheet = arrange(wired)
        took = time.perf_counter() - start
        seconds, most = seconds + took, max(most, took)
        if not (sheet.rails or sheet.wires):
            continue
        found = faults(wired, sheet, folder).faults
        total += found
        bad.update(dict.fromkeys(found, 1))
    parts = sum(len(w.design.parts) for w in designs)
    print(f"{name}: {len(designs)} designs, {parts} parts, arranged in {seconds:.0f} s, the slowest in {most:.1f} s")
    for what in (*HARMLESS, *sorted(set(total) - set(HARMLESS))):
        print(f"  {what:34} {total[what]:6} on {bad[what]:4} designs")
    print(f"  {'faults in all':34} {sum(n for what, n in total.items() if what not in HARMLESS):6}")


def main() -> None:
    """Print the table."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication
    from tests.corpus import cases

    from zesty_trace.desktop.kit import theme

    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    theme.load_fonts(app)
    count = int(sys.argv[1]) if len(sys.argv) > 1 else DESIGNS
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    catalogue = shipped()
    with tempfile.TemporaryDirectory() as place:
        _count("corpus", [cases.faultless(p) for p in cases.prototypes()], Path(place))
        made = [Wired(random_design(seed, catalogue), catalogue) for seed in range(first, first + count)]
        _count("made up", made, Path(place))


if __name__ == "__main__":
    main()
