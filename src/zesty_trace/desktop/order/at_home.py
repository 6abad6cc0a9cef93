"""Tool paths for a mill at home, and what the cut leaves."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtGui import QPainterPath
from PySide6.QtWidgets import (
    QComboBox,
    QHeaderView,
)

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES
from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit.widgets import button, count, fill, label, number, row, table
from zesty_trace.desktop.layout.painter import shape_path
from zesty_trace.desktop.order.pages import TABLE_PX, Worked
from zesty_trace.desktop.order.set_view import Patch, SetLook
from zesty_trace.files import write_inside

if TYPE_CHECKING:
    from zesty_trace.core.fabrication.milling import Milled, MillTools


CAUTION = "Dust harms the lungs and tools break: suction, mask, eye protection, a clamped blank; keep to local rules."


class MillPage(Worked):
    """Tool paths for a mill at home, and what the cut leaves."""

    title = "Mill"
    tip = "Tool paths for one face: isolating, drilling, cutting out; what the cut leaves is drawn back"

    def build(self) -> None:
        """Make the widgets."""
        self.face = QComboBox()
        self.face.addItems(["face that fits", "top", "bottom"])
        self.face.setAccessibleName("Face that is milled")
        self.cutter = number(0.2, 0.05, 3, 0.05, "mm", "Width of the isolating cut")
        self.cut_depth = number(0.08, 0.01, 1, 0.01, "mm", "Depth of the isolating cut")
        self.passes = count(2, 1, 20, "Passes round the copper")
        self.end_mill = number(1.0, 0.3, 6, 0.1, "mm", "End mill for the edge")
        self.wires = table("Wire link", "From, mm", "To, mm")
        self.wires.setFixedHeight(TABLE_PX - 24)
        self.wires.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.write_button = button("Write the tool paths", self.write)
        self.milled: Milled | None = None
        first = row(self.face, label("Passes"), self.passes, None, self.write_button)
        second = row(
            label("Cut"), self.cutter, label("Depth"), self.cut_depth, label("End mill"), self.end_mill, None
        )  # fmt: skip
        for widget in (first, second, self.words, self.wires, label(CAUTION, "muted", True)):
            self.column.addWidget(widget)
        self.later(self.face, self.cutter, self.cut_depth, self.passes, self.end_mill)

    def tools(self) -> MillTools:
        """Return what the fields say."""
        from zesty_trace.core.fabrication.milling import MillTools

        return MillTools(
            cutter=self.cutter.value(),
            depth=self.cut_depth.value(),
            passes=self.passes.value(),
            end_mill=self.end_mill.value(),
        )

    def opened(self) -> None:
        """Work the paths out, as a job; of the board as it is drawn now, not of somebody's files."""
        self.milled = None
        self.write_button.setEnabled(False)
        self.wires.hide()
        if self.foreign or self.session.design.board.given:
            self.words.setText("Only boards that are drawn here can be milled: these files are somebody's.")
            return
        if not self.isVisible() or self.looked is None:
            return
        wired, tools, chosen, look = self.session.wired, self.tools(), self.face.currentText(), self.looked.look
        face = next((f for f in FACES if f == chosen), None)

        def work(report: Report) -> tuple[Milled, SetLook]:
            from zesty_trace.core.fabrication.milling import mill

            found = mill(wired, face, tools, report)
            return found, with_milled(look, found)

        def done(value: tuple[Milled, SetLook]) -> None:
            if self.isVisible():
                self._take(wired, *value)

        self.session.jobs.start("Working out tool paths", work, done)

    def _take(self, wired: Wired, found: Milled, look: SetLook) -> None:
        if wired is not self.session.wired:
            self.soon.start()
            return
        self.milled = found
        self.write_button.setEnabled(True)
        words = [f"The {found.face} takes about {found.minutes:.0f} minutes at the mill, in {len(found.jobs)} files."]
        words += [f"Fault: {f}." for f in found.faults] or ["Swept back: every net is cut free, and none loses copper."]
        if not found.links:
            words.append("No wire is needed: the milled face joins every net.")
        self.words.setText(" ".join(words))
        fill(self.wires, [[k.net, f"{k.a[0]:.2f}, {k.a[1]:.2f}", f"{k.b[0]:.2f}, {k.b[1]:.2f}"] for k in found.links])
        self.wires.setVisible(bool(found.links))
        self.show_look(look, "What the cut leaves")

    def write(self) -> None:
        """Write the files for the mill into the project."""
        found, folder, design = self.milled, self.session.path, self.session.design
        if found is None:
            return

        def work(_report: Report) -> int:
            from zesty_trace.core.fabrication.milling import mill_files

            files = mill_files(found, design.name)
            for file, text in files.items():
                write_inside(folder, f"milling/{file}", text.encode())
            return len(files)

        self.session.jobs.start(
            "Writing tool paths", work, lambda n: self.session.message.emit(f"Wrote {n} files into milling")
        )


def with_milled(look: SetLook, found: Milled) -> SetLook:
    """Return a look with a view of the copper that the mill leaves, and the wires that are still to be soldered."""
    wires = QPainterPath()
    for link in found.links:
        wires.moveTo(*link.a)
        wires.lineTo(*link.b)
    patches = (
        Patch(shape_path(found.left), "copper", 70),
        Patch(shape_path(found.used), "copper"),
        Patch(wires, "teal", pen=0.3),
    )
    return replace(look, extra={"What the cut leaves": patches})
