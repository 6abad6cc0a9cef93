"""Pictures that are worked out for a board off the GUI thread and laid over it: heat, current, the board as made."""

from __future__ import annotations

from collections.abc import Callable

from zesty_trace.core.board.fields.heat import HeatPicture, heat_picture
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Face
from zesty_trace.desktop.layout.canvas import BoardCanvas
from zesty_trace.desktop.layout.current import FlowPicture, flow_words
from zesty_trace.desktop.layout.heat import heat_words
from zesty_trace.desktop.layout.looks import Looks
from zesty_trace.desktop.layout.made import MadeLook, made_look
from zesty_trace.desktop.project.session import Session
from zesty_trace.desktop.project.station import WorkedOut
from zesty_trace.errors import ZestyError


class Pictures:
    """What the row of looks asks for is worked out for the newest board only, and shown once it is there."""

    def __init__(
        self,
        session: Session,
        canvas: BoardCanvas,
        looks: Looks,
        say: Callable[[str], None],
        lit_net: Callable[[], str],
        again: Callable[[], None],
    ) -> None:
        """`say` shows a sentence, `lit_net` is the net that is picked, `again` shows the board anew."""
        self.session, self.canvas, self.looks, self.say, self.lit_net = session, canvas, looks, say, lit_net
        self._heat = WorkedOut(session, "Heat", _heat_of, self._take_heat, again)
        self._flows = WorkedOut(session, "Current", self._flow_of, self._take_flow, again)
        self._made = WorkedOut(session, "As made", _made_of, self._take_made, again)
        self._heated: HeatPicture | str = ""
        self._flow: FlowPicture | str = ""
        self._flow_for = ""  # the net that was lit when it was worked out
        self._faces: dict[Face, MadeLook] = {}

    def show(self) -> None:
        """Show what is asked for, or have it worked out."""
        self._show_made()
        self._show_heat()
        self._show_flow()

    def _take_heat(self, picture: HeatPicture | str) -> None:
        self._heated = picture
        self._show_heat()

    def _show_heat(self) -> None:
        """Show the heat of the board as it is, once it is worked out; an older picture is not shown."""
        if not self.looks.heat.isChecked() or not self.session.design.board.placements or not self._heat.ask():
            self.canvas.show_heat(None)
        elif isinstance(self._heated, str):
            self.canvas.show_heat(None)
            self.say(self._heated)
        else:
            self.canvas.show_heat(self._heated)
            self.say(heat_words(self._heated))

    def _flow_of(self, wired: Wired) -> tuple[str, FlowPicture | str]:
        """Return the lit net and the picture of its current, or why there is none; called off the GUI thread."""
        from zesty_trace.core.board.fields.density import busiest_net, flow_of

        lit = self.lit_net()
        try:
            return lit, FlowPicture(flow_of(wired, lit or busiest_net(wired)))
        except ZestyError as error:
            return lit, str(error)

    def _take_flow(self, answer: tuple[str, FlowPicture | str]) -> None:
        self._flow_for, self._flow = answer
        self._show_flow()

    def net_lit(self) -> None:
        """Another net may be lit: show its current, if that is what is shown."""
        if self.looks.current.isChecked() and self._flow_for != self.lit_net():
            self._show_flow()

    def _show_flow(self) -> None:
        """Show the current density of the net that is lit, of the busiest if none is, once it is worked out."""
        if not self.looks.current.isChecked() or not self.session.design.board.tracks:
            self.canvas.show_flow(None)
            return
        if self._flow_for != self.lit_net():
            self._flows.of = None
        if not self._flows.ask():
            self.canvas.show_flow(None)
        elif isinstance(self._flow, str):
            self.canvas.show_flow(None)
            self.say(self._flow)
        else:
            self.canvas.show_flow(self._flow)
            self.say(flow_words(self._flow.flow))

    def _take_made(self, faces: dict[Face, MadeLook]) -> None:
        self._faces = faces
        self._show_made()

    def _show_made(self) -> None:
        """Show the board as it will be made, once that is worked out."""
        wanted = self.looks.intent == "made" and bool(self.session.design.board.outline)
        there = wanted and self._made.ask()
        face: Face = "bottom" if self.canvas.flipped else "top"
        self.canvas.show_made(self._faces[face] if there else None)
        if wanted:
            corner = "lower left" if face == "top" else "lower right"
            self.say(
                f"The {face} in {self.session.design.build.colour}, without parts. Holes: mm from the {corner} corner."
            )


def _heat_of(wired: Wired) -> HeatPicture | str:
    """Return the heat picture, or why there is none."""
    try:
        return heat_picture(wired)
    except ZestyError as error:
        return str(error)


def _made_of(wired: Wired) -> dict[Face, MadeLook]:
    """Return both faces as they will be made."""
    return {face: made_look(wired, face) for face in FACES}
