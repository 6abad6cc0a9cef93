"""What one picture of the sheet shows, as a value: the painter draws it, and two of them tell what to repaint."""

from __future__ import annotations

from dataclasses import dataclass, field

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.schematic.sheet import Sheet


@dataclass(frozen=True)
class SheetView:
    """Everything the painter needs."""

    wired: Wired
    sheet: Sheet
    ground: str
    volts: dict[str, float] = field(default_factory=dict)
    amps: dict[Pin, float] = field(default_factory=dict)
    overlay: bool = False
    unknown: frozenset[str] = frozenset()  # nets whose voltage is not known
    lit_refs: frozenset[str] = frozenset()
    lit_nets: frozenset[str] = frozenset()
    badges: dict[str, tuple[int, str]] = field(default_factory=dict)
    variant: str = ""  # parts that its boards do not have are drawn faint
    lights: dict[str, float] | None = None  # LED -> A while a state is played; None draws all LEDs alike

    @property
    def design(self) -> Design:
        """The design that is drawn."""
        return self.wired.design
