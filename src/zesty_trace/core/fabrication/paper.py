"""A drawing as lines, areas and words in millimetres, y up; written as SVG and as PDF, the same bytes each time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from html import escape
from typing import Literal, NamedTuple

Spot = tuple[float, float]
EPOCH = datetime(2020, 1, 1, tzinfo=UTC)
PAGES_MM = ((297.0, 210.0), (420.0, 297.0))  # A4 and A3, ISO 216, lying
MARGIN_MM = 10.0
LETTER = 0.35278  # mm of a point
WIDE = 0.56  # of a letter's height, its mean width in the fonts that every reader has


class Path(NamedTuple):
    """A line, or an area if `fill` is a colour; `close` joins its ends. Colours are #rrggbb, "" is none."""

    points: tuple[Spot, ...]
    ink: str = "#000000"
    pen: float = 0.15
    fill: str = ""
    close: bool = False
    dashed: bool = False


class Circle(NamedTuple):
    """A circle."""

    at: Spot
    radius: float
    ink: str = "#000000"
    pen: float = 0.15
    fill: str = ""


class Words(NamedTuple):
    """A line of words, `size` mm high, at their left end, middle or right end; `at` is on their middle line."""

    at: Spot
    text: str
    size: float = 2.5
    anchor: Literal["start", "middle", "end"] = "start"
    bold: bool = False


@dataclass
class Sheet:
    """A page: its size, mm, and what is on it."""

    width: float
    height: float
    items: list[Path | Circle | Words] = field(default_factory=list)


def page_for(width: float, height: float) -> tuple[float, float]:
    """Return the smallest page on which this goes at 1:1, or one of its own size."""
    for page in PAGES_MM:
        if width <= page[0] - 2 * MARGIN_MM and height <= page[1] - 2 * MARGIN_MM:
            return page
    return width + 2 * MARGIN_MM, height + 2 * MARGIN_MM


def scale_for(width: float, height: float, room: Spot) -> float:
    """Return the largest scale of 5 to 1 at which this fits into the room."""
    return next((s for s in (5.0, 4.0, 3.0, 2.0) if width * s <= room[0] and height * s <= room[1]), 1.0)


def svg_of(sheet: Sheet) -> str:
    """Return a sheet as SVG 1.1 at its own size."""
    high = sheet.height
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{sheet.width:g}mm" height="{high:g}mm" '
        f'viewBox="0 0 {sheet.width:g} {high:g}" font-family="Helvetica, Arial, sans-serif">'
    )
    return "\n".join([head, *(_svg_item(item, high) for item in sheet.items), "</svg>", ""])


def _svg_item(item: Path | Circle | Words, high: float) -> str:
    if isinstance(item, Words):
        x, y = item.at
        weight = ' font-weight="bold"' if item.bold else ""
        where = f'x="{x:.3f}" y="{high - y + item.size * 0.35:.3f}" font-size="{item.size:g}"'
        return f'<text {where} text-anchor="{item.anchor}"{weight}>{escape(item.text)}</text>'
    fill = item.fill or "none"
    stroke = f'fill="{fill}" stroke="{item.ink or "none"}" stroke-width="{item.pen:g}"'
    if isinstance(item, Circle):
        return f'<circle cx="{item.at[0]:.4f}" cy="{high - item.at[1]:.4f}" r="{item.radius:.4f}" {stroke}/>'
    course = " L".join(f"{x:.4f},{high - y:.4f}" for x, y in item.points)
    dash = ' stroke-dasharray="1,0.8"' if item.dashed else ""
    return f'<path d="M{course}{"Z" if item.close else ""}" {stroke}{dash}/>'


def pdf_of(sheets: Sequence[Sheet], title: str) -> bytes:
    """Return sheets as a PDF, a page each, at 1:1; letters that its fonts do not have become question marks."""
    from fpdf import FPDF

    pdf = FPDF(unit="mm")
    pdf.set_creation_date(EPOCH)
    pdf.set_title(_plain(title))
    pdf.set_auto_page_break(False)
    pdf.c_margin = 0.0
    for sheet in sheets:
        pdf.add_page(format=(sheet.width, sheet.height))
        for item in sheet.items:
            _pdf_item(pdf, item, sheet.height)
    return bytes(pdf.output())


def _plain(text: str) -> str:
    return text.replace("…", "...").encode("latin-1", "replace").decode("latin-1")


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def _pdf_item(pdf: object, item: Path | Circle | Words, high: float) -> None:
    from fpdf import FPDF

    assert isinstance(pdf, FPDF)
    if isinstance(item, Words):
        text = _plain(item.text)
        pdf.set_font("Helvetica", "B" if item.bold else "", item.size / LETTER)
        wide = pdf.get_string_width(text)
        x = item.at[0] - {"start": 0.0, "middle": wide / 2, "end": wide}[item.anchor]
        pdf.set_text_color(0, 0, 0)
        pdf.text(x, high - item.at[1] + item.size * 0.35, text)
        return
    style = ("D" if item.ink else "") + ("F" if item.fill else "")
    if item.ink:
        pdf.set_draw_color(*_rgb(item.ink))
        pdf.set_line_width(item.pen)
    if item.fill:
        pdf.set_fill_color(*_rgb(item.fill))
    if isinstance(item, Circle):
        pdf.circle(x=item.at[0], y=high - item.at[1], radius=item.radius, style=style)
        return
    if item.dashed:
        pdf.set_dash_pattern(dash=1.0, gap=0.8)
    points = [(x, high - y) for x, y in item.points]
    if item.close:
        pdf.polygon(points, style=style)
    else:
        pdf.polyline(points, style="D")
    if item.dashed:
        pdf.set_dash_pattern()
