"""The board on paper from the command line: the same painters, without a screen."""

from __future__ import annotations

import os
from pathlib import Path


def print_board(folder: Path, pdf: Path | None, svg: Path | None, views: str | None) -> list[Path]:
    """Write the board of a project as PDF and SVG; return the files. InputError, StoreError.

    `views` names layers and drawings, "" is all of them; None is the print to lay on the object.
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.desktop.kit import theme
    from zesty_trace.desktop.layout.paper import write_true_size
    from zesty_trace.desktop.layout.prints import views_of, write_board_pdf, write_board_svg
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.store.project import read_project

    app = QApplication.instance() or QApplication([])
    if isinstance(app, QApplication):
        theme.load_fonts(app)
    wired = Wired(read_project(folder).design, project_catalogue(folder))
    made = []
    if pdf and views is None:
        write_true_size(pdf, wired)
        made.append(pdf)
    elif pdf:
        write_board_pdf(pdf, wired, views_of(wired, views or ""))
        made.append(pdf)
    if svg:
        made += write_board_svg(svg, wired, views_of(wired, views or ""))
    return made
