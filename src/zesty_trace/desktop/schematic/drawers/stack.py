"""The drawers beside the sheet: each made when first opened, one open at a time."""

from __future__ import annotations

import importlib
from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QStackedWidget

from zesty_trace.desktop.schematic.drawers.base import Drawer
from zesty_trace.desktop.schematic.model import SchematicModel


@dataclass(frozen=True)
class DrawerSpec:
    """A drawer: its module here, its class, and what it is called."""

    module: str
    name: str
    title: str
    keys: str


DRAWERS = {
    "shelf": DrawerSpec("shelf", "ShelfDrawer", "Add a part", "Ctrl+Shift+8"),
    "part": DrawerSpec("part", "PartDrawer", "Part", "Ctrl+Shift+1"),
    "wiring": DrawerSpec("wiring", "WiringDrawer", "Wiring list", "Ctrl+Shift+2"),
    "states": DrawerSpec("states", "StatesDrawer", "States", "Ctrl+Shift+3"),
    "timeline": DrawerSpec("timeline", "TimelineDrawer", "Timeline", "Ctrl+Shift+4"),
    "numbers": DrawerSpec("numbers", "NumbersDrawer", "Numbers", "Ctrl+Shift+5"),
    "options": DrawerSpec("options", "OptionsDrawer", "Options", "Ctrl+Shift+6"),
    "make": DrawerSpec("make_part", "MakePartDrawer", "Make a part", "Ctrl+Shift+7"),
}
WIDE_PX = 370


class DrawerStack(QStackedWidget):
    """One drawer of the sheet at a time, or none; `turned` tells when that changes."""

    turned = Signal()

    def __init__(self, model: SchematicModel) -> None:
        super().__init__()
        self.model = model
        self.made: dict[str, Drawer] = {}
        self.key = ""
        self.setMinimumWidth(WIDE_PX - 40)
        self.hide()
        model.selection_changed.connect(self._selected)

    def open(self, key: str) -> None:
        """Open a drawer, and close another."""
        if key not in self.made:
            spec = DRAWERS[key]
            module = importlib.import_module(f"zesty_trace.desktop.schematic.drawers.{spec.module}")
            made = getattr(module, spec.name)(self.model)
            made.close_asked.connect(self.close_open)
            self.made[key] = made
            self.addWidget(made)
        drawer = self.made[key]
        self.setCurrentWidget(drawer)
        self.key = key
        self.turned.emit()
        drawer.pull()
        drawer.selection_changed()

    def close_open(self) -> None:
        """Close the open drawer."""
        self.key = ""
        self.hide()
        self.turned.emit()

    def toggle(self, key: str) -> None:
        """Open a drawer, or close it."""
        if self.key == key:
            self.close_open()
        else:
            self.open(key)

    def pull(self) -> None:
        """Bring the open drawer up to date."""
        if self.key:
            self.made[self.key].pull()

    def _selected(self) -> None:
        if self.key:
            self.made[self.key].selection_changed()
