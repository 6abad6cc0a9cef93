"""Order: the fabrication zip, read back from the files themselves, and what the boards cost and when they come."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.package import design_mark, keep_package, mark_of
from zesty_trace.core.fabrication.roles import OUTLINE, Image
from zesty_trace.core.fabrication.tables import bill_of_materials
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.quote import Offer, cheapest, soonest
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.kit.widgets import button, card, fill, label, lines_of, row, table
from zesty_trace.desktop.layout.painter import shape_path
from zesty_trace.desktop.project.station import Station
from zesty_trace.errors import InputError
from zesty_trace.files import read_inside
from zesty_trace.journey.ordering import offers_for

VIEWS = {
    "Top, all layers": (Image("copper", "top"), Image("mask", "top"), Image("silk", "top")),
    "Bottom, all layers": (Image("copper", "bottom"), Image("mask", "bottom"), Image("silk", "bottom")),
    "Top copper": (Image("copper", "top"),),
    "Bottom copper": (Image("copper", "bottom"),),
    "Inner copper 1": (Image("copper", "inner1"),),
    "Inner copper 2": (Image("copper", "inner2"),),
    "Top mask openings": (Image("mask", "top"),),
    "Top paste": (Image("paste", "top"),),
    "Top silk": (Image("silk", "top"),),
    "Drills only": (),
}
COLOURS = ("green", "blue", "black", "white", "red")


class ReadBackCanvas(Canvas):
    """Draws images read from files."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, y_up=True)
        self.layers: list[tuple[str, QPainterPath]] = []
        self.holes: list[tuple[float, float, float]] = []
        self.setAccessibleName("Fabrication files read back")

    def show_layers(self, layers: list[tuple[str, QPainterPath]], holes: list[tuple[float, float, float]]) -> None:
        """Show paths with the colour names they are drawn in, and holes."""
        first = not self.layers
        self.layers, self.holes = layers, holes
        self.empty_hint = "" if layers else "Nothing to look at yet: write the fabrication zip."
        if first:
            self.fit()
        self.refit()

    def scene_rect(self) -> QRectF:
        """Return the rectangle round everything."""
        rect = QRectF()
        for _, path in self.layers:
            rect = rect.united(path.boundingRect())
        return rect.adjusted(-1, -1, 1, 1) if not rect.isEmpty() else QRectF(0, 0, 80, 56)

    def paint_scene(self, p: QPainter) -> None:
        """Draw the layers in order, holes last."""
        t = theme.current()
        for name, path in self.layers:
            p.setPen(Qt.PenStyle.NoPen)
            if name == "ink":
                p.setPen(QPen(t.color("ink"), 0.02))
            p.setBrush(t.color(name, 255 if name in ("ink", "board") else 165))
            p.drawPath(path)
        p.setPen(QPen(t.color("ink"), 0.08))
        p.setBrush(t.color("sheet"))
        for x, y, d in self.holes:
            p.drawEllipse(QRectF(x - d / 2, y - d / 2, d, d))


def _price(offer: Offer) -> str:
    """Return a price as the column shows it: the head names the budget's currency, others are named in the cell."""
    total = offer.total
    return f"{total.amount:.2f}" if total.currency == BUDGET_CURRENCY else str(total)


