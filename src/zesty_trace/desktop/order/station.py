"""Order: the fabrication zip, read back from the files themselves, and what the boards cost and when they come."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.package import design_mark, keep_package, mark_of
from zesty_trace.core.ordering.ordered import BoardOrders
from zesty_trace.core.ordering.panels import OnPanel
from zesty_trace.core.ordering.quote import Offer, order_of
from zesty_trace.core.ordering.reasons import Question
from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.widgets import button, row
from zesty_trace.desktop.order.calendar import CalendarCard
from zesty_trace.desktop.order.files import FilesPanel
from zesty_trace.desktop.order.offers import BOARDS, OffersCard
from zesty_trace.desktop.order.parts import PartsCard
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.station import Station
from zesty_trace.journey.ordering import Asked, ask_houses, panel_that_pays, stencil_of

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
        self._asking = 0
        self._panel_of: tuple[Question, OnPanel | None] | None = None
        self.files = FilesPanel(self.session, self.write, self._read, self._pull_offers)
        self.write_button = self.files.write_button
        outer.addWidget(self.files, 8)
        outer.addWidget(self._right(), 10)

    def _right(self) -> QWidget:
        """Return boards and parts, of which one is shown."""
        self.steps = Steps(self.session, self._undone)
        self.card, self.parts = (
            OffersCard(self.session, self.steps, self._pull_offers),
            PartsCard(self.session, self.steps),
        )
        self.calendar = CalendarCard(self.session, self.steps)
        self.offers, self.summary, self.colour = self.card.offers, self.card.summary, self.card.colour
        self.offers_title, self.bom, self.bom_title = self.card.title, self.parts.bom, self.parts.title
        self.cards = QStackedWidget()
        group = QButtonGroup(self)
        self.card_buttons: list[QPushButton] = []
        cards: tuple[tuple[str, str, QWidget], ...] = (
            ("Boards", "What the boards and the stencil cost, and when they are here", self.card),
            ("Parts", "What to buy where, strips to cut, parcels to unpack", self.parts),
            ("Calendar", "When the tested boards are ready, and what decides it", self.calendar),
        )
        for number, (title, tip, card) in enumerate(cards):
            made = button(title, partial(self.turn, number), tip=tip)
            made.setCheckable(True)
            made.setChecked(number == 0)
            group.addButton(made)
            self.card_buttons.append(made)
            self.cards.addWidget(card)
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(row(*self.card_buttons, None, self.steps.undo_button))
        column.addWidget(self.cards, 1)
        return holder

    def turn(self, number: int) -> None:
        """Show boards (0), parts (1) or the calendar (2)."""
        self.card_buttons[number].setChecked(True)
        self.cards.setCurrentIndex(number)
        self.calendar.forget()  # drawers and orders may have changed
        self._pull_shown()

    def _undone(self) -> None:
        """Show everything anew after a step was undone."""
        self.parts.unpacking.pull()
        self.calendar.forget()
        self.session.records_changed.emit()

    def _pull_shown(self) -> None:
        shown = self.cards.currentWidget()
        if shown is self.parts:
            self.parts.pull()
        elif shown is self.calendar:
            self.calendar.pull()

    def pull(self) -> None:
        """Show offers and parts, and read the zip back if there is one."""
        d = self.session.design
        self.card.pull_choices()
        self._pull_offers()
        self.parts.pull()
        self.calendar.pull()
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
                self._asking += 1
                self.card.say(f"The price sheets have no boards of {layers} layers.")
                return
            order = replace(order, width_mm=size[0], height_mm=size[1], layers=layers)
        wired, today, folder = self.session.wired, self.session.today, self.session.path
        own, every = looked is None, self.card.every_button.isChecked()
        self._asking += 1
        number = self._asking

        def work(_report: Report) -> tuple[Asked, list[Offer], str]:
            asked = ask_houses(wired, today, folder, order)
            more = self._panel_words(asked.question) if own else ""
            more += "".join(f" Left out: {error}." for error in asked.unreadable)
            return asked, asked.question.every_offer() if every else asked.offers, more

        def done(found: tuple[Asked, list[Offer], str]) -> None:
            if number == self._asking:  # else something newer is asked
                self._show_offers(*found, own)

        def failed(error: object) -> None:
            if number == self._asking and error is not None:
                self.card.say(str(error))

        self.session.jobs.start("Asking the houses", work, done, failed, visible=False)

    def _show_offers(self, asked: Asked, offers: list[Offer], more: str, own: bool) -> None:
        self.card.begin_by = asked.begin_by if own else None
        self.card.show_offers(asked.question, offers, more)
        self.card.show_taken(asked.ordered if own else BoardOrders())

    def _panel_words(self, asked: Question) -> str:
        """Return what a panel would save; "" if none saves anything. The last answer is kept."""
        if self._panel_of is None or self._panel_of[0] != asked:
            self._panel_of = asked, panel_that_pays(asked)
        found = self._panel_of[1]
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
            Action("What to buy where: parts", "", lambda: self.turn(1)),
            Action("Undo the last step of orders, drawers or hours", "", self.steps.undo),
            Action("When it is all ready: calendar", "", lambda: self.turn(2)),
            Action("Draw the board anew: let go of given files", "", self.let_go),
        ]

    def let_go(self) -> None:
        """Draw the copper here from now on, instead of taking that of given files."""
        self.session.do("Let go of the given files", edits.let_go_of_files)
