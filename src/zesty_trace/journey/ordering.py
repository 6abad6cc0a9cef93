"""What the boards cost, from whom, and when they are here."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import date
from pathlib import Path

from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.money import money
from zesty_trace.core.ordering.panels import OnPanel, best_panel
from zesty_trace.core.ordering.quote import Offer, cheapest, order_of, parse_date, quote
from zesty_trace.core.quantities import say_count


def offers_for(design: Design, today: date, project: Path | None = None) -> list[Offer]:
    """Return the offers of all houses for the brief."""
    b = design.brief
    return quote(load_houses(project), order_of(design), today, parse_date(b.needed_by), b.budget_eur)


def panel_price(
    design: Design,
    board_mm: tuple[float, float],
    panel_mm: tuple[float, float],
    on_panel: int,
    layers: int,
    today: date,
    project: Path | None = None,
) -> str:
    """Return in words what panels of a size cost against as many boards ordered singly, by the houses' sheets."""
    b = design.brief
    houses, needed = load_houses(project), parse_date(b.needed_by)
    singly = replace(order_of(design), width_mm=board_mm[0], height_mm=board_mm[1], layers=layers)
    panels = math.ceil(singly.quantity / on_panel)
    together = replace(singly, quantity=panels, width_mm=panel_mm[0], height_mm=panel_mm[1])
    one, many = (cheapest(quote(houses, order, today, needed, b.budget_eur)) for order in (singly, together))
    if many is None:
        return f"No house has a comparable price for {say_count(panels, 'panel')} of this size."
    words = f"{say_count(panels, 'such panel')}: {many.total} from {many.house}, here {many.arrives:%a %d %b}"
    if one is None or one.total.currency != many.total.currency:
        return f"{words}; singly there is no price to compare."
    saved = one.total - many.total
    said = f"saves {saved}" if saved.amount > 0 else f"costs {money(-saved.amount, saved.currency)} more"
    return f"{words}; {say_count(singly.quantity, 'board')} singly {one.total}, here {one.arrives:%a %d %b}: {said}."


def panel_that_pays(design: Design, today: date, project: Path | None = None) -> OnPanel | None:
    """Return the panel on which the boards of the brief are cheapest; None where none saves anything."""
    b = design.brief
    return best_panel(load_houses(project), order_of(design), today, parse_date(b.needed_by), b.budget_eur)
