"""What the purchase is counted from: boards of each variant, spare boards, losses by package, what a line is worth."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.design import edits
from zesty_trace.core.ordering.parts.need import batch_of
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, cell, count, fill, label, number, row, table
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.core.ordering.maker import Own
    from zesty_trace.core.ordering.parts.need import Loss

MOST_BOARDS = 100_000
ALL_OTHERS = "all others"


class BatchPage(QWidget):
    """Boards by variant and spares (undoable); losses and the worth of a line (kept in the project's tables)."""

    def __init__(self, session: Session, steps: Steps, changed: Callable[[], None]) -> None:
        super().__init__()
        self.session, self.steps, self._changed = session, steps, changed
        self.own: Own | None = None
        self.shown: tuple[Loss, ...] | None = None
        self.counts: dict[str, QSpinBox] = {}
        self.boards = QWidget()
        self._boards = QHBoxLayout(self.boards)
        self._boards.setContentsMargins(0, 0, 0, 0)
        self.sum = label("", "muted")
        self.spares = count(0, 0, 1000, "Spare boards")
        self.spares.editingFinished.connect(self._set_spares)
        self.line = number(0, 0, 1000, 0.1, "EUR", "What one order line less is worth to you")
        self.line.setToolTip("Above 0 it keeps a part from being split over two suppliers for cents. It is not paid.")
        self.line.editingFinished.connect(self._set_line)
        self.losses = table("Package begins", "More, %", "At least")
        self.losses.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.losses.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.losses.setAccessibleName("Losses by package")
        self.losses.cellChanged.connect(lambda _r, _c: self._set_losses())
        said = "Losses: how many more are bought than are fitted. The first row that fits counts; * is anything."
        words = label(said, "muted", True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        for widget in (
            self.boards, row(label("Spare boards"), self.spares, None),
            row(label("An order line less is worth"), self.line, None),
            words, self.losses, row(button("Add a package", self.add), None),
        ):  # fmt: skip
            column.addWidget(widget)
        column.setStretch(4, 1)

    def pull(self, losses: Sequence[Loss], own: Own) -> None:
        """Show what counts now."""
        design = self.session.design
        self.own, self.shown = own, tuple(losses)
        self._pull_boards()
        for box in (self.spares, self.line):
            box.blockSignals(True)
        self.spares.setValue(design.build.spare_boards)
        self.line.setValue(float(own.order_line_eur))
        for box in (self.spares, self.line):
            box.blockSignals(False)
        seen: dict[str, Loss] = {}
        for loss in losses:
            seen.setdefault(loss.package, loss)
        self.losses.blockSignals(True)
        fill(self.losses, [[x.package or ALL_OTHERS, f"{x.percent:g}", str(x.least)] for x in seen.values()], (1, 2))
        self.losses.blockSignals(False)

    def _pull_boards(self) -> None:
        design = self.session.design
        variants = list(design.variants) or [""]
        if list(self.counts) != variants:
            while (item := self._boards.takeAt(0)) is not None:
                if (old := item.widget()) is not None:
                    old.deleteLater()
            self.counts = {}
            for variant in variants:
                box = count(0, 0, MOST_BOARDS, f"Boards {variant}".strip())
                box.editingFinished.connect(self._set_boards)
                self.counts[variant] = box
                self._boards.addWidget(label(f"Boards {variant}".strip()))
                self._boards.addWidget(box)
            self.sum = label("", "muted")
            self._boards.addWidget(self.sum)
            self._boards.addStretch(1)
        batch = batch_of(self.session.wired)
        for variant, box in self.counts.items():
            box.blockSignals(True)
            box.setValue(batch.get(variant, 0))
            box.blockSignals(False)
        total = sum(batch.values())
        asked = design.brief.quantity
        self.sum.setText("" if total == asked else f"{total} in all, but the brief says {asked}")

    def _set_boards(self) -> None:
        design = self.session.design
        batch = {v: box.value() for v, box in self.counts.items() if box.value()}
        if batch == {v: n for v, n in batch_of(self.session.wired).items() if n}:
            return
        total = sum(batch.values())
        if not total:
            self._pull_boards()
            return
        if design.variants:
            words = ", ".join(f"{n} {v}" for v, n in batch.items())
            self.session.do(f"Boards: {words}", lambda d: edits.set_batch(d, batch))
        else:
            self.session.do(f"{say_count(total, 'board')}", lambda d: edits.set_brief(d, quantity=total))

    def _set_spares(self) -> None:
        spares = self.spares.value()
        if spares != self.session.design.build.spare_boards:
            self.session.do(f"{say_count(spares, 'spare board')}", lambda d: edits.set_build(d, spare_boards=spares))

    def _set_line(self) -> None:
        from zesty_trace.journey.hours import change_own

        value = Decimal(f"{self.line.value():.2f}")
        if self.own is None or value == self.own.order_line_eur:
            return
        self.own = replace(self.own, order_line_eur=value)
        folder = self.session.path
        self.steps.start(
            "Keeping figures",
            lambda _r: change_own(folder, lambda own: replace(own, order_line_eur=value)),
            lambda _v: self._changed(),
        )

    def add(self) -> None:
        """Begin a row for another package, at the top: it counts before the others."""
        self.losses.blockSignals(True)
        self.losses.insertRow(0)
        rows = [["", "5", "3"]]
        rows += [[cell(self.losses, r, c).text() for c in range(3)] for r in range(1, self.losses.rowCount())]
        fill(self.losses, rows, (1, 2))
        self.losses.blockSignals(False)
        self.losses.editItem(cell(self.losses, 0, 0))

    def _set_losses(self) -> None:
        """Keep the losses as they stand in the table."""
        from zesty_trace.core.ordering.parts.need import LOSSES, Loss
        from zesty_trace.core.ordering.parts.sheets import amount, whole
        from zesty_trace.journey.buying import keep_losses

        found = []
        for r in range(self.losses.rowCount()):
            package, percent, least = (cell(self.losses, r, c).text().strip() for c in range(3))
            if not package:
                continue
            where = f"losses, {package}"
            package = "" if package == ALL_OTHERS else package
            try:
                share = float(amount(percent.rstrip("% "), where, "percent", 400))
                found.append(Loss(package, share, whole(least, where, "at least", 0, MOST_BOARDS)))
            except InputError as error:
                self.session.failed.emit(error)
                return
        own = [x for x in found if x not in LOSSES]
        if any(not x.package for x in own):  # that row fits everything: all others must stand before it
            own = found
        folder, shown = self.session.path, self.shown
        self.shown = None  # until they are shown anew: more changes may come before
        self.steps.start("Keeping losses", lambda _r: keep_losses(folder, own, shown), lambda _v: self._changed())
