"""The command that puts several boards on one panel."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_trace.cli.common import FINE, FOUND, Answer, load
from zesty_trace.errors import InputError, StoreError

if TYPE_CHECKING:
    from zesty_trace.core.fabrication.finished import BoardSet


def _board(word: str) -> tuple[str, BoardSet, int]:
    """Return the name, the files and how many of `BOARD=N`. InputError for what is no number."""
    from zesty_trace.core.fabrication.sources import set_of_design, set_of_zip

    name, equals, count = word.rpartition("=")
    if not equals:
        name, count = word, "1"
    if not count.isdigit() or not 1 <= int(count) <= 400:
        raise InputError(f"“{count}” is no number of boards", word, "Write BOARD=4, from 1 to 400")
    path = Path(name)
    if path.is_dir():
        wired, _ = load(name)
        return wired.design.name, set_of_design(wired), int(count)
    return path.stem, set_of_zip(path), int(count)


def panel_command(a: argparse.Namespace) -> Answer:
    """Write the files of a panel, read back and looked through."""
    from zesty_trace.core.fabrication.finished import read_set
    from zesty_trace.core.fabrication.looking.intake import intake
    from zesty_trace.core.fabrication.package import zip_bytes
    from zesty_trace.core.fabrication.panel import PanelPlan, panel_of
    from zesty_trace.core.fabrication.panel_files import panel_files
    from zesty_trace.files import write_given

    boards = [_board(word) for word in a.boards]
    panel = panel_of(boards, PanelPlan(cut=a.cut, columns=a.columns, gap=a.gap, rail=a.rail))
    files = panel_files(panel)
    answer = intake(read_set(files))
    out = Path(a.out or "panel.zip")
    try:
        write_given(out, zip_bytes(files))
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(out), "Choose another folder") from error
    data = {
        "zip": str(out),
        "size_mm": [round(panel.width, 3), round(panel.height, 3)],
        "used": round(panel.used, 3),
        "boards": [{"board": p.name, "copy": p.number, "shift_mm": [p.dx, p.dy]} for p in panel.placed],
        "scores": len(panel.scores),
        "channels": len(panel.channels),
        "break_off_holes": len(panel.bites),
        "faults": panel.faults,
        "intake": answer.verdict,
        "queries": [str(q) for q in answer.queries],
    }
    parted = f"Parted by milling, {len(panel.bites)} break-off holes."
    if panel.scores:
        parted = f"Parted by {len(panel.scores)} scores."
    lines = [
        f"Wrote {out}: {len(panel.placed)} boards on {panel.width:.1f} x {panel.height:.1f} mm, "
        f"{100 * panel.used:.0f} % of it boards.",
        parted,
        *(f"Fault: {fault}" for fault in panel.faults),
        f"Intake of the panel's own files: {answer.verdict}",
        *(f"  {q}" for q in answer.queries),
        "Snap or cut panels apart with eye protection; the edges shed glass-fibre dust.",
    ]
    return (FOUND if panel.faults or not answer.passed else FINE), data, "\n".join(lines)
