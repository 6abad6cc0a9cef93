"""What the sheet's menu does: arrange, number, pages, print, and files for others."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog, QMenu, QWidget

from zesty_trace.core.tables.netlist import netlist_csv, netlist_json
from zesty_trace.desktop.schematic import edits
from zesty_trace.desktop.schematic.model import Drawn, SchematicModel
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.desktop.schematic.paper import PrintedPage


def menu_of(model: SchematicModel, over: QWidget) -> QMenu:
    """Return the menu."""
    menu = QMenu(over)
    menu.setToolTipsVisible(True)
    for title, run in ACTIONS.items():
        menu.addAction(title).triggered.connect(lambda _on=False, run=run: run(model, over))
    return menu


def with_pages(model: SchematicModel, use: Callable[[list[PrintedPage]], None]) -> None:
    """Have all pages drawn as they go on paper, off the GUI thread, and use them."""
    from zesty_trace.desktop.schematic.paper import PrintedPage

    design = model.session.design

    def done(drawn: list[Drawn]) -> None:
        use([PrintedPage(model.view_of(d, for_paper=True), d.page) for d in drawn])

    model.session.jobs.start("Drawing the pages", lambda report: model.all_pages(design, report), done)


def _ask(model: SchematicModel, over: QWidget, name: str, filters: str) -> Path | None:
    start = model.session.path / name
    path, _ = QFileDialog.getSaveFileName(over, "Where to", str(start), filters)
    return Path(path) if path else None


def _stem(model: SchematicModel) -> str:
    design = model.session.design
    plain = "".join(c if c.isalnum() else "-" for c in design.name.lower()).strip("-")
    return f"{plain}-rev-{design.revision}"


def export_pdf(model: SchematicModel, over: QWidget, path: Path | None = None) -> None:
    """Write the sheet as PDF."""
    from zesty_trace.desktop.schematic.paper import write_pdf

    path = path or _ask(model, over, f"{_stem(model)}.pdf", "PDF (*.pdf)")
    if path:
        with_pages(model, lambda pages: _told(model, path, lambda: write_pdf(path, pages, model.session.today)))


def export_svg(model: SchematicModel, over: QWidget, path: Path | None = None) -> None:
    """Write the sheet as SVG."""
    from zesty_trace.desktop.schematic.paper import write_svg

    path = path or _ask(model, over, f"{_stem(model)}.svg", "SVG (*.svg)")
    if path:
        with_pages(model, lambda pages: _told(model, path, lambda: write_svg(path, pages, model.session.today)))


def print_sheet(model: SchematicModel, over: QWidget) -> None:
    """Print the sheet."""
    from zesty_trace.desktop.schematic.paper import print_pages

    def send(pages: list[PrintedPage]) -> None:
        if print_pages(pages, model.session.today, over):
            model.session.message.emit("Sent to the printer")

    with_pages(model, send)


def export_netlist(model: SchematicModel, over: QWidget, kind: str, path: Path | None = None) -> None:
    """Write the netlist as CSV or JSON."""
    write = {"csv": netlist_csv, "json": netlist_json}[kind]
    path = path or _ask(model, over, f"{_stem(model)}-netlist.{kind}", f"{kind.upper()} (*.{kind})")
    if path:
        text = write(model.session.wired)
        _told(model, path, lambda: write_given(path, text.encode()))


def _told(model: SchematicModel, path: Path, write: Callable[[], object]) -> None:
    try:
        write()
    except OSError as error:
        problem = StoreError(f"Could not write: {error.strerror or error}", str(path), "Choose another folder")
        model.session.failed.emit(problem)
    except ZestyError as error:
        model.session.failed.emit(error)
    else:
        model.session.message.emit(f"Wrote {path}")


ACTIONS: dict[str, Callable[[SchematicModel, QWidget], None]] = {
    "Arrange again (the selection, or all)": lambda model, _over: edits.arrange_again(model),
    "Number the parts by position": lambda model, _over: edits.renumber(model),
    "Split into pages by block, or join again": lambda model, _over: edits.split_pages(model),
    "Print the sheet …": print_sheet,
    "Save the sheet as PDF …": export_pdf,
    "Save the sheet as SVG …": export_svg,
    "Save the netlist as CSV …": partial(export_netlist, kind="csv"),
    "Save the netlist as JSON …": partial(export_netlist, kind="json"),
}
SHORTCUTS = {"Print the sheet …": "Ctrl+P"}
