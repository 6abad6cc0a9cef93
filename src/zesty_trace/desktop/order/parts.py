"""Parts to buy: the plan first, line by line with its reason; strips that are cut; parcels that are unpacked."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFrame,
    QHeaderView,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.design import edits
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.widgets import button, cell, fill, label, row, table
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.buying import Market, Purchase
    from zesty_trace.core.ordering.parts.need import Need
    from zesty_trace.core.ordering.parts.strips import CutList

NO_SUPPLIERS = (
    "No supplier is known: put price lists into the project's suppliers folder (docs/parts.md). These parts are needed."
)
STRIP_PX = 24
WHY_PX = 50  # three lines


class StripsView(QWidget):
    """Strips with the pieces that are cut from them, drawn to scale."""

    def __init__(self) -> None:
        super().__init__()
        self.lists: dict[str, CutList] = {}
        self.setAccessibleName("Strips and how they are cut")

    def show_lists(self, lists: dict[str, CutList]) -> None:
        """Show cut lists, by the sort of strip."""
        self.lists = lists
        rows = sum(len(c.cuts) + 1 for c in lists.values())
        self.setMinimumHeight(max(1, rows) * STRIP_PX + 8)
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its strips."""
        return QSize(300, self.minimumHeight())

    def paintEvent(self, _event: QPaintEvent) -> None:
        """Draw each strip: pieces solid, what is left open, lost positions crossed out."""
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme.current()
        y = 4.0
        for name, found in self.lists.items():
            words = f"{name}: {found.bought} to buy" + (", no fewer would do" if found.best else "")
            p.setPen(t.color("ink"))
            p.drawText(QPointF(2, y + STRIP_PX * 0.65), words)
            y += STRIP_PX
            longest = max(c.length for c in found.cuts)
            wide = (self.width() - 6) / longest
            for cut in found.cuts:
                x = 2.0
                for piece in cut.pieces:
                    box = QRectF(x, y + 2, piece * wide - 1.5, STRIP_PX - 7)
                    p.setPen(QPen(t.color("copper"), 1.2))
                    p.setBrush(t.color("part"))
                    p.drawRoundedRect(box, 2, 2)
                    p.setPen(t.color("ink"))
                    p.drawText(box, Qt.AlignmentFlag.AlignCenter, str(piece))
                    x += piece * wide
                rest = QRectF(x, y + 2, max(0.0, self.width() - 4 - x), STRIP_PX - 7)
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.setPen(QPen(t.color("line"), 1, Qt.PenStyle.DashLine))
                p.drawRoundedRect(rest, 2, 2)
                said = f"{cut.left} left" + (f", {cut.lost} lost" if cut.lost else "")
                p.setPen(t.color("muted"))
                if rest.width() > 46:
                    p.drawText(rest, Qt.AlignmentFlag.AlignCenter, said)
                y += STRIP_PX
        p.end()


