"""What can be built with what is there: how many boards, and which part stops the next one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, there


@dataclass(frozen=True)
class Buildable:
    """Boards of a variant that the drawers hold parts for, and what the next one lacks: sort, how many, where used."""

    variant: str
    boards: int
    lacks: tuple[tuple[Sort, int, tuple[str, ...]], ...]


def buildable(wired: Wired, variant: str, drawers: Sequence[Drawer], most: int) -> Buildable:
    """Return how many of up to `most` boards of a variant can be built; losses are not counted in."""
    counts: Counter[tuple[str, str, str]] = Counter()
    sorts: dict[tuple[str, str, str], Sort] = {}
    refs: dict[tuple[str, str, str], list[str]] = {}
    for ref, part in wired.design.fitted(variant).parts.items():
        kind = wired.kind(ref)
        if kind.assembled:
            sort = Sort(part.kind, part.value, part.package or kind.packages[0])
            counts[sort.key] += 1
            sorts.setdefault(sort.key, sort)
            refs.setdefault(sort.key, []).append(ref)
    boards, high = 0, most
    while boards < high:
        middle = (boards + high + 1) // 2
        if _enough(counts, sorts, drawers, middle):
            boards = middle
        else:
            high = middle - 1
    lacks = []
    if boards < most:
        left = {k: d.count for k, d in enumerate(drawers)}
        for key, count in counts.items():
            short = _take(sorts[key], count * (boards + 1), drawers, left)
            if short:
                lacks.append((sorts[key], short, tuple(refs[key])))
    return Buildable(variant, boards, tuple(lacks))


def _enough(
    counts: Counter[tuple[str, str, str]],
    sorts: dict[tuple[str, str, str], Sort],
    drawers: Sequence[Drawer],
    boards: int,
) -> bool:
    left = {k: d.count for k, d in enumerate(drawers)}
    return not any(_take(sorts[key], count * boards, drawers, left) for key, count in counts.items())


def _take(sort: Sort, wanted: int, drawers: Sequence[Drawer], left: dict[int, int]) -> int:
    """Take parts out of the drawers; return how many are short."""
    for drawer in there(drawers, sort):
        k = next(i for i, d in enumerate(drawers) if d is drawer)
        taken = min(wanted, left[k])
        left[k] -= taken
        wanted -= taken
    return wanted
