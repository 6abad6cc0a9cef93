"""What the boards cost and when they come: the decision first, then every offer on a plot of money against days."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFrame, QHeaderView, QVBoxLayout

from zesty_trace.core.design import edits
from zesty_trace.core.ordering.money import BUDGET_CURRENCY
from zesty_trace.core.ordering.ordered import BoardOrders, BoardsOrdered, ordered_from
from zesty_trace.core.ordering.quote import Offer, cheapest, frontier, refused, soonest
from zesty_trace.core.ordering.reasons import Question, reasons, trade
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, cell, fill, label, row, table
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session
from zesty_trace.journey.ordering import step_of_boards, take_boards

COLOURS = ("green", "blue", "black", "white", "red")
FINISHES = ("lead-free tin", "leaded tin", "gold")
STENCILS = ("as needed", "none", "frameless", "framed")
BOARDS = "Boards and stencil"
PLOT_PX = 132
MOST_REASONS = 3


def price_of(offer: Offer) -> str:
    """Return a price as the column shows it: in the budget's currency where a rate is known, else with its own."""
    return f"{offer.compared.amount:.2f}" if offer.compared is not None else str(offer.total)


class OffersCard(QFrame):
    """The offers of all houses, with what is chosen about the boards."""

    def __init__(self, session: Session, steps: Steps, pull: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("card")
        self.session, self.steps = session, steps
        self.asked: Question | None = None
        self.shown: list[Offer] = []
        self.picked: Offer | None = None
        self.ordered = BoardOrders()
        self.begin_by: date | None = None
        self.title = label(BOARDS, "heading")
        self.colour, self.finish, self.stencil = (self._choice(*c) for c in (
            (COLOURS, "Colour of the mask", "colour"), (FINISHES, "Finish of the pads", "finish"),
            (STENCILS, "Stencil", "stencil"),
        ))  # fmt: skip
        self.summary = label("", "", True)
        self.words = label("", "muted", True)
        self.taken = label("", "good", True)
        self.which = QComboBox()
        self.which.setAccessibleName("Order of boards")
        self.which.currentIndexChanged.connect(lambda _k: self._show_steps())
        self.here_button = button("They are here", self.came)
        self.back_button = button("Take it back", self.take_back, tip="The boards were not ordered after all")
        self.take_button = button("These are ordered", self.take, True, "Record the picked offer: the calendar counts")
        said = "Every colour, finish and stencil that the houses make; the one that you order becomes the board's"
        self.every_button = button("All choices", pull, tip=said)
        self.every_button.setCheckable(True)
        self.plot: Any = None
        self.offers = table("Offer", "Boards", "EUR", "Here", "Note")
        self.offers.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.offers.itemSelectionChanged.connect(self._chosen)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 12, 14, 12)
        self.column.setSpacing(8)
        for widget in (
            row(self.title, None, self.every_button, self.colour), self.taken, self.summary, self.words, self.offers,
            row(label("Stencil"), self.stencil, label("Finish"), self.finish, None),
            row(self.which, self.here_button, self.back_button, None),
            row(None, self.take_button),
        ):  # fmt: skip
            self.column.addWidget(widget)
        self.column.setStretch(4, 1)

    def show_taken(self, taken: BoardOrders) -> None:
        """Show the boards that were ordered, if any were; the steps are those of the order that is chosen."""
        self.ordered = taken
        numbered = len(taken.standing) > 1
        said = "\n".join(f"{f'Order {o.number}: ' * numbered}{o.words}." for o in taken.standing)
        if len(taken.standing) > 1:
            said += f"\nIn all {say_count(taken.boards, 'board')}."
        self.taken.setText(said)
        self.taken.setVisible(bool(taken))
        before = self.which.currentData()
        self.which.blockSignals(True)
        self.which.clear()
        for o in taken.standing:
            self.which.addItem(f"Order {o.number}", o.number)
        self.which.setCurrentIndex(max(self.which.findData(before), 0) if taken.standing else -1)
        self.which.blockSignals(False)
        self.which.setVisible(len(taken.standing) > 1)
        self.take_button.setText("Order more of these" if taken else "These are ordered")
        self.take_button.setEnabled(self.picked is not None)
        self._show_steps()

    def _show_steps(self) -> None:
        order = self._chosen_order()
        self.here_button.setVisible(order is not None and order.coming)
        self.back_button.setVisible(order is not None)
        self.back_button.setText("They are not here" if order is not None and order.here else "Take it back")

    def _chosen_order(self) -> BoardsOrdered | None:
        return next((o for o in self.ordered.standing if o.number == self.which.currentData()), None)

    def take(self) -> None:
        """Record that the picked offer was ordered."""
        picked = self.picked  # a change of the design shows the offers anew, and picks another
        if picked is None:
            return
        order, build = picked.order, self.session.design.build
        if order is not None and self.every_button.isChecked():
            choices = {"colour": order.colour, "finish": order.finish}
            if order.stencil != "none":
                choices["stencil"] = order.stencil
            if any(getattr(build, k) != v for k, v in choices.items()):
                said = ", ".join(choices.values())
                self.session.do(f"Boards: {said}", lambda d: edits.set_build(d, **choices))
        order_of_today, folder = ordered_from(picked, self.session.today), self.session.path
        self._keep(lambda: take_boards(folder, order_of_today))

    def came(self) -> None:
        """Record that the boards of the chosen order are here."""
        self._step("here")

    def take_back(self) -> None:
        """Record that the boards of the chosen order were not ordered after all, or are not here after all."""
        order = self._chosen_order()
        self._step("undone" if order is not None and order.here else "withdrawn")

    def _step(self, step: str) -> None:
        order, folder, today = self._chosen_order(), self.session.path, self.session.today
        if order is not None:
            self._keep(lambda: step_of_boards(folder, order.number, today, step))

    def _keep(self, work: Callable[[], BoardOrders]) -> None:
        def done(found: BoardOrders) -> None:
            self.show_taken(found)
            last = max(found.orders, key=lambda o: o.history[-1][0] if o.history else o.ordered, default=None)
            self.session.message.emit(last.words if last is not None else "No boards are ordered")
            self.session.records_changed.emit()

        self.steps.start("Recording the order", lambda _r: work(), done)

    def _choice(self, texts: tuple[str, ...], name: str, field: str) -> QComboBox:
        box = QComboBox()
        box.addItems(texts)
        box.setAccessibleName(name)
        box.currentTextChanged.connect(lambda text: self._set(name, field, text))
        return box

    def _set(self, name: str, field: str, text: str) -> None:
        if getattr(self.session.design.build, field) != text:
            self.session.do(f"{name}: {text}", lambda d: edits.set_build(d, **{field: text}))

    def pull_choices(self) -> None:
        """Show what the design says."""
        build = self.session.design.build
        for box, text in ((self.colour, build.colour), (self.finish, build.finish), (self.stencil, build.stencil)):
            box.blockSignals(True)
            if box.findText(text) < 0:
                box.addItem(text)
            box.setCurrentText(text)
            box.blockSignals(False)

    def say(self, words: str) -> None:
        """Show words instead of offers."""
        self.asked, self.shown, self.picked = None, [], None
        self.summary.setText(words)
        self.words.setText("")
        fill(self.offers, [])
        if self.plot is not None:
            self.plot.hide()

    def show_offers(self, asked: Question, offers: list[Offer], more: str) -> None:
        """Show offers; `more` is said after the decision."""
        self.asked, self.shown = asked, offers
        best, first = cheapest(offers), soonest(offers)
        if not offers:
            said = "; ".join(f"{name} {why}" for name, why in refused(list(asked.houses), asked.order))
            self.say(f"No house makes this order: {said or 'there are no price sheets'}.")
            return
        rows = [
            [self._how(o), str(o.boards), price_of(o), f"{o.arrives:%d %b}", self._mark(o, best, first)] for o in offers
        ]
        self.offers.blockSignals(True)
        for r in fill(self.offers, rows, (1, 2)):
            cell(self.offers, r, 0).setToolTip(tip(f"{offers[r].how}. {_choices(offers[r])}"))
        self.offers.clearSelection()
        self.offers.blockSignals(False)
        self.picked = best
        if best is None:
            self.summary.setText("The prices are in several currencies, and no rate is known: compare them yourself.")
        elif first is not None:
            late = "" if best.on_time is not False else " Nothing comes in time."
            if best.on_time and self.begin_by is not None and best.arrives > self.begin_by:
                late += f" It is tight: the work must begin by {self.begin_by:%a %d %b}."
            self.summary.setText(
                f"Cheapest{' in time' if best.on_time else ''}: {best.how}, {best.total}, {best.arrives:%a %d %b}. "
                f"Soonest: {first.how}, {first.total}, {first.arrives:%a %d %b}.{late}{more}"
            )
        self._explain()
        self._draw()

    def _how(self, offer: Offer) -> str:
        """Return how an offer is named in the table: by its choices where all of them are shown."""
        if not self.every_button.isChecked() or offer.order is None:
            return offer.how
        o = offer.order
        framed = ", framed" if o.stencil == "framed" else ""
        return f"{o.colour}, {o.finish.removeprefix('lead-free ')}{framed}, {offer.house.split()[0]}"

    def _mark(self, offer: Offer, best: Offer | None, first: Offer | None) -> str:
        words = ["cheapest"] if offer is best else []
        words += ["soonest"] if offer is first else []
        if offer.on_time is False:
            words += ["late"]
        elif self.begin_by is not None and offer.arrives > self.begin_by:
            words += ["tight"]
        return ", ".join(words)

    def _chosen(self) -> None:
        rows = [index.row() for index in self.offers.selectedIndexes()]
        if rows and rows[0] < len(self.shown):
            self.picked = self.shown[rows[0]]
            self._explain()
            self._draw()

    def pick(self, number: int) -> None:
        """Choose an offer by its row."""
        self.offers.selectRow(number)

    def _explain(self) -> None:
        """Say what one change to the picked offer would win."""
        if self.picked is None or self.asked is None:
            self.words.setText("")
            return
        picked = self.picked
        abroad = picked.compared is not None and picked.total.currency != picked.compared.currency
        found = [_choices(picked)] if self.every_button.isChecked() else []
        found += [f"{picked.total} to pay, {picked.compared} by the table of rates"] if abroad else []
        asked = replace(self.asked, order=picked.order) if picked.order is not None else self.asked
        found += reasons(asked, picked)[:MOST_REASONS]
        found += [t for t in [trade(self.asked, self.shown)] if t]
        self.words.setText("\n".join(f"· {w}" for w in found))
        self.words.setVisible(bool(found))

    def _make_plot(self) -> Any:
        import pyqtgraph as pg

        class Days(pg.AxisItem):  # type: ignore[misc]
            def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
                base = date(2000, 1, 1)
                return [f"{base + timedelta(days=round(v)):%d %b}" for v in values]

        plot = pg.PlotWidget(axisItems={"bottom": Days("bottom")})
        plot.setFixedHeight(PLOT_PX)
        plot.setMenuEnabled(False)
        plot.setMouseEnabled(False, False)
        plot.hideButtons()
        plot.setAccessibleName("Total cost against the day of arrival")
        self.column.insertWidget(3, plot)
        return plot

    def _draw(self) -> None:
        """Draw every offer, those that no other beats joined, the day it is needed, and the picked one."""
        import pyqtgraph as pg

        known = [o for o in self.shown if o.compared is not None]
        if self.plot is None:
            self.plot = self._make_plot()
        self.plot.setVisible(bool(known))
        t = theme.current()
        plot = self.plot
        plot.clear()
        plot.setBackground(t.panel)
        for side, text in (("left", f"total, {BUDGET_CURRENCY}"), ("bottom", "")):
            axis = plot.getAxis(side)
            axis.setPen(t.muted)
            axis.setTextPen(t.muted)
            axis.setLabel(text, color=t.muted)
        edge = frontier(known)
        if len(edge) > 1:
            dash = Qt.PenStyle.DashLine
            plot.plot(
                [_day(o) for o in edge], [float(o.amount) for o in edge], pen=pg.mkPen(t.teal, width=1.5, style=dash)
            )
        if self.asked is not None and self.asked.needed_by is not None:
            at = (self.asked.needed_by - date(2000, 1, 1)).days + 0.5
            line = pg.InfiniteLine(
                at, pen=pg.mkPen(t.stop, width=1.5), label="needed", labelOpts={"color": t.stop, "position": 0.85}
            )
            plot.addItem(line)
        spots = [
            {
                "pos": (_day(o), float(o.amount)),
                "data": self.shown.index(o),
                "symbol": "o" if o in edge else "x",
                "size": 15 if o is self.picked else 10,
                "brush": t.copper if o is self.picked else t.teal if o in edge else t.muted,
                "pen": t.ink if o is self.picked else t.panel,
            }
            for o in known
        ]
        scatter = pg.ScatterPlotItem()
        scatter.addPoints(spots)
        scatter.sigClicked.connect(self._clicked)
        plot.addItem(scatter)

    def _clicked(self, _plot: object, points: list[Any], *_rest: object) -> None:
        if len(points):
            self.pick(int(points[0].data()))


def _choices(offer: Offer) -> str:
    """Return what is offered, in words."""
    o = offer.order
    return f"{o.colour}, {o.finish}, stencil {o.stencil}: {offer.how}" if o is not None else offer.how


def _day(offer: Offer) -> int:
    return (offer.arrives - date(2000, 1, 1)).days
