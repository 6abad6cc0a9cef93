"""How many of each part are needed: boards by variant, spare boards, losses by package, less what is there."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, there
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, shorten


@dataclass(frozen=True)
class Loss:
    """How many more of a package are bought than are fitted: a share, and at least so many."""

    package: str  # the beginning of its name, or a pattern with *
    percent: float
    least: int

    def holds(self, package: str) -> bool:
        """Whether it is for this package."""
        pattern = re.escape(self.package).replace(r"\*", ".*")
        return re.match(pattern, package, re.I) is not None


LOSS_COLUMNS = ("package", "percent", "least")
# Tiny parts fly, and stick to the tape; large ones do not: common practice, to be edited. The first that holds counts.
LOSSES = (
    Loss("*0402", 10, 10), Loss("*0603", 5, 5), Loss("*0805", 5, 3), Loss("*1206", 3, 2), Loss("SOT", 3, 2),
    Loss("SC-70", 3, 2), Loss("D-SOD", 3, 2), Loss("MELF", 5, 3), Loss("CT-", 3, 2), Loss("R-axial", 3, 2),
    Loss("DO-", 3, 2), Loss("Ceramic-disc", 3, 2), Loss("TO-92", 3, 2), Loss("LED", 3, 2), Loss("", 0, 0),
)  # fmt: skip


def read_losses(text: str, name: str) -> tuple[Loss, ...]:
    """Return the losses of a table `package,percent,least`, before the usual ones. InputError."""
    found = []
    for line, row in read_sheet(text, name, LOSS_COLUMNS, LOSS_COLUMNS):
        where = f"{name} line {line}"
        percent = float(amount(row["percent"], where, "percent", 400))
        found.append(Loss(row["package"], percent, whole(row["least"], where, "least", 0, 100_000)))
    return (*found, *LOSSES)


def losses_csv(losses: Iterable[Loss]) -> str:
    """Return the table of own losses; reading it again gives the same ones before the usual ones."""
    return csv_text([LOSS_COLUMNS, *((x.package, f"{x.percent:g}", x.least) for x in losses)])


@dataclass(frozen=True)
class Need:
    """One sort of part: how many are fitted in all, how many more for losses, how many are there, how many to buy."""

    sort: Sort
    title: str
    refs: tuple[str, ...]
    fitted: int
    spare: int
    loss: int
    drawers: tuple[tuple[Drawer, int], ...] = ()
    exact: bool = False
    awaited: tuple[tuple[Drawer, int], ...] = ()  # of orders that have not come
    strip: str = ""  # "header" or "socket": it can be cut from a strip
    by_board: tuple[tuple[str, int], ...] = ()  # variant, how many a board of it takes
    cut: int = 0  # from strips that are there

    @property
    def wanted(self) -> int:
        """How many there must be when building begins."""
        return self.fitted + self.spare + self.loss

    @property
    def stocked(self) -> int:
        """How many of them are in drawers."""
        return sum(count for _, count in self.drawers)

    @property
    def coming(self) -> int:
        """How many of them are on the way."""
        return sum(count for _, count in self.awaited)

    @property
    def buy(self) -> int:
        """How many are bought at least."""
        return max(0, self.wanted - self.stocked - self.coming - self.cut)

    @property
    def words(self) -> str:
        """The sum in words."""
        parts = [f"{self.fitted} fitted"]
        parts += [f"{self.spare} for spare boards"] if self.spare else []
        parts += [f"{self.loss} for losses"] if self.loss else []
        parts += [f"{self.stocked} there"] if self.stocked else []
        parts += [f"{self.coming} on the way"] if self.coming else []
        parts += [f"{self.cut} cut from strips that are there"] if self.cut else []
        return ", ".join(parts)


def batch_of(wired: Wired) -> dict[str, int]:
    """Return variant -> how many boards of it the brief asks for, by the build's batch, else all of its variant."""
    build, quantity = wired.design.build, wired.design.brief.quantity
    if not build.batch:
        return {build.variant: quantity}
    for variant, count in build.batch.items():
        known_variant(wired.design, variant)
        if count < 0:
            raise InputError(f"{count} boards of {variant} cannot be", "build.batch", "0 or more")
    return dict(build.batch)


