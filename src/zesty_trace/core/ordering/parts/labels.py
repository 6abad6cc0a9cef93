"""Labels for bags of parts: what is in it, for which references, how many, with a code that a telephone reads (PDF)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from zesty_trace.core.ordering.parts.placed import Line

EPOCH = datetime(2020, 1, 1, tzinfo=UTC)
ACROSS, DOWN = 3, 8
WIDE_MM, HIGH_MM = 70.0, 37.0  # 24 labels on A4 (210 x 297 mm), a usual sheet
CODE_MM, EDGE_MM = 24.0, 4.0
MOST_REFS = 90  # letters of references on a label


@dataclass(frozen=True)
class Label:
    """One label: a heading, a line below, what is small, and what the code says."""

    head: str
    below: str
    small: str
    code: str


def labels_of(lines: Sequence[Line], titles: dict[str, str]) -> list[Label]:
    """Return a label for each line of an order; `titles` has kind -> what it is called."""
    found = []
    for x in lines:
        title = titles.get(x.sort.kind, x.sort.kind)
        head = " ".join(w for w in (x.sort.value, x.sort.package) if w) or title
        refs = x.refs if len(x.refs) <= MOST_REFS else f"{x.refs[: MOST_REFS - 3].rsplit(' ', 1)[0]} ..."
        code = "|".join((x.number, x.sort.kind, x.sort.value, x.sort.package, str(x.count)))
        found.append(Label(head, f"{title}, {x.count} pieces", f"{x.number}  {refs}", code))
    return found


def labels_pdf(labels: Sequence[Label], skip: int = 0) -> bytes:
    """Return sheets of labels as a PDF, the same bytes each time; `skip` leaves the first ones of the sheet free."""
    import segno
    from fpdf import FPDF

    pdf = FPDF(unit="mm", format="A4")
    pdf.set_creation_date(EPOCH)
    pdf.set_auto_page_break(False)
    for k, label in enumerate(labels, max(0, skip)):
        place = k % (ACROSS * DOWN)
        if place == 0 or pdf.page == 0:
            pdf.add_page()
        x, y = place % ACROSS * WIDE_MM, place // ACROSS * HIGH_MM
        matrix = segno.make(label.code, error="m", micro=False).matrix
        cell = CODE_MM / len(matrix)
        pdf.set_fill_color(0, 0, 0)
        for r, row in enumerate(matrix):
            for c, dark in enumerate(row):
                if dark:
                    at = (x + EDGE_MM + c * cell, y + (HIGH_MM - CODE_MM) / 2 + r * cell)
                    pdf.rect(*at, cell, cell, style="F")
        left = x + EDGE_MM + CODE_MM + 3
        room = WIDE_MM - CODE_MM - EDGE_MM - 6
        top = y + 7.0
        for text, size, bold, rows in ((label.head, 11, "B", 2), (label.below, 8, "", 2), (label.small, 6.5, "", 3)):
            pdf.set_font("Helvetica", bold, size)
            for line in _broken(pdf, _plain(text), room, rows):
                top += size * 0.42
                pdf.text(left, top, line)
            top += 1.4
    if not labels:
        pdf.add_page()
    return bytes(pdf.output())


def _plain(text: str) -> str:
    return text.encode("latin-1", "replace").decode("latin-1")


def _broken(pdf: object, text: str, room: float, rows: int) -> list[str]:
    """Return text broken into lines that fit; what does not fit into the rows is cut."""
    from fpdf import FPDF

    assert isinstance(pdf, FPDF)
    lines = [""]
    for word in text.split():
        tried = f"{lines[-1]} {word}".strip()
        if pdf.get_string_width(tried) <= room or not lines[-1]:
            lines[-1] = tried
        else:
            lines.append(word)
    return lines[:rows]
