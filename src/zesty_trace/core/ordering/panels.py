"""Whether boards are cheaper several on a panel: the houses' own prices, for panels of every sensible count."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date

from zesty_trace.core.ordering.houses import House
from zesty_trace.core.ordering.money import Money, Rates
from zesty_trace.core.ordering.quote import NO_RATES, Offer, Order, cheapest, quote

GAP_MM = 2.0
RAIL_MM = 5.0
MOST_ON_A_PANEL = 60
LARGEST_MM = 450.0


@dataclass(frozen=True)
class OnPanel:
    """An order of panels: boards across and up on each, the panels that are needed, and the cheapest offer for them."""

    across: int
    up: int
    width_mm: float
    height_mm: float
    panels: int
    offer: Offer
    singly: Offer

    @property
    def count(self) -> int:
        """How many boards are on a panel."""
        return self.across * self.up

    @property
    def saves(self) -> Money:
        """What it costs less than ordering them singly."""
        return self.singly.total - self.offer.total


def panel_size(order: Order, across: int, up: int, gap: float = GAP_MM, rail: float = RAIL_MM) -> tuple[float, float]:
    """Return width and height of a panel of boards in rows, mm: a gap beside every board, a rail all round."""
    wide = across * order.width_mm + (across + 1) * gap + 2 * rail
    high = up * order.height_mm + (up + 1) * gap + 2 * rail
    return wide, high


def best_panel(
    houses: list[House],
    order: Order,
    today: date,
    needed_by: date | None,
    budget: float,
    rates: Rates = NO_RATES,
) -> OnPanel | None:
    """Return the panel that saves most against ordering singly; None if none saves anything, or prices do not compare.

    A house may ask more for panels of several boards: price sheets do not say that, so it is not in the figures.
    """
    singly = cheapest(quote(houses, order, today, needed_by, budget, rates))
    if singly is None or order.quantity < 2:
        return None
    best: OnPanel | None = None
    for asked, across, up in _panels(order):
        offer = cheapest(quote(houses, asked, today, needed_by, budget, rates))
        if (
            offer is None
            or offer.total.currency != singly.total.currency
            or (singly.on_time is not False and offer.on_time is False)
        ):
            continue
        if offer.total < (best.offer.total if best else singly.total):
            best = OnPanel(across, up, asked.width_mm, asked.height_mm, asked.quantity, offer, singly)
    return best


def on_panels(
    houses: list[House], order: Order, today: date, needed_by: date | None, budget: float, rates: Rates = NO_RATES
) -> list[Offer]:
    """Return the offers of all houses for all panels; the freight says what panel it is."""
    found = []
    for asked, across, up in _panels(order):
        panels = f"{asked.quantity} panel{'s' if asked.quantity > 1 else ''} of {across * up} ({across} x {up})"
        for offer in quote(houses, asked, today, needed_by, budget, rates):
            found.append(replace(offer, freight=f"{offer.freight}, {panels}"))
    return found


def _panels(order: Order) -> Iterator[tuple[Order, int, int]]:
    """Yield the order of each panel that holds more than one board, with its boards across and up."""
    for across, up, (wide, high) in _layouts(order):
        panels = math.ceil(order.quantity / (across * up))
        yield replace(order, quantity=panels, width_mm=wide, height_mm=high), across, up


def _layouts(order: Order) -> Iterator[tuple[int, int, tuple[float, float]]]:
    most = min(MOST_ON_A_PANEL, order.quantity)
    for across in range(1, most + 1):
        for up in range(1, most // across + 1):
            size = panel_size(order, across, up)
            if across * up > 1 and max(size) <= LARGEST_MM:
                yield across, up, size
