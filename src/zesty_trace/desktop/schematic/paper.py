"""The sheet on paper: pages with a frame and a title block, to a printer, a PDF or an SVG."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from PySide6.QtCore import QMarginsF, QRectF, QSizeF, Qt
from PySide6.QtGui import QPagedPaintDevice, QPageLayout, QPageSize, QPainter, QPdfWriter, QPen

from zesty_trace.core.design.model import Design
from zesty_trace.core.schematic.letters import CAPITAL, LEAST_SIZE
from zesty_trace.core.schematic.strips import extent, strips
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import Lettering, draw_text
from zesty_trace.desktop.schematic.painter import SheetPainter
from zesty_trace.desktop.schematic.view import SheetView
from zesty_trace.errors import StoreError

PAPERS = (QPageSize.PageSizeId.A4, QPageSize.PageSizeId.A3, QPageSize.PageSizeId.A2, QPageSize.PageSizeId.A1)
BLOCK_MM, BLOCK_HIGH_MM, MARGIN_MM, GAP_MM = 90.0, 16.0, 8.0, 3.0
LEAST_LETTER_MM = 1.8  # height of the smallest capitals: ISO 3098
LEAST_MM_A_UNIT = LEAST_LETTER_MM / (LEAST_SIZE * CAPITAL)
MOST_MM_A_UNIT = 2.6  # a sheet of three parts is not blown up


@dataclass(frozen=True)
class PrintedPage:
    """One page: what is drawn, and what the title block calls it."""

    view: SheetView
    name: str


@contextmanager
def on_paper() -> Iterator[None]:
    """Draw in the light colours, whatever the window shows."""
    kept = theme._current
    theme._current = theme.LIGHT
    try:
        yield
    finally:
        theme._current = kept


def title_lines(design: Design, page: str, number: int, count: int, today: date) -> list[str]:
    """Return what stands in the title block."""
    variant = f", variant {design.build.variant}" if design.build.variant else ""
    where = f"Page {number} of {count}" + (f": {page}" if page and count > 1 else "")
    return [design.name, f"Rev {design.revision}{variant}", f"{where}   {today.isoformat()}"]


def draw_page(p: QPainter, area: QRectF, page: PrintedPage, number: int, count: int, today: date, mm: float) -> None:
    """Draw one page into `area`; `mm` is how many of its units a millimetre has."""
    t = theme.LIGHT
    p.setPen(QPen(t.color("ink"), 0.35 * mm))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(area)
    block = QRectF(area.right() - BLOCK_MM * mm, area.bottom() - BLOCK_HIGH_MM * mm, BLOCK_MM * mm, BLOCK_HIGH_MM * mm)
    p.drawRect(block)
    lines = title_lines(page.view.design, page.name, number, count, today)
    for k, line in enumerate(lines):
        size = (4.0 if k == 0 else 3.0) * mm
        draw_text(
            p, Lettering(block.left() + 3 * mm, block.top() + (3.6 + 4.6 * k) * mm, line, size, "ink", "left", k == 0)
        )
    around = extent(page.view.sheet)
    room = QRectF(area.left() + GAP_MM * mm, area.top() + GAP_MM * mm, _room_mm(area.width() / mm) * mm, 0)
    room.setBottom(block.top() - GAP_MM * mm)
    scale = min(room.width() / around.width, room.height() / around.height, MOST_MM_A_UNIT * mm)
    p.save()
    p.translate(room.center().x() - around.middle[0] * scale, room.center().y() - around.middle[1] * scale)
    p.scale(scale, scale)
    SheetPainter(page.view).draw(p)
    p.restore()


def _room_mm(across_mm: float) -> float:
    return across_mm - 2 * GAP_MM


def _frame_mm(paper: QPageSize.PageSizeId) -> tuple[float, float]:
    """Return width and height of the frame on a lying sheet of paper."""
    size = QPageSize(paper).size(QPageSize.Unit.Millimeter)
    return size.height() - 2 * MARGIN_MM, size.width() - 2 * MARGIN_MM


def _most_units(paper: QPageSize.PageSizeId) -> tuple[float, float]:
    """Return how many grid units go on a page, across and down, with every letter as high as it must be."""
    wide, tall = _frame_mm(paper)
    return _room_mm(wide) / LEAST_MM_A_UNIT, (tall - 2 * GAP_MM - BLOCK_HIGH_MM) / LEAST_MM_A_UNIT


def paper_for(pages: Sequence[PrintedPage]) -> QPageSize.PageSizeId:
    """Return the smallest paper, from A4 on, on which the widest sheet and the highest band can be read."""
    wide = max((extent(p.view.sheet).width for p in pages), default=0.0)
    tall = max((extent(s).height for p in pages for s in strips(p.view.sheet, 0.0)), default=0.0)
    for paper in PAPERS:
        across, down = _most_units(paper)
        if wide <= across and tall <= down:
            return paper
    return PAPERS[-1]


def cut_up(pages: Sequence[PrintedPage], paper: QPageSize.PageSizeId) -> list[PrintedPage]:
    """Return the pages cut between bands where a sheet would be too small to read in one."""
    down = _most_units(paper)[1]
    return [replace(p, view=replace(p.view, sheet=s)) for p in pages for s in strips(p.view.sheet, down)]


def paint_pages(device: QPagedPaintDevice, p: QPainter, pages: Sequence[PrintedPage], today: date) -> None:
    """Draw all pages on a paged device that is being painted."""
    mm = device.logicalDpiX() / 25.4
    with on_paper():
        for number, page in enumerate(pages, 1):
            if number > 1:
                device.newPage()
            layout = device.pageLayout().paintRect(QPageLayout.Unit.Millimeter)
            area = QRectF(0, 0, layout.width() * mm, layout.height() * mm)
            draw_page(p, area, page, number, len(pages), today, mm)


def set_up(device: QPagedPaintDevice, pages: Sequence[PrintedPage]) -> list[PrintedPage]:
    """Choose the paper, lying, with a narrow margin; return the pages as they go on it."""
    paper = paper_for(pages)
    device.setPageSize(QPageSize(paper))
    device.setPageOrientation(QPageLayout.Orientation.Landscape)
    device.setPageMargins(QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM), QPageLayout.Unit.Millimeter)
    return cut_up(pages, paper)


def write_pdf(path: Path, pages: Sequence[PrintedPage], today: date) -> None:
    """Write all pages as one PDF. StoreError if it cannot be written."""
    writer = QPdfWriter(str(path))
    writer.setResolution(600)
    writer.setTitle(pages[0].view.design.name)
    pages = set_up(writer, pages)
    p = QPainter()
    if not p.begin(writer):
        raise StoreError("The PDF could not be written", str(path), "Choose a folder that you may write to")
    paint_pages(writer, p, pages, today)
    p.end()


def write_svg(path: Path, pages: Sequence[PrintedPage], today: date, cut: bool = True) -> list[Path]:
    """Write each page as an SVG, numbered where there are several; return the files. StoreError as write_pdf.

    Sheets are cut between bands where they would be too small to read, unless `cut` is off.
    """
    from PySide6.QtSvg import QSvgGenerator

    made, paper = [], paper_for(pages)
    pages = cut_up(pages, paper) if cut else pages
    for number, page in enumerate(pages, 1):
        target = path if len(pages) == 1 else path.with_name(f"{path.stem}-{number}{path.suffix}")
        size = QPageSize(paper).size(QPageSize.Unit.Millimeter)
        mm = 96 / 25.4
        wide, tall = size.height() * mm, size.width() * mm
        svg = QSvgGenerator()
        svg.setFileName(str(target))
        svg.setResolution(96)
        svg.setSize(QSizeF(wide, tall).toSize())
        svg.setViewBox(QRectF(0, 0, wide, tall))
        svg.setTitle(page.view.design.name)
        p = QPainter()
        if not p.begin(svg):
            raise StoreError("The SVG could not be written", str(target), "Choose a folder that you may write to")
        margin = MARGIN_MM * mm
        with on_paper():
            draw_page(
                p, QRectF(margin, margin, wide - 2 * margin, tall - 2 * margin), page, number, len(pages), today, mm
            )
        p.end()
        made.append(target)
    return made


def print_pages(pages: Sequence[PrintedPage], today: date, parent: object = None) -> bool:
    """Ask for a printer and print; whether it was printed."""
    from PySide6.QtPrintSupport import QPrintDialog, QPrinter

    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    pages = set_up(printer, pages)
    if QPrintDialog(printer, parent).exec() != QPrintDialog.DialogCode.Accepted:  # type: ignore[call-overload]
        return False
    p = QPainter(printer)
    paint_pages(printer, p, pages, today)
    p.end()
    return True
