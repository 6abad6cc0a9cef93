"""What is at a place of the board: its net is lit, and between two places of one net the copper is measured."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QPointF

from zesty_trace.core.board.hand.pieces import copper_at
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LayerName
from zesty_trace.core.quantities import say, say_count
from zesty_trace.desktop.layout.canvas import BoardCanvas
from zesty_trace.desktop.layout.looks import Looks
from zesty_trace.desktop.layout.measuring import say_distance
from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import ZestyError

Work = Callable[[str, Callable[..., Any], Callable[[Any], None]], None]


class Asking:
    """Clicks on the board that ask for something."""

    def __init__(
        self,
        session: Session,
        canvas: BoardCanvas,
        looks: Looks,
        tell: Callable[[str], None],
        filled: Callable[[], bool],
        work: Work,
        lit: Callable[[str], None],
    ) -> None:
        """`filled` says whether pours are worked out, `work` starts a job, `lit(net)` hears which net is lit."""
        self.session, self.canvas, self.looks, self.tell = session, canvas, looks, tell
        self.filled, self.work, self.lit = filled, work, lit
        canvas.spotted.connect(self._spotted)
        canvas.taped.connect(self._taped)

    def _at(self, at: QPointF) -> tuple[str, LayerName] | None:
        found = copper_at(self.session.wired, at.x(), at.y(), self.looks.shown()) if self.filled() else None
        return found if found and found[0] else None

    def _spotted(self, x_mm: float, y_mm: float) -> None:
        """Light the net whose copper is at a place."""
        found = self._at(QPointF(x_mm, y_mm))
        self.canvas.lit_net = found[0] if found else ""
        self.lit(self.canvas.lit_net)
        if found:
            net, layer = found
            pins = say_count(len(self.session.design.nets.get(net, ())), "pin")
            self.tell(f"{net} on {layer}, {pins}. Click beside copper to let it go; Alt and click looks below parts.")

    def _taped(self, a: QPointF, b: QPointF) -> None:
        """Say how much copper there is between the ends of a measure, if both are on one net."""
        one, two, words = self._at(a), self._at(b), say_distance(a, b)
        if a == b or one is None or two is None or one[0] != two[0]:
            return
        wired, net = self.session.wired, one[0]

        def ohm(_report: object) -> str:
            return copper_between(wired, (a, one[1]), (b, two[1]))

        self.work("Copper", ohm, lambda said: self.tell(f"{words}; {net}: {said}"))


def copper_between(wired: Wired, a: tuple[QPointF, LayerName], b: tuple[QPointF, LayerName]) -> str:
    """Return the resistance of the copper between two places of a net in words; takes a second for a large pour."""
    from zesty_trace.core.board.fields.conduction import Probe, resistance

    one, two = (Probe(at.x(), at.y(), layer) for at, layer in (a, b))
    try:
        return f"{say(resistance(wired, one, two).resistance_ohm, 'Ω')} of copper between them, at 20 °C"
    except ZestyError as error:
        return str(error)
