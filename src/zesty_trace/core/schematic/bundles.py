"""Numbered groups of signals (A0..A14, D0..D7) drawn as one bundle: a thick line with a named tap for each signal."""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from zesty_trace.core.geometry import Box
from zesty_trace.core.schematic.letters import TAG_SIZE, text_width
from zesty_trace.core.schematic.sheet import Spot
from zesty_trace.core.schematic.symbols import Symbol, SymbolPin

_NUMBERED = re.compile(r"^(.*\D)(\d{1,3})$")
LEAST = 4  # signals of a group, and pins of a run; fewer are as well drawn one by one
NAME_ABOVE = 2.2  # of a bundle's name, over its first tap
NAME_UP = 0.8  # of a tap's name, over its line
ROWS_APART = 3  # pins of a run are no farther from each other


def numbered_groups(nets: Iterable[str]) -> dict[str, str]:
    """Return net -> name of its group, of the groups that have enough signals."""
    found: dict[str, list[str]] = defaultdict(list)
    for net in nets:
        if match := _NUMBERED.match(net):
            found[match.group(1)].append(net)
    return {net: group for group, members in found.items() if len(members) >= LEAST for net in members}


def span_name(nets: Iterable[str]) -> str:
    """Return what a bundle is called: D0…D7."""
    ordered = sorted(nets, key=lambda n: (len(n), n))
    return f"{ordered[0]}…{ordered[-1]}"


@dataclass(frozen=True)
class Run:
    """Pins below each other on one side of a box, all of one group."""

    ref: str
    group: str
    pins: tuple[SymbolPin, ...]
    nets: tuple[str, ...]

    @property
    def way(self) -> int:
        """1 to the right, -1 to the left."""
        return 1 if self.pins[0].side == "right" else -1

    @property
    def reach(self) -> int:
        """How long each tap is, up to where it bends into the bundle, grid units."""
        return math.ceil(max(text_width(n, TAG_SIZE) for n in self.nets)) + 1

    def bar(self, x: int, y: int) -> tuple[Spot, Spot]:
        """Return the upper and the lower end of the bundle beside a box at (x, y)."""
        at = x + self.pins[0].x + self.way * (self.reach + 1)
        ys = [y + p.y for p in self.pins]
        return (at, min(ys)), (at, max(ys) + 1)

    def room(self, x: int, y: int) -> Box:
        """Return the room that taps, bundle and its name need beside a box at (x, y)."""
        (at, top), (_, low) = self.bar(x, y)
        pin = x + self.pins[0].x
        half = text_width(span_name(self.nets), TAG_SIZE) / 2 + 0.3
        left, right = min(pin, at - half), max(pin, at + half)
        return Box(left, top - NAME_ABOVE - 0.9, right, low + 1.2)


def runs_of(ref: str, symbol: Symbol, net_at: Callable[[str], str], groups: Mapping[str, str]) -> list[Run]:
    """Return the runs of a box; `net_at` gives the net of a pin by its number."""
    if symbol.look != "box" or not groups:
        return []
    found = []
    for side in ("left", "right"):
        column = sorted((p for p in symbol.pins if p.side == side), key=lambda p: p.y)
        run: list[SymbolPin] = []
        for pin in column:
            group = groups.get(net_at(pin.number), "")
            if run and (group != groups[net_at(run[0].number)] or pin.y - run[-1].y > ROWS_APART):
                found.append(run)
                run = []
            if group:
                run.append(pin)
        found.append(run)
    return [
        Run(ref, groups[net_at(run[0].number)], tuple(run), tuple(net_at(p.number) for p in run))
        for run in found
        if len(run) >= LEAST
    ]
