"""Purchases side by side: a tile for each, the one that is looked at marked."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QSizePolicy, QWidget

from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.buying import Goal, Purchase

TILE_PX = 70


class Tiles(QWidget):
    """One tile for each goal: what it costs, in how many parcels, when it is here, what is short."""

    def __init__(self, goals: tuple[Goal, ...], choose: Callable[[Goal], None]) -> None:
        super().__init__()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(8)
        group = QButtonGroup(self)
        self.tiles: dict[Goal, QPushButton] = {}
        for goal in goals:
            made = button("", partial(choose, goal), tip=f"Look at the purchase that is {goal}")
            made.setCheckable(True)
            made.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            made.setStyleSheet(f"text-align: left; padding: 5px 8px; font-size: 13px; min-height: {TILE_PX}px;")
            group.addButton(made)
            self.tiles[goal] = made
            line.addWidget(made, 1)

    def show_plans(self, plans: dict[Goal, Purchase], chosen: Goal) -> None:
        """Show what is known of each plan; what is still worked out says so."""
        cheapest = plans.get("cheapest")
        for goal, tile in self.tiles.items():
            tile.setChecked(goal == chosen)
            plan = plans.get(goal)
            tile.setText(goal.capitalize() + "\n" + (_said(plan, cheapest) if plan is not None else "working it out"))
            tile.setAccessibleName(tile.text().replace("\n", ", "))


def _said(plan: Purchase, cheapest: Purchase | None) -> str:
    more = plan.total.amount - cheapest.total.amount if cheapest is not None else 0
    here = f", {plan.arrives:%d %b}" if plan.arrives else ""
    good = "in time" if plan.by is not None else "nothing short"
    wrong = [f"{len(plan.short)} SHORT"] if plan.short else []
    wrong += [f"{say_count(plan.late_days, 'day')} LATE"] if plan.late_days else []
    last = wrong or ([f"+{more:.2f}"] if more > 0 else []) + [good]
    return "\n".join([str(plan.total), f"{say_count(len(plan.parcels), 'parcel')}{here}", ", ".join(last)])
