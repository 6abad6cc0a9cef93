"""Order: the fabrication zip, read back from the files themselves, and what the boards cost and when they come."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.fabrication.package import design_mark, keep_package, mark_of
from zesty_trace.core.fabrication.tables import bill_of_materials
from zesty_trace.core.geometry import Point
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.quote import Offer, cheapest, soonest
from zesty_trace.core.quantities import nm, say_count
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.widgets import card, fill, label, row, table
from zesty_trace.desktop.order.files import FilesPanel
from zesty_trace.desktop.project.station import Station
from zesty_trace.errors import InputError
from zesty_trace.journey.ordering import offers_for, panel_that_pays

COLOURS = ("green", "blue", "black", "white", "red")


BOARDS = "Boards and stencil"
PRICED = (1, 2, 4)  # layers


def as_large(design: Design, size_mm: tuple[float, float], layers: int) -> Design:
    """Return a design whose board has another size and number of layers, to be quoted."""
    w, h = (nm(v) for v in size_mm)
    outline = (Point(0, 0), Point(w, 0), Point(w, h), Point(0, h))
    rules = replace(design.board.rules, layers=layers)
    return edits.set_board(design, outline=outline, cutouts=(), form=None, rules=rules)


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
        self._read_of: object = None
        self.files = FilesPanel(self.session, self.write, self._read, self._pull_offers)
        self.write_button = self.files.write_button
        outer.addWidget(self.files, 9)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._offers(), 3)
        right.addWidget(self._parts(), 2)
        outer.addLayout(right, 10)

    def _offers(self) -> QWidget:
        self.summary = label("", "", True)
        self.offers_title = label(BOARDS, "heading")
        self.colour = QComboBox()
        self.colour.addItems(COLOURS)
        self.colour.currentTextChanged.connect(self._set_colour)
        self.offers = table("House, freight", "Boards", "Total, EUR", "Here on", "Note")
        self.offers.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        return card(row(self.offers_title, None, label("Colour"), self.colour), self.summary, self.offers)

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
        """Show what the boards cost: those of the design, or of the files of somebody that are being looked at."""
        d, looked = self.session.design, self.files.looked if self.files.foreign else None
        size = looked.look.board.edges.size_mm if looked is not None else None
        self.offers_title.setText(f"Boards by {looked.path.name}" if looked is not None and size else BOARDS)
        if looked is not None and size:
            layers = len(looked.look.board.layers)
            if layers not in PRICED:
                self.summary.setText(f"The price sheets have no boards of {layers} layers.")
                fill(self.offers, [])
                return
            d = as_large(d, size, layers)
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
        self._say_offers(offers, best, first, foreign=looked is not None)

    def _say_offers(self, offers: list[Offer], best: Offer | None, first: Offer | None, foreign: bool) -> None:
        if offers and best is None:
            self.summary.setText("The prices are in several currencies, and no rate is known: compare them yourself.")
        elif best and first:
            self.summary.setText(
                f"Cheapest in time: {best.house} by {best.freight}, {best.total}, "
                f"{best.arrives:%a %d %b}. Soonest: {first.house} by {first.freight}, {first.total}, "
                f"{first.arrives:%a %d %b}.{'' if foreign else self._panel_words()}"
            )
        else:
            self.summary.setText("No house makes a board of this size and colour.")

    def _panel_words(self) -> str:
        """Return what a panel would save; "" if none saves anything."""
        found = panel_that_pays(self.session.design, self.session.today, self.session.path)
        if found is None:
            return ""
        return (
            f" On a panel of {found.count} ({found.across} x {found.up}) it would be {found.offer.total}, "
            f"{found.saves} less: see “Panel”."
        )

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
        """Look the own zip through when it is new, unless somebody's is being looked at."""
        if self.files.foreign:
            return
        path = self.session.zip_path()
        if not path.exists():
            self._read_of = None
            self.files.nothing("No files yet. Write the zip, then look at it here before you order.")
            return
        given = bool(self.session.design.board.given)
        old = not given and mark_of(path) != design_mark(self.session.wired)
        stamp = (path, path.stat().st_mtime_ns, old)
        if self._read_of == stamp and self.files.looked is not None:
            self.files.recolour()
        elif self._read_of != stamp or self.files.looked is None:
            self._read_of = stamp
            self.files.read(path, of_design=not old)
        older = "THESE FILES ARE OLDER THAN THE BOARD: write them again before you order. " if old else ""
        self.files.warn("These files are somebody's: they are ordered as they are. " if given else older)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        files = self.files
        return [
            Action("Write the fabrication zip", "Ctrl+G", self.write),
            Action("Look at a fabrication zip of any tool", "", files.ask_for_zip),
            Action("Make a project of the files that are looked at", "", files.ask_for_project),
            Action("Compare the files with others, or with the board", "", lambda: files.use(1)),
            Action("Put several boards on a panel", "", lambda: files.use(2)),
            Action("Mill the board at home", "", lambda: files.use(3)),
            Action("Form of the table of places (centroid)", "", lambda: files.use(4)),
            Action("Draw the board anew: let go of given files", "", self.let_go),
        ]

    def let_go(self) -> None:
        """Draw the copper here from now on, instead of taking that of given files."""
        self.session.do("Let go of the given files", edits.let_go_of_files)
