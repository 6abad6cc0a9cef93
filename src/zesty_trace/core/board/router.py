"""Routing for the maker: joins what is open, keeps what is there, and never leaves two nets in conflict.

What cannot be joined without a violation stays open and is said, with the place where it is tight. The copper is
measured once more as exact shapes before it is given back; the grid's word alone is not taken for it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from time import monotonic
from typing import TYPE_CHECKING

from zesty_trace.core.board.copper import copper_items
from zesty_trace.core.board.links import Link, connectivity
from zesty_trace.core.board.pair_router import with_pairs
from zesty_trace.core.board.rules.currents import TRACK_WIDTH, check_currents
from zesty_trace.core.board.rules.given import refuse_given
from zesty_trace.core.board.shorts import nets_too_near
from zesty_trace.core.board.values import refuse_unroutable
from zesty_trace.core.board.voltages import spacings
from zesty_trace.core.board.widths import widths_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import FACES, Design, Pour
from zesty_trace.core.geometry import Point
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm
from zesty_trace.errors import Cancelled, EditError

if TYPE_CHECKING:
    from zesty_trace.core.board.routing.negotiate import Negotiation

Draw = Callable[[Design], None]
DRAW_EVERY_S = 0.3
EXACT_ROUNDS = 8
SEEDS = 3  # orders that are tried where something stays open
ORDERS = 3  # of nets that are routed one by one
MOST_TIGHT = 20
PLANE_PINS = 4


@dataclass(frozen=True)
class Tight:
    """Why a connection stays open: where it would have to pass, and the net in the way there ("" if walled in)."""

    link: Link
    at: Point
    by: str

    def __str__(self) -> str:
        link = f"{self.link.net} from {self.link.a} to {self.link.b}"
        spot = f"{mm(self.at.x_nm):.1f}, {mm(self.at.y_nm):.1f} mm"
        return f"{link} is tight at {spot}, beside {self.by}" if self.by else f"{link} is walled in at {spot}"


@dataclass(frozen=True)
class RouteResult:
    """The routed design, how many connections there are, which have no copper, and how it went.

    `conflicts` counts pairs of nets that are too near to each other: only copper that the machine had to leave alone
    can be among them. `stopped` says that it was cancelled, and that what is joined so far was kept.
    """

    design: Design
    connections: int
    open: tuple[Link, ...]
    passes: int
    conflicts: int
    tight: tuple[Tight, ...] = ()
    stopped: bool = False

    @property
    def missing(self) -> int:
        """How many connections have no copper."""
        return len(self.open)


def route(
    wired: Wired,
    report: Report = quiet,
    nets: Iterable[str] | None = None,
    again: bool = False,
    draw: Draw | None = None,
    keep: bool = False,
) -> RouteResult:
    """Return the design with copper for what is open, of these nets or of all; ground is poured on both layers.

    Copper that is there stays, and is joined. Copper that the machine made gives way where the rest cannot be joined
    otherwise, or from the start with `again`; what is made by hand or locked stays in any case. `report(share, text)`
    tells progress and returns False to stop: Cancelled, or with `keep` what is joined so far. `draw(design)` is shown
    how it goes. EditError without an outline, for values that cannot be, or for a board that is too large.
    """
    refuse_given(wired.design)
    how = _How(report, draw, keep)
    design = _with_pours(wired)
    wired = wired.with_design(design)
    refuse_unroutable(wired.design, nets)
    wanted = set(design.nets if nets is None else nets)
    first = _without(design, wanted if again else set(), wired)
    if not again and (quick := _repaired(wired.with_design(first), how, wanted)) is not None:
        return quick
    result = _heavier(wired.with_design(first), how, wanted, _by_voltage(wired.with_design(first), how, wanted))
    machine_made = any(not t.kept for t in first.board.tracks) or any(not v.kept for v in first.board.vias)
    if result.missing and machine_made and nets is None and not result.stopped:
        anew = _by_voltage(wired.with_design(_without(design, wanted, wired)), how, wanted)
        if anew.missing <= result.missing and not anew.stopped:
            result = anew
    return result if result.stopped else _with_vias_beside(wired, wanted, result)


def _repaired(wired: Wired, how: _How, wanted: set[str]) -> RouteResult | None:
    """Close a few gaps of a board that is routed for the rest; None if there are many, or if one cannot be closed so.

    Nets that keep more than the rule from others, and pairs, are left to the whole router.
    """
    from zesty_trace.core.board.repair import MOST_LINKS, repair
    from zesty_trace.core.board.rules.pairs import pairs_of

    if not wired.design.board.tracks:
        return None
    gaps = {k.net for k in connectivity(wired).links if k.net in wanted}
    special = set(spacings(wired).high) | {n for pair in pairs_of(wired) for n in pair}
    if not gaps or len(gaps) > MOST_LINKS or gaps & special:
        return None
    try:
        done = repair(wired, how.report, wanted)
    except Cancelled:
        if not how.keep:
            raise
        return _result(wired, 0, stopped=True)
    return None if done.left else _result(wired.with_design(done.design), 1)


def _with_vias_beside(wired: Wired, wanted: set[str], result: RouteResult) -> RouteResult:
    """Put vias beside those that carry too much, if it leaves nothing worse."""
    from zesty_trace.core.board.parallel import with_parallel_vias

    design = with_parallel_vias(wired.with_design(result.design), wanted)
    if design is result.design:
        return result
    after = _result(wired.with_design(design), result.passes)
    better = after.missing <= result.missing and after.conflicts <= result.conflicts
    return replace(after, tight=result.tight) if better else result


def _with_pours(wired: Wired) -> Design:
    design, ground = wired.design, wired.ground
    board = design.board
    if not ground:
        return design
    pours = board.pours or tuple(Pour(net=ground, layer=k) for k in board.rules.plated_through if k in FACES)
    inner = [k for k in board.stack if k not in FACES]
    if not {p.layer for p in board.pours}.union(t.layer for t in board.tracks).intersection(inner):
        nets = (ground, _plane_supply(wired) or ground)
        pours += tuple(Pour(net=net, layer=layer) for net, layer in zip(nets, inner, strict=False))
    return edits.set_board(design, pours=pours) if pours != board.pours else design


def _plane_supply(wired: Wired) -> str:
    """Return the supply that a plane of its own serves best, the one of the most pins; "" if none has many."""
    nets = wired.design.nets
    best = max(wired.rails, key=lambda n: (len(nets.get(n, ())), n), default="")
    return best if len(nets.get(best, ())) >= PLANE_PINS else ""


def _without(design: Design, nets: set[str], wired: Wired) -> Design:
    """Take off the machine's copper of these nets, all that belongs to no net any more, and what is too near."""
    gone = {*nets, *(t.net for t in design.board.tracks if t.net not in design.nets)}
    gone |= {v.net for v in design.board.vias if v.net not in design.nets}
    tracks = [t for t in design.board.tracks if t.kept or t.net not in gone]
    vias = [v for v in design.board.vias if v.kept or v.net not in gone]
    kept = edits.set_copper(design, tracks, vias, design.board.pours)
    if not tracks and not vias:
        return kept
    bad = {net for pair in nets_too_near(wired.with_design(kept)) for net in pair.nets}
    tracks = [t for t in tracks if t.kept or t.net not in bad]
    vias = [v for v in vias if v.kept or v.net not in bad]
    return edits.set_copper(design, tracks, vias, design.board.pours)


