"""Placing: parts that the case holds go where its template says; the rest where their connections are shortest.

Each part in turn, most connected first, takes the free spot and quarter turn with the least weighted distance to the
pads that it connects to; sweeps then take each part up and put it down again until nothing gets shorter.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zesty_trace.core.board.copper import courtyard_shape, outline_shape, pattern_of, to_board
from zesty_trace.core.board.outline import set_form
from zesty_trace.core.board.rules.given import refuse_given
from zesty_trace.core.board.rules.mouths import TURNS
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.decoupling import decoupled_part
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Form, Pin, Placement
from zesty_trace.core.geometry import Box, box_of
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled, EditError

STEP_MM = 0.4
MOST_CELLS = 60_000  # of large boards the steps are coarser: a placing takes seconds, not minutes
COURTYARD_MM = 0.25  # beyond body and pads, nominal level of IPC-7351
GAP_MM = 0.35
CORNER_NM = 3_000_000  # of a board that nobody has given a shape
EDGE_MM = 0.6
SWEEPS = 3
GROUND_WEIGHT, SUPPLY_WEIGHT, SIGNAL_WEIGHT, BYPASS_WEIGHT = 0.08, 0.35, 1.0, 8.0
EDGE_WEIGHT, MOUTH_WEIGHT = 2.0, 12.0
MOST_FLUSH_MM = 3.0
PULLED_SHARE = 0.02
SMALL_PADS = 3
OTHER_TURN_MM = 2.0  # so much farther a part goes to keep its turn


def start_board(design: Design) -> Design:
    """Give a board without one the outline of the brief, and put the template's parts in their places."""
    brief = design.brief
    if not design.board.outline:
        size = {"width_nm": brief.case_width_nm, "height_nm": brief.case_height_nm}
        design = set_form(design, Form(shape="rectangle", corner_nm=CORNER_NM, **size))
    placements = dict(design.board.placements)
    for hole in brief.template:
        if hole.ref in design.parts and hole.ref not in placements:
            placements[hole.ref] = Placement(x_nm=hole.x_nm, y_nm=hole.y_nm, angle_mdeg=hole.angle_mdeg, fixed=True)
    return edits.set_board(design, placements=placements)


@dataclass
class _Item:
    ref: str
    offsets: list[np.ndarray]  # per quarter turn: (P, 2) pad offsets, mm
    nets: list[str]
    rooms: list[Box]  # per quarter turn: courtyard, mm


