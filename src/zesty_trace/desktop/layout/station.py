"""Layout: parts on the board, links still to route, the router, and the review of the copper."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QPainterPath
from PySide6.QtWidgets import QPushButton, QSplitter, QVBoxLayout

from zesty_trace.core.board.elevation import elevation
from zesty_trace.core.board.hand.moving import loosened
from zesty_trace.core.board.links import Connectivity, connectivity
from zesty_trace.core.board.live import LiveReview
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import RouteResult, route
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, LayerName
from zesty_trace.core.findings import Finding
from zesty_trace.core.progress import Report
from zesty_trace.core.quantities import mm, say_count, say_mm
from zesty_trace.core.wording.sentences import Spoken
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.say_line import SayLine
from zesty_trace.desktop.kit.widgets import button, card, label, lines_of, row
from zesty_trace.desktop.layout.asking import Asking
from zesty_trace.desktop.layout.canvas import BoardCanvas
from zesty_trace.desktop.layout.drawers.stack import LayoutDrawers
from zesty_trace.desktop.layout.hand import START, HandTool
from zesty_trace.desktop.layout.looks import INTENTS, Looks
from zesty_trace.desktop.layout.painter import BoardView, shape_path
from zesty_trace.desktop.layout.pictures import Pictures
from zesty_trace.desktop.layout.side import SideView
from zesty_trace.desktop.layout.trial import try_part
from zesty_trace.desktop.project.station import Station, WorkedOut
from zesty_trace.errors import InputError, ZestyError

if TYPE_CHECKING:
    from zesty_trace.core.board.hand.guide import Guide

DRAWER_PX, FRAME_MS = 390, 80
HELD = "Drag a part. R turns it, F flips it, arrows nudge it by 0.1 mm, M measures."
DRAWER_KEYS = ("Ctrl+Shift+1", "Ctrl+Shift+2")


class Joined(NamedTuple):
    """What is worked out of a board off the GUI thread."""

    state: Connectivity
    pours: dict[LayerName, list[QPainterPath]]
    live: LiveReview | None


class LayoutStation(Station):
    """The board, and the line below it."""

    key = "layout"
    _drawn = Signal(object)  # a design on its way, from a worker's thread

    def build(self) -> None:
        """Make the canvas and its buttons."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        self.canvas = BoardCanvas()
        self._marks: tuple[tuple[float, float], ...] = ()
        self._lit: frozenset[str] = frozenset()
        self._state: Connectivity | None = None
        self._pours: dict[LayerName, list[QPainterPath]] = {}
        self._live: LiveReview | None = None
        self._joined = WorkedOut(self.session, "Links", self._join, self._take_links, self._pull_if_seen)
        self.hint = label("", "muted")
        self.place_button = button("Place the rest", self.place, tip="Ctrl+P")
        self.route_button = button("Route for me", self.route_open, True, "Ctrl+R")
        self.rip_button = button("Clear", self.rip, tip="Take all tracks, vias and pours off")
        self.drawers = LayoutDrawers(self.session)
        self.toggles = {key: self._drawer_toggle(key, title) for key, title in LayoutDrawers.TITLES.items()}
        self._ways = WorkedOut(self.session, "Ways", self._work_guide, self._take_guide, self._pull_if_seen)
        self.looks = Looks(*self.toggles.values())
        self.layer_toggles = self.looks.layers
        self.side_toggle, self.heat_toggle = self.looks.side, self.looks.heat
        intents = self.looks.intents.values()
        bar = row(*intents, None, self.rip_button, self.place_button, self.route_button)
        self.side = SideView()
        self.side.hide()
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(8)
        self.splitter.addWidget(self.canvas)
        self.splitter.addWidget(self.drawers)
        self.splitter.setStretchFactor(0, 1)
        self.detail = label(HELD, "muted")
        frame = card(bar, self.looks, self.splitter, self.side, row(self.detail, None, self.hint), name="sheet")
        lines_of(frame).setStretch(2, 1)
        layout.addWidget(frame, 1)
        layout.addWidget(self._line())
        self._drawn.connect(self._draw_soon, Qt.ConnectionType.QueuedConnection)
        self._newest: Design | None = None
        self._frame = QTimer(self)
        self._frame.setSingleShot(True)
        self._frame.setInterval(FRAME_MS)
        self._frame.timeout.connect(self._draw)
        self._connect(self.canvas, self.looks)

    def _connect(self, c: BoardCanvas, looks: Looks) -> None:
        """Have what the pointer and the buttons do done."""
        c.part_tried.connect(self._try)
        c.part_moved.connect(lambda r, x, y: self._do_part(r, "moved", lambda d: edits.nudge(d, r, x, y)))
        c.part_turned.connect(lambda r: self._do_part(r, "turned", lambda d: edits.nudge(d, r, turn_mdeg=90_000)))
        c.part_flipped.connect(lambda r: self._do_part(r, "flipped", lambda d: edits.nudge(d, r, flip=True)))
        c.picked.connect(self._picked)
        c.measured.connect(self._measured)
        self.tool = HandTool(self.looks.shown, self.detail.setText, self._commit_hand, self._hand_moved)
        self.pictures = Pictures(self.session, c, looks, self.detail.setText, lambda: self.tool.net, self._pull_if_seen)
        self.asking = Asking(self.session, c, looks, self.detail.setText, self._is_filled, self._work, self._net_lit)
        looks.changed.connect(self._show)
        looks.turned.connect(self._turned)
        looks.flipped.connect(c.flip)
        looks.flipped.connect(lambda _on: self._show())
        looks.measuring.connect(c.measure)
        looks.gridded.connect(self._gridded)

    def _do_part(self, ref: str, what: str, edit: Callable[[Design], Design]) -> None:
        """Move, turn or flip a part; the copper that this breaks is dropped, the rest stays as it is."""
        wired, dropped = self.session.wired, [0]

        def with_its_copper(design: Design) -> Design:
            after = edit(design)
            if design is not wired.design or not design.board.tracks:
                return after
            after, dropped[0] = loosened(wired, after, {ref})
            return after

        if self.session.do(f"{ref} {what}", with_its_copper) and dropped[0]:
            pieces = say_count(dropped[0], "piece")
            self.detail.setText(
                f"{ref} {what}: {pieces} of copper dropped. “Route for me” (Ctrl+R) joins what is open."
            )

    def _is_filled(self) -> bool:
        return self._joined.of is self.session.wired

    def _net_lit(self, net: str) -> None:
        self.tool.net = net
        self.pictures.net_lit()

    def _hand_moved(self) -> None:
        self.canvas.update()
        self.pictures.net_lit()

    def _commit_hand(self, title: str, design: Design, net: str) -> bool:
        """Take copper laid by hand over; a drag that would tear its net apart is refused."""
        wired = self.session.wired
        if net and self._live is not None and self._live.follow(wired):
            before = sum(k.net == net for k in self._live.links().links)
            torn = self._live.follow(wired.with_design(design)) and (
                sum(k.net == net for k in self._live.links().links) > before
            )
            self._live.follow(wired)
            if torn:
                self.detail.setText(f"It stays where it was: {net} would come apart there.")
                return False
        return self.session.do(title, lambda _d: design)

    def _turned(self, _intent: str) -> None:
        """Look at the board for something else."""
        self.canvas.hand = self.tool if self.looks.intent == "route" else None
        self.canvas.selected_ref = ""
        self.tool.let_go()
        if self.looks.intent == "route":
            self._ways.ask()
        elif self.looks.intent == "place":
            self.detail.setText(HELD)
        elif self.looks.intent == "check":
            places = say_count(len(self._all_marks()), "place")
            self.detail.setText(f"{places} of the findings ringed. “Show” beside a finding brings it into view.")
        self._show()

    def _work_guide(self, wired: Wired) -> Guide:
        """Lay the board out for ways by hand; called off the GUI thread."""
        from zesty_trace.core.board.hand.guide import Guide

        return Guide(wired)

    def _take_guide(self, guide: Guide) -> None:
        self.tool.guide = guide
        if self.tool.net and self.tool.laying is None:
            self.detail.setText(START)

    def _measured(self, words: str) -> None:
        self.detail.setText(words)
        self.looks.tape.blockSignals(True)
        self.looks.tape.setChecked(self.canvas.tape is not None)
        self.looks.tape.blockSignals(False)

    def _gridded(self, pitch_nm: int, shown: bool) -> None:
        self.canvas.grid_nm, self.canvas.show_grid = pitch_nm, shown
        self.canvas.update()

    def _drawer_toggle(self, key: str, title: str) -> QPushButton:
        made = QPushButton(title)
        made.setCheckable(True)
        made.setToolTip("A drawer beside the board")
        made.clicked.connect(lambda on: self.open_drawer(key if on else ""))
        return made

    def open_drawer(self, key: str) -> None:
        """Open a drawer where the findings are, or none."""
        for name, toggle in self.toggles.items():
            toggle.setChecked(name == key)
        self.drawers.open(key)
        self.room_asked.emit(bool(key))
        if key:
            self.drawers.pick(self.canvas.selected_ref)
            self.splitter.setSizes([max(self.splitter.width() - DRAWER_PX, DRAWER_PX), DRAWER_PX])

    @property
    def wants_room(self) -> bool:
        """Whether a drawer stands where the findings would."""
        return bool(self.drawers.key)

    def _line(self) -> SayLine:
        self.say_line = SayLine(
            "R5 at 20, 14.5   ·   D4..D6 in line 42, 4.5 to 54, 4.5   ·   turn U3 90",
            "Say where a part goes, in mm or mil. Enter does it.",
            self._understand,
        )
        self.line, self.preview = self.say_line.field, self.say_line.preview
        self.say_line.said.connect(self.say)
        return self.say_line

    def _understand(self, text: str) -> Spoken:
        design = self.session.design
        words = text.split()
        if not words or words[0].lower() != "route":
            return understand_placing(text, design)
        known = {n.lower() for n in design.nets}
        for word in words[1:]:
            if word.strip(",").lower() not in known:
                raise InputError(f"There is no net {word}", word, suggest(word, design.nets))
        what = f"the nets {', '.join(words[1:])} anew" if words[1:] else "what is open"
        return Spoken(design, (f"Routes {what}",))

    def pull(self) -> None:
        """Show the board at once, and its pours and links when they are worked out."""
        design = self.session.design
        self.place_button.setEnabled(bool(design.parts))
        anew = bool(design.parts) and set(design.parts) <= set(design.board.placements)
        self.place_button.setText("Place anew" if anew else "Place the rest")
        self.route_button.setEnabled(bool(design.board.placements))
        self.rip_button.setEnabled(bool(design.board.tracks))
        if self._live and not self._live.follow(self.session.wired):
            self._live = None
        self.tool.take(self.session.wired)
        if self.looks.intent == "route" and design.board.outline:
            self._ways.ask()
        self._show()
        self.drawers.pull()
        if design.board.outline:
            self._joined.ask()

    def _pull_if_seen(self) -> None:
        if self.isVisible():
            self.pull()

    def _join(self, wired: Wired) -> Joined:
        """Return what is connected, and the poured areas; called off the GUI thread."""
        pours = {
            layer: [shape_path(shape) for _, shape in pour_shapes(wired, layer)] for layer in wired.design.board.stack
        }
        return Joined(connectivity(wired), pours, None if self._live else LiveReview(wired))

    def _take_links(self, answer: Joined) -> None:
        self._state, self._pours = answer.state, answer.pours
        self._live = self._live or answer.live
        if self._live and self._live.follow(self.session.wired):
            self._live.fill(self.session.wired)
        self._show()

    def _try(self, ref: str, dx: int, dy: int) -> None:
        """Show what a held part does where it is: links, room, and the worst that it runs into."""
        wired = self.session.wired
        if self._live is None or ref not in wired.design.board.placements:
            return  # a job may be showing parts that are not put down yet
        trial = wired.edited(edits.nudge, ref, dx, dy).after(wired)
        shown = try_part(self._live, trial, ref)
        self.canvas.show_trial(shown)
        spot = trial.design.board.placements[ref]
        at = f"{ref} at {mm(spot.x_nm):.1f}, {mm(spot.y_nm):.1f} mm"
        if shown.findings:
            first = shown.findings[0]
            more = f" (and {len(shown.findings) - 1} more)" if len(shown.findings) > 1 else ""
            self.detail.setText(f"{at}: {first.title}{more}")
        else:
            self.detail.setText(f"{at}: clear of copper, parts, edge and case. Put it down for the whole review.")

    def _show(self) -> None:
        self.looks.fit(self.session.design.board.stack)
        fresh = self._joined.of is self.session.wired
        links = self._state.links if fresh and self._state else ()
        self.canvas.show_view(
            BoardView(
                self.session.wired,
                self._pours if fresh else {},
                links,
                self._lit,
                marks=self._all_marks() if self.looks.intent == "check" else self._marks,
                hidden_layers=self.looks.hidden(),
                checking=self.looks.intent == "check",
            )
        )
        self._say_state(fresh)
        self.pictures.show()
        self.side.setVisible(self.side_toggle.isChecked() and bool(self.session.design.board.outline))
        if self.side.isVisibleTo(self):
            self.side.show_side(elevation(self.session.wired))

    def _all_marks(self) -> tuple[tuple[float, float], ...]:
        """Return every place that the review has something to say about."""
        found = (f for f in self.session.findings["layout"] if not f.accepted)
        return tuple((mm(at.x_nm), mm(at.y_nm)) for f in found for at in f.at)

    def _say_state(self, fresh: bool) -> None:
        design = self.session.design
        if not design.parts:
            self.hint.setText("No parts yet")
        elif not design.board.placements:
            self.hint.setText("Nothing is on the board yet: press “Place the rest”.")
        elif design.board.given:
            self.hint.setText(f"The copper is that of {design.board.given}: see Order")
        elif fresh and self._state:
            left = len(self._state.links)
            routed = f"{self._state.routed} of {self._state.wanted} connections have copper"
            self.hint.setText(
                f"{routed} · dotted: still to route" if left else f"All {self._state.wanted} connections have copper"
            )
        else:
            self.hint.setText("working out the links …")

    def place(self) -> None:
        """Place what is not placed; if all is, place anew whatever is not held. As a job, drawn as it goes."""
        from zesty_trace.core.board.placing.arrange import arrange_parts

        wired = self.session.wired
        anew = set(wired.design.parts) <= set(wired.design.board.placements)

        def done(after: Design) -> None:
            self.session.apply_result("Parts placed anew" if anew else "Parts placed", wired.design, after)

        self._work("Placing", lambda report: arrange_parts(wired, report, self._drawn.emit, anew), done)

    def route(self, nets: tuple[str, ...] | None = None, again: bool = False) -> None:
        """Route the board, or some nets, as a job that is drawn as it goes; a cancel keeps what is joined so far."""
        wired = self.session.wired
        base = wired.design

        def done(result: RouteResult) -> None:
            words = f"{result.connections - result.missing} of {result.connections} connections have copper"
            if result.stopped and result.design.board.tracks == base.board.tracks:
                self.session.message.emit("Stopped before anything was joined")
                return
            if result.stopped:
                words = f"Stopped: {words}"
            elif result.tight:
                words += f"; {result.tight[0]}"
            self.session.apply_result(words, base, result.design)

        self._work("Routing", lambda report: route(wired, report, nets, again, self._drawn.emit, keep=True), done, True)

    def route_open(self) -> None:
        """Route what is open."""
        self.route()

    def _work(
        self, title: str, work: Callable[[Report], Any], done: Callable[[Any], None], keeps: bool = False
    ) -> None:
        """Run a job that shows what it has so far; whatever becomes of it, the board is shown as it is afterwards."""
        job = self.session.jobs.start(title, work, done, keeps=keeps)
        job.ended.connect(self._show, Qt.ConnectionType.QueuedConnection)

    def one_face(self) -> None:
        """Try all surface parts on one face, as a job; what it takes is said, and it can be undone."""
        from zesty_trace.core.board.one_face import OneFace, try_one_face

        wired = self.session.wired

        def done(plan: OneFace) -> None:
            words = " ".join(plan.lines())
            if plan.design is not None:
                self.session.apply_result("Parts on one face", wired.design, plan.design)
            self.detail.setText(words)
            self.session.message.emit(plan.lines()[-1])

        self._work("One face", lambda report: try_one_face(wired, report), done)

    def tidy(self) -> None:
        """Make routed copper shorter, with fewer vias, as a job."""
        from zesty_trace.core.board.tidy import Tidied, tidy

        wired = self.session.wired

        def done(r: Tidied) -> None:
            words = f"Tidied: {r.before_mm:.0f} to {r.after_mm:.0f} mm of track, {r.vias_before} to {r.vias_after} vias"
            if r.design.board == wired.design.board:
                self.session.message.emit("Nothing became shorter: the copper stays as it is")
            else:
                self.session.apply_result(words, wired.design, r.design)

        self._work("Tidying", lambda report: tidy(wired, report), done)

    def exchange(self) -> None:
        """Exchange equal parts, channels and ends where the links become shorter, as a job."""
        from zesty_trace.core.board.hand.exchange import Exchanged, exchange_equal

        wired = self.session.wired

        def done(result: Exchanged) -> None:
            if not result.words:
                self.session.message.emit("Nothing becomes shorter: all stays as it is")
                return
            after, _ = loosened(wired, result.design, result.refs) if wired.design.board.tracks else (result.design, 0)
            saved = result.before_mm - result.after_mm
            words = f"{say_count(len(result.words), 'exchange')}, links {saved:.0f} mm shorter: {result.words[0]}"
            self.session.apply_result(words, wired.design, after)

        self._work("Exchanging", lambda _report: exchange_equal(wired), done)

    def stitch(self) -> None:
        """Tie the pours of all layers together with vias, as a job."""
        from zesty_trace.core.board.stitch import stitch

        wired = self.session.wired

        def done(after: Design) -> None:
            more = len(after.board.vias) - len(wired.design.board.vias)
            self.session.apply_result(f"{more} stitching vias", wired.design, after)

        self._work("Stitching", lambda _report: stitch(wired), done)

    def _draw_soon(self, design: Design) -> None:
        """Show what a job has so far: the newest, a few times a second, and only where somebody looks."""
        self._newest = design
        if not self._frame.isActive():
            self._frame.start()

    def _draw(self) -> None:
        design, self._newest = self._newest, None
        if design is not None and self.isVisible() and self.session.jobs.busy(visible_only=True):
            self.canvas.show_view(
                BoardView(
                    self.session.wired.with_design(design),
                    hidden_layers=self.looks.hidden(),
                )
            )

    def write_paper(self, name: str = "") -> None:
        """Write layers and assembly drawings at 1:1, as PDF or SVG."""
        from zesty_trace.desktop.layout.prints import ask_and_write

        try:
            made = ask_and_write(self, self.session.wired, self.session.path, name)
        except ZestyError as error:
            self.session.message.emit(str(error))
            return
        if made:
            self.session.message.emit(f"Wrote {', '.join(p.name for p in made)}")

    def route_picked(self) -> None:
        """Route the nets of the part that is picked, anew."""
        ref = self.canvas.selected_ref
        nets = tuple(n for n, pins in self.session.design.nets.items() if any(p.ref == ref for p in pins))
        if nets:
            self.route(nets, again=True)

    def rip(self) -> None:
        """Take all copper off."""
        self.session.do("Copper taken off", edits.rip_up)

    def _picked(self, ref: str) -> None:
        design = self.session.design
        self._lit, self._marks = frozenset(), ()
        self.drawers.pick(ref)
        if ref and ref in design.board.placements:
            spot = design.board.placements[ref]
            part = design.parts[ref]
            fixed = ", held by the case" if spot.fixed else ""
            self.detail.setText(
                f"{ref} {part.value} {part.package} at {mm(spot.x_nm):.2f}, {mm(spot.y_nm):.2f} mm, "
                f"turned {spot.angle_mdeg / 1000:.0f}°, {spot.side}{fixed}. R turns, F flips."
            )
        else:
            rules = design.board.rules
            self.detail.setText(
                f"Rules: gap {say_mm(rules.clearance_nm)}, least track {say_mm(rules.track_nm)}, "
                f"drill {say_mm(rules.drill_nm)}, edge {say_mm(rules.edge_nm)}."
            )

    def say(self, text: str) -> None:
        """Do what the line says: place parts, or route nets."""
        words = text.split()
        if words and words[0].lower() == "route":
            names = {n.lower(): n for n in self.session.design.nets}
            self.route(tuple(names.get(w.strip(",").lower(), w) for w in words[1:]) or None, again=len(words) > 1)
            self.say_line.clear_done()
        elif self.session.do(text, lambda d: understand_placing(text, d).design):
            self.say_line.clear_done()

    def show_finding(self, finding: Finding) -> None:
        """Ring the places of a finding and bring the first into view."""
        self._marks = tuple((mm(p.x_nm), mm(p.y_nm)) for p in finding.at)
        self._lit = frozenset(finding.refs)
        self._show()
        if self._marks:
            self.canvas.center_on(QPointF(*self._marks[0]), 16.0)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Place the parts: the rest, or all anew", "Ctrl+P", self.place),
            Action("Route the board", "Ctrl+R", self.route_open),
            Action("Route the board anew", "Ctrl+Shift+R", lambda: self.route(again=True)),
            Action("Route the nets of the picked part anew", "", self.route_picked),
            Action("Take all copper off", "", self.rip),
            Action("Tidy the copper: shorter, fewer vias", "", self.tidy),
            Action("Exchange equal parts, channels and ends where it shortens the links", "", self.exchange),
            Action("Stitch the pours of all layers together", "", self.stitch),
            Action("One face: put all surface parts on one face, and say what it takes", "", self.one_face),
            *(
                Action(title, keys, lambda key=key: self.open_drawer("" if self.drawers.key == key else key))  # type: ignore[misc]
                for (key, title), keys in zip(LayoutDrawers.TITLES.items(), DRAWER_KEYS, strict=True)
            ),
            *(
                Action(f"Look at the board: {title.lower()}", keys, lambda i=intent: self.looks.turn(i))  # type: ignore[misc]
                for intent, (title, keys, _) in INTENTS.items()
            ),
            Action("Write the board on paper: layers and assembly drawings, 1:1, PDF or SVG", "", self.write_paper),
            Action("See the board from behind", "Ctrl+B", self.looks.back.toggle),
            Action("Measure on the board", "", self.looks.tape.toggle),
            Action("Show how warm the board gets", "", self.heat_toggle.toggle),
            Action("Show how dense the current is in the copper", "", self.looks.current.toggle),
            Action("Show the board from its side", "Ctrl+Shift+3", self.side_toggle.toggle),
            Action("Say where a part goes", "Ctrl+L", self.say_line.focus_line),
        ]