def _heavier(wired: Wired, how: _How, wanted: set[str], result: RouteResult) -> RouteResult:
    """Route once more with wider legs where pieces carry the current of several; the better of the two counts.

    What a piece of a tree carries is known once it is laid: two loads of 1 A may hang on a track that was wide enough
    for one.
    """
    before = _thin_nets(wired, result)
    if result.stopped or not before & wanted:
        return result
    again = _by_voltage(wired, replace(how, heavy=frozenset(before)), wanted)
    after = _thin_nets(wired, again)
    better = not again.stopped and again.missing <= result.missing and len(after) < len(before)
    return again if better else result


def _thin_nets(wired: Wired, result: RouteResult) -> set[str]:
    """Return the nets with tracks that are too thin for their current."""
    found = check_currents(wired.with_design(result.design))
    return {net for f in found if f.rule == TRACK_WIDTH.id for net in f.nets}


def _by_voltage(wired: Wired, how: _How, wanted: set[str]) -> RouteResult:
    """Route pairs side by side, then nets that keep more than the rule from others one by one, the rest round them."""
    paired = wired.with_design(with_pairs(wired, wanted))
    best = _singly(paired, how, wanted)
    if paired is wired or not best.missing or how.stopped:
        return best
    plain = _singly(wired, how, wanted)
    return plain if plain.missing < best.missing else best


def _singly(wired: Wired, how: _How, wanted: set[str]) -> RouteResult:
    high = sorted(spacings(wired).high & wanted, key=lambda n: (n not in spacings(wired).mains, n))
    clearance = mm(wired.design.board.rules.clearance_nm)
    alone = [n for n in high if any(spacings(wired).need_mm(n, o) > clearance for o in wired.design.nets)]
    poured = {p.net for p in wired.design.board.pours}
    order = [n for n in alone if n not in poured]
    laid = _one_by_one(wired, how, order)
    for _ in range(ORDERS):
        stuck = {k.net for k in connectivity(laid).links} & set(order)
        if not stuck:
            break
        order.sort(key=lambda n: n not in stuck)
        other = _one_by_one(wired, how, order)
        if len({k.net for k in connectivity(other).links} & set(order)) < len(stuck):
            laid = other
    rest = wanted - set(order)
    best = _once(laid, how, rest)
    for seed in range(2, SEEDS + 1):
        if how.stopped or not any(t.by for t in best.tight if t.link.net in rest):
            break  # nothing is open, or what is is walled in: no order helps
        trial = _once(laid, replace(how, seed=seed), rest)
        if trial.stopped:
            return replace(best, stopped=True)
        if trial.missing < best.missing:
            best = trial
    return best


