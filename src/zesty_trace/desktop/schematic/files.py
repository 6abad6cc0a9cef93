"""What the sheet's menu does: arrange, number, pages, print, and files for others."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog, QMenu

from zesty_trace.core.tables.netlist import netlist_csv, netlist_json
from zesty_trace.desktop.schematic.host import Drawn, SheetHost
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.desktop.schematic.paper import PrintedPage


def menu_of(station: SheetHost) -> QMenu:
    """Return the menu."""
    menu = QMenu(station.canvas)
    menu.setToolTipsVisible(True)
    for title, run in ACTIONS.items():
        menu.addAction(title).triggered.connect(lambda _on=False, run=run: run(station))
    return menu


def with_pages(station: SheetHost, use: Callable[[list[PrintedPage]], None]) -> None:
    """Have all pages drawn as they go on paper, off the GUI thread, and use them."""
    from zesty_trace.desktop.schematic.paper import PrintedPage

    design = station.session.design

    def done(drawn: list[Drawn]) -> None:
        use([PrintedPage(station.view_of(d, for_paper=True), d.page) for d in drawn])

    station.session.jobs.start("Drawing the pages", lambda report: station.all_pages(design, report), done)


def _ask(station: SheetHost, name: str, filters: str) -> Path | None:
    start = station.session.path / name
    path, _ = QFileDialog.getSaveFileName(station.canvas, "Where to", str(start), filters)
    return Path(path) if path else None


def _stem(station: SheetHost) -> str:
    design = station.session.design
    plain = "".join(c if c.isalnum() else "-" for c in design.name.lower()).strip("-")
    return f"{plain}-rev-{design.revision}"


def export_pdf(station: SheetHost, path: Path | None = None) -> None:
    """Write the sheet as PDF."""
    from zesty_trace.desktop.schematic.paper import write_pdf

    path = path or _ask(station, f"{_stem(station)}.pdf", "PDF (*.pdf)")
    if path:
        with_pages(station, lambda pages: _told(station, path, lambda: write_pdf(path, pages, station.session.today)))


def export_svg(station: SheetHost, path: Path | None = None) -> None:
    """Write the sheet as SVG."""
    from zesty_trace.desktop.schematic.paper import write_svg

    path = path or _ask(station, f"{_stem(station)}.svg", "SVG (*.svg)")
    if path:
        with_pages(station, lambda pages: _told(station, path, lambda: write_svg(path, pages, station.session.today)))


def print_sheet(station: SheetHost) -> None:
    """Print the sheet."""
    from zesty_trace.desktop.schematic.paper import print_pages

    def send(pages: list[PrintedPage]) -> None:
        if print_pages(pages, station.session.today, station.canvas):
            station.session.message.emit("Sent to the printer")

    with_pages(station, send)


def export_netlist(station: SheetHost, kind: str, path: Path | None = None) -> None:
    """Write the netlist as CSV or JSON."""
    write = {"csv": netlist_csv, "json": netlist_json}[kind]
    path = path or _ask(station, f"{_stem(station)}-netlist.{kind}", f"{kind.upper()} (*.{kind})")
    if path:
        text = write(station.session.wired)
        _told(station, path, lambda: write_given(path, text.encode()))


def _told(station: SheetHost, path: Path, write: Callable[[], object]) -> None:
    try:
        write()
    except OSError as error:
        problem = StoreError(f"Could not write: {error.strerror or error}", str(path), "Choose another folder")
        station.session.failed.emit(problem)
    except ZestyError as error:
        station.session.failed.emit(error)
    else:
        station.session.message.emit(f"Wrote {path}")


ACTIONS: dict[str, Callable[[SheetHost], None]] = {
    "Arrange again (the selection, or all)": lambda s: s.arrange_again(),
    "Number the parts by position": lambda s: s.renumber(),
    "Split into pages by block, or join again": lambda s: s.split_pages(),
    "Print the sheet …": print_sheet,
    "Save the sheet as PDF …": export_pdf,
    "Save the sheet as SVG …": export_svg,
    "Save the netlist as CSV …": partial(export_netlist, kind="csv"),
    "Save the netlist as JSON …": partial(export_netlist, kind="json"),
}
SHORTCUTS = {"Print the sheet …": "Ctrl+P"}
