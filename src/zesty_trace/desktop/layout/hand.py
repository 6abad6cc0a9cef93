"""Copper by hand on the canvas: a way follows the pointer, pieces are dragged, taken off, and a net is lit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from msgspec.structs import replace
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from zesty_trace.core.board.copper import BoardPad, board_pads
from zesty_trace.core.board.hand.dragging import Room, changed, dragged
from zesty_trace.core.board.hand.pieces import (
    Picked,
    net_of_piece,
    piece_at,
    take_connection,
    take_piece,
)
from zesty_trace.core.board.rules.leftovers import take_off
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, LayerName, Track, Via
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm, say_count, say_mm
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.layout.painter import pad_path
from zesty_trace.errors import ZestyError

if TYPE_CHECKING:
    from zesty_trace.core.board.hand.guide import Guide, Way

STEP_NM = 50_000  # of pieces that are dragged
START = "Click a pad to begin a way, or a track to take hold of it. V drops a via, Esc lets go."


@dataclass
class Laying:
    """A way that is being laid: from where it goes on, on which layer, and what is laid so far."""

    net: str
    start: BoardPad | Point
    layer: LayerName
    width_nm: int
    legs: list[Way] = field(default_factory=list)
    vias: list[Via] = field(default_factory=list)
    ahead: Way | None = None

    def copper(self) -> tuple[list[Track], list[Via]]:
        """Return the tracks, legs on one layer in one piece, and the vias."""
        tracks: list[Track] = []
        for track in (t for leg in self.legs for t in leg.tracks):
            last = tracks[-1] if tracks else None
            if (
                last
                and (last.layer, last.width_nm) == (track.layer, track.width_nm)
                and last.points[-1] == track.points[0]
            ):
                tracks[-1] = replace(last, points=(*last.points, *track.points[1:]))
            else:
                tracks.append(track)
        return tracks, [*self.vias, *(v for leg in self.legs for v in leg.vias)]


@dataclass
class Holding:
    """A piece that is held: where it was taken, what it must keep clear of, where it would go."""

    picked: Picked
    at: QPointF
    room: Room
    trial: Design | None = None
    blocked: str = ""


class HandTool:
    """What the pointer and the keys do while copper is laid by hand."""

    def __init__(
        self,
        layers: Callable[[], tuple[LayerName, ...]],
        say: Callable[[str], None],
        commit: Callable[[str, Design, str], bool],
        redraw: Callable[[], None],
    ) -> None:
        """`layers` are those that are shown, `say` shows a sentence, `commit(title, design, net)` makes an edit."""
        self.layers, self.say, self.commit, self.redraw = layers, say, commit, redraw
        self.guide: Guide | None = None
        self.wired: Wired | None = None
        self.laying: Laying | None = None
        self.holding: Holding | None = None
        self.picked: Picked | None = None
        self.net = ""

    def take(self, wired: Wired) -> None:
        """Go on with another design: what was picked or begun on the one before is let go."""
        if wired is not self.wired:
            self.wired = wired
            self.laying = self.holding = self.picked = None
            if self.net not in wired.design.nets:
                self.net = ""

    @property
    def ready(self) -> bool:
        """Whether the board is laid out for ways as it is."""
        return self.guide is not None and self.guide.wired is self.wired

    def press(self, at: QPointF) -> None:
        """Fix the piece ahead, begin a way at a pad, or take hold of a track or via."""
        if self.wired is None:
            return
        if self.laying is not None:
            self._fix()
            return
        pad = self._pad_at(at)
        self.picked = None if pad else piece_at(self.wired, at.x(), at.y(), self.layers())
        if pad is not None:
            self._begin(pad)
        elif self.picked is not None:
            self.net = net_of_piece(self.wired.design, self.picked)
            self.holding = Holding(self.picked, at, Room(self.wired, self.net, self.picked))
            self.say(self._about(self.picked))
        else:
            self.net = ""
            self.say(START)
        self.redraw()

    def _pad_at(self, at: QPointF) -> BoardPad | None:
        if self.wired is None:
            return None
        spots = [p for p in board_pads(self.wired) if p.net and set(p.layers) & set(self.layers())]
        hits = [p for p in spots if pad_path(p).contains(at)]
        return min(hits, key=lambda p: p.width_nm * p.height_nm, default=None)

    def _about(self, picked: Picked) -> str:
        assert self.wired is not None
        board = self.wired.design.board
        keys = "Drag it, Del takes it off, Shift+Del its connection, Ctrl+Del all copper of the net."
        if picked.what == "via":
            via = board.vias[picked.index]
            return f"Via of {via.net}, {say_mm(via.diameter_nm)}, drill {say_mm(via.drill_nm)}. {keys}"
        track = board.tracks[picked.index]
        locked = ", locked" if track.locked else ""
        return f"Track of {track.net}, {say_mm(track.width_nm)} on {track.layer}, by {track.made}{locked}. {keys}"

    def _begin(self, pad: BoardPad) -> None:
        self.net = pad.net
        if not self.ready or self.guide is None:
            self.say(f"{pad.pin}, {pad.net}. The board is being laid out for ways by hand: a moment.")
            return
        layer = next((k for k in self.layers() if k in pad.layers), pad.layers[0])
        self.laying = Laying(pad.net, pad, layer, self.guide.width_nm(pad))
        self.say(f"{pad.net} from {pad.pin} on {layer}. Click to fix a corner, on a pad of the net to finish.")

    def move(self, at: QPointF) -> None:
        """Follow the pointer."""
        if self.laying is not None and self.guide is not None:
            now = self.laying
            self._look_ahead(now, self.guide, at)
            self.redraw()
        elif self.holding is not None and self.wired is not None:
            self._drag(self.holding, at)

    def _look_ahead(self, now: Laying, guide: Guide, at: QPointF) -> None:
        """Find the way to the pointer: on its layer, else through vias."""
        for vias in (False, True):
            now.ahead = guide.follow(now.net, now.start, now.layer, at.x(), at.y(), now.width_nm, vias)
            if now.ahead is not None:
                break
        else:
            self.say(f"No way for {now.net} to there: other copper is in the way. Esc lets go.")
            return
        to = f" to {now.ahead.reaches}" if now.ahead.reaches else ""
        through = f", through {say_count(len(now.ahead.vias), 'via')}" if now.ahead.vias else ""
        wide = say_mm(now.width_nm)
        self.say(f"{now.net}{to}: {now.ahead.length_mm:.1f} mm on {now.layer}{through}, {wide} wide. Click fixes it.")

    def _drag(self, held: Holding, at: QPointF) -> None:
        assert self.wired is not None
        dx, dy = (round(d * 1e6 / STEP_NM) * STEP_NM for d in (at.x() - held.at.x(), at.y() - held.at.y()))
        if not dx and not dy and held.trial is None:
            return
        held.trial = dragged(self.wired, held.picked, dx, dy)
        held.blocked = held.room.in_the_way(*changed(self.wired.design, held.trial))
        self.say(f"Too near to {held.blocked}: let go, and it stays where it was." if held.blocked else "Clear.")
        self.redraw()

    def release(self) -> None:
        """Put down what is held, if it is clear where it is."""
        held, self.holding = self.holding, None
        if held is None or held.trial is None or self.wired is None:
            return
        if held.blocked:
            self.say(f"It stays where it was: there it is too near to {held.blocked}.")
        elif held.trial is not self.wired.design:
            what = "Track" if held.picked.what == "track" else "Via"
            self.commit(f"{what} of {self.net} moved", held.trial, self.net)
        self.redraw()

    def _fix(self) -> None:
        """Fix the piece ahead; one that reaches a pad ends the way."""
        now = self.laying
        if now is None or now.ahead is None:
            return
        now.legs.append(now.ahead)
        if now.ahead.reaches:
            self.finish()
            return
        assert now.ahead.end is not None
        now.start, now.layer, now.ahead = now.ahead.end, now.ahead.layer, None
        self.redraw()

    def finish(self) -> None:
        """Take what is laid into the design."""
        now, self.laying = self.laying, None
        if now is None or self.wired is None:
            return
        tracks, vias = now.copper()
        if tracks or vias:
            board = self.wired.design.board
            after = edits.set_copper(self.wired.design, [*board.tracks, *tracks], [*board.vias, *vias], board.pours)
            self.commit(f"{now.net} laid by hand", after, "")
        self.redraw()

    def drop_via(self) -> None:
        """Fix the piece ahead and go on with the next layer, through a via if no pad leads there."""
        now = self.laying
        if now is None or self.guide is None or self.wired is None:
            return
        stack = self.wired.design.board.stack
        if now.ahead is not None and not now.ahead.reaches:
            self._fix()
        other = next(k for k in (*stack[stack.index(now.layer) + 1 :], *stack) if k != now.layer)
        if isinstance(now.start, Point):
            via = self.guide.via_at(now.net, now.start)
            if via is None:
                self.say("No room for a via there: go on a little, and press V again.")
                return
            now.vias.append(via)
        elif other not in now.start.layers:
            self.say("No via in a pad: go a little way first, and press V there.")
            return
        now.layer = other
        self.say(f"{now.net} goes on on {now.layer}.")
        self.redraw()

    def back(self) -> None:
        """Take the last fixed piece back."""
        now = self.laying
        if now is None or not now.legs:
            self.let_go()
            return
        gone = now.legs.pop()
        first = gone.tracks[0].points[0] if gone.tracks else None
        if now.vias and now.legs and now.legs[-1].end == Point(now.vias[-1].x_nm, now.vias[-1].y_nm):
            now.vias.pop()
        now.layer = gone.tracks[0].layer if gone.tracks else now.layer
        if now.legs and now.legs[-1].end is not None:
            now.start, now.layer = now.legs[-1].end, now.legs[-1].layer
        elif first is not None and self.guide is not None:
            now.start = self.guide.pad_at(mm(first[0]), mm(first[1]), now.layer) or Point(*first)
        now.ahead = None
        self.redraw()

    def let_go(self) -> None:
        """Give up what is begun."""
        self.laying = self.holding = self.picked = None
        self.net = ""
        self.say(START)
        self.redraw()

    def wider(self) -> None:
        """Go on with the next width that the board knows."""
        if self.laying is not None and self.guide is not None:
            widths = self.guide.kinds()
            later = [w for w in widths if w > self.laying.width_nm]
            self.laying.width_nm = later[0] if later else widths[0]
            self.say(f"{self.laying.net} is {say_mm(self.laying.width_nm)} wide from here.")

    def delete(self, how: str) -> None:
        """Take off the picked piece, its `connection`, or all copper of its `net`."""
        if self.picked is None or self.wired is None:
            return
        net = net_of_piece(self.wired.design, self.picked)
        try:
            if how == "net":
                board = self.wired.design.board
                gone = take_off(self.wired.design, net)
                after = edits.set_board(gone, pours=board.pours)
            else:
                after = (take_connection if how == "connection" else take_piece)(self.wired, self.picked)
        except ZestyError as error:
            self.say(str(error))
            return
        what = {"net": f"Copper of {net}", "connection": f"A connection of {net}"}.get(how, f"A piece of {net}")
        self.commit(f"{what} taken off", after, "")

    def key(self, key: Qt.Key, shift: bool, control: bool) -> bool:
        """Do what a key asks for; whether it is one of these."""
        if key == Qt.Key.Key_Escape:
            self.let_go()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.laying is None and self.picked is not None:
            self.delete("net" if control else "connection" if shift else "piece")
        elif self.laying is None:
            return False
        elif key == Qt.Key.Key_V:
            self.drop_via()
        elif key == Qt.Key.Key_W:
            self.wider()
        elif key == Qt.Key.Key_Backspace:
            self.back()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._fix()
            self.finish()
        else:
            return False
        return True

    def draw(self, p: QPainter) -> None:
        """Draw the lit net, what is laid, what is ahead, and what is held."""
        if self.wired is None:
            return
        if self.net:
            draw_net(p, self.wired, self.net)
        if self.laying is not None:
            tracks, vias = self.laying.copper()
            ahead = self.laying.ahead
            draw_copper(p, tracks, vias, "lemon", 255)
            if ahead is not None:
                draw_copper(p, ahead.tracks, ahead.vias, "lime", 210)
        if self.picked is not None and self.holding is None:
            draw_picked(p, self.wired, self.picked)
        if self.holding is not None and self.holding.trial is not None:
            tracks, vias = changed(self.wired.design, self.holding.trial)
            draw_copper(p, tracks, vias, "stop" if self.holding.blocked else "lime", 230)


def draw_copper(p: QPainter, tracks: Sequence[Track], vias: Sequence[Via], colour: str, alpha: int) -> None:
    """Draw tracks and vias over the board."""
    t = theme.current()
    for track in tracks:
        pen = QPen(t.color(colour, alpha), mm(track.width_nm))
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        p.setPen(pen)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolyline([QPointF(mm(x), mm(y)) for x, y in track.points])
    p.setPen(Qt.PenStyle.NoPen)
    for via in vias:
        p.setBrush(t.color(colour, alpha))
        at = QPointF(mm(via.x_nm), mm(via.y_nm))
        p.drawEllipse(at, mm(via.diameter_nm) / 2, mm(via.diameter_nm) / 2)
        p.setBrush(t.color("sheet"))
        p.drawEllipse(at, mm(via.drill_nm) / 2, mm(via.drill_nm) / 2)


def draw_net(p: QPainter, wired: Wired, net: str) -> None:
    """Draw the outlines of all copper of a net over a board that is dimmed."""
    t = theme.current()
    board = wired.design.board
    path = QPainterPath()
    for pad in board_pads(wired):
        if pad.net == net and pad.layers:
            path.addPath(pad_path(pad))
    p.fillRect(p.transform().inverted()[0].mapRect(p.viewport()), t.color("sheet", 110))
    draw_copper(p, [k for k in board.tracks if k.net == net], [v for v in board.vias if v.net == net], "lemon", 200)
    p.setBrush(t.color("lemon", 200))
    p.setPen(QPen(t.color("ink"), 0.08))
    p.drawPath(path)


def draw_picked(p: QPainter, wired: Wired, picked: Picked) -> None:
    """Draw the picked piece."""
    board = wired.design.board
    if picked.what == "via":
        draw_copper(p, (), [board.vias[picked.index]], "lime", 255)
        return
    track = board.tracks[picked.index]
    draw_copper(p, [replace(track, points=track.points[picked.segment : picked.segment + 2])], (), "lime", 255)
