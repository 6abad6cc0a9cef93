"""Several boards on one panel, with what it saves."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QComboBox,
)

from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.widgets import button, count, label, number, row
from zesty_trace.desktop.order.pages import Worked
from zesty_trace.desktop.order.set_view import SetLook, set_look
from zesty_trace.files import write_inside
from zesty_trace.names import slug

if TYPE_CHECKING:
    from zesty_trace.core.fabrication.panel import PanelPlan
    from zesty_trace.desktop.order.files import Looked


NO_FEE = "A house may ask more for several boards on a panel; price sheets do not say."


class PanelPage(Worked):
    """Several boards on one panel: laid out, looked through, priced against ordering them singly."""

    title = "Panel"
    tip = "Several boards on one panel, held by tabs or scored apart, with what it saves"

    def build(self) -> None:
        """Make the widgets."""
        self.boards = count(4, 1, 60, "Boards on the panel")
        self.columns = count(0, 0, 20, "Boards in a row")
        self.columns.setSpecialValueText("square")
        self.cut = QComboBox()
        self.cut.addItems(["tabs", "score"])
        self.cut.setAccessibleName("How boards are parted")
        self.gap = number(2.0, 0.8, 20, 0.5, "mm", "Gap between boards")
        self.rail = number(5.0, 0, 30, 0.5, "mm", "Rail all round")
        self.price = label("", "", True)
        self.write_button = button("Write the panel's zip", self.write)
        self.files: dict[str, str] = {}
        self._of: tuple[Looked, PanelPlan, int] | None = None  # what is laid out, or being laid out
        self._look: SetLook | None = None
        first = row(label("Boards"), self.boards, label("in a row"), self.columns, self.cut, None)
        second = row(label("Gap"), self.gap, label("Rail"), self.rail, None, self.write_button)
        for widget in (first, second, self.words, self.price):
            self.column.addWidget(widget)
        self.later(self.boards, self.columns, self.cut, self.gap, self.rail)

    def plan(self) -> PanelPlan:
        """Return what the fields say."""
        from zesty_trace.core.fabrication.panel import Cut, PanelPlan

        cut: Cut = "score" if self.cut.currentText() == "score" else "tabs"
        return PanelPlan(cut=cut, gap=self.gap.value(), rail=self.rail.value(), columns=self.columns.value())

    def suggest(self, copies: int, columns: int) -> None:
        """Set the fields to a panel that pays."""
        self.boards.setValue(copies)
        self.columns.setValue(columns)

    def opened(self) -> None:
        """Lay the panel out, as a job."""
        looked, plan, copies = self.looked, self.plan(), self.boards.value()
        if looked is None or not self.isVisible():
            return
        stamp = (looked, plan, copies)
        if self._of is not None and self._of[0] is looked and self._of[1:] == stamp[1:]:
            if self._look is not None:
                self.show_look(self._look, "")
            return
        self._of, self._look = stamp, None

        def work(report: Report) -> tuple[dict[str, str], SetLook, str]:
            from zesty_trace.core.fabrication.finished import read_set
            from zesty_trace.core.fabrication.looking.intake import intake
            from zesty_trace.core.fabrication.panel import panel_of
            from zesty_trace.core.fabrication.panel_files import panel_files

            panel = panel_of([(looked.path.stem, looked.look.board, copies)], plan)
            files = panel_files(panel)
            report(0.3, "reading the panel back")
            board = read_set(files)
            answer = intake(board, report=lambda share, text: report(0.4 + share / 2, text))
            parted = f"{len(panel.scores)} scores" if panel.scores else f"{len(panel.bites)} break-off holes"
            words = (
                f"{copies} boards on {panel.width:.1f} x {panel.height:.1f} mm, {100 * panel.used:.0f} % of it boards; "
                f"{parted}. {' '.join(f'Fault: {f}.' for f in panel.faults)} Intake: {answer.verdict}"
            )
            return files, set_look(board), words

        def done(value: tuple[dict[str, str], SetLook, str]) -> None:
            if self._of is stamp:
                self.files, self._look, words = value
                self.words.setText(words)
                self._say_price(self._look)
                if self.isVisible():
                    self.show_look(self._look, "")

        def failed(error: object) -> None:
            if self._of is stamp:
                self._of = None
            if error is not None:
                self.session.failed.emit(error)

        self.session.jobs.start("Laying out the panel", work, done, failed)

    def _say_price(self, look: SetLook) -> None:
        from zesty_trace.journey.ordering import ask_houses, panel_price

        size = look.board.edges.size_mm
        board = self.looked.look.board.edges.size_mm if self.looked is not None else None
        if size is None or board is None:
            self.price.setText("")
            return
        layers = len(look.board.layers)
        asked = ask_houses(self.session.wired, self.session.today, self.session.path).question
        said = panel_price(asked, board, size, self.boards.value(), layers)
        self.price.setText(f"{said} {NO_FEE}")

    def write(self) -> None:
        """Write the panel's files into the project."""
        if not self.files or self.looked is None:
            return
        from zesty_trace.core.fabrication.package import zip_bytes

        name = f"{slug(self.looked.path.stem, 'board')}-panel-of-{self.boards.value()}.zip"
        files, folder = self.files, self.session.path

        def work(_report: Report) -> str:
            write_inside(folder, f"fabrication/{name}", zip_bytes(files))
            return name

        self.session.jobs.start(
            "Writing the panel", work, lambda n: self.session.message.emit(f"Wrote fabrication/{n}")
        )
