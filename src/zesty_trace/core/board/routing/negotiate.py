"""The passes: every net its cheapest path, dearer where others are in the way, until none is; then shorter."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from threading import Thread

import numpy as np
import numpy.typing as npt

from zesty_trace.core.board.routing.grid import I32, Grid
from zesty_trace.core.board.routing.passes import (
    clear_net,
    compact,
    complete,
    judge,
    route_nets,
    settle,
    shorten,
    stamp_nets,
)
from zesty_trace.core.board.routing.problem import Board, laid_cells
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled

VIA_PRICE = 2_000
FIRST_PRICE, GROWTH, LAST_PRICE = 150, 1.3, 2_000
MOST_PASSES = 150
RETRIES, RETRY_PRICE, RETRY_PASSES = 4, 300, 40
WAY_PASSES = 25
CHUNK = 40
APART = 24  # cells between the sides of a cut: no stamp reaches so far
WORTH_A_THREAD = 6  # nets
CUTS = 2
FEW = 8  # nets: so many are rather taken out and put in where there is room
MANY = 4  # one in so many groups: from here on all nets are looked at
STUCK = 8  # passes without a new best
GREEDY, EXACT = 5, 4
WIDE_MARGIN, NEAR_MARGIN = 150, 40  # cells


@dataclass
class Scratch:
    """Room that the compiled loops work in."""

    few: I32
    sources: I32
    window: I32
    failed: I32
    found: I32
    spare: I32


@dataclass
class Snapshot:
    """Which paths were laid, and their codes."""

    paths: I32
    joined: I32
    codes: I32


class Negotiation:
    """The state of routing one board."""

    via_price = VIA_PRICE

    def __init__(self, board: Board, report: Report, seed: int = 1) -> None:
        self.board, self.grid, self.report = board, board.grid, report
        self.show: Callable[[], None] | None = None  # called after each pass
        grid = board.grid
        most = int(np.diff(board.net_groups()).max()) if grid.nets else 0
        failed, found = np.zeros(grid.nets, dtype=np.int32), np.zeros(grid.nets, dtype=np.int32)
        spare = np.zeros(grid.pool_size, dtype=np.int32)
        self.room, self.room2 = (
            Scratch(
                few=np.zeros(2 * most + 8, dtype=np.int32),
                sources=np.zeros(400_000, dtype=np.int32),
                window=np.zeros(4, dtype=np.int32),
                failed=failed,
                found=found,
                spare=spare,
            )
            for _ in range(2)
        )
        self.cuts = 0
        self.spans = self._spans()
        self.random = np.random.default_rng(seed)
        self.passes = 0
        for net in range(grid.nets):
            clear_net(grid, net)

    def _spans(self) -> I32:
        """Return first and last row, first and last column of each net."""
        boxes, at = self.board.boxes(), self.board.net_groups()
        found = np.zeros((self.grid.nets, 4), dtype=np.int32)
        for net in range(self.grid.nets):
            box = boxes[[g for g in range(at[net], at[net + 1]) if len(self.board.group_cells(g))]]
            if len(box):
                found[net] = box[:, 0].min(), box[:, 1].max(), box[:, 2].min(), box[:, 3].max()
        return found

    def _make_room(self) -> None:
        if self.grid.state[0] > 0.4 * self.grid.pool_size:
            compact(self.grid, self.room.spare)

    def tell(self, text: str, share: float) -> None:
        """Tell how far it is. Cancelled if it is to stop."""
        if not self.report(share, text):
            raise Cancelled

    def _parts(self, nets: I32, margin: int) -> tuple[I32, I32, I32, int, int]:
        """Return the nets that lie wholly on one side of a cut, those on the other, the rest, the axis and the cut.

        The cut runs along columns and rows in turn; nets are counted with `margin` cells around them.
        """
        self.cuts += 1
        axis = self.cuts % 2
        low, high = self.spans[nets, 2 * axis] - margin, self.spans[nets, 2 * axis + 1] + margin
        middle = int(np.median((low + high) // 2)) if len(nets) else 0
        before, after = high < middle - APART, low > middle + APART
        return nets[before], nets[after], nets[~before & ~after], axis, middle

    def _on_two(self, nets: I32, margin: int, run: Callable[[Grid, Scratch, I32], int]) -> tuple[int, I32]:
        """Run over the nets on both sides of a cut at once; return the sum, and the nets that cross the cut.

        The sides share no cell, so that the result does not depend on which is first.
        """
        total = 0
        for _ in range(CUTS):
            one, two, rest, axis, middle = self._parts(nets, margin)
            if min(len(one), len(two)) < WORTH_A_THREAD:
                break
            total += self._at_once(one, two, axis, middle, run)
            nets = rest
        return total, nets

    def _at_once(self, one: I32, two: I32, axis: int, middle: int, run: Callable[[Grid, Scratch, I32], int]) -> int:
        self._make_room()
        grid, other = (
            self.grid,
            self.grid._replace(
                state=self.grid.state.copy(), heads_at=self.grid.heads2_at, queue_at=self.grid.queue2_at
            ),
        )
        whole = grid.state[4:8].copy()
        half = (int(grid.state[0]) + grid.pool_size) // 2
        grid.state[3], other.state[0], other.state[2] = half, half, 0
        end, begin = (5, 4) if axis == 0 else (7, 6)
        grid.state[end], other.state[begin] = middle - APART, middle + APART
        answers = [0]

        def second() -> None:
            answers[0] = run(other, self.room2, two)

        thread = Thread(target=second)
        thread.start()
        total = run(grid, self.room, one)
        thread.join()
        grid.state[0], grid.state[3] = other.state[0], grid.pool_size
        grid.state[1] = max(grid.state[1], other.state[1])
        grid.state[2] += other.state[2]
        grid.state[4:8] = whole
        return total + answers[0]

    def route(self, nets: I32, present: int, weight: int, margin: int) -> None:
        """Route nets anew, in this order on each side of a cut, then those across it."""

        def run(grid: Grid, room: Scratch, part: I32) -> int:
            route_nets(grid, part, present, VIA_PRICE, weight, margin, room.few, room.sources, room.window, room.failed)
            return 0

        self._make_room()
        _, rest = self._on_two(nets, margin, run)
        done = np.setdiff1d(nets, rest)
        again = done[self.room.failed[done] > 0]
        for k, part in enumerate((rest, again)):
            for j in range(0, len(part), CHUNK):
                self._make_room()
                run(self.grid, self.room, part[j : j + CHUNK])
                self.tell(f"pass {self.passes}, {len(nets)} nets to place", min(0.7, self.passes / 60 + 0.1 * k))

    def first_order(self) -> I32:
        """Return the nets by the room that they span, the smallest first, poured ones last."""
        poured = np.array([layer >= 0 for layer in self.board.problem.poured_on], dtype=bool)
        size = self.spans[:, 1] - self.spans[:, 0] + self.spans[:, 3] - self.spans[:, 2]
        return np.lexsort((size, poured)).astype(np.int32)

    def run(self, retries: int = RETRIES) -> int:
        """Route everything; return how many groups stay open. Nothing is in conflict afterwards.

        What stays open is tried again with all that is near it, so many times as long as it gets better.
        """
        self._pass_on(self.first_order(), FIRST_PRICE, MOST_PASSES)
        left = self.settle()
        for _ in range(retries):
            if not left:
                break
            before = self.snapshot()
            again = self.open_groups() > 0
            again[self._beside(again)] = True
            self._pass_on(np.flatnonzero(again).astype(np.int32), RETRY_PRICE, RETRY_PASSES)
            after = self.settle()
            if after >= left:
                self.restore(before)
            left = min(left, after)
        return self._narrow() if left else left

    def _narrow(self) -> int:
        """Join what no wide way was found for as it goes: the review tells what is too thin; return what is left."""
        at = self.board.net_groups()
        wanted = self.grid.main[self.grid.wanted_at : self.grid.wanted_at + self.grid.groups]
        for net in self._open_nets():
            part = wanted[at[net] : at[net + 1]]
            part[:] = np.minimum(part, self.grid.plain_class)
        return self.complete()

    def _beside(self, nets: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
        """Return the nets whose box is near that of one of `nets`: they are laid anew as well."""
        found = nets.copy()
        for net in np.flatnonzero(nets):
            r0, r1, c0, c1 = self.spans[net]
            s = self.spans
            found |= (s[:, 0] <= r1) & (s[:, 1] >= r0) & (s[:, 2] <= c1) & (s[:, 3] >= c0)
        small = np.diff(self.board.net_groups()) <= FEW
        return np.asarray(found & small)

    def _pass_on(self, todo: I32, first_price: int, most: int, but: int = -1) -> None:
        """Run passes until nothing is in conflict, or it does not get better; net `but` stays as it is."""
        present = float(first_price)
        best, since = self.grid.nets + 1, 0
        for k in range(most):
            self.passes += 1
            self.route(todo, int(present), GREEDY, 20 + 10 * min(k + 1, 20))
            conflicts = self._judge(int(present / 2), self._groups_of(todo), but)
            self._shown()
            best, since = (conflicts, 0) if conflicts < best else (best, since + 1)
            if conflicts == 0 or (since > STUCK and conflicts < FEW):
                return
            todo = np.flatnonzero(self.room.found).astype(np.int32)
            self.random.shuffle(todo)
            present = min(present * GROWTH, LAST_PRICE)

    def _groups_of(self, nets: I32) -> npt.NDArray[np.int64]:
        at = self.board.net_groups()
        return np.concatenate([np.zeros(0, dtype=np.int64), *(np.arange(at[n], at[n + 1]) for n in nets)])

    def _judge(self, price: int, laid: npt.NDArray[np.int64] | None = None, but: int = -1) -> int:
        """Find the nets in conflict and make those cells dearer, net `but` left out; return how many.

        Where nothing was in conflict but the groups `laid` just now, only nets with a path near one of them can be.
        """
        self.room.found[:] = 0
        order = np.arange(self.grid.nets, dtype=np.int32) if laid is None else self._near(laid)
        return int(judge(self.grid, order[order != but], price, self.room.found))

    def _near(self, groups: npt.NDArray[np.int64]) -> I32:
        """Return the nets with a path whose box, with room for all stamps, meets that of a path of `groups`."""
        everything = np.arange(self.grid.nets, dtype=np.int32)
        if len(groups) * MANY > self.grid.groups:
            return everything
        cells, _, owner = laid_cells(self.board)
        flat = cells % self.grid.plane
        there, first = np.unique(owner, return_index=True)
        boxes = np.empty((len(there), 4), dtype=np.int64)
        for k, line in enumerate((flat // self.grid.columns, flat % self.grid.columns)):
            if len(there):
                boxes[:, 2 * k] = np.minimum.reduceat(line, first)
                boxes[:, 2 * k + 1] = np.maximum.reduceat(line, first)
        near = np.zeros(len(there), dtype=bool)
        for r0, r1, c0, c1 in (boxes[np.isin(there, groups)] + (-APART, APART, -APART, APART)).tolist():
            near |= (boxes[:, 0] <= r1) & (boxes[:, 1] >= r0) & (boxes[:, 2] <= c1) & (boxes[:, 3] >= c0)
        nets = np.searchsorted(self.board.net_groups(), there[near], side="right") - 1
        return np.union1d(nets, np.searchsorted(self.board.net_groups(), groups, side="right") - 1).astype(np.int32)

    def _shown(self) -> None:
        if self.show is not None:
            self.show()

    def stop(self) -> None:
        """Take out whatever is in conflict, and leave the rest as it is."""
        self.report = quiet
        self._judge(0)
        settle(self.grid, np.argsort(-self.room.found, kind="stable").astype(np.int32), self.room.few)

    def settle(self) -> int:
        """Take out whatever is in conflict, then join what can be without any; return how many groups are left."""
        order = np.argsort(-self.room.found, kind="stable").astype(np.int32)
        settle(self.grid, order, self.room.few)
        return self.complete()

    def open_groups(self) -> I32:
        """Return per net how many of its groups are not joined."""
        waiting = np.concatenate([[0], np.cumsum(self.board.joined() == 0)])
        at = self.board.net_groups()
        return np.asarray(waiting[at[1:]] - waiting[at[:-1]], dtype=np.int32)

    def _open_nets(self) -> I32:
        return np.flatnonzero(self.open_groups()).astype(np.int32)

    def complete(self) -> int:
        """Join what is open where nothing has to give way, then where something can; return what is left."""
        room = self.room
        for _ in range(3):
            todo = self._open_nets()
            if not len(todo):
                return 0
            self._make_room()
            complete(
                self.grid, todo, 0, VIA_PRICE, EXACT, WIDE_MARGIN, room.few, room.sources, room.window, room.failed
            )
            forced = [self._force(int(net)) for net in self._open_nets()]
            if not any(forced):
                break
        return int(self.open_groups().sum())

    def _force(self, net: int) -> bool:
        """Join the open groups of a net through others, which then must find another way; or leave all as it was."""
        before = self.snapshot()
        room = self.room
        only = np.array([net], dtype=np.int32)
        complete(self.grid, only, 1500, VIA_PRICE, EXACT, WIDE_MARGIN, room.few, room.sources, room.window, room.failed)
        if not self.open_groups()[net] and self.make_way(net, self._groups_of(only)):
            return True
        self.restore(before)
        return False

    def make_way(self, net: int, laid: npt.NDArray[np.int64], bold: bool = True) -> bool:
        """Route anew whatever is in the way of groups of a net just laid; False if something finds no other way.

        First each where there is room; if `bold`, then by negotiation among all that are in the way of each other.
        """
        self._judge(0, laid, net)
        others = np.flatnonzero(self.room.found).astype(np.int32)
        if not len(others):
            return True
        before, waiting = self.snapshot(), int(self.open_groups().sum())
        if self._find_room(others, waiting) or not bold:
            return int(self.open_groups().sum()) <= waiting
        self.restore(before)
        self._pass_on(others, RETRY_PRICE, WAY_PASSES, net)
        self._judge(0, None, net)
        return self._find_room(np.flatnonzero(self.room.found).astype(np.int32), waiting)

    def _find_room(self, nets: I32, waiting: int) -> bool:
        """Lift what is in conflict of some nets and join it where nothing is in the way; whether no more is open."""
        room = self.room
        self._make_room()
        settle(self.grid, nets, room.few)
        todo = np.union1d(nets, self._open_nets()).astype(np.int32)
        complete(self.grid, todo, 0, VIA_PRICE, EXACT, WIDE_MARGIN, room.few, room.sources, room.window, room.failed)
        return int(self.open_groups().sum()) <= waiting

    def snapshot(self) -> Snapshot:
        """Return what is laid now."""
        compact(self.grid, self.room.spare)
        grid = self.grid
        return Snapshot(
            grid.main[grid.paths_at : grid.paths_at + 2 * grid.groups].copy(),
            self.board.joined().copy(),
            grid.main[grid.pool_at : grid.pool_at + grid.state[0]].copy(),
        )

    def restore(self, snapshot: Snapshot) -> None:
        """Lay just what a snapshot holds."""
        grid = self.grid
        everything = np.arange(grid.nets, dtype=np.int32)
        stamp_nets(grid, everything, -1)
        grid.main[grid.paths_at : grid.paths_at + 2 * grid.groups] = snapshot.paths
        grid.main[grid.pool_at : grid.pool_at + len(snapshot.codes)] = snapshot.codes
        grid.state[0] = len(snapshot.codes)
        self.board.joined()[:] = snapshot.joined
        stamp_nets(grid, everything, 1)

    def spare_group(self, net: int) -> int:
        """Return a group of a poured net that stands for no copper and has no path yet, or -1."""
        at = self.board.net_groups()
        for g in range(at[net + 1] - 1, at[net] - 1, -1):
            if len(self.board.group_cells(g)):
                return -1
            if not len(self.board.path(g)):
                return int(g)
        return -1

    def _least(self) -> I32:
        """Return below which price no shorter way of a net is looked for: the straight length of two groups."""
        boxes, at = self.board.boxes(), self.board.net_groups()
        found = np.zeros(self.grid.nets, dtype=np.int32)
        for net in range(self.grid.nets):
            if at[net + 1] - at[net] == 2:
                a, b = boxes[at[net]], boxes[at[net] + 1]
                dr, dc = (max(0, int(b[k] - a[k + 1]), int(a[k] - b[k + 1])) for k in (0, 2))
                found[net] = 100 * max(dr, dc) + 41 * min(dr, dc) + 50
        return found

    def shorten(self, rounds: int = 3) -> None:
        """Route each net once more where nothing is in its way."""
        least = self._least()

        def run(grid: Grid, room: Scratch, part: I32) -> int:
            return int(shorten(grid, part, VIA_PRICE, EXACT, NEAR_MARGIN, room.few, room.sources, room.window, least))

        for k in range(rounds):
            self._make_room()
            order = self.random.permutation(self.grid.nets).astype(np.int32)
            saved, rest = self._on_two(order, NEAR_MARGIN, run)
            self._shown()
            for j in range(0, len(rest), CHUNK):
                self._make_room()
                saved += run(self.grid, self.room, rest[j : j + CHUNK])
                self.tell("making it shorter", 0.75 + 0.2 * k / rounds)
            if saved < 500:
                return
