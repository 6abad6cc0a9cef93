"""Labels for bags: painted by one library from the PDF, and read by another, an independent decoder of codes."""

from __future__ import annotations

from decimal import Decimal

import numpy as np
import pypdfium2
import pytest
import zxingcpp

from zesty_trace.core.ordering.parts.building import buildable
from zesty_trace.core.ordering.parts.labels import ACROSS, DOWN, labels_of, labels_pdf
from zesty_trace.core.ordering.parts.placed import Line
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer


def refs(letter: str, count: int) -> str:
    return " ".join(f"{letter}{n}" for n in range(count))


def lines(count: int) -> list[Line]:
    return [
        Line(
            f"CP-{k:03}",
            Sort("resistor", f"{k}k", "R0603"),
            10 * k,
            Decimal("0.02"),
            " ".join(f"R{n}" for n in range(k)),
        )
        for k in range(1, count + 1)
    ]


def read_codes(data: bytes) -> list[tuple[int, str]]:
    """Return (page, what a code says) of all codes of a PDF."""
    found = []
    for number, page in enumerate(pypdfium2.PdfDocument(data)):
        picture = np.asarray(page.render(scale=4, grayscale=True).to_pil().convert("L"))
        found += [(number, code.text) for code in zxingcpp.read_barcodes(picture)]
    return found


@pytest.mark.campaign
def test_every_code_says_what_is_in_the_bag() -> None:
    made = labels_of(lines(30), {"resistor": "Resistor"})
    data = labels_pdf(made)
    assert data == labels_pdf(made)
    codes = read_codes(data)
    assert sorted(t for _, t in codes) == sorted(m.code for m in made)
    assert codes[0][1].startswith("CP-")
    assert [sum(p == n for p, _ in codes) for n in (0, 1)] == [ACROSS * DOWN, 30 - ACROSS * DOWN]
    shifted = read_codes(labels_pdf(made[:3], skip=23))
    assert sorted(p for p, _ in shifted) == [0, 1, 1]
    assert made[1].below == "Resistor, 20 pieces"


def test_words_of_labels_are_in_the_file_and_long_ones_are_cut() -> None:
    long = labels_of(
        [Line("A", Sort("led", "red", "LED0805"), 3, Decimal(0), " ".join(f"D{n}" for n in range(99)))], {}
    )
    assert long[0].small.endswith(" ...")
    text = pypdfium2.PdfDocument(labels_pdf(long))[0].get_textpage().get_text_range()
    assert "red LED0805" in text
    assert len(pypdfium2.PdfDocument(labels_pdf([]))) == 1


@pytest.mark.campaign
def test_what_can_be_built_is_what_the_drawers_hold(demo, catalogue) -> None:
    from zesty_trace.core.circuit.wired import Wired

    wired = Wired(demo, catalogue)
    counts: dict[Sort, int] = {}
    for part in demo.fitted("Full").parts.values():
        kind = catalogue.kinds[part.kind]
        if kind.assembled:
            sort = Sort(part.kind, part.value, part.package or kind.packages[0])
            counts[sort] = counts.get(sort, 0) + 1
    full = [Drawer(sort, 3 * count) for sort, count in counts.items()]
    assert buildable(wired, "Full", full, 12).boards == 3
    assert buildable(wired, "Full", full, 3).lacks == ()
    one = next(iter(counts))
    less = [d if d.sort != one else Drawer(one, 3 * counts[one] - 1) for d in full]
    found = buildable(wired, "Full", less, 12)
    assert found.boards == 2
    assert [(s.key, c) for s, c, _ in found.lacks] == [(one.key, 1)]
    assert buildable(wired, "Full", [], 12).boards == 0
