"""Parts to buy: purchases side by side, line by line with reasons; what they are counted from, strips, parcels."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QFrame, QHeaderView, QStackedWidget, QVBoxLayout

from zesty_trace.core.ordering.parts.buying import GOALS, Goal
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, fill, label, row, table
from zesty_trace.desktop.order.batch import BatchPage
from zesty_trace.desktop.order.beside import Tiles
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.order.strips import StripsPage
from zesty_trace.desktop.order.unpacking import Unpacking
from zesty_trace.desktop.project.session import Session

if TYPE_CHECKING:
    from zesty_trace.core.ordering.maker import Own
    from zesty_trace.core.ordering.parts.buying import Purchase
    from zesty_trace.core.ordering.parts.headers import Cutting
    from zesty_trace.core.ordering.parts.need import Loss, Need
    from zesty_trace.core.ordering.parts.programme import Market
    from zesty_trace.errors import InputError
    from zesty_trace.journey.buying import Shortage

NO_SUPPLIERS = (
    "No supplier is known: put price lists into the project's suppliers folder (docs/parts.md). These parts are needed."
)
VIEWS = ("The plan", "What is needed", "Boards, spares, losses", "Strips to cut", "Unpack a parcel")
PLAN, NEEDED, BATCH, STRIPS, UNPACK = range(5)
WHY_PX = 52  # three lines
MOST_OTHERS = 2


@dataclass(frozen=True)
class Counted:
    """What was read of the project for the card."""

    market: Market
    wrong: tuple[InputError, ...]
    cuttings: tuple[Cutting, ...]
    losses: tuple[Loss, ...]
    own: Own


class PartsCard(QFrame):
    """What to buy, by a goal; and what has come."""

    def __init__(self, session: Session, steps: Steps) -> None:
        super().__init__()
        self.setObjectName("card")
        self.session, self.steps = session, steps
        self.goal: Goal = "cheapest"
        self.market: Market | None = None
        self.plans: dict[Goal, Purchase] = {}
        self.shortages: dict[Goal, Shortage] = {}
        self.wrong: tuple[InputError, ...] = ()
        self._asked = 0
        self._working = False
        self.title = label("", "heading")
        self.tiles = Tiles(GOALS, self.choose)
        self.summary = label("", "", True)
        self.bom = table("Count", "Part", "Value", "Package")
        self.bom.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.lines = table("Count", "Part", "From", "EUR")
        self.lines.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.lines.itemSelectionChanged.connect(self._explain)
        self.why = label("", "muted", True)
        self.why.setMinimumHeight(WHY_PX)
        self.batch, self.strips = BatchPage(session, steps, self.changed), StripsPage(session, steps, self.changed)
        self.unpacking = Unpacking(session, steps, self.changed)
        self.views = QStackedWidget()
        for view in (self.lines, self.bom, self.batch, self.strips, self.unpacking):
            self.views.addWidget(view)
        self.view_box = QComboBox()
        self.view_box.addItems(list(VIEWS))
        self.view_box.setAccessibleName("What is shown of the parts")
        self.view_box.currentIndexChanged.connect(self._turn)
        self.place_button = button("Write the orders", self.place, True, "A table for each supplier, in orders")
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        for widget in (
            row(self.title, None, self.view_box), self.tiles, self.summary, self.views, self.why,
            row(None, self.place_button),
        ):  # fmt: skip
            column.addWidget(widget)
        column.setStretch(3, 1)

    @property
    def plan(self) -> Purchase | None:
        """The purchase that is looked at."""
        return self.plans.get(self.goal)

    def _turn(self, number: int) -> None:
        self.views.setCurrentIndex(number)
        self.why.setVisible(number == PLAN)
        self.place_button.setVisible(number == PLAN)
        self.summary.setVisible(number in (PLAN, NEEDED))
        self._show_tiles()
        if number == PLAN and not self._working:
            self._next()
        if number == UNPACK:
            self.unpacking.pull()

    def _show_tiles(self) -> None:
        self.tiles.setVisible(self.view_box.currentIndex() == PLAN and self.market is not None)

    def pull(self) -> None:
        """Have everything read that the card shows, as a job, when somebody looks."""
        d = self.session.design
        batch = ", ".join(f"{n} {v}" for v, n in d.build.batch.items() if n)
        boards = batch or f"{say_count(d.brief.quantity, 'board')} {d.build.variant}".strip()
        self.title.setText(f"Parts for {boards}")
        if not self.isVisible():
            return
        self._asked += 1
        asked, wired, folder, today = self._asked, self.session.wired, self.session.path, self.session.today

        def work(_report: Report) -> Counted:
            from zesty_trace.journey.buying import cuttings_of, load_losses, market_of
            from zesty_trace.journey.hours import load_own

            market, wrong = market_of(wired, folder, today)
            own = load_own(folder)
            return Counted(market, tuple(wrong), tuple(cuttings_of(wired, folder)), load_losses(folder), own)

        def done(found: Counted) -> None:
            if asked == self._asked:
                self._counted(found)

        def failed(error: object) -> None:
            if error is not None:
                self._nothing(str(error))

        self.session.jobs.start("Counting parts", work, done, failed, visible=False)

    def _counted(self, found: Counted) -> None:
        market, self.wrong = found.market, found.wrong
        needed = [[str(n.fitted + n.spare), n.title, n.sort.value, n.sort.package] for n in market.needs]
        fill(self.bom, needed, (0,))
        self.batch.pull(found.losses, found.own)
        self.strips.show_cuttings(found.cuttings)
        self.unpacking.known = tuple(o.sort for s in market.suppliers for o in s.offers)
        if not market.suppliers:
            self._nothing("; ".join(map(str, found.wrong)) or NO_SUPPLIERS)
            if self.view_box.currentIndex() == PLAN:
                self.view_box.setCurrentIndex(NEEDED)
            return
        if market != self.market:
            self.market, self.plans, self.shortages = market, {}, {}
            self._show_tiles()
            self._take()
            self._next()
        elif not self._working:
            self._next()

    def _nothing(self, words: str) -> None:
        self.market, self.plans, self.shortages = None, {}, {}
        self._show_tiles()
        self.summary.setText(words)
        fill(self.lines, [])
        self.place_button.setEnabled(False)

    def _next(self) -> None:
        """Work out the next purchase, as a job: first the one that is looked at."""
        self.tiles.show_plans(self.plans, self.goal)
        market, wired, folder = self.market, self.session.wired, self.session.path
        goal = next((g for g in (self.goal, *GOALS) if g not in self.plans), None)
        if market is None or goal is None or self.view_box.currentIndex() != PLAN:
            self._working = False
            return
        self._working = True
        if goal == self.goal:
            self._take()
            self.summary.setText("The purchase is being worked out.")

        def work(report: Report) -> tuple[Purchase, Shortage]:
            from zesty_trace.core.ordering.parts.buying import buy
            from zesty_trace.journey.buying import shortage_of

            plan = buy(market, goal, report)
            return plan, shortage_of(wired, folder, market, plan)

        def done(found: tuple[Purchase, Shortage]) -> None:
            if market is self.market:
                self.plans[goal], self.shortages[goal] = found
                if goal == self.goal:
                    self._take()
                self._next()

        def failed(error: object) -> None:
            if market is self.market:
                self._working = False
                self.summary.setText(str(error) if error is not None else "Stopped: press a tile to plan on.")

        self.session.jobs.start(f"Planning the purchase: {goal}", work, done, failed)

    def choose(self, goal: Goal) -> None:
        """Look at the purchase of another goal."""
        self.goal = goal
        self.tiles.show_plans(self.plans, goal)
        self._take()
        if not self._working:
            self._next()

    def _take(self) -> None:
        """Show the purchase that is looked at."""
        plan = self.plan
        self.place_button.setEnabled(plan is not None and bool(plan.lines))
        if plan is None:
            self.summary.setText("The purchase is worked out when you look at the plan.")
            fill(self.lines, [])
            self.why.setText("")
            return
        rows = [[str(b.count), _said(b.need), b.supplier.split()[0], f"{b.total.amount:.2f}"] for b in plan.lines]
        fill(self.lines, [[str(c), _said(n), "SHORT", ""] for n, c in plan.short] + rows, (0, 3))
        self.why.setText("Pick a line for its reason.")
        self.summary.setText(self._words(plan))

    def _words(self, plan: Purchase) -> str:
        coming = sum(1 for n in self.market.needs if n.coming) if self.market is not None else 0
        way = f" {say_count(coming, 'part')} on the way." if coming else ""
        if not plan.lines and not plan.short:
            said = "the rest is in the drawers" if coming else "all of it is in the drawers"
            return f"Nothing needs to be bought: {said}.{way}{self._left_out(plan)}"
        parcels = "; ".join(f"{s.supplier} by {s.parcel} {s.cost}, {s.arrives:%d %b}" for s in plan.parcels)
        begins = f" Wanted by {plan.by:%a %d %b}, when the work must begin." if plan.by else ""
        built = f" {self.shortages[self.goal].waiting.words}." if plan.short and self.goal in self.shortages else ""
        return f"{parcels or 'No parcel'}; {plan.how_good}.{begins}{built}{way}{self._left_out(plan)}"

    def _left_out(self, plan: Purchase) -> str:
        """Return who is not weighed, and why; "" if all are."""
        return "".join(f" Left out: {w}." for w in (*map(str, self.wrong), *plan.left_out))

    def _explain(self) -> None:
        """Say why the picked line is what it is; of what is short, what else there is."""
        plan = self.plan
        rows = [index.row() for index in self.lines.selectedIndexes()]
        if plan is None or not rows:
            return
        if rows[0] >= len(plan.short):
            b = plan.lines[rows[0] - len(plan.short)]
            why = f"; {b.why}" if b.why else ""
            self.why.setText(f"{b.need.words}: {b.count} of {b.offer.number} from {b.supplier} at {b.price:f} EUR{why}")
            return
        need, count = plan.short[rows[0]]
        self.why.setText(
            f"{count} short for {' '.join(need.refs)}: nobody can send them{plan.until}. {self._others(need)}"
        )

    def _others(self, need: Need) -> str:
        found = self.shortages.get(self.goal)
        others = next((o for n, o in found.others if n == need), ()) if found is not None else ()
        if not others:
            return "No part of its kind that is near it is offered."
        said = [f"{x.sort} ({x.where}{', ' + x.price if x.price else ''}): {x.condition}" for x in others[:MOST_OTHERS]]
        return "Instead: " + " · ".join(said)

    def place(self) -> None:
        """Write an order for each supplier."""
        from zesty_trace.journey.buying import place_orders

        plan, folder, today = self.plan, self.session.path, self.session.today
        if plan is None:
            return

        def done(names: list[str]) -> None:
            self.session.message.emit(f"Wrote {', '.join(f'orders/{n}' for n in names)}")
            self.changed()

        self.place_button.setEnabled(False)
        self.steps.start("Writing orders", lambda _r: place_orders(plan, folder, today), done)

    def changed(self) -> None:
        """Count anew: drawers, orders or figures have changed."""
        if self.view_box.currentIndex() == UNPACK:
            self.unpacking.pull()
        self.pull()


def _said(need: Need) -> str:
    return " ".join(w for w in (need.title, need.sort.value, need.sort.package) if w)
