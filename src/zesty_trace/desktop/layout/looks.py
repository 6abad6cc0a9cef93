"""What the board is looked at for: to place, to route, to check, or as it will be made; layers, back, grid, measure."""

from __future__ import annotations

from typing import Literal

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QComboBox, QPushButton, QWidget

from zesty_trace.core.design.model import COPPER, LayerName
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import lines_of, row
from zesty_trace.desktop.layout.measuring import GRIDS

Intent = Literal["place", "route", "check", "made"]
# Title, key, what it is for.
INTENTS: dict[Intent, tuple[str, str, str]] = {
    "place": ("Place", "Ctrl+Alt+1", "Drag parts; links and room are shown as they move"),
    "route": ("By hand", "Ctrl+Alt+2", "Lay copper from pad to pad, drag pieces, take them off"),
    "check": ("Check", "Ctrl+Alt+3", "Every place that the review has something to say about"),
    "made": ("As made", "Ctrl+Alt+4", "Mask, tin and silk as the board house will make them, with its size"),
}


class Looks(QWidget):
    """The row of what is shown. `changed` tells that something else is to be drawn, `turned` that it is another use."""

    changed = Signal()
    turned = Signal(str)
    flipped = Signal(bool)
    measuring = Signal(bool)
    gridded = Signal(int, bool)

    def __init__(self, *before: QWidget) -> None:
        """`before` are buttons that stand first in the row."""
        super().__init__()
        self.intents: dict[Intent, QPushButton] = {}
        group = QButtonGroup(self)
        group.setExclusive(True)
        for intent, (title, keys, said) in INTENTS.items():
            made = self._button(title, f"{said} ({keys})", intent == "place")
            group.addButton(made)
            made.clicked.connect(lambda _on, i=intent: self.turned.emit(i))
            self.intents[intent] = made
        inside = self.toggle("Inside", "Show or hide the copper of both inner layers", False)
        self.layers: dict[LayerName, QPushButton] = {
            "top": self.toggle("Top", "Show or hide top copper"),
            "inner1": inside,
            "inner2": inside,
            "bottom": self.toggle("Bottom", "Show or hide bottom copper"),
        }
        self.back = self._button("Back", "Seen from behind: left and right change places (B)", False)
        self.back.toggled.connect(self.flipped)
        self.side = self.toggle("Side", "The board from its side, with the lid of the case", False)
        self.heat = self.toggle("Heat", "How warm the board gets, in still air", False)
        self.current = self.toggle("Current", "How dense the current is in the picked net, or in the busiest", False)
        self.tape = self._button("Measure", "Between two points, in mm and mil (M)", False)
        self.tape.toggled.connect(self.measuring)
        self.grid = QComboBox()
        self.grid.addItems(["Grid off", *GRIDS])
        self.grid.setToolTip("What parts snap to, and the dots of the grid")
        self.grid.setAccessibleName("Grid")
        self.grid.currentTextChanged.connect(self._grid)
        layers = dict.fromkeys(self.layers.values())
        held = row(*before, None, *layers, self.back, self.side, self.heat, self.current, None, self.tape, self.grid)
        layout = lines_of(held)
        self.setLayout(layout)

    @property
    def intent(self) -> Intent:
        """What the board is looked at for."""
        return next(i for i, button in self.intents.items() if button.isChecked())

    def hidden(self) -> frozenset[LayerName]:
        """Return the layers that are not shown."""
        return frozenset(layer for layer, toggle in self.layers.items() if not toggle.isChecked())

    def shown(self) -> tuple[LayerName, ...]:
        """Return the layers that are shown, the one that is looked at first in front."""
        seen = tuple(k for k in COPPER if self.layers[k].isChecked())
        return seen[::-1] if self.back.isChecked() else seen

    def fit(self, stack: tuple[LayerName, ...]) -> None:
        """Offer the layers that a board has."""
        for layer, toggle in self.layers.items():
            toggle.setVisible(layer in stack)

    def turn(self, intent: Intent) -> None:
        """Look at the board for something else."""
        self.intents[intent].setChecked(True)
        self.turned.emit(intent)

    def _grid(self, text: str) -> None:
        pitch = GRIDS.get(text)
        self.gridded.emit(pitch or GRIDS["0.1 mm"], pitch is not None)

    def _button(self, text: str, said: str, on: bool) -> QPushButton:
        made = QPushButton(text)
        made.setCheckable(True)
        made.setChecked(on)
        made.setToolTip(tip(said))
        return made

    def toggle(self, text: str, tip: str, on: bool = True) -> QPushButton:
        """Return a button that shows something, or does not."""
        made = self._button(text, tip, on)
        made.toggled.connect(lambda _on: self.changed.emit())
        return made
