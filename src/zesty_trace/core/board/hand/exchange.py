"""Equal things exchanged where that makes links shorter: parts, channels of a chip, and the ends of a resistor."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from msgspec.structs import replace

from zesty_trace.core.board.copper import pattern_of, to_board
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin, Placement

ROUNDS = 4
INSIDE = ("R", "C", "L", "D", "Q", "U", "FB", "RN")  # prefixes of parts that nobody plugs, presses or looks at
MEMORY = {"A", "D"}  # what is written in it depends on which is which
LEAST_MM = 0.05  # what is shorter by less than this is left as it is
_NUMBERED = re.compile(r"^([A-Za-z]+?)(\d+)([+-]?)$")


@dataclass(frozen=True)
class Exchanged:
    """The design, what was exchanged in words, which parts moved, and the length of all links before and after, mm."""

    design: Design
    words: tuple[str, ...]
    refs: frozenset[str]
    before_mm: float
    after_mm: float


def exchange_equal(wired: Wired) -> Exchanged:
    """Exchange equal parts, equal channels and the ends of plain two-pin parts where the links become shorter.

    Held parts stay; the circuit is the same afterwards: what is exchanged is equal, pin by pin.
    """
    board = _Board(wired)
    before = board.total()
    words: list[str] = []
    moved: set[str] = set()
    for _ in range(ROUNDS):
        some = False
        for said, refs, nets in (*board.turns(), *board.pairs(), *board.channels()):
            old = board.length(nets)
            undo = board.do(said)
            if board.length(nets) < old - LEAST_MM:
                words.append(_say(said))
                moved |= refs
                some = True
            else:
                board.undo(undo)
        if not some:
            break
    return Exchanged(board.design(), tuple(words), frozenset(moved), before, board.total())


Move = tuple[str, str, str, str]  # what, and up to three names: ("swap", "R1", "R2", "")


def _say(move: Move) -> str:
    what, a, b, c = move
    if what == "swap":
        return f"{a} and {b} change places"
    if what == "turn":
        return f"{a} is turned about"
    return f"channels {b} and {c} of {a} change places"


class _Board:
    """Pads and nets as they are being exchanged."""

    def __init__(self, wired: Wired) -> None:
        self.wired = wired
        self.spots: dict[str, Placement] = {
            r: p for r, p in wired.design.board.placements.items() if r in wired.design.parts
        }
        self.net_of = {pin: net for pin, net in wired.net_of.items() if pin.ref in self.spots}
        self.left_open = list(wired.design.not_connected)
        self.pins: dict[str, list[Pin]] = {}
        for pin, net in self.net_of.items():
            self.pins.setdefault(net, []).append(pin)

    def place_of(self, pin: Pin) -> tuple[float, float]:
        """Return where a pin's first pad is, mm."""
        pads = pattern_of(self.wired, pin.ref).pads
        pad = next((p for p in pads if p.number == pin.number), pads[0])
        x, y = to_board(self.spots[pin.ref], pad.x_nm, pad.y_nm)
        return x / 1e6, y / 1e6

    def length(self, nets: frozenset[str]) -> float:
        """Return half the perimeter of the boxes round nets, mm: what placing goes by as well."""
        total = 0.0
        for net in nets:
            places = [self.place_of(p) for p in self.pins.get(net, ())]
            if len(places) > 1:
                xs, ys = zip(*places, strict=True)
                total += max(xs) - min(xs) + max(ys) - min(ys)
        return total

    def total(self) -> float:
        """Return the length of all links."""
        return self.length(frozenset(n for n in self.pins if n != self.wired.ground))

    def _nets(self, *refs: str) -> frozenset[str]:
        return frozenset(n for p, n in self.net_of.items() if p.ref in refs and n != self.wired.ground)

    def _free(self) -> list[str]:
        return [r for r, p in self.spots.items() if not p.fixed and self.wired.kind(r).assembled]

    def turns(self) -> Iterator[tuple[Move, frozenset[str], frozenset[str]]]:
        """Yield plain two-pin parts that may be turned about."""
        for ref in self._free():
            kind = self.wired.kind(ref)
            plain = kind.is_a(m.Resistor, m.FixedResistor, m.Capacitor) and len(kind.pins) == 2 and not kind.polarity
            if plain and len(pattern_of(self.wired, ref).pads) == 2:
                yield ("turn", ref, "", ""), frozenset((ref,)), self._nets(ref)

    def pairs(self) -> Iterator[tuple[Move, frozenset[str], frozenset[str]]]:
        """Yield pairs of equal parts on one face; what a hand or an eye looks for by its place is left there."""
        alike: dict[tuple[object, ...], list[str]] = {}
        for ref in self._free():
            part, kind = self.wired.part(ref), self.wired.kind(ref)
            if kind.connector or kind.prefix not in INSIDE or kind.is_a(m.Led):
                continue
            package, face = self.wired.package(ref).id, self.spots[ref].side
            key = (part.kind, part.value, package, face, part.variants, part.raised_nm, part.stands_on)
            alike.setdefault(key, []).append(ref)
        for refs in alike.values():
            for i, a in enumerate(refs):
                for b in refs[i + 1 :]:
                    yield ("swap", a, b, ""), frozenset((a, b)), self._nets(a, b)

    def channels(self) -> Iterator[tuple[Move, frozenset[str], frozenset[str]]]:
        """Yield pairs of equal channels of a chip."""
        for ref in self.spots:
            numbers = sorted(channels_of(self.wired.kind(ref)))
            for i, a in enumerate(numbers):
                for b in numbers[i + 1 :]:
                    yield ("channel", ref, a, b), frozenset((ref,)), self._nets(ref)

    def do(self, move: Move) -> Move:
        """Exchange; return what takes it back: the same again."""
        what, a, b, c = move
        if what == "swap":
            self.spots[a], self.spots[b] = self.spots[b], self.spots[a]
        elif what == "turn":
            spot = self.spots[a]
            self.spots[a] = replace(spot, angle_mdeg=(spot.angle_mdeg + 180_000) % 360_000)
        else:
            groups = channels_of(self.wired.kind(a))
            for one, two in zip(groups[b], groups[c], strict=True):
                self._exchange_nets(Pin(a, one), Pin(a, two))
        return move

    def undo(self, move: Move) -> None:
        """Take an exchange back."""
        self.do(move)

    def _exchange_nets(self, one: Pin, two: Pin) -> None:
        nets = self.net_of.pop(one, ""), self.net_of.pop(two, "")
        for net, old in ((nets[0], one), (nets[1], two)):
            if net:
                self.pins[net].remove(old)
        for net, new in ((nets[0], two), (nets[1], one)):
            if net:
                self.pins[net].append(new)
                self.net_of[new] = net

        other = {one: two, two: one}
        self.left_open = [other.get(p, p) for p in self.left_open]

    def design(self) -> Design:
        """Return the design as exchanged."""
        design = self.wired.design
        for ref, spot in self.spots.items():
            if design.board.placements[ref] != spot:
                design = edits.place(design, ref, spot)
        now = {**self.wired.net_of, **self.net_of}
        gone = [p for p in self.wired.net_of if p.ref in self.spots and p not in self.net_of]
        moved = [p for p, net in now.items() if self.wired.net_of.get(p) != net]
        for pin in {*gone, *moved}:
            if pin in self.wired.net_of:
                design = _off(design, pin)
        for pin in moved:
            design = _on(design, pin, now[pin])
        return design if not moved else replace(design, not_connected=tuple(self.left_open))