def _one_by_one(wired: Wired, how: _How, order: list[str]) -> Wired:
    for net in order:
        wired = wired.with_design(_once(wired, how, {net}).design)
    return wired


def _once(wired: Wired, how: _How, wanted: set[str]) -> RouteResult:
    from zesty_trace.core.board.routing.ground import join_pads
    from zesty_trace.core.board.routing.negotiate import Negotiation
    from zesty_trace.core.board.routing.problem import lay_out
    from zesty_trace.core.board.routing.reading import problem_of

    how.report(0.0, "reading the board")
    if how.stopped or not any(link.net in wanted for link in connectivity(wired).links):
        return _result(wired, 0, stopped=how.stopped)
    problem = problem_of(wired, widths_of(wired, how.heavy), wanted)
    if not problem.nets:
        return _result(wired, 0)
    try:
        board = lay_out(problem)
    except ValueError as error:
        raise EditError(str(error), "outline", "Boards of up to 300 x 400 mm are") from error
    work = Negotiation(board, how.report, how.seed)
    work.show = how.shower(wired, work)
    poured = [(net, layer) for net, layer in enumerate(problem.poured_on) if layer >= 0]
    try:
        _negotiate(work, poured)
    except Cancelled:
        if not how.keep:
            raise
        how.stopped = True
        work.stop()
        return _result(_clean(wired, _laid(wired, work)), work.passes, work, stopped=True)
    after = _laid(wired, work)
    for _ in range(EXACT_ROUNDS):
        names = {problem.nets[net] for net, _ in poured} & wanted & {k.net for k in connectivity(after).links}
        if not names or not join_pads(work, after, names):
            break
        after = _laid(wired, work)
    return _result(_clean(wired, after), work.passes, work)


def _negotiate(work: Negotiation, poured: list[tuple[int, int]]) -> None:
    from zesty_trace.core.board.routing.ground import join_stranded

    work.run()
    for net, layer in poured:
        join_stranded(work, net, layer)
    work.shorten()
    for net, layer in poured:
        join_stranded(work, net, layer)
    work.tell("measuring what was laid", 0.96)


@dataclass
class _How:
    """How routing tells of itself, and whether it was stopped."""

    report: Report
    draw: Draw | None = None
    keep: bool = False
    stopped: bool = False
    seed: int = 1
    heavy: frozenset[str] = frozenset()  # nets whose smaller legs are made as wide as their trunk

    def shower(self, wired: Wired, work: Negotiation) -> Callable[[], None] | None:
        """Return what draws the state of the work, at most every DRAW_EVERY_S."""
        if self.draw is None:
            return None
        draw, last = self.draw, [0.0]

        def show() -> None:
            if monotonic() - last[0] > DRAW_EVERY_S:
                last[0] = monotonic()
                draw(_laid(wired, work).design)

        return show


def _laid(wired: Wired, work: Negotiation) -> Wired:
    from zesty_trace.core.board.routing.tracks import copper_of

    tracks, vias = copper_of(work.board, wired.design.board.stack)
    board = wired.design.board
    return wired.edited(edits.set_copper, [*board.tracks, *tracks], [*board.vias, *vias], board.pours)


def _clean(wired: Wired, after: Wired) -> Wired:
    """Take off new copper that exact shapes find too near to something: an open end is honest, a short is not."""
    old = wired.design.board
    before_tracks, before_vias = set(map(id, old.tracks)), set(map(id, old.vias))
    while True:
        board = after.design.board
        bad = {net for pair in nets_too_near(after) for net in pair.nets}
        tracks = [t for t in board.tracks if id(t) in before_tracks or t.net not in bad]
        vias = [v for v in board.vias if id(v) in before_vias or v.net not in bad]
        if len(tracks) == len(board.tracks) and len(vias) == len(board.vias):
            return after
        after = after.edited(edits.set_copper, tracks, vias, board.pours)


def _result(after: Wired, passes: int, work: Negotiation | None = None, stopped: bool = False) -> RouteResult:
    state = connectivity(after)
    asked = state.links[:MOST_TIGHT] if work and not stopped else ()
    tight = tuple(_tight(after, work, link) for link in asked) if work else ()
    return RouteResult(after.design, state.wanted, state.links, passes, len(nets_too_near(after)), tight, stopped)


def _tight(after: Wired, work: Negotiation, link: Link) -> Tight:
    """Say where a link is tight: beside which other net's copper."""
    from shapely import Point as Spot

    from zesty_trace.core.board.routing.tight import where_tight

    at = where_tight(work, link) if link.net in work.board.problem.nets else None
    if at is None:
        return Tight(link, Point(link.ax_nm, link.ay_nm), "")
    here = Spot(mm(at.x_nm), mm(at.y_nm))
    near = [
        (item.shape.distance(here), item.net or item.what)
        for layer in after.design.board.stack
        for item in copper_items(after, layer)
        if item.net != link.net
    ]
    return Tight(link, at, min(near)[1] if near else "")
