"""How many of each part are needed: boards by variant, spare boards, losses by package, less what is there."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.ordering.parts.sheets import amount, read_sheet, whole
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, there
from zesty_trace.errors import InputError
from zesty_trace.names import shorten


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


# Tiny parts fly, and stick to the tape; large ones do not: common practice, to be edited. The first that holds counts.
LOSSES = (
    Loss("*0402", 10, 10), Loss("*0603", 5, 5), Loss("*0805", 5, 3), Loss("*1206", 3, 2), Loss("SOT", 3, 2),
    Loss("SC-70", 3, 2), Loss("D-SOD", 3, 2), Loss("MELF", 5, 3), Loss("CT-", 3, 2), Loss("R-axial", 3, 2),
    Loss("DO-", 3, 2), Loss("Ceramic-disc", 3, 2), Loss("TO-92", 3, 2), Loss("LED", 3, 2), Loss("", 0, 0),
)  # fmt: skip


def read_losses(text: str, name: str) -> tuple[Loss, ...]:
    """Return the losses of a table `package,percent,least`, before the usual ones. InputError."""
    found = []
    for line, row in read_sheet(text, name, ("package", "percent", "least"), ("package", "percent", "least")):
        where = f"{name} line {line}"
        percent = float(amount(row["percent"], where, "percent", 400))
        found.append(Loss(row["package"], percent, whole(row["least"], where, "least", 0, 100_000)))
    return (*found, *LOSSES)


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

    @property
    def wanted(self) -> int:
        """How many there must be when building begins."""
        return self.fitted + self.spare + self.loss

    @property
    def stocked(self) -> int:
        """How many of them are in drawers."""
        return sum(count for _, count in self.drawers)

    @property
    def buy(self) -> int:
        """How many are bought at least."""
        return max(0, self.wanted - self.stocked)

    @property
    def words(self) -> str:
        """The sum in words."""
        parts = [f"{self.fitted} fitted"]
        parts += [f"{self.spare} for spare boards"] if self.spare else []
        parts += [f"{self.loss} for losses"] if self.loss else []
        parts += [f"{self.stocked} there"] if self.stocked else []
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


def needs(
    wired: Wired,
    batch: Mapping[str, int],
    spare_boards: int = 0,
    drawers: Sequence[Drawer] = (),
    losses: Sequence[Loss] = LOSSES,
) -> list[Need]:
    """Return every sort of part that the boards take, most pieces first; drawers are given to one need after another.

    Spare boards are of the fullest variant. InputError for an unknown variant.
    """
    design = wired.design
    counts: dict[tuple[str, str, str], dict[str, int]] = {}
    sorts: dict[tuple[str, str, str], Sort] = {}
    refs: dict[tuple[str, str, str], dict[str, None]] = {}
    exact: dict[tuple[str, str, str], bool] = {}
    fullest = max(batch, key=lambda v: len(design.fitted(v).parts), default="")
    for variant, boards in [*batch.items(), *([(fullest, -spare_boards)] if spare_boards else [])]:
        known_variant(design, variant)
        for ref, part in design.fitted(variant).parts.items():
            kind = wired.kind(ref)
            if not kind.assembled:
                continue
            sort = Sort(part.kind, part.value, part.package or kind.packages[0])
            key = sort.key
            sorts.setdefault(key, sort)
            refs.setdefault(key, {})[ref] = None
            exact[key] = exact.get(key, False) or kind.facts.exact or "exact" in part.notes.lower().split()
            tally = counts.setdefault(key, {"fitted": 0, "spare": 0})
            tally["spare" if boards < 0 else "fitted"] += abs(boards)
    left = {k: d.count for k, d in enumerate(drawers)}
    found = []
    for key in sorted(counts, key=lambda k: (-counts[k]["fitted"], sorts[k])):
        sort, tally = sorts[key], counts[key]
        loss = loss_of(sort.package, tally["fitted"] + tally["spare"], losses)
        taken = _from_drawers(sort, exact[key], tally["fitted"] + tally["spare"] + loss, drawers, left)
        title = wired.catalogue.kind(sort.kind).title
        found.append(
            Need(sort, title, tuple(refs[key]), tally["fitted"], tally["spare"], loss, tuple(taken), exact[key])
        )
    return [n for n in found if n.wanted]


def loss_of(package: str, count: int, losses: Sequence[Loss] = LOSSES) -> int:
    """Return how many more are needed of a package: its share, rounded up, and at least the least."""
    if not count:
        return 0
    rule = next((loss for loss in losses if loss.holds(package)), None)
    return max(rule.least, math.ceil(round(count * rule.percent / 100, 9))) if rule is not None else 0


def _from_drawers(
    sort: Sort, exact: bool, wanted: int, drawers: Sequence[Drawer], left: dict[int, int]
) -> list[tuple[Drawer, int]]:
    taken = []
    fitting = there(drawers, sort, exact)
    for drawer in fitting:
        k = next(i for i, d in enumerate(drawers) if d is drawer)
        count = min(wanted, left[k])
        if count > 0:
            taken.append((drawer, count))
            left[k] -= count
            wanted -= count
    return taken


def read_batch(words: Sequence[str]) -> dict[str, int]:
    """Return variant -> boards of `Full=8 Basic=4`. InputError."""
    found: dict[str, int] = {}
    for word in words:
        name, equals, count = word.rpartition("=")
        if not equals:
            raise InputError(f"“{shorten(word)}” says no count", word, "Write VARIANT=8")
        found[name] = whole(count, word, "boards", 0, 100_000)
    return found