class PartsCard(QFrame):
    """What to buy, by a goal; and what has come."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("card")
        self.session = session
        self.plan: Purchase | None = None
        self.market: Market | None = None
        self._of: object = None
        self._cut: object = None
        self.title = label("", "heading")
        self.goal = QComboBox()
        self.goal.addItems(["cheapest", "soonest", "fewest parcels"])
        self.goal.setAccessibleName("What the purchase is for")
        self.goal.currentTextChanged.connect(lambda _t: self.work_out())
        self.summary = label("", "", True)
        self.bom = table("Count", "Part", "Value", "Package")
        self.bom.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.lines = table("Count", "Part", "From", "EUR")
        self.lines.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.lines.itemSelectionChanged.connect(self._explain)
        self.why = label("", "muted", True)
        self.why.setMinimumHeight(WHY_PX)
        self.strips = StripsView()
        self.strips_words = label("", "muted", True)
        self.views = QStackedWidget()
        strips = QWidget()
        inside = QVBoxLayout(strips)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.strips_words)
        inside.addWidget(self.strips)
        inside.addStretch(1)
        self.unpacking = Unpacking(session, self.came)
        for view in (self.lines, self.bom, strips, self.unpacking):
            self.views.addWidget(view)
        self.view_box = QComboBox()
        self.view_box.addItems(["The plan", "What is needed", "Strips to cut", "Unpack a parcel"])
        self.view_box.setAccessibleName("What is shown of the parts")
        self.view_box.currentIndexChanged.connect(self._turn)
        self.spares = QSpinBox()
        self.spares.setRange(0, 1000)
        self.spares.setAccessibleName("Spare boards")
        self.spares.editingFinished.connect(self._set_spares)
        self.place_button = button("Write the orders", self.place, True, "A table for each supplier, in orders")
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        chosen = row(self.view_box, None, label("Spare boards"), self.spares)
        last = row(None, self.place_button)
        for widget in (row(self.title, None, self.goal), self.summary, chosen, self.views, self.why, last):
            column.addWidget(widget)
        column.setStretch(3, 1)

    def _turn(self, number: int) -> None:
        self.views.setCurrentIndex(number)
        self.why.setVisible(number == 0)
        self.place_button.setVisible(number == 0)
        if number == 3:
            self.unpacking.pull()

    def _set_spares(self) -> None:
        count = self.spares.value()
        if count != self.session.design.build.spare_boards:
            self.session.do(f"{say_count(count, 'spare board')}", lambda d: edits.set_build(d, spare_boards=count))

    def pull(self) -> None:
        """Show what is needed, and have the purchase worked out if anything that it depends on changed."""
        from zesty_trace.journey.buying import market_of, needs_of, strips_of

        d = self.session.design
        self.spares.setValue(d.build.spare_boards)
        batch = ", ".join(f"{n} {v}" for v, n in d.build.batch.items() if n)
        boards = batch or f"{say_count(d.brief.quantity, 'board')} {d.build.variant}".strip()
        self.title.setText(f"Parts to buy for {boards}")
        try:
            needs = tuple(needs_of(self.session.wired, self.session.path))
            rows = [[str(n.fitted + n.spare), n.title, n.sort.value, n.sort.package] for n in needs]
            fill(self.bom, rows, (0,))
            if not self.isVisible():
                return  # price lists are read, and strips cut, when somebody looks
            market, wrong = market_of(self.session.wired, self.session.path, self.session.today)
        except ZestyError as error:
            self._nothing(str(error))
            return
        if needs != self._cut:
            self._cut = needs
            self.session.jobs.start("Cutting strips", lambda _r: strips_of(needs), self._take_strips, visible=False)
        stamp = (market.needs, market.suppliers, market.today, market.by, self.goal.currentText())
        self.market = market
        if not market.suppliers:
            self._nothing("; ".join(map(str, wrong)) or NO_SUPPLIERS)
            self.view_box.setCurrentIndex(1)
        elif stamp != self._of:
            self.work_out()

    def _take_strips(self, lists: dict[str, CutList]) -> None:
        self.strips.show_lists(lists)
        self.strips_words.setText(
            "Cut or snap from strips of 40; a socket strip loses a position at each cut."
            if lists
            else "No headers or sockets are to be bought."
        )

    def _nothing(self, words: str) -> None:
        self.plan, self._of = None, None
        self.summary.setText(words)
        fill(self.lines, [])
        self.place_button.setEnabled(False)

    def work_out(self) -> None:
        """Have the purchase worked out, as a job."""
        from zesty_trace.core.ordering.parts.buying import GOALS
        from zesty_trace.journey.buying import purchase

        market = self.market
        if market is None or not market.suppliers or not self.isVisible():
            return
        goal = next(g for g in GOALS if g == self.goal.currentText())
        stamp = (market.needs, market.suppliers, market.today, market.by, goal)
        self._of = stamp

        def work(report: Report) -> Purchase:
            return purchase(market, goal, report)

        def done(plan: Purchase) -> None:
            if self._of == stamp:
                self._take(plan)

        self.session.jobs.start("Planning the purchase", work, done)

    def _take(self, plan: Purchase) -> None:
        self.plan = plan
        rows = [[str(b.count), _said(b.need), b.supplier.split()[0], f"{b.total.amount:.2f}"] for b in plan.lines]
        rows += [[str(c), _said(n), "SHORT", ""] for n, c in plan.short]
        fill(self.lines, rows, (0, 3))
        self.why.setText("Pick a line for its reason.")
        self.place_button.setEnabled(bool(plan.lines))
        if not plan.lines and not plan.short:
            self.summary.setText("Nothing needs to be bought: all of it is in the drawers.")
            return
        came = f", the last here {plan.arrives:%a %d %b}" if plan.arrives else ""
        short = f" {say_count(len(plan.short), 'part')} SHORT." if plan.short else ""
        goods = f"{plan.total} in {say_count(len(plan.parcels), 'parcel')}{came}; {plan.how_good}.{short}"
        parcels = "; ".join(f"{s.supplier} by {s.parcel} {s.cost}, {s.arrives:%d %b}" for s in plan.parcels)
        by = self.market.by if self.market is not None else None
        begins = f" Wanted by {by:%a %d %b}, when the work must begin." if by else ""
        self.summary.setText(f"{goods} {parcels}.{begins}")

    def _explain(self) -> None:
        """Say why the picked line is what it is."""
        plan = self.plan
        rows = [index.row() for index in self.lines.selectedIndexes()]
        if plan is None or not rows:
            return
        if rows[0] < len(plan.lines):
            b = plan.lines[rows[0]]
            why = f"; {b.why}" if b.why else ""
            self.why.setText(f"{b.need.words}: {b.count} of {b.offer.number} from {b.supplier} at {b.price:f} EUR{why}")
        else:
            need, count = plan.short[rows[0] - len(plan.lines)]
            self.why.setText(f"{count} short for {' '.join(need.refs)}: nobody can send them in time")

    def place(self) -> None:
        """Write an order for each supplier."""
        from zesty_trace.journey.buying import place_orders

        plan, folder, today = self.plan, self.session.path, self.session.today
        if plan is None:
            return

        def done(names: list[str]) -> None:
            self.session.message.emit(f"Wrote {', '.join(f'orders/{n}' for n in names)}")
            self.unpacking.pull()

        self.session.jobs.start("Writing orders", lambda _r: place_orders(plan, folder, today), done)

    def came(self) -> None:
        """Count anew after a parcel was unpacked."""
        self._of = None
        self.pull()


def _said(need: Need) -> str:
    return " ".join(w for w in (need.title, need.sort.value, need.sort.package) if w)


class Unpacking(QWidget):
    """An order line by line: what came, and what is still missing."""

    def __init__(self, session: Session, came: Callable[[], None]) -> None:
        super().__init__()
        self.session = session
        self._came = came
        self.order = QComboBox()
        self.order.setAccessibleName("Order")
        self.order.currentTextChanged.connect(lambda _t: self._show())
        self.words = label("", "muted", True)
        self.lines = table("Line", "Ordered", "Part", "Came")
        self.lines.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.count = QSpinBox()
        self.count.setRange(0, 1_000_000)
        self.count.setAccessibleName("How many came")
        self.instead = QComboBox()
        self.instead.setEditable(True)
        self.instead.setAccessibleName("Came as another part: kind value package")
        self.one_button = button("These came", self.one)
        self.all_button = button("All the rest came", self.rest, True)
        self.label_button = button("Labels …", self.ask_for_labels, tip="A PDF of labels for the bags, with codes")
        self.lines.itemSelectionChanged.connect(self._picked)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for widget in (
            row(self.order, None, self.label_button), self.words, self.lines,
            row(self.count, self.one_button, None, self.all_button), row(label("Came as"), self.instead, None),
        ):  # fmt: skip
            column.addWidget(widget)

    def pull(self) -> None:
        """Show the orders that there are."""
        from zesty_trace.journey.buying import orders

        before = self.order.currentText()
        self.order.blockSignals(True)
        self.order.clear()
        self.order.addItems(orders(self.session.path))
        self.order.setCurrentText(before)
        self.order.blockSignals(False)
        self._show()

    def _show(self) -> None:
        from zesty_trace.core.ordering.parts.placed import missing
        from zesty_trace.journey.buying import buildable_now, load_order, say_buildable

        name = self.order.currentText()
        try:
            lines = load_order(self.session.path, name) if name else []
        except ZestyError as error:
            self.words.setText(str(error))
            fill(self.lines, [])
            return
        fill(
            self.lines,
            [
                [str(k), str(x.count), f"{x.sort}" + (f", came as {x.came_as}" if x.came_as else ""), str(x.received)]
                for k, x in enumerate(lines, 1)
            ],
            (0, 1, 3),
        )
        left = missing(lines)
        able = say_buildable(buildable_now(self.session.wired, self.session.path))
        if not lines:
            said = "No orders yet: write them from the plan."
        elif not left:
            said = "All of it has come."
        else:
            first = "; ".join(f"{x.short} x {x.sort} for {x.refs}" for _, x in left[:2])
            more = f" and {len(left) - 2} more" if len(left) > 2 else ""
            said = f"Still to come: {first}{more}."
        self.words.setText(f"{said} {able}".strip())
        self.label_button.setEnabled(bool(lines))
        self.one_button.setEnabled(bool(lines))
        self.all_button.setEnabled(bool(left))

    def ask_for_labels(self) -> None:
        """Ask where the labels go."""
        name, _ = QFileDialog.getSaveFileName(self, "Labels for the bags", "labels.pdf", "PDF (*.pdf)")
        if name:
            self.write_labels(Path(name))

    def write_labels(self, path: Path) -> None:
        """Write labels for the bags of the order."""
        from zesty_trace.journey.buying import order_labels

        wired, folder, name = self.session.wired, self.session.path, self.order.currentText()

        def work(_report: Report) -> None:
            write_given(path, order_labels(wired, folder, name))

        self.session.jobs.start("Writing labels", work, lambda _v: self.session.message.emit(f"Wrote {path}"))

    def _picked(self) -> None:
        for index in self.lines.selectedIndexes()[:1]:
            ordered, came = (int(cell(self.lines, index.row(), c).text()) for c in (1, 3))
            self.count.setValue(max(0, ordered - came))

    def one(self) -> None:
        """Note what came of the picked line."""
        rows = sorted({index.row() for index in self.lines.selectedIndexes()})
        if rows:
            self._unpack([(rows[0] + 1, self.count.value(), self.instead.currentText())])

    def rest(self) -> None:
        """Note that all lines came whole that have not yet."""
        found = []
        for r in range(self.lines.rowCount()):
            ordered, came = (int(cell(self.lines, r, c).text()) for c in (1, 3))
            if ordered > came:
                found.append((r + 1, ordered - came, ""))
        self._unpack(found)

    def _unpack(self, found: list[tuple[int, int, str]]) -> None:
        from zesty_trace.core.ordering.parts.placed import Came
        from zesty_trace.core.ordering.parts.sorts import Sort
        from zesty_trace.journey.buying import unpack

        came = []
        for line, count, words in found:
            kind, _, rest = words.strip().partition(" ")
            value, _, package = rest.rpartition(" ")
            if kind and kind not in self.session.catalogue.kinds:
                hint = "Write kind, value and package, such as resistor 12k R0603"
                self.session.failed.emit(InputError(f"There is no kind of part “{kind}”", "came as", hint))
                return
            came.append(Came(line, count, Sort(kind, value, package) if kind else None))
        folder, name = self.session.path, self.order.currentText()

        def done(_lines: object) -> None:
            self.instead.setEditText("")
            self._show()
            self._came()

        self.session.jobs.start("Unpacking", lambda _r: unpack(folder, name, came), done)
