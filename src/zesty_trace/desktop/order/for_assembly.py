"""The table of places that goes with the files, as the house that assembles wants it."""

from __future__ import annotations

from msgspec.structs import replace
from PySide6.QtWidgets import QComboBox, QHeaderView

from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.tables import centroid_rows, centroid_words
from zesty_trace.desktop.kit.widgets import fill, row, table
from zesty_trace.desktop.order.pages import TABLE_PX, Page

ORIGINS = {"files": "from the files' origin", "corner": "from the lower left corner"}
WAYS = {False: "counter-clockwise", True: "clockwise"}
SEEN = {"top": "bottom as seen from the top", "below": "bottom as seen from below"}


class PlacesPage(Page):
    """Origin, unit and turns of the table of places, and the table as it will be written."""

    title = "Places"
    tip = "The centroid table for a house that assembles: origin, unit, and how turns are counted"

    def build(self) -> None:
        """Make the widgets."""
        self.origin, self.unit, self.way, self.seen = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for box, texts, name in (
            (self.origin, ORIGINS.values(), "Where places are counted from"),
            (self.unit, ("mm", "mil"), "Unit of the places"),
            (self.way, WAYS.values(), "Which way turns are counted"),
            (self.seen, SEEN.values(), "How turns of the bottom are seen"),
        ):
            box.addItems(list(texts))
            box.setAccessibleName(name)
            box.activated.connect(lambda _k: self._set())
        self.places = table("Part", "Package", "x", "y", "Turn, °", "Side")
        self.places.setFixedHeight(TABLE_PX)
        self.places.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        for widget in (row(self.origin, self.unit, None), row(self.way, self.seen, None), self.words, self.places):
            self.column.addWidget(widget)

    def opened(self) -> None:
        """Show what the table will hold."""
        design = self.session.design
        form = design.build.centroid
        self.origin.setCurrentText(ORIGINS[form.origin])
        self.unit.setCurrentText(form.unit)
        self.way.setCurrentText(WAYS[form.clockwise])
        self.seen.setCurrentText(SEEN[form.bottom])
        self.words.setText(" ".join(centroid_words(form)))
        rows = centroid_rows(self.session.wired, design.build.variant)
        cells = [[r[0], r[2], f"{r[3]} {form.unit}", f"{r[4]} {form.unit}", r[5], r[6]] for r in rows]
        fill(self.places, cells, (2, 3, 4))

    def _set(self) -> None:
        origin = next(k for k, words in ORIGINS.items() if words == self.origin.currentText())
        seen = next(k for k, words in SEEN.items() if words == self.seen.currentText())
        clockwise = self.way.currentText() == WAYS[True]
        form = replace(
            self.session.design.build.centroid,
            origin=origin, unit=self.unit.currentText(), clockwise=clockwise, bottom=seen,
        )  # fmt: skip
        self.session.do("Form of the table of places", lambda d: edits.set_build(d, centroid=form))
        self.opened()
