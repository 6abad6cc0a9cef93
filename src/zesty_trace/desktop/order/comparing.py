"""Files compared with other ones, or with the board as it is drawn now."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QPainterPath
from PySide6.QtWidgets import (
    QFileDialog,
    QHeaderView,
)

from zesty_trace.core.fabrication.finished import BoardSet, Hole
from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.widgets import button, fill, row, table
from zesty_trace.desktop.layout.painter import shape_path
from zesty_trace.desktop.order.pages import TABLE_PX, Page
from zesty_trace.desktop.order.set_view import Patch, SetLook

if TYPE_CHECKING:
    from zesty_trace.core.fabrication.looking.compare import Difference
    from zesty_trace.desktop.order.files import Looked


class ComparePage(Page):
    """The files against other ones, or against the board as it is drawn now."""

    title = "Compare"
    tip = "With another zip, or with the board as it is now: areas and holes that differ"

    def build(self) -> None:
        """Make the widgets."""
        self.other_button = button("With another zip …", self.ask_for_zip)
        self.board_button = button("With the board as it is now", self.with_board)
        self.places = table("Where", "Only here, mm²", "Only there, mm²")
        self.places.setFixedHeight(TABLE_PX)
        self.places.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.places.itemSelectionChanged.connect(self._ring)
        self.spots: list[tuple[tuple[float, float], ...]] = []
        for widget in (row(self.other_button, self.board_button, None), self.words, self.places):
            self.column.addWidget(widget)
        self._forget()

    def _forget(self) -> None:
        self.words.setText("Lay other files over these: an earlier order, another revision, or the board as it is now.")
        self.places.hide()

    def take(self, looked: Looked, foreign: bool) -> None:
        """Take other files; a comparison of the ones before no longer counts."""
        super().take(looked, foreign)
        self.board_button.setEnabled(bool(self.session.design.board.placements and not self.session.design.board.given))
        self._forget()

    def ask_for_zip(self) -> None:
        """Ask for the other zip."""
        name, _ = QFileDialog.getOpenFileName(self, "The zip to compare with", str(self.session.path), "Zip (*.zip)")
        if name:
            self.with_zip(Path(name))

    def with_zip(self, path: Path) -> None:
        """Compare with a zip, as a job."""
        from zesty_trace.journey.foreign import compared

        self._start(path.name, lambda board, report: compared(board, path, report))

    def with_board(self) -> None:
        """Compare with the files that the board would be written as now, as a job."""
        from zesty_trace.core.fabrication.looking.compare import compare
        from zesty_trace.core.fabrication.sources import set_of_design

        wired = self.session.wired

        def work(board: BoardSet, report: Report) -> tuple[Difference, BoardSet]:
            theirs = set_of_design(wired)
            report(0.6, "laying one over the other")
            return compare(board, theirs), theirs

        self._start("the board as it is now", work)

    def _start(self, name: str, other: Callable[[BoardSet, Report], tuple[Difference, BoardSet]]) -> None:
        looked = self.looked
        if looked is None:
            return

        def work(report: Report) -> tuple[Difference, SetLook]:
            found, theirs = other(looked.look.board, report)
            return found, with_difference(looked.look, found, theirs)

        def done(value: tuple[Difference, SetLook]) -> None:
            if self.looked is looked:
                self._take(name, *value)

        self.session.jobs.start(f"Comparing with {name}", work, done)

    def _take(self, name: str, found: Difference, look: SetLook) -> None:
        rows, self.spots = [], []
        for role, side, which in found.missing:
            rows.append([f"{side} {role}".strip(), *(("the layer", "") if which == "second" else ("", "the layer"))])
            self.spots.append(())
        for k in found.layers:
            if not k.same:
                cells = (f"{k.only_first_mm2:.3f}", f"{k.only_second_mm2:.3f}")
                rows.append([f"{k.side} {k.role}".strip(), *cells])
                self.spots.append(k.at)
        for words, holes in (("hole only in these", found.removed), ("hole only in the others", found.added)):
            for h in holes:
                rows.append([f"{words}: {h.diameter:.2f} mm at {h.points[0][0]:.2f}, {h.points[0][1]:.2f} mm", "", ""])
                self.spots.append((h.points[0],))
        for old, new in (*found.moved, *found.resized):
            (x, y), (x2, y2) = old.points[0], new.points[0]
            there = f"{new.diameter:.2f} mm at {x2:.2f}, {y2:.2f} mm there"
            rows.append([f"hole {old.diameter:.2f} mm at {x:.2f}, {y:.2f} is {there}", "", ""])
            self.spots.append(((x, y),))
        fill(self.places, rows, (1, 2))
        self.places.setVisible(bool(rows))
        same = f"Nothing differs from {name} in {len(found.layers)} layers and the holes."
        self.words.setText(
            same if found.same else f"{len(rows)} things differ from {name}. Solid: only here; hatched: only there."
        )
        self.show_look(look, next(iter(look.extra), ""))

    def _ring(self) -> None:
        chosen = sorted({index.row() for index in self.places.selectedIndexes()})
        self.ring(tuple(at for k in chosen if k < len(self.spots) for at in self.spots[k]))


def with_difference(look: SetLook, found: Difference, theirs: BoardSet) -> SetLook:
    """Return a look with a view for each layer that differs: common pale, only here solid, only there hatched."""
    extra: dict[str, tuple[Patch, ...]] = {}
    for k in found.layers:
        if k.same:
            continue
        mine = look.paths.get((k.role, k.side), look.edge)
        extra[f"Difference: {f'{k.side} {k.role}'.strip()}"] = (
            Patch(mine, "ground", 60),
            Patch(shape_path(k.first), "copper"),
            Patch(shape_path(k.second), "bottom", hatched=True),
            Patch(shape_path(k.second), "bottom", pen=0.08),
        )
    holes = [*found.added, *found.removed, *(h for pair in (*found.moved, *found.resized) for h in pair)]
    if holes:
        here, there = ({id(h) for h in s} for s in (look.board.holes, theirs.holes))
        paths = [_rings([h for h in holes if id(h) in known]) for known in (here, there)]
        extra["Difference: holes"] = (
            Patch(look.holes, "ground", 60), Patch(paths[0], "copper"), Patch(paths[1], "bottom", pen=0.15)
        )  # fmt: skip
    return replace(look, extra=extra)


def _rings(holes: list[Hole]) -> QPainterPath:
    from shapely import union_all

    return shape_path(union_all([h.shape for h in holes])) if holes else QPainterPath()
