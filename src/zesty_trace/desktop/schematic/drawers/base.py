"""The drawers of the sheet: they read and change the schematic's model."""

from __future__ import annotations

from zesty_trace.desktop.project.drawer import Drawer as PlainDrawer
from zesty_trace.desktop.project.drawer import wrapped
from zesty_trace.desktop.schematic.model import SchematicModel


class Drawer(PlainDrawer):
    """A panel beside the sheet."""

    def __init__(self, model: SchematicModel) -> None:
        self.model = model
        super().__init__(model.session)


__all__ = ["Drawer", "wrapped"]