class OrderStation(Station):
    """Files on the left, offers and parts on the right."""

    key = "order"

    def build(self) -> None:
        """Make the read-back view and the tables."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(12)
        self._images: dict[str, Any] = {}
        self._drills: list[tuple[float, float, float]] = []
        self._read_of: object = None
        self._is_old, self._said = False, ""
        self.canvas = ReadBackCanvas()
        self.layer = QComboBox()
        self.layer.addItems([name for name in VIEWS if "Inner" not in name])
        self.layer.currentTextChanged.connect(lambda _t: self._show())
        self.file_note = label("", "muted", True)
        self.write_button = button("Write the fabrication zip", self.write, True, "Ctrl+G")
        frame = card(
            row(label("What the board house will see", "heading"), None, self.layer),
            self.canvas,
            self.file_note,
            row(self.write_button, None),
            name="sheet",
        )
        lines_of(frame).setStretch(1, 1)
        outer.addWidget(frame, 8)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._offers(), 3)
        right.addWidget(self._parts(), 2)
        outer.addLayout(right, 10)

    def _offers(self) -> QWidget:
        self.summary = label("", "", True)
        self.colour = QComboBox()
        self.colour.addItems(COLOURS)
        self.colour.currentTextChanged.connect(self._set_colour)
        self.offers = table("House, freight", "Boards", "Total, EUR", "Here on", "Note")
        self.offers.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        return card(
            row(label("Boards and stencil", "heading"), None, label("Colour"), self.colour), self.summary, self.offers
        )

    def _parts(self) -> QWidget:
        self.bom = table("Count", "Part", "Value", "Package")
        self.bom.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.bom_title = label("Parts to buy", "heading")
        return card(self.bom_title, self.bom)

    def pull(self) -> None:
        """Show offers and parts, and read the zip back if there is one."""
        d = self.session.design
        self.colour.blockSignals(True)
        self.colour.setCurrentText(d.build.colour)
        self.colour.blockSignals(False)
        self._pull_offers()
        lines = bill_of_materials(self.session.wired.with_design(d), d.build.variant)
        boards = d.brief.quantity
        self.bom_title.setText(f"Parts to buy for {say_count(boards, 'board')} {d.build.variant}".strip())
        fill(self.bom, [[str(b.count * boards), b.title, b.value, b.package] for b in lines], (0,))
        self.write_button.setEnabled(bool(d.board.placements))
        self._read()

    def _pull_offers(self) -> None:
        d = self.session.design
        try:
            offers = offers_for(d, self.session.today, self.session.path)
        except InputError as error:
            self.summary.setText(str(error))
            fill(self.offers, [])
            return
        best, first = cheapest(offers), soonest(offers)

        def mark(o: Offer) -> str:
            words = ["cheapest"] if o is best else []
            words += ["soonest"] if o is first else []
            words += ["late"] if not o.on_time else []
            return ", ".join(words)

        fill(
            self.offers,
            [[f"{o.house}, {o.freight}", str(o.boards), _price(o), f"{o.arrives:%d %b}", mark(o)] for o in offers],
            (1, 2),
        )
        if offers and best is None:
            self.summary.setText("The prices are in several currencies, and no rate is known: compare them yourself.")
        elif best and first:
            self.summary.setText(
                f"Cheapest in time: {best.house} by {best.freight}, {best.total}, "
                f"{best.arrives:%a %d %b}. Soonest: {first.house} by {first.freight}, {first.total}, "
                f"{first.arrives:%a %d %b}."
            )
        else:
            self.summary.setText("No house makes a board of this size and colour.")

    def _set_colour(self, colour: str) -> None:
        self.session.do(f"Boards in {colour}", lambda d: edits.set_build(d, colour=colour))

    def write(self) -> None:
        """Write the zip, as a job, then read it back."""
        wired, folder = self.session.wired, self.session.path

        def done(path: Path) -> None:
            self.session.message.emit(f"Wrote fabrication/{path.name}")
            self._read_of = None
            self.session.records_changed.emit()

        self.session.jobs.start("Writing files", lambda report: keep_package(wired, folder), done)

    def _read(self) -> None:
        path = self.session.zip_path()
        if not path.exists():
            self.file_note.setText("No files yet. Write the zip, then look at it here before you order.")
            self._images, self._drills = {}, []
            self._show()
            return
        self._is_old = mark_of(path) != design_mark(self.session.wired)
        self._say_files()
        stamp = (path, path.stat().st_mtime_ns)
        if self._read_of == stamp:
            return
        self._read_of = stamp

        def work(report: object) -> tuple[dict[str, QPainterPath], list[tuple[float, float, float]], int]:
            files = read_zip(read_inside(path.parents[1], f"fabrication/{path.name}", "archive"))
            images = {n: shape_path(read_gerber(t, n).shape) for n, t in files.items() if n.endswith(".gbr")}
            drills = [h for n, t in files.items() if n.endswith(".xnc") for h in read_drill(t, n).holes]
            holes = [(*h.points[0], h.diameter) for h in drills]
            return images, holes, len(files)

        self.session.jobs.start("Reading back", work, lambda v: self._was_read(path, *v), visible=False)

    def _was_read(
        self, path: Any, images: dict[str, QPainterPath], holes: list[tuple[float, float, float]], count: int
    ) -> None:
        self._images, self._drills = images, holes
        self._offer_views()
        self._said = f"{path.name}: {count} files, {len(holes)} holes. Drawn from the files, not from the design."
        self._say_files()
        self._show()

    def _offer_views(self) -> None:
        """Offer the views of which there are files."""
        there = [name for name, parts in VIEWS.items() if all(i.file in self._images for i in parts)]
        before = self.layer.currentText()
        if there != [self.layer.itemText(k) for k in range(self.layer.count())]:
            self.layer.blockSignals(True)
            self.layer.clear()
            self.layer.addItems(there)
            self.layer.setCurrentText(before)
            self.layer.blockSignals(False)

    def _say_files(self) -> None:
        old = "THESE FILES ARE OLDER THAN THE BOARD: write them again before you order. " if self._is_old else ""
        self.file_note.setText(old + self._said)

    def _show(self) -> None:
        names = VIEWS[self.layer.currentText()]
        colors = {
            Image("copper", "top"): "copper",
            Image("copper", "bottom"): "bottom",
            Image("copper", "inner1"): "inner1",
            Image("copper", "inner2"): "inner2",
            Image("mask", "top"): "lemon",
            Image("mask", "bottom"): "lemon",
            Image("paste", "top"): "ground",
        }
        layers = [(colors.get(n, "ink"), self._images[n.file]) for n in names if n.file in self._images]
        if OUTLINE.file in self._images:
            layers.append(("ink", self._images[OUTLINE.file]))
        self.canvas.show_layers(layers, self._drills)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [Action("Write the fabrication zip", "Ctrl+G", self.write)]
