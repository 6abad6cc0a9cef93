"""Order: the fabrication zip, read back from the files themselves, and what the boards cost and when they come."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.package import design_mark, keep_package, mark_of
from zesty_trace.core.fabrication.tables import bill_of_materials
from zesty_trace.core.ordering.quote import order_of
from zesty_trace.core.ordering.reasons import Question
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.widgets import card, fill, label, table
from zesty_trace.desktop.order.files import FilesPanel
from zesty_trace.desktop.order.offers import BOARDS, OffersCard
from zesty_trace.desktop.project.station import Station
from zesty_trace.journey.ordering import ask_houses, panel_that_pays, stencil_of

PRICED = (1, 2, 4)  # layers


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
        outer.addWidget(self.files, 8)
        right = QVBoxLayout()
        right.setSpacing(12)
        self.card = OffersCard(self.session)
        self.offers, self.summary, self.colour = self.card.offers, self.card.summary, self.card.colour
        self.offers_title = self.card.title
        right.addWidget(self.card, 3)
        right.addWidget(self._parts(), 2)
        outer.addLayout(right, 10)

    def _parts(self) -> QWidget:
        self.bom = table("Count", "Part", "Value", "Package")
        self.bom.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.bom_title = label("Parts to buy", "heading")
        return card(self.bom_title, self.bom)

    def pull(self) -> None:
        """Show offers and parts, and read the zip back if there is one."""
        d = self.session.design
        self.card.pull_choices()
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
        order = order_of(d, stencil_of(self.session.wired))
        if looked is not None and size:
            layers = len(looked.look.board.layers)
            if layers not in PRICED:
                self.card.say(f"The price sheets have no boards of {layers} layers.")
                return
            order = replace(order, width_mm=size[0], height_mm=size[1], layers=layers)
        asked = ask_houses(self.session.wired, self.session.today, self.session.path, order)
        self.card.show_offers(
            asked.question, asked.offers, "" if looked is not None else self._panel_words(asked.question)
        )

    def _panel_words(self, asked: Question) -> str:
        """Return what a panel would save; "" if none saves anything."""
        found = panel_that_pays(asked)
        if found is None:
            return ""
        return (
            f" On a panel of {found.count} ({found.across} x {found.up}) it would be {found.offer.total}, "
            f"{found.saves} less: see “Panel”."
        )

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
