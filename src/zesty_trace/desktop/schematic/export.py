"""The sheets of a project as PDF and SVG, without a window: what `zt export --pdf --svg` starts."""

from __future__ import annotations

import os
from datetime import date
from pathlib import Path


def export_sheets(folder: Path, pdf: Path | None, svg: Path | None) -> list[Path]:
    """Write the sheets of a project folder; return the files. ZestyError where it cannot be read or written."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from zesty_trace.core.circuit.analysis import analyse
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.core.design.model import Page
    from zesty_trace.core.schematic.arrange import arrange
    from zesty_trace.core.schematic.pages import pages_of
    from zesty_trace.desktop.kit import theme
    from zesty_trace.desktop.schematic.paper import PrintedPage, write_pdf, write_svg
    from zesty_trace.desktop.schematic.view import SheetView
    from zesty_trace.errors import SolveError
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.store.project import read_project

    app = QApplication.instance() or QApplication([])
    if isinstance(app, QApplication):
        theme.load_fonts(app)
    wired = Wired(read_project(folder).design, project_catalogue(folder))
    which: list[Page | None] = [*pages_of(wired)]
    try:
        volts = dict(analyse(wired).worst().net_voltages()) if wired.design.parts else {}
    except SolveError:
        volts = {}
    pages = [
        PrintedPage(SheetView(wired, arrange(wired, page), wired.ground, volts), page.name if page else "")
        for page in which or [None]
    ]
    made = []
    if pdf is not None:
        write_pdf(pdf, pages, date.today())
        made.append(pdf)
    if svg is not None:
        made += write_svg(svg, pages, date.today())
    return made
