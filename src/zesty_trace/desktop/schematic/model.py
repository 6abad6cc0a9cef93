"""What the schematic shows, without a widget: the drawn sheet, the state it is in, what is selected, lit and faint."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from zesty_trace.core.circuit.analysis import Analysis, Operating, analyse
from zesty_trace.core.circuit.drivers import unknown_nets
from zesty_trace.core.design.model import Design, Page, Pin
from zesty_trace.core.progress import Report
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.schematic.amend import amend
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.blocks import propose_blocks
from zesty_trace.core.schematic.pages import page_marks, pages_of
from zesty_trace.core.schematic.sheet import Sheet
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.desktop.schematic.view import SheetView
from zesty_trace.errors import SolveError

if TYPE_CHECKING:
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.desktop.project.session import Session

LONG_JOB_PARTS = 100  # from here on the arrangement may take a second: it shows its progress
NOTHING: frozenset[str] = frozenset()


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

    def holds(self, analysis_state: str) -> bool:
        """Whether this design has that operating state, solved."""
        return self.analysis is not None and any(s.name == analysis_state for s in self.analysis.states)


class SchematicModel(QObject):
    """The sheet as it stands. The station draws it, the drawers and the menu read and change it."""

    drawn_changed = Signal(bool)  # another sheet is drawn; whether it is of another page
    shown_changed = Signal()  # the same sheet, in another state, variant or light
    state_set = Signal()  # somebody chose another operating state
    selection_changed = Signal()
    reveal = Signal(str)  # bring this part into view
    fit_asked = Signal()
    line_asked = Signal(str)  # put this on the line that takes sentences
    said = Signal()  # what stood on that line is done

    def __init__(self, session: Session, again: Callable[[], None]) -> None:
        super().__init__()
        self.session = session
        self.arranged = WorkedOut(session, "Arranging", self._arrange, self._take, again, reports=True)
        self.drawn: Drawn | None = None
        self.page = self.state_name = self.variant = ""
        self.selection: tuple[str, ...] = ()
        self.copied: tuple[str, ...] = ()
        self.lit_refs = self.lit_nets = NOTHING
        self.lights: dict[str, float] | None = None
        self.overlay = False

    # The drawn sheet ----------------------------------------------------------------------------------------------

    def ask(self) -> bool:
        """Have the current design arranged off the GUI thread, unless it is; whether the sheet is there."""
        return self.arranged.ask(len(self.session.design.parts) > LONG_JOB_PARTS) and self.drawn is not None

    def amend(self) -> bool:
        """Bring the sheet that is shown up to the current design, moving nothing; whether there was anything to do."""
        drawn, wired = self.drawn, self.session.wired
        if drawn is None or drawn.wired is wired:
            return False
        marks = None
        if drawn.page:
            page = self._page_named(wired, drawn.page)
            if page is None:
                return False
            marks = page_marks(wired, page)
        sheet = amend(drawn.sheet, drawn.design, wired, marks)
        self.drawn = Drawn(sheet, wired, drawn.page, drawn.analysis)
        self.shown_changed.emit()
        return True

    def turn_to(self, page: str) -> None:
        """Show a page; "" shows all on one sheet."""
        self.page = page
        self.arranged.of = None
        self.arranged.ask()

    def all_pages(self, design: Design, report: Report) -> list[Drawn]:
        """Return every page of a design drawn, in order; the sheet itself if it is not split.

        Called off the GUI thread.
        """
        wired = self.session.wired.with_design(design)
        pages: list[Page | None] = [*pages_of(wired)]
        drawn = self.drawn
        if not pages and drawn is not None and drawn.design is design:
            return [drawn]
        return [
            Drawn(arrange(wired, page, report), wired, page.name if page else "", self.analysis)
            for page in (pages or [None])
        ]

    @staticmethod
    def _page_named(wired: Wired, name: str) -> Page | None:
        return next((p for p in pages_of(wired) if p.name == name), None)

    def _arrange(self, wired: Wired, report: Report) -> Drawn:
        """Return the sheet or page with the solved states; called off the GUI thread."""
        page = self._page_named(wired, self.page)
        sheet = arrange(wired, page, report)
        analysis: Analysis | None = None
        try:
            if wired.design.parts:
                analysis = analyse(wired)
                analysis.all()
        except SolveError:
            analysis = None
        return Drawn(sheet, wired, page.name if page else "", analysis)

    def _take(self, drawn: Drawn) -> None:
        turned = self.drawn is None or self.drawn.page != drawn.page
        self.drawn = drawn
        if drawn.analysis and not drawn.holds(self.state_name):
            self.state_name = drawn.analysis.worst().state.name
        self.drawn_changed.emit(turned)

    # What is solved -----------------------------------------------------------------------------------------------

    @property
    def analysis(self) -> Analysis | None:
        """The solved states of the design that is drawn, or None."""
        return self.drawn.analysis if self.drawn else None

    @property
    def _operating(self) -> Operating | None:
        analysis = self.analysis
        if analysis is None:
            return None
        state = next((s for s in analysis.states if s.name == self.state_name), None)
        try:
            return analysis.operating(state) if state else analysis.worst()
        except SolveError:
            return None

    @property
    def volts(self) -> dict[str, float]:
        """Net -> V in the shown state."""
        operating = self._operating
        if operating is None or self.drawn is None:
            return {}
        unknown = unknown_nets(self.drawn.wired)
        return {net: volt for net, volt in operating.net_voltages().items() if net not in unknown}

    @property
    def amps(self) -> dict[Pin, float]:
        """Pin -> A in the shown state."""
        operating = self._operating
        return dict(operating.solution.pin_currents()) if operating else {}

    def totals(self) -> str:
        """Return how much is on the sheet, and which pins nobody has accounted for."""
        wired = self.session.wired
        d = wired.design
        if not d.parts:
            return "No parts yet"
        loose = unaccounted_pins(wired)
        names = ", ".join(wired.label(p) for p in loose[:2]) + (" …" if len(loose) > 2 else "")
        pins = f"loose: {names}" if loose else "every pin accounted for"
        return f"{len(d.parts)} parts · {len(d.nets)} nets · {pins}"

    def badges(self, design: Design) -> dict[str, tuple[int, str]]:
        """Return part -> (number, severity in words) of the findings; the old ones stay until the new are there."""
        marks: dict[str, tuple[int, str]] = {}
        for number, f in enumerate(self.session.findings["schematic"], 1):
            refs = [r for r in f.refs if r in design.parts]
            if refs:
                marks.setdefault(next((r for r in refs if r not in marks), refs[0]), (number, f.severity.word))
        return marks

    def view_of(self, drawn: Drawn, for_paper: bool = False) -> SheetView:
        """Return what the painter needs for a drawn sheet; on paper nothing is lit and no finding is marked."""
        return SheetView(
            drawn.wired,
            drawn.sheet,
            drawn.wired.ground,
            self.volts,
            self.amps,
            self.overlay,
            unknown_nets(drawn.wired),
            *((NOTHING, NOTHING) if for_paper else (self.lit_refs, self.lit_nets)),
            badges={} if for_paper else self.badges(drawn.design),
            variant=self.variant,
            lights=None if for_paper else self.lights,
        )

    # What is shown ------------------------------------------------------------------------------------------------

    def select(self, refs: Iterable[str]) -> None:
        """Select parts."""
        fresh = tuple(dict.fromkeys(refs))
        if fresh != self.selection:
            self.selection = fresh
            self.selection_changed.emit()

    def select_all(self) -> None:
        """Select every part of the sheet or page."""
        if self.drawn:
            self.select(s.ref for s in self.drawn.sheet.symbols)

    def set_state(self, name: str) -> None:
        """Show another operating state."""
        self.state_name = name
        self.shown_changed.emit()
        self.state_set.emit()

    def show_overlay(self, on: bool) -> None:
        """Show voltages and currents on the sheet, or not."""
        self.overlay = on
        self.shown_changed.emit()

    def show_lights(self, lights: dict[str, float] | None, state: str = "") -> None:
        """Light the LEDs by their currents, in a state; None draws them all alike again."""
        self.lights = lights
        self.state_name = state or self.state_name
        self.shown_changed.emit()

    def show_variant(self, variant: str) -> None:
        """Draw what the boards of a variant do not have faintly; "" shows every part alike."""
        self.variant = variant
        self.shown_changed.emit()

    def pick(self, net: str) -> None:
        """Light up a net; one that is not there puts the light out."""
        self.lit_refs, self.lit_nets = NOTHING, frozenset((net,) if net in self.session.design.nets else ())
        self.shown_changed.emit()

    def light(self, refs: Iterable[str], nets: Iterable[str]) -> None:
        """Light up parts and nets, on the page where they are, and bring the first part into view."""
        wanted = list(refs)
        self.lit_refs, self.lit_nets = frozenset(wanted), frozenset(nets)
        self.shown_changed.emit()
        if not wanted or self.drawn is None:
            return
        if any(s.ref == wanted[0] for s in self.drawn.sheet.symbols):
            self.select(wanted[:1])
            self.reveal.emit(wanted[0])
        elif self.drawn.page:
            self._turn_to_page_of(wanted[0])

    def _turn_to_page_of(self, ref: str) -> None:
        wired = self.session.wired
        block = propose_blocks(wired).get(ref)
        page = next((p for p in pages_of(wired) if block in p.blocks), None)
        if page:
            self.turn_to(page.name)
            self.select([ref])
