"""What is done on the sheet, each as one undo step: moving, joining, copying, numbering, pages."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from zesty_trace.core.design import edits, group_edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.progress import Report
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.pages import propose_pages
from zesty_trace.core.schematic.sheet import reading_order
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.core.wording.sentences import understand
from zesty_trace.desktop.schematic.host import Drawn
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.desktop.kit.say_line import SayLine
    from zesty_trace.desktop.project.session import Session
    from zesty_trace.desktop.schematic.canvas import SheetCanvas


class SheetEdits:
    """The edits of the schematic station, which gives the session, the canvas and what is drawn."""

    session: Session
    canvas: SheetCanvas
    say_line: SayLine
    page: str
    _drawn: Drawn | None
    _copied: list[str]
    _lit: tuple[frozenset[str], frozenset[str]]

    def _show(self, keep_zoom: bool = True) -> None:
        raise NotImplementedError

    def _moved(self, spots: dict[str, tuple[int, int]]) -> None:
        names = next(iter(spots)) if len(spots) == 1 else f"{len(spots)} parts"
        self.session.do(f"{names} moved on the sheet", lambda d: edits.move_on_sheet(d, spots))

    def _joined(self, a: Pin, b: Pin) -> None:
        names = " and ".join(self.session.wired.label(p) for p in (a, b))
        self.session.do(f"{names} connected", lambda d: edits.join_pins(d, a, b))

    def _cut(self, pin: Pin) -> None:
        name = self.session.wired.label(pin)
        self.session.do(f"{name} disconnected", lambda d: edits.disconnect(d, pin))

    def _value(self, ref: str, value: str) -> None:
        kind = self.session.wired.kind(ref)
        if problem := value_problem(kind, value):
            self.session.failed.emit(InputError(problem[0], ref, problem[1]))
            return
        self.session.do(f"{ref} is {value}", lambda d: edits.change_part(d, ref, value=value))

    def _picked(self, net: str) -> None:
        self._lit = (frozenset(), frozenset((net,) if net in self.session.design.nets else ()))
        self._show()

    def delete_parts(self, refs: Iterable[str]) -> None:
        """Take parts out."""
        gone = list(refs)
        if gone:
            names = gone[0] if len(gone) == 1 else f"{len(gone)} parts"
            self.session.do(f"{names} deleted", lambda d: group_edits.remove_parts(d, gone))

    def copy_selection(self) -> None:
        """Remember the selected parts for pasting."""
        self._copied = list(self.canvas.selection)
        if self._copied:
            self.session.message.emit(f"{len(self._copied)} parts copied. Ctrl+V puts them on the sheet.")

    def paste(self) -> None:
        """Put the copied parts on the sheet again under fresh references, on the same outside nets, and select them."""
        refs = [r for r in self._copied if r in self.session.design.parts]
        fresh: dict[str, str] = {}

        def edit(design: Design) -> Design:
            after, names = group_edits.copy_parts(design, refs)
            fresh.update(names)
            return after

        if refs and self.session.do(f"{len(refs)} parts pasted", edit):
            self.canvas.select(fresh.values())

    def arrange_again(self) -> None:
        """Forget the user's own spots: of the selected parts, else of all."""
        refs = list(self.canvas.selection)
        words = f"{' '.join(refs[:3])} arranged again" if refs else "Sheet arranged again"
        if not self.session.do(words, lambda d: edits.forget_sheet(d, refs or None)):
            self.canvas.fit()

    def renumber(self) -> None:
        """Number the parts anew in the order in which the sheet is read."""
        wired, drawn = self.session.wired, self._drawn
        base = wired.design

        def work(report: Report) -> Design:
            whole = drawn is not None and drawn.design is base and not drawn.page
            sheet = drawn.sheet if whole and drawn else arrange(wired, report=report)
            return group_edits.renumber(base, reading_order(sheet))

        def done(after: Design) -> None:
            self.canvas.select([])
            self.session.apply_result("Parts numbered by position", base, after)

        self.session.jobs.start("Numbering the parts", work, done)

    def split_pages(self) -> None:
        """Split the sheet into pages by blocks, or put it together again."""
        if self.session.design.pages:
            self.page = ""
            self.session.do("All on one sheet again", lambda d: group_edits.set_pages(d, ()))
            return
        pages = propose_pages(self.session.wired)
        if len(pages) < 2:
            self.session.message.emit("All of it fits on one page")
            return
        self.page = pages[0].name
        self.session.do(f"Split into {len(pages)} pages", lambda d: group_edits.set_pages(d, pages))

    def say(self, text: str) -> None:
        """Do what the line says."""
        if self.session.do(text, lambda d: understand(text, self.session.wired.with_design(d)).design):
            self.say_line.clear_done()