class Placer:
    """Parts on a grid of spots: what is free, and what each spot costs a part."""

    def __init__(self, wired: Wired) -> None:
        design = wired.design
        self.wired, self.design = wired, design
        edge = box_of(design.board.outline)
        self.x0, self.y0 = edge.x0 / 1e6, edge.y0 / 1e6
        self.x1, self.y1 = edge.x1 / 1e6, edge.y1 / 1e6
        wide, high = self.x1 - self.x0, self.y1 - self.y0
        self.step = max(STEP_MM, math.sqrt(max(wide * high, 0.0) / MOST_CELLS))
        self.columns = int(wide / self.step) + 1
        self.rows = int(high / self.step) + 1
        self.board = outline_shape(design)
        self.inside = self._inside()
        self.net_of = wired.net_of
        ground, rails = wired.ground, set(wired.rails)
        self.weight = {
            n: GROUND_WEIGHT if n == ground else SUPPLY_WEIGHT if n in rails else SIGNAL_WEIGHT for n in design.nets
        }
        self.rails = rails
        self.items = {r: self._item(r) for r in design.parts}
        self.spots: dict[str, Placement] = {r: p for r, p in design.board.placements.items() if r in design.parts}
        self.beside = self._bypass_pairs()

    def _inside(self) -> np.ndarray:
        import shapely

        shape = self.board.buffer(-EDGE_MM)
        xs = self.x0 + np.arange(self.columns) * self.step
        ys = self.y0 + np.arange(self.rows) * self.step
        gx, gy = np.meshgrid(xs, ys)
        return np.asarray(shapely.contains_xy(shape, gx, gy))

    def _item(self, ref: str) -> _Item:
        pattern = pattern_of(self.wired, ref)
        offsets, rooms = [], []
        for turn in range(4):
            at = Placement(x_nm=0, y_nm=0, angle_mdeg=turn * 90_000)
            offsets.append(np.array([to_board(at, p.x_nm, p.y_nm) for p in pattern.pads]).reshape(-1, 2) / 1e6)
            x0, y0, x1, y1 = pattern.courtyard
            corners = np.array([to_board(at, x, y) for x, y in ((x0, y0), (x1, y1))]) / 1e6
            low, high = corners.min(axis=0), corners.max(axis=0)
            rooms.append(Box(float(low[0]), float(low[1]), float(high[0]), float(high[1])))
        nets = [self.net_of.get(Pin(ref, p.number), "") for p in pattern.pads]
        return _Item(ref, offsets, nets, rooms)

    def _bypass_pairs(self) -> dict[str, str]:
        members = list(self.design.parts)
        pairs = {}
        for index, ref in enumerate(members):
            kind = self.wired.kind(ref)
            nets = {self.net_of.get(Pin(ref, p.number), "") for p in kind.pins}
            if kind.is_a(m.Capacitor) and len(nets & self.rails) == 1:
                near = decoupled_part(self.wired, members, index)
                if near:
                    pairs[ref] = near
        return pairs

    def placed_pads(self, skip: str) -> dict[str, np.ndarray]:
        """Return net -> (K, 2) pad positions of the placed parts but `skip`, mm."""
        found: dict[str, list[tuple[float, float]]] = {}
        for ref, spot in self.spots.items():
            if ref == skip:
                continue
            item = self.items[ref]
            pads = pattern_of(self.wired, ref).pads
            for net, pad in zip(item.nets, pads, strict=True):
                if net:
                    x, y = to_board(spot, pad.x_nm, pad.y_nm)
                    found.setdefault(net, []).append((x / 1e6, y / 1e6))
        return {net: np.array(points) for net, points in found.items()}

    def occupied(self, skip: str) -> np.ndarray:
        """Return the summed-area table of cells that are taken or outside, one row and column of zeros first."""
        taken = ~self.inside
        for ref, spot in self.spots.items():
            if ref == skip:
                continue
            x0, y0, x1, y1 = pattern_of(self.wired, ref).courtyard
            points = np.array([to_board(spot, x, y) for x, y in ((x0, y0), (x1, y0), (x1, y1), (x0, y1))]) / 1e6
            low, high = points.min(axis=0) - GAP_MM / 2, points.max(axis=0) + GAP_MM / 2
            c0, r0 = (
                int(np.floor((low[0] - self.x0) / self.step)) + 1,
                int(np.floor((low[1] - self.y0) / self.step)) + 1,
            )
            c1, r1 = int(np.ceil((high[0] - self.x0) / self.step)), int(np.ceil((high[1] - self.y0) / self.step))
            taken[max(r0, 0) : max(r1, 0), max(c0, 0) : max(c1, 0)] = True
        table = np.zeros((self.rows + 1, self.columns + 1), dtype=np.int64)
        table[1:, 1:] = taken.cumsum(axis=0).cumsum(axis=1)
        return table

    def best_spot(self, ref: str) -> tuple[float, Placement] | None:
        """Return (cost, placement) of the best free spot, or None if the part fits nowhere."""
        item, pads, table = self.items[ref], self.placed_pads(ref), self.occupied(ref)
        best: tuple[float, Placement] | None = None
        xs = self.x0 + np.arange(self.columns) * self.step
        ys = self.y0 + np.arange(self.rows) * self.step
        for turn in range(4):
            legal = self._legal(item.rooms[turn], table)
            if not legal.any():
                continue
            cost = self._cost(ref, item, turn, pads, xs, ys)
            cost[~legal] = np.inf
            flat = int(cost.argmin())
            row, column = divmod(flat, self.columns)
            if best is None or cost[row, column] < best[0] - 1e-9:
                spot = Placement(x_nm=round(xs[column] * 1e6), y_nm=round(ys[row] * 1e6), angle_mdeg=turn * 90_000)
                best = (float(cost[row, column]), self._flush(ref, turn, spot))
        return best

    def _flush(self, ref: str, turn: int, spot: Placement) -> Placement:
        """Move a connector that looks over a near edge out until its mouth is at the edge."""
        package = self.wired.package(ref)
        if package.looks not in TURNS:
            return spot
        x, y = np.array([spot.x_nm / 1e6]), np.array([spot.y_nm / 1e6])
        ahead = float(self._ahead(ref, turn, x, y)[0, 0]) + COURTYARD_MM
        if ahead > MOST_FLUSH_MM:
            return spot
        dx, dy = ((1, 0), (0, 1), (-1, 0), (0, -1))[(TURNS[package.looks] // 90 + turn) % 4]
        return Placement(
            x_nm=spot.x_nm + round(dx * ahead * 1e6),
            y_nm=spot.y_nm + round(dy * ahead * 1e6),
            angle_mdeg=spot.angle_mdeg,
        )

    def _legal(self, room: Box, table: np.ndarray) -> np.ndarray:
        half = GAP_MM / 2
        c0, c1 = int(np.floor((room[0] - half) / self.step)), int(np.ceil((room[2] + half) / self.step))
        r0, r1 = int(np.floor((room[1] - half) / self.step)), int(np.ceil((room[3] + half) / self.step))
        legal = np.zeros((self.rows, self.columns), dtype=bool)
        rows = np.arange(max(0, -r0), min(self.rows, self.rows - r1))
        columns = np.arange(max(0, -c0), min(self.columns, self.columns - c1))
        if not len(rows) or not len(columns):
            return legal
        a, b = rows[:, None], columns[None, :]
        count = table[a + r1, b + c1] - table[a + r0, b + c1] - table[a + r1, b + c0] + table[a + r0, b + c0]
        legal[a, b] = count == 0
        return legal

    def _cost(
        self, ref: str, item: _Item, turn: int, pads: dict[str, np.ndarray], xs: np.ndarray, ys: np.ndarray
    ) -> np.ndarray:
        cost = np.zeros((self.rows, self.columns))
        for (dx, dy), net in zip(item.offsets[turn], item.nets, strict=True):
            if net not in pads:
                continue
            px, py = xs[None, :] + dx, ys[:, None] + dy
            near = np.full(cost.shape, np.inf)
            for tx, ty in pads[net]:
                np.minimum(near, np.abs(px - tx) + np.abs(py - ty), out=near)
            cost += self.weight[net] * near
        cost += self._bypass_cost(ref, item, turn, xs, ys)
        middle = (self.x0 + self.columns * self.step / 2, self.y0 + self.rows * self.step / 2)
        cost += 0.01 * (np.abs(xs[None, :] - middle[0]) + np.abs(ys[:, None] - middle[1]))
        if self.wired.package(ref).looks in TURNS:
            cost += MOUTH_WEIGHT * self._ahead(ref, turn, xs, ys)
        elif self.wired.kind(ref).connector:
            cost += EDGE_WEIGHT * self._to_edge(xs, ys)
        return cost

    def _ahead(self, ref: str, turn: int, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
        """Return how much board lies in front of a connector's mouth at each spot, mm."""
        room = self.items[ref].rooms[turn]
        looks = (TURNS[self.wired.package(ref).looks] // 90 + turn) % 4
        x1, y1 = self.x1, self.y1
        gx, gy = np.meshgrid(xs, ys)
        ahead = (x1 - gx - room[2], y1 - gy - room[3], gx + room[0] - self.x0, gy + room[1] - self.y0)[looks]
        return np.asarray(np.maximum(ahead, 0.0))

    def _to_edge(self, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
        """Return how far each spot is from the nearest side of the board, mm: plugs want to be reached."""
        x1, y1 = self.x0 + self.columns * self.step, self.y0 + self.rows * self.step
        side = np.minimum(np.abs(xs - self.x0), np.abs(x1 - xs))[None, :]
        return np.asarray(np.minimum(side, np.minimum(np.abs(ys - self.y0), np.abs(y1 - ys))[:, None]))

    def _bypass_cost(self, ref: str, item: _Item, turn: int, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
        """Pull a bypass part to the supply pad of the part that it serves."""
        cost = np.zeros((self.rows, self.columns))
        host = self.beside.get(ref)
        if host is None or host not in self.spots:
            return cost
        own = [k for k, net in enumerate(item.nets) if net in self.rails]
        pads = pattern_of(self.wired, host).pads
        turn_taken = [c for c, h in self.beside.items() if h == host].index(ref)
        for k in own:
            targets = [
                to_board(self.spots[host], p.x_nm, p.y_nm)
                for p, net in zip(pads, self.items[host].nets, strict=True)
                if net == item.nets[k]
            ]
            if not targets:
                continue
            tx, ty = targets[turn_taken % len(targets)]
            dx, dy = item.offsets[turn][k]
            cost += BYPASS_WEIGHT * (np.abs(xs[None, :] + dx - tx / 1e6) + np.abs(ys[:, None] + dy - ty / 1e6))
        return cost

    def placements(self) -> dict[str, Placement]:
        """Return where the parts are, in the order of the design."""
        return {r: self.spots[r] for r in self.design.parts if r in self.spots}

    def push(self, ref: str, to: str, net: str, movable: set[str]) -> bool:
        """Pull a part into the room of small ones, and put those down again elsewhere; False if one finds no room."""
        give = [r for r in self.design.parts if r in movable and r in self.spots and r not in (ref, to)]
        away = {r: self.spots.pop(r) for r in give if len(self.items[r].nets) <= SMALL_PADS}
        self.pull(ref, to, net)
        mine = courtyard_shape(self.wired, ref, self.spots[ref]).buffer(GAP_MM)
        pushed = [r for r in away if courtyard_shape(self.wired, r, away[r]).intersects(mine)]
        self.spots |= {r: spot for r, spot in away.items() if r not in pushed}
        for r in pushed:
            best = self.best_spot(r)
            if best is None:
                return False
            self.spots[r] = best[1]
        return True

    def pull(self, ref: str, to: str, net: str) -> None:
        """Put a part down where its pad on a net is nearest to another part's, whatever else it is joined to."""
        before = self.spots.pop(ref)
        item, table = self.items[ref], self.occupied(ref)
        pads = pattern_of(self.wired, to).pads
        goals = [
            to_board(self.spots[to], p.x_nm, p.y_nm)
            for p, on in zip(pads, self.items[to].nets, strict=True)
            if on == net
        ]
        xs = self.x0 + np.arange(self.columns) * self.step
        ys = self.y0 + np.arange(self.rows) * self.step
        best: tuple[float, Placement] | None = None
        everything = self.placed_pads(ref)
        for turn in range(4):
            legal = self._legal(item.rooms[turn], table)
            if not legal.any():
                continue
            cost = np.full(legal.shape, np.inf)
            for (dx, dy), on in zip(item.offsets[turn], item.nets, strict=True):
                for gx, gy in goals if on == net else ():
                    away = np.hypot(xs[None, :] + dx - gx / 1e6, ys[:, None] + dy - gy / 1e6)
                    np.minimum(cost, away, out=cost)
            cost += PULLED_SHARE * self._cost(ref, item, turn, everything, xs, ys)
            cost[~legal] = np.inf
            row, column = divmod(int(cost.argmin()), self.columns)
            if best is None or cost[row, column] < best[0]:
                spot = Placement(x_nm=round(xs[column] * 1e6), y_nm=round(ys[row] * 1e6), angle_mdeg=turn * 90_000)
                best = (float(cost[row, column]), spot)
        self.spots[ref] = best[1] if best else before

    def nearest(self, ref: str, wanted: Placement) -> Placement | None:
        """Return the wanted spot if it is free, else the nearest that is, the wanted turn before others."""
        if self._free(ref, wanted):
            return wanted
        item, table = self.items[ref], self.occupied(ref)
        xs = self.x0 + np.arange(self.columns) * self.step
        ys = self.y0 + np.arange(self.rows) * self.step
        away = np.hypot(xs[None, :] - wanted.x_nm / 1e6, ys[:, None] - wanted.y_nm / 1e6)
        best: tuple[float, Placement] | None = None
        for more in range(4):
            turn = (wanted.angle_mdeg // 90_000 + more) % 4
            legal = self._legal(item.rooms[turn], table)
            if not legal.any():
                continue
            cost = np.where(legal, away + (OTHER_TURN_MM if more else 0.0), np.inf)
            row, column = divmod(int(cost.argmin()), self.columns)
            if best is None or cost[row, column] < best[0]:
                spot = Placement(
                    x_nm=round(xs[column] * 1e6), y_nm=round(ys[row] * 1e6), angle_mdeg=turn * 90_000, side=wanted.side
                )
                best = (float(cost[row, column]), self._flush(ref, turn, spot))
        return best[1] if best else None

    def _free(self, ref: str, spot: Placement) -> bool:
        """Whether a part meets no other and is on the board there, but for a mouth that looks over its edge."""
        mine = courtyard_shape(self.wired, ref, spot)
        others = (r for r in self.spots if r != ref)
        grown = mine.buffer(GAP_MM - 0.01, join_style="mitre")
        if any(grown.intersects(courtyard_shape(self.wired, r, self.spots[r])) for r in others):
            return False
        package = self.wired.package(ref)
        if package.looks in TURNS:
            return bool(mine.intersection(self.board).area > 0.5 * mine.area)
        return bool(self.board.buffer(-EDGE_MM).covers(mine.buffer(-COURTYARD_MM)))

    def settle(self, ref: str) -> bool:
        """Take a part up and put it down where it is best now; return whether it moved."""
        before = self.spots.pop(ref)
        best = self.best_spot(ref)
        self.spots[ref] = best[1] if best else before
        return self.spots[ref] != before

    def order(self) -> list[str]:
        """Return the parts to place: large and well-connected first, bypass parts right after their host."""
        free = [r for r in self.design.parts if r not in self.spots and pattern_of(self.wired, r).pads]

        def score(ref: str) -> float:
            x0, y0, x1, y1 = self.items[ref].rooms[0]
            pins = sum(self.weight.get(n, 0) for n in self.items[ref].nets)
            return (x1 - x0) * (y1 - y0) + 3 * pins

        hosts = sorted((r for r in free if r not in self.beside), key=lambda r: -score(r))
        found: list[str] = []
        for ref in hosts:
            found.append(ref)
            found += [c for c, h in self.beside.items() if h == ref and c in free]
        return found + [r for r in free if r not in found]


def place_rest(wired: Wired, report: Report = quiet) -> Design:
    """Return the design with every part on the board; fixed and already placed parts stay.

    `report(share, text)` tells progress and returns False to stop (Cancelled). EditError if a part fits nowhere.
    """
    design = wired.design
    refuse_given(design)
    design = start_board(design)
    placer = Placer(wired.with_design(design))
    order = placer.order()
    close = {*placer.beside, *placer.beside.values()}  # a chip and its bypass parts stay as they were put together
    loose = [r for r in order if r not in close]
    total = len(order) + len(loose) * SWEEPS
    done = 0
    for ref in order:
        best = placer.best_spot(ref)
        if best is None:
            raise EditError(f"{ref} finds no room on the board", ref, "Make the board larger or move parts closer")
        placer.spots[ref] = best[1]
        done += 1
        if not report(done / total, f"placing {ref}"):
            raise Cancelled
    for _ in range(SWEEPS):
        moved = False
        for ref in loose:
            moved |= placer.settle(ref)
            done += 1
            if not report(done / total, f"settling {ref}"):
                raise Cancelled
        if not moved:
            break
    return _pulled(wired, design, placer, set(order))


def pull_near(wired: Wired, movable: set[str]) -> Design:
    """Return the design with what the circuit wants near brought nearer, if only `movable` parts give way."""
    return _pulled(wired, wired.design, Placer(wired), movable)


def _pulled(wired: Wired, design: Design, placer: Placer, movable: set[str]) -> Design:
    """Bring nearer what the circuit wants near and is not: each such part once, kept only if it got nearer."""
    from zesty_trace.core.board.rules.distances import distances

    def measured() -> dict[tuple[str, str, str], float]:
        after = edits.set_board(design, placements=placer.placements())
        return {(d.ref, d.to, d.net): d.mm - d.limit_mm for d in distances(wired.with_design(after))}

    before = measured()
    for pushing in (False, True):
        for (ref, to, net), over in list(before.items()):
            for other in (ref, *_alike(wired, ref, to, net)):
                if over <= 0 or other not in movable or to not in placer.spots:
                    continue
                kept = dict(placer.spots)
                done = placer.push(other, to, net, movable if pushing else set())
                after = measured() if done else before
                if _excess(after) < _excess(before) - 1e-6:
                    before = after
                    break
                placer.spots = kept
    return edits.set_board(design, placements=placer.placements())


def _alike(wired: Wired, ref: str, to: str, net: str) -> list[str]:
    """Return the other capacitors between a net and ground: any of them may stand where one is missed."""
    if not wired.kind(ref).is_a(m.Capacitor):
        return []
    near = wired.near(net, m.Capacitor)
    return [n.ref for n in near if n.beyond == wired.ground and n.ref not in (ref, to)]


def _excess(over: dict[tuple[str, str, str], float]) -> float:
    return sum(max(v, 0.0) for v in over.values())
