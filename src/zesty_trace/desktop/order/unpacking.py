"""Unpacking: an order line by line, what came, as what, and what is short."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHeaderView,
    QLineEdit,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import say_count
from zesty_trace.desktop.kit.widgets import button, cell, count, fill, label, row, table
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.files import write_given

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.placed import Line
    from zesty_trace.core.ordering.parts.sorts import Sort

MOST_NAMED = 2


class Unpacking(QWidget):
    """An order line by line: what came, and what is still missing."""

    def __init__(self, session: Session, steps: Steps, came: Callable[[], None]) -> None:
        super().__init__()
        self.session, self.steps = session, steps
        self._came = came
        self._still: list[tuple[int, int]] = []
        self._sorts: list[Sort] = []
        self.order = QComboBox()
        self.order.setAccessibleName("Order")
        self.order.currentTextChanged.connect(lambda _t: self._show())
        self.words = label("", "muted", True)
        self.lines = table("Line", "Ordered", "Part", "Came")
        self.withdraw_button = button(
            "Take it back", self.withdraw, tip="The order was not sent: nothing is on the way"
        )
        self.lines.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.count = count(0, 0, 1_000_000, "How many came")
        self.more = QCheckBox("more than ordered")
        self.more.setToolTip("Counted again: more pieces came than were ordered")
        self.instead = QComboBox()
        self.instead.setEditable(True)
        self.instead.setAccessibleName("Came as another part: kind value package")
        self.instead.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.place = QLineEdit()
        self.place.setPlaceholderText("drawer")
        self.place.setAccessibleName("The drawer that it is put into")
        self.known: tuple[Sort, ...] = ()
        self.one_button = button("These came", self.one)
        self.all_button = button("All the rest came", self.rest, True)
        self.label_button = button("Labels …", self.ask_for_labels, tip="A PDF of labels for the bags, with codes")
        self.lines.itemSelectionChanged.connect(self._picked)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for widget in (
            row(self.order, None, self.withdraw_button, self.label_button), self.words, self.lines,
            row(self.count, self.one_button, self.more, None, self.all_button),
            row(label("Came as"), self.instead, label("into"), self.place),
        ):  # fmt: skip
            column.addWidget(widget)

    def pull(self) -> None:
        """Show the orders that there are."""
        from zesty_trace.journey.buying import orders

        before = self.order.currentText()
        self.order.blockSignals(True)
        self.order.clear()
        self.order.addItems(orders(self.session.path))
        self.order.setCurrentText(before)
        self.order.blockSignals(False)
        self._show()

    def _show(self) -> None:
        from zesty_trace.core.ordering.parts.placed import missing, unfit_words
        from zesty_trace.journey.buying import buildable_now, load_order, say_buildable

        name = self.order.currentText()
        try:
            lines = load_order(self.session.path, name) if name else []
        except ZestyError as error:
            self.words.setText(str(error))
            fill(self.lines, [])
            return
        rows = []
        for k, x in enumerate(lines, 1):
            came = f", came as {x.came_as}" if x.came_as else ""
            came += ", MORE than ordered" if x.received > x.count else ""
            rows.append([str(k), str(x.count), self._name(x.sort) + came, str(x.received)])
        fill(self.lines, rows, (0, 1, 3))
        self._sorts = [x.sort for x in lines]
        left = missing(lines)
        self._still = [(k, x.coming) for k, x in left if x.coming]
        able = say_buildable(buildable_now(self.session.wired, self.session.path))
        if not lines:
            said = "No orders yet: write them from the plan."
        elif not left:
            said = "All of it has come."
        else:
            said = " ".join(w for w in (_awaited([x for _, x in left if x.coming]), _short(
                [x for _, x in left if x.unpacked])) if w)  # fmt: skip
        unfit = "".join(f"Look: {words}. " for words in map(unfit_words, lines) if words)
        self.words.setText(f"{unfit}{said} {able}".strip())
        self.label_button.setEnabled(bool(lines))
        self.one_button.setEnabled(bool(lines))
        self.all_button.setEnabled(any(x.coming for _, x in left))
        self.withdraw_button.setEnabled(bool(lines) and not any(x.unpacked for x in lines))

    def _name(self, sort: Sort) -> str:
        """Return what a part is called."""
        from zesty_trace.core.ordering.parts.headers import form_of

        kind, form = self.session.catalogue.kinds.get(sort.kind), form_of(sort)
        if kind is None:
            return form.title if form is not None else str(sort)
        return " ".join(w for w in (kind.title, sort.value, sort.package) if w)

    def ask_for_labels(self) -> None:
        """Ask where the labels go."""
        name, _ = QFileDialog.getSaveFileName(self, "Labels for the bags", "labels.pdf", "PDF (*.pdf)")
        if name:
            self.write_labels(Path(name))

    def write_labels(self, path: Path) -> None:
        """Write labels for the bags of the order."""
        from zesty_trace.journey.buying import order_labels

        wired, folder, name = self.session.wired, self.session.path, self.order.currentText()

        def work(_report: Report) -> None:
            write_given(path, order_labels(wired, folder, name))

        self.session.jobs.start("Writing labels", work, lambda _v: self.session.message.emit(f"Wrote {path}"))

    def _picked(self) -> None:
        for index in self.lines.selectedIndexes()[:1]:
            ordered, came = (int(cell(self.lines, index.row(), c).text()) for c in (1, 3))
            self.count.setValue(max(0, ordered - came))
            self._offer(index.row())

    def _offer(self, number: int) -> None:
        """Offer the parts of the kind of a line as what it may have come as."""
        sort = self._sorts[number]
        others = sorted({s for s in self.known if s.kind == sort.kind and s.key != sort.key})
        self.instead.clear()
        self.instead.addItems(["", *map(str, others)])
        self.instead.setCurrentIndex(0)

    def one(self) -> None:
        """Note what came of the picked line."""
        rows = sorted({index.row() for index in self.lines.selectedIndexes()})
        if rows:
            self._unpack([(rows[0] + 1, self.count.value(), self.instead.currentText())])

    def rest(self) -> None:
        """Note that all lines came whole that were not unpacked yet."""
        self._unpack([(k, count, "") for k, count in self._still])

    def withdraw(self) -> None:
        """Take the order back, as a job."""
        from zesty_trace.journey.buying import withdraw

        folder, name = self.session.path, self.order.currentText()

        def done(_v: object) -> None:
            self.session.message.emit(f"{name} is taken back: its parts are to be bought again")
            self.pull()
            self._came()

        self.steps.start("Taking an order back", lambda _r: withdraw(folder, name), done)

    def _said(self, words: str) -> Sort | None:
        """Return the part that words name; None for none."""
        from zesty_trace.core.ordering.parts.headers import form_of
        from zesty_trace.core.ordering.parts.sorts import Sort

        if not words:
            return None
        if (known := next((s for s in self.known if str(s) == words), None)) is not None:
            return known
        kind, _, rest = words.partition(" ")
        value, _, package = rest.rpartition(" ")
        sort = Sort(kind, value, package)
        if package in self.session.catalogue.packages or form_of(sort) is not None:
            return sort
        return Sort(kind, rest)

    def _unpack(self, found: list[tuple[int, int, str]]) -> None:
        from zesty_trace.core.ordering.parts.placed import Came
        from zesty_trace.journey.buying import check_sort, unpack

        came = []
        for line, pieces, words in found:
            sort = self._said(words.strip())
            place = self.place.text().strip()
            try:
                came.append(Came(line, pieces, check_sort(self.session.wired, sort) if sort else None, place))
            except InputError as error:
                self.session.failed.emit(error)
                return
        folder, name, more = self.session.path, self.order.currentText(), self.more.isChecked()

        def done(_lines: object) -> None:
            self.instead.setEditText("")
            self.more.setChecked(False)
            self._show()
            self._came()

        self.steps.start("Unpacking", lambda _r: unpack(folder, name, came, more), done)


def _awaited(lines: list[Line]) -> str:
    """Return what is on the way, in words."""
    if not lines:
        return ""
    day = max((x.expected for x in lines if x.expected is not None), default=None)
    here = f", expected {day:%a %d %b}" if day else ""
    return f"On the way: {say_count(len(lines), 'line')}{here}."


def _short(lines: list[Line]) -> str:
    """Return what came short, in words."""
    if not lines:
        return ""
    first = "; ".join(f"{x.short} x {x.sort} for {x.refs}" for x in lines[:MOST_NAMED])
    more = f" and {len(lines) - MOST_NAMED} more" if len(lines) > MOST_NAMED else ""
    return f"Came short, the plan buys it again: {first}{more}."
