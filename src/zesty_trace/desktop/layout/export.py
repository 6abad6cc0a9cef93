"""The 1:1 print from the command line: the same painter, without a screen."""

from __future__ import annotations

import os
from pathlib import Path


def print_true_size(folder: Path, pdf: Path) -> None:
    """Write the board of a project at 1:1 as a PDF. InputError, StoreError."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.desktop.kit import theme
    from zesty_trace.desktop.layout.paper import write_true_size
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.store.project import read_project

    app = QApplication.instance() or QApplication([])
    if isinstance(app, QApplication):
        theme.load_fonts(app)
    write_true_size(pdf, Wired(read_project(folder).design, project_catalogue(folder)))
