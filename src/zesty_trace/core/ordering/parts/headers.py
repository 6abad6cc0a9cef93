"""Headers and sockets that are cut from strips: which they are, what there is to cut, what is bought, what is left.

For each sort of strip either strips are bought and all pieces cut, or what strips that are there yield is cut and the
rest bought as pieces. Leftovers in the drawers are strips too: a `header_17` in the package `Header-1x17` is what is
left of one of 40.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from zesty_trace.core.ordering.parts.need import Need
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer, put
from zesty_trace.core.ordering.parts.strips import LOST, STRIP, CutList, Strip, cut_strips
from zesty_trace.core.quantities import say_count
from zesty_trace.errors import InputError

KIND = re.compile(r"(header|socket)_(?:(\d)x)?(\d{1,3})")
PACKAGE = re.compile(r"Header-(\d)x(\d{1,3})")
TITLES = {"header": "Pin header strip", "socket": "Socket strip"}


class Form(NamedTuple):
    """What a strip is: "header" or "socket", its rows, its positions."""

    word: str
    rows: int
    positions: int

    @property
    def sort(self) -> Sort:
        """How drawers and offers name it."""
        rows = "" if self.rows == 1 else f"{self.rows}x"
        return Sort(f"{self.word}_{rows}{self.positions}", "", f"Header-{self.rows}x{self.positions}")

    @property
    def title(self) -> str:
        """What it is called."""
        rows = "" if self.rows == 1 else f", {self.rows} rows"
        return f"{TITLES[self.word]} of {self.positions}{rows}"


def form_of(sort: Sort) -> Form | None:
    """Return what strip a sort is, whole or left over; None for another part."""
    match = KIND.fullmatch(sort.kind)
    if match is None or (sort.package and not PACKAGE.fullmatch(sort.package)):
        return None
    return Form(match[1], int(match[2] or 1), int(match[3]))


Pieces = tuple[tuple[Need, int], ...]


@dataclass(frozen=True)
class Cutting:
    """The pieces of one sort of strip, how all of them are cut, and the strips to buy for that (a need of none).

    `there` are the pieces that strips which are there yield if none is bought: as many pieces as can be.
    """

    pieces: Pieces
    plan: CutList
    strip: Need
    there: Pieces = ()

    @property
    def words(self) -> str:
        """What the strips become, in words."""
        counts: Counter[int] = Counter()
        for need, count in self.pieces:
            counts[positions_of(need)] += count
        return "cut into " + ", ".join(f"{count} of {n}" for n, count in sorted(counts.items(), reverse=True))

    @property
    def of_what_is_there(self) -> Cutting:
        """The cutting without strips that are bought."""
        return replace(self, pieces=self.there, strip=replace(self.strip, fitted=0))


def positions_of(need: Need) -> int:
    """Return how many positions a piece has. InputError for a part that is in no header's package."""
    match = PACKAGE.fullmatch(need.sort.package)
    if match is None:
        raise InputError(f"{need.sort} is not cut from a strip", need.sort.package, "Headers and sockets are")
    return int(match[2])


def remaining(drawers: Iterable[Drawer], needs: Iterable[Need]) -> list[Drawer]:
    """Return the drawers with what no need takes out of them."""
    taken: Counter[int] = Counter()
    for need in needs:
        for drawer, count in (*need.drawers, *need.awaited):
            taken[id(drawer)] += count
    return [replace(d, count=d.count - taken[id(d)]) for d in drawers]


def cuttings(needs: Sequence[Need], left: Sequence[Drawer], lengths: Iterable[Sort] = ()) -> list[Cutting]:
    """Return how the headers and sockets that are wanted are cut from strips; bought ones have 40 positions.

    `left` are drawers that no need takes from; `lengths` are strips that are offered: where there are none of 40, the
    longest counts. InputError for more pieces than can be weighed.
    """
    groups: dict[tuple[str, int], list[Need]] = {}
    for need in needs:
        match = PACKAGE.fullmatch(need.sort.package)
        if need.strip and match is not None and need.buy:
            groups.setdefault((need.strip, int(match[1])), []).append(need)
    offered = [f for f in map(form_of, lengths) if f is not None]
    found = []
    for (word, rows), pieces in groups.items():
        wanted: Counter[int] = Counter()
        for need in pieces:
            wanted[positions_of(need)] += need.buy
        there: Counter[int] = Counter()
        for drawer in left:
            form = form_of(drawer.sort)
            if form is not None and (form.word, form.rows) == (word, rows) and drawer.count:
                there[form.positions] += drawer.count
        sold = {f.positions for f in offered if (f.word, f.rows) == (word, rows)}
        longest = max(STRIP if STRIP in sold else max(sold, default=STRIP), *wanted)
        strips = [Strip(n, c, bought=False) for n, c in sorted(there.items())]
        plan = cut_strips(wanted, [*strips, Strip(longest)], LOST[word])
        form, refs = Form(word, rows, longest), tuple(dict.fromkeys(r for n in pieces for r in n.refs))
        yields = _yield(wanted, strips, LOST[word]) if plan.bought else Counter(wanted)
        strip = Need(form.sort, form.title, refs, plan.bought, 0, 0)
        found.append(Cutting(tuple((n, n.buy) for n in pieces), plan, strip, _shared(pieces, yields)))
    return found


def _yield(wanted: Mapping[int, int], strips: Sequence[Strip], lost: int) -> Counter[int]:
    """Return the most pieces that strips which are there yield, by positions."""
    if not strips:
        return Counter()
    found = cut_strips(wanted, [*strips, *(Strip(n, whole=True) for n in wanted)], lost)
    return Counter(n for c in found.cuts if not c.bought for n in c.pieces)


def _shared(pieces: Sequence[Need], yields: Counter[int]) -> Pieces:
    """Return pieces of each length given to one need after another."""
    found, left = [], Counter(yields)
    for need in pieces:
        count = min(need.buy, left[positions_of(need)])
        left[positions_of(need)] -= count
        found += [(need, count)] if count else []
    return tuple(found)


def cut(drawers: Sequence[Drawer], found: Iterable[Cutting], place: str = "") -> list[Drawer]:
    """Return the drawers after cutting: strips out, pieces and leftovers in. InputError if strips are not there."""
    filled = list(drawers)
    for c in found:
        if c.plan.bought:
            hint = "Unpack them first"
            raise InputError(f"{say_count(c.plan.bought, 'strip')} of {c.strip.title} must come first", "cut", hint)
        still = {n.sort: count for n, count in c.pieces}
        form = form_of(c.strip.sort)
        assert form is not None
        for one in c.plan.cuts:
            filled = put(filled, form._replace(positions=one.length).sort, -1)
            for piece in one.pieces:
                sort = next(n.sort for n, _ in c.pieces if positions_of(n) == piece and still[n.sort])
                still[sort] -= 1
                filled = put(filled, sort, 1, place)
            if one.left:
                filled = put(filled, form._replace(positions=one.left).sort, 1, place, "left of a strip")
    return [d for d in filled if d.count or form_of(d.sort) is None]
