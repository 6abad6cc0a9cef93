"""What the boards cost, from whom, and when they are here: the brief, the price sheets and the rates of a project."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.fabrication.layers import paste_pads
from zesty_trace.core.findings import Finding
from zesty_trace.core.ordering.houses import readable_houses
from zesty_trace.core.ordering.judging import order_findings
from zesty_trace.core.ordering.money import Rates, money, read_rates
from zesty_trace.core.ordering.ordered import NO_ORDERS, BoardOrders, BoardsOrdered, ordered_toml, read_ordered
from zesty_trace.core.ordering.panels import OnPanel, best_panel
from zesty_trace.core.ordering.quote import Offer, Order, Sort, cheapest, order_of, refused
from zesty_trace.core.ordering.reasons import Question
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import InputError
from zesty_trace.files import changing, exists_inside, read_inside, text_of, write_inside
from zesty_trace.journey.hours import needed_by, wanted_by

RATES, ORDERED = "rates.toml", "orders/boards.toml"


@dataclass(frozen=True)
class Asked:
    """What is asked of the houses, the offers, and which price sheets cannot be counted."""

    question: Question
    offers: list[Offer]
    unreadable: tuple[InputError, ...]
    begin_by: date | None = None  # by which work must begin, for the brief's day to be kept
    ordered: BoardOrders = NO_ORDERS

    def findings(self, design: Design) -> list[Finding]:
        """Return what date, budget and sheets say."""
        refusals = list(refused(list(self.question.houses), self.question.order))
        return order_findings(design, self.offers, refusals, self.unreadable, self.begin_by, self.ordered)


def stencil_of(wired: Wired) -> Sort:
    """Return the stencil that is ordered: as the build says; as needed is frameless if anything gets paste."""
    said = wired.design.build.stencil
    if said != "as needed":
        return said
    variant = wired.design.build.variant
    return "frameless" if any(paste_pads(wired, face, variant) for face in ("top", "bottom")) else "none"


def load_rates(project: Path | None) -> Rates:
    """Return the rates of a project; none where it has no table. InputError for one that cannot be read."""
    if project is None or not exists_inside(project, RATES):
        return Rates()
    return read_rates(text_of(read_inside(project, RATES, "table"), RATES), RATES)


def ask_houses(wired: Wired, today: date, project: Path | None = None, order: Order | None = None) -> Asked:
    """Return what all houses offer for the brief, or for another order."""
    design = wired.design
    houses, wrong = readable_houses(project)
    try:
        rates = load_rates(project)
    except InputError as error:
        rates, wrong = Rates(), [*wrong, error]
    order = order or order_of(design, stencil_of(wired))
    begin_by, ordered = None, BoardOrders()
    if project is not None:
        try:
            begin_by, ordered = wanted_by(wired, project, today), load_ordered(project)
        except InputError as error:
            wrong = [*wrong, error]
    question = Question(tuple(houses), order, today, needed_by(design), design.brief.budget_eur, rates)
    return Asked(question, question.offers(), tuple(wrong), begin_by, ordered)


def load_ordered(project: Path) -> BoardOrders:
    """Return the boards of a project that were ordered. InputError."""
    if not exists_inside(project, ORDERED):
        return BoardOrders()
    return read_ordered(text_of(read_inside(project, ORDERED, "table"), ORDERED), ORDERED)


def change_ordered(project: Path, change: Callable[[BoardOrders], BoardOrders]) -> BoardOrders:
    """Change the orders for boards under the lock of the tables; return them. InputError, StoreError."""
    with changing(project):
        found = change(load_ordered(project))
        write_inside(project, ORDERED, ordered_toml(found).encode())
    return found


def take_boards(project: Path, order: BoardsOrdered) -> BoardOrders:
    """Record one more order for boards, beside those that are there. InputError, StoreError."""
    return change_ordered(project, lambda found: found.with_order(order))


def step_of_boards(project: Path, number: int | None, day: date, step: str) -> BoardOrders:
    """Record that boards of an order are here, that it was withdrawn, or that its last step is undone.

    InputError, StoreError.
    """
    return change_ordered(project, lambda found: found.after(number, day, step))


def offers_for(wired: Wired, today: date, project: Path | None = None) -> list[Offer]:
    """Return the offers of all houses for the brief, those whose sheets can be read."""
    return ask_houses(wired, today, project).offers


def panel_price(
    asked: Question, board_mm: tuple[float, float], panel_mm: tuple[float, float], on_panel: int, layers: int
) -> str:
    """Return in words what panels of a size cost against as many boards ordered singly, by the houses' sheets."""
    singly = replace(asked.order, width_mm=board_mm[0], height_mm=board_mm[1], layers=layers)
    panels = math.ceil(singly.quantity / on_panel)
    together = replace(singly, quantity=panels, width_mm=panel_mm[0], height_mm=panel_mm[1])
    one, many = (cheapest(asked.offers(order)) for order in (singly, together))
    if many is None:
        return f"No house has a comparable price for {say_count(panels, 'panel')} of this size."
    words = f"{say_count(panels, 'such panel')}: {many.total} from {many.house}, here {many.arrives:%a %d %b}"
    if one is None or one.total.currency != many.total.currency:
        return f"{words}; singly there is no price to compare."
    saved = one.total - many.total
    said = f"saves {saved}" if saved.amount > 0 else f"costs {money(-saved.amount, saved.currency)} more"
    return f"{words}; {say_count(singly.quantity, 'board')} singly {one.total}, here {one.arrives:%a %d %b}: {said}."


def panel_that_pays(asked: Question) -> OnPanel | None:
    """Return the panel on which the boards are cheapest; None where none saves anything."""
    houses = list(asked.houses)
    return best_panel(houses, asked.order, asked.today, asked.needed_by, asked.budget, asked.rates)
