"""What the drawers, the menu and the edits of the sheet know of the station that they belong to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from zesty_trace.core.circuit.analysis import Analysis
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.progress import Report
from zesty_trace.core.schematic.sheet import Sheet

if TYPE_CHECKING:
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.desktop.kit.say_line import SayLine
    from zesty_trace.desktop.project.session import Session
    from zesty_trace.desktop.schematic.canvas import SheetCanvas
    from zesty_trace.desktop.schematic.painter import SheetView


@dataclass(frozen=True)
class Drawn:
    """A sheet, the design and page that it shows, and that design's solved states (None: it cannot be solved)."""

    sheet: Sheet
    wired: Wired
    page: str
    analysis: Analysis | None

    @property
    def design(self) -> Design:
        """The design that the sheet shows."""
        return self.wired.design


class SheetHost(Protocol):
    """The schematic station, as its parts see it."""

    session: Session
    canvas: SheetCanvas
    say_line: SayLine
    page: str
    state_name: str
    variant: str

    @property
    def analysis(self) -> Analysis | None:
        """The solved states of what is drawn."""

    @property
    def volts(self) -> dict[str, float]:
        """Net -> V in the shown state."""

    @property
    def amps(self) -> dict[Pin, float]:
        """Pin -> A in the shown state."""

    def set_state(self, name: str) -> None:
        """Show another operating state."""

    def show_lights(self, lights: dict[str, float] | None, state: str = "") -> None:
        """Light the LEDs by their currents."""

    def show_variant(self, variant: str) -> None:
        """Draw faintly what a variant's boards do not have."""

    def light(self, refs: Iterable[str], nets: Iterable[str]) -> None:
        """Light up parts and nets."""

    def close_drawer(self) -> None:
        """Close the open drawer."""

    def copy_selection(self) -> None:
        """Remember the selected parts."""

    def paste(self) -> None:
        """Put them on the sheet again."""

    def delete_parts(self, refs: Iterable[str]) -> None:
        """Take parts out."""

    def arrange_again(self) -> None:
        """Forget the user's own spots."""

    def renumber(self) -> None:
        """Number the parts by position."""

    def split_pages(self) -> None:
        """Split the sheet into pages, or join it again."""

    def all_pages(self, design: Design, report: Report) -> list[Drawn]:
        """Return every page drawn; called off the GUI thread."""

    def view_of(self, drawn: Drawn, for_paper: bool = False) -> SheetView:
        """Return what the painter needs."""
