"""Strips of headers and sockets: how they are cut, drawn to scale; and cutting them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.order.steps import Steps
from zesty_trace.desktop.project.session import Session

if TYPE_CHECKING:
    from zesty_trace.core.ordering.parts.headers import Cutting
    from zesty_trace.core.ordering.parts.strips import CutList

STRIP_PX = 24


class StripsView(QWidget):
    """Strips with the pieces that are cut from them, drawn to scale."""

    def __init__(self) -> None:
        super().__init__()
        self.lists: dict[str, CutList] = {}
        self.setAccessibleName("Strips and how they are cut")

    def show_lists(self, lists: dict[str, CutList]) -> None:
        """Show cut lists, by the sort of strip."""
        self.lists = lists
        rows = sum(len(c.cuts) + 1 for c in lists.values())
        self.setMinimumHeight(max(1, rows) * STRIP_PX + 8)
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its strips."""
        return QSize(300, self.minimumHeight())

    def paintEvent(self, _event: QPaintEvent) -> None:
        """Draw each strip: pieces solid, what is left open, lost positions crossed out."""
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = theme.current()
        y = 4.0
        for name, found in self.lists.items():
            words = f"{name}: {found.bought} to buy" if found.bought else f"{name}: cut from what is there"
            words += ", no fewer would do" if found.best and found.bought else ""
            p.setPen(t.color("ink"))
            p.drawText(QPointF(2, y + STRIP_PX * 0.65), words)
            y += STRIP_PX
            longest = max(c.length for c in found.cuts)
            wide = (self.width() - 6) / longest
            for cut in found.cuts:
                x = 2.0
                for piece in cut.pieces:
                    box = QRectF(x, y + 2, piece * wide - 1.5, STRIP_PX - 7)
                    p.setPen(QPen(t.color("copper"), 1.2))
                    p.setBrush(t.color("part"))
                    p.drawRoundedRect(box, 2, 2)
                    p.setPen(t.color("ink"))
                    p.drawText(box, Qt.AlignmentFlag.AlignCenter, str(piece))
                    x += piece * wide
                rest = QRectF(x, y + 2, max(0.0, (cut.left + cut.lost) * wide - 1.5), STRIP_PX - 7)
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.setPen(QPen(t.color("line"), 1, Qt.PenStyle.DashLine))
                if rest.width() > 0:
                    p.drawRoundedRect(rest, 2, 2)
                said = f"{cut.left} left" + (f", {cut.lost} lost" if cut.lost else "")
                p.setPen(t.color("muted"))
                if rest.width() > 46:
                    p.drawText(rest, Qt.AlignmentFlag.AlignCenter, said)
                if not cut.bought:
                    there = QRectF(rest.right() + 8, y + 2, 200, STRIP_PX - 7)
                    p.drawText(there, Qt.AlignmentFlag.AlignVCenter, f"a {cut.length} that is there")
                y += STRIP_PX
        p.end()


class StripsPage(QWidget):
    """What is cut from which strip, and a button for when it is done."""

    def __init__(self, session: Session, steps: Steps, changed: Callable[[], None]) -> None:
        super().__init__()
        self.session, self.steps, self._changed = session, steps, changed
        self.words = label("", "muted", True)
        self.view = StripsView()
        self.cut_button = button(
            "These are cut", self.cut, tip="Strips out of the drawers; pieces and what is left of them in"
        )
        holder = QScrollArea()
        holder.setWidgetResizable(True)
        holder.setFrameShape(QFrame.Shape.NoFrame)
        holder.setWidget(self.view)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for widget in (self.words, holder, row(None, self.cut_button)):
            column.addWidget(widget)
        column.setStretch(1, 1)

    def show_cuttings(self, found: Sequence[Cutting]) -> None:
        """Show how the headers and sockets that are wanted are cut."""
        self.view.show_lists({c.strip.title: c.plan for c in found})
        first = sum(c.plan.bought for c in found)
        said = "Cut or snap from strips; a socket strip loses a position at each cut."
        if not found:
            said = "No headers or sockets have to be cut."
        elif first:
            said += f" {first} of these strips must come first: the purchase has them if they cost less than pieces."
        self.words.setText(said)
        self.cut_button.setEnabled(bool(found) and not first)

    def cut(self) -> None:
        """Take strips out of the drawers and put pieces and leftovers in, as a job."""
        from zesty_trace.journey.buying import cut_now

        wired, folder = self.session.wired, self.session.path

        def done(found: list[Cutting]) -> None:
            pieces = sum(count for c in found for _, count in c.pieces)
            self.session.message.emit(f"{pieces} pieces and what is left of the strips are in the drawers")
            self._changed()

        self.steps.start("Cutting strips", lambda _r: cut_now(wired, folder), done)
