"""What is done on the sheet, each as one undo step: moving, joining, copying, numbering, pages."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from zesty_trace.core.design import edits, group_edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.progress import Report
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.pages import propose_pages
from zesty_trace.core.schematic.sheet import reading_order
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.core.wording.sentences import understand
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.desktop.schematic.model import SchematicModel


def move(model: SchematicModel, spots: dict[str, tuple[int, int]]) -> None:
    """Put parts at the user's own spots."""
    names = next(iter(spots)) if len(spots) == 1 else f"{len(spots)} parts"
    model.session.do(f"{names} moved on the sheet", lambda d: edits.move_on_sheet(d, spots))


def join(model: SchematicModel, a: Pin, b: Pin) -> None:
    """Connect two pins."""
    names = " and ".join(model.session.wired.label(p) for p in (a, b))
    model.session.do(f"{names} connected", lambda d: edits.join_pins(d, a, b))


def cut(model: SchematicModel, pin: Pin) -> None:
    """Take a pin out of its net."""
    name = model.session.wired.label(pin)
    model.session.do(f"{name} disconnected", lambda d: edits.disconnect(d, pin))


def set_value(model: SchematicModel, ref: str, value: str) -> None:
    """Give a part a value, if it is one of its kind."""
    kind = model.session.wired.kind(ref)
    if problem := value_problem(kind, value):
        model.session.failed.emit(InputError(problem[0], ref, problem[1]))
        return
    model.session.do(f"{ref} is {value}", lambda d: edits.change_part(d, ref, value=value))


def delete_parts(model: SchematicModel, refs: Iterable[str]) -> None:
    """Take parts out."""
    gone = list(refs)
    if gone:
        names = gone[0] if len(gone) == 1 else f"{len(gone)} parts"
        model.session.do(f"{names} deleted", lambda d: group_edits.remove_parts(d, gone))


def add_kind(
    model: SchematicModel, kind_id: str, value: str = "", package: str = "", spot: tuple[int, int] | None = None
) -> None:
    """Add a part of a kind under the next free reference, where it was dropped or beside the rest, and select it."""
    kind = model.session.wired.catalogue.kind(kind_id)
    if value and (problem := value_problem(kind, value)):
        model.session.failed.emit(InputError(problem[0], value, problem[1]))
        return
    made = ""

    def edit(design: Design) -> Design:
        nonlocal made
        first = Part(ref=f"{kind.prefix}1", kind=kind.id, value=value, package=package or kind.packages[0])
        after, made = edits.add_fresh_part(design, first)
        return edits.move_on_sheet(after, {made: spot}) if spot else after

    if model.session.do(f"{kind.title.split(',')[0]} added", edit):
        model.select([made])
        model.session.message.emit(f"{made} is on the sheet. Ctrl+Z takes it back.")


def copy_selection(model: SchematicModel) -> None:
    """Remember the selected parts for pasting."""
    model.copied = model.selection
    if model.copied:
        model.session.message.emit(f"{len(model.copied)} parts copied. Ctrl+V puts them on the sheet.")


def paste(model: SchematicModel) -> None:
    """Put the copied parts on the sheet again under fresh references, on the same outside nets, and select them."""
    refs = [r for r in model.copied if r in model.session.design.parts]
    fresh: dict[str, str] = {}

    def edit(design: Design) -> Design:
        after, names = group_edits.copy_parts(design, refs)
        fresh.update(names)
        return after

    if refs and model.session.do(f"{len(refs)} parts pasted", edit):
        model.select(fresh.values())


def arrange_again(model: SchematicModel) -> None:
    """Forget the user's own spots: of the selected parts, else of all."""
    refs = list(model.selection)
    words = f"{' '.join(refs[:3])} arranged again" if refs else "Sheet arranged again"
    if not model.session.do(words, lambda d: edits.forget_sheet(d, refs or None)):
        model.fit_asked.emit()


def renumber(model: SchematicModel) -> None:
    """Number the parts anew in the order in which the sheet is read."""
    wired, drawn = model.session.wired, model.drawn
    base = wired.design

    def work(report: Report) -> Design:
        whole = drawn is not None and drawn.design is base and not drawn.page
        sheet = drawn.sheet if whole and drawn else arrange(wired, report=report)
        return group_edits.renumber(base, reading_order(sheet))

    def done(after: Design) -> None:
        model.select([])
        model.session.apply_result("Parts numbered by position", base, after)

    model.session.jobs.start("Numbering the parts", work, done)


def split_pages(model: SchematicModel) -> None:
    """Split the sheet into pages by blocks, or put it together again."""
    if model.session.design.pages:
        model.page = ""
        model.session.do("All on one sheet again", lambda d: group_edits.set_pages(d, ()))
        return
    pages = propose_pages(model.session.wired)
    if len(pages) < 2:
        model.session.message.emit("All of it fits on one page")
        return
    model.page = pages[0].name
    model.session.do(f"Split into {len(pages)} pages", lambda d: group_edits.set_pages(d, pages))


def say(model: SchematicModel, text: str) -> None:
    """Do what the line says."""
    if model.session.do(text, lambda d: understand(text, model.session.wired.with_design(d)).design):
        model.said.emit()