def _off(design: Design, pin: Pin) -> Design:
    net = design.net_of().get(pin)
    if net is None:
        return design
    return replace(design, nets={**design.nets, net: tuple(p for p in design.nets[net] if p != pin)})


def _on(design: Design, pin: Pin, net: str) -> Design:
    return replace(design, nets={**design.nets, net: (*design.nets.get(net, ()), pin)})


def channels_of(kind: Kind) -> dict[str, tuple[str, ...]]:
    """Return the equal channels of a kind by their number: pins in the order of their names without it.

    Channels are equal if the same names with other numbers have the same roles, an input and what it drives in each.
    What a program addresses by number - a controller, a memory, an expander on a bus - has none; an output or a
    Darlington pair that an input switches must be in each.
    """
    if kind.target or kind.bus is not None or kind.is_a(m.Controller):
        return {}
    found: dict[str, list[tuple[str, str, str]]] = {}
    for spec in kind.pins:
        match = _NUMBERED.match(spec.name)
        if match:
            found.setdefault(match[2], []).append((match[1] + match[3], spec.role, spec.number))
    shapes = {number: tuple(sorted((stem, role) for stem, role, _ in pins)) for number, pins in found.items()}
    most = max(shapes.values(), key=lambda s: sum(v == s for v in shapes.values()), default=())
    stems, roles = {stem for stem, _ in most}, [role for _, role in most]
    drives = "output" in roles or any(e.type == "darlington" for e in kind.elements)
    if len(stems) < 2 or len(stems) < len(most) or "input" not in roles or not drives or stems == MEMORY:
        return {}
    if any(set(shape) > set(most) for shape in shapes.values()):
        return {}  # one of them has an enable of its own, say: its half of the chip is not like the other
    equal = {n: tuple(number for _, _, number in sorted(pins)) for n, pins in found.items() if shapes[n] == most}
    return equal if len(equal) > 1 else {}