@dataclass
class _Tally:
    """What is counted of one sort while the variants are gone through."""

    sort: Sort
    title: str
    strip: str
    fitted: int = 0
    spare: int = 0
    exact: bool = False
    refs: dict[str, None] = field(default_factory=dict)
    by_board: Counter[str] = field(default_factory=Counter)


def needs(
    wired: Wired,
    batch: Mapping[str, int],
    spare_boards: int = 0,
    drawers: Sequence[Drawer] = (),
    losses: Sequence[Loss] = LOSSES,
    coming: Sequence[Drawer] = (),
) -> list[Need]:
    """Return every sort of part that the boards take, most pieces first; drawers are given to one need after another.

    Spare boards are of the fullest variant that is built. `coming` is on the way: it is counted after the drawers.
    InputError for an unknown variant.
    """
    tallies = _tallies(wired, batch, spare_boards)
    left = {id(d): d.count for d in (*drawers, *coming)}
    found = []
    for t in sorted(tallies, key=lambda t: (-t.fitted, t.sort)):
        loss = loss_of(t.sort.package, t.fitted + t.spare, losses)
        wanted = t.fitted + t.spare + loss
        taken = _take_from(drawers, t, wanted, left)
        awaited = _take_from(coming, t, wanted - sum(c for _, c in taken), left)
        by_board = tuple(t.by_board.items())
        found.append(
            Need(t.sort, t.title, tuple(t.refs), t.fitted, t.spare, loss, taken, t.exact, awaited, t.strip, by_board)
        )
    return [n for n in found if n.wanted]


def _tallies(wired: Wired, batch: Mapping[str, int], spare_boards: int) -> list[_Tally]:
    design = wired.design
    tallies: dict[tuple[str, str, str], _Tally] = {}
    built = [v for v, boards in batch.items() if boards] or list(batch)
    fullest = max(built, key=lambda v: len(design.fitted(v).parts), default="")
    for variant, boards in batch.items():
        known_variant(design, variant)
        for ref, part in design.fitted(variant).parts.items():
            kind = wired.kind(ref)
            if not kind.assembled:
                continue
            sort = Sort(part.kind, part.value, part.package or kind.packages[0])
            t = tallies.setdefault(sort.key, _Tally(sort, kind.title, kind.facts.strip))
            t.refs[ref] = None
            t.exact = t.exact or kind.facts.exact or "exact" in part.notes.lower().split()
            t.by_board[variant] += 1
            t.fitted += boards
            t.spare += spare_boards if variant == fullest else 0
    return list(tallies.values())


def loss_of(package: str, count: int, losses: Sequence[Loss] = LOSSES) -> int:
    """Return how many more are needed of a package: its share, rounded up, and at least the least."""
    if not count:
        return 0
    rule = next((loss for loss in losses if loss.holds(package)), None)
    return max(rule.least, math.ceil(round(count * rule.percent / 100, 9))) if rule is not None else 0


def _take_from(
    drawers: Sequence[Drawer], tally: _Tally, wanted: int, left: dict[int, int]
) -> tuple[tuple[Drawer, int], ...]:
    taken = []
    for drawer in there(drawers, tally.sort, tally.exact):
        count = min(wanted, left[id(drawer)])
        if count > 0:
            taken.append((drawer, count))
            left[id(drawer)] -= count
            wanted -= count
    return tuple(taken)


def read_batch(words: Sequence[str]) -> dict[str, int]:
    """Return variant -> boards of `Full=8 Basic=4`. InputError."""
    found: dict[str, int] = {}
    for word in words:
        name, equals, count = word.rpartition("=")
        if not equals:
            raise InputError(f"“{shorten(word)}” says no count", word, "Write VARIANT=8")
        found[name] = whole(count, word, "boards", 0, 100_000)
    return found
