"""Edits: functions from a design to a design. None changes its argument; each raises EditError if it cannot apply."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

from msgspec.structs import replace

from zesty_trace.core.design.model import (
    Acceptance,
    ChangeNote,
    Design,
    Face,
    ImageSpec,
    Part,
    Pin,
    Placement,
    Pour,
    SheetSpot,
    Track,
    Via,
)
from zesty_trace.core.design.references import forget, rename, without_empty_nets
from zesty_trace.errors import EditError

NET_NAME = re.compile(r"^[A-Za-z0-9_+\-/.#]{1,40}$")


def set_brief(design: Design, **facts: Any) -> Design:
    """Change fields of the brief by name."""
    return replace(design, brief=replace(design.brief, **facts))


def set_build(design: Design, **facts: Any) -> Design:
    """Change how the batch is made."""
    return replace(design, build=replace(design.build, **facts))


def set_batch(design: Design, batch: Mapping[str, int]) -> Design:
    """Say how many boards are built of each variant; the brief's quantity becomes their sum. EditError for none."""
    boards = sum(batch.values())
    if boards < 1:
        raise EditError("A batch needs at least one board", "batch", "Say how many of one variant")
    return set_brief(set_build(design, batch=dict(batch)), quantity=boards)


def set_name(design: Design, name: str) -> Design:
    """Rename the project."""
    if not name.strip():
        raise EditError("The board needs a name", "name", "Type one or more letters")
    return replace(design, name=name.strip())


def add_part(design: Design, part: Part) -> Design:
    """Add a part under a reference that is still free."""
    if part.ref in design.parts:
        raise EditError(f"{part.ref} is there already", part.ref, "Choose another reference")
    return replace(design, parts={**design.parts, part.ref: part})


def add_fresh_part(design: Design, part: Part) -> tuple[Design, str]:
    """Add a part, under the next free reference of its letters if its own is taken; return the reference too."""
    if part.ref in design.parts:
        part = replace(part, ref=fresh_ref(design, part.ref.rstrip("0123456789")))
    return add_part(design, part), part.ref


def change_part(design: Design, ref: str, **facts: Any) -> Design:
    """Change the value, package, block, variants or notes of a part."""
    return replace(design, parts={**design.parts, ref: replace(_part(design, ref), **facts)})


def remove_part(design: Design, ref: str) -> Design:
    """Take a part out, with all that names it."""
    _part(design, ref)
    return forget(design, "part", [ref])


def connect(design: Design, pin: Pin, net: str) -> Design:
    """Put `pin` on `net`, taking it off any other net. The net is made if it is new."""
    _part(design, pin.ref)
    if not NET_NAME.match(net):
        raise EditError(f"“{net}” cannot name a net", net, "Use letters, digits and _ + - / . #, up to 40 of them")
    nets = {n: tuple(p for p in pins if p != pin) for n, pins in design.nets.items()}
    nets[net] = tuple(sorted({*nets.get(net, ()), pin}))
    free = tuple(p for p in design.not_connected if p != pin)
    return without_empty_nets(replace(design, nets=nets, not_connected=free))


def disconnect(design: Design, pin: Pin) -> Design:
    """Take `pin` off its net."""
    nets = {n: tuple(p for p in pins if p != pin) for n, pins in design.nets.items()}
    return without_empty_nets(replace(design, nets=nets))


def join_pins(design: Design, a: Pin, b: Pin) -> Design:
    """Connect two pins: free pins join the other's net; two nets become one, keeping the more telling name."""
    net_of = design.net_of()
    net_a, net_b = net_of.get(a), net_of.get(b)
    if net_a and net_b:
        return design if net_a == net_b else merge_nets(design, net_a, net_b)
    name = net_a or net_b or fresh_net(design, f"{a.ref}_{a.number}")
    return connect(connect(design, a, name), b, name)


def merge_nets(design: Design, a: str, b: str) -> Design:
    """Make one net of two; the net with more pins gives its name, and what names the other follows."""
    keep, drop = (a, b) if len(design.nets[a]) >= len(design.nets[b]) else (b, a)
    nets = {n: p for n, p in design.nets.items() if n != drop}
    nets[keep] = tuple(sorted({*design.nets[a], *design.nets[b]}))
    return rename(replace(design, nets=nets), "net", {drop: keep})


def rename_net(design: Design, old: str, new: str) -> Design:
    """Give a net another name; EditError if the name is taken."""
    if old not in design.nets:
        raise EditError(f"There is no net {old}", old, "Check the name in the wiring list")
    if new in design.nets:
        raise EditError(f"{new} is another net", new, "Choose a free name, or connect the two")
    if not NET_NAME.match(new):
        raise EditError(f"“{new}” cannot name a net", new, "Use letters, digits and _ + - / . #")
    return rename(design, "net", {old: new})


def leave_open(design: Design, pin: Pin) -> Design:
    """Say that `pin` is meant to stay unconnected."""
    _part(design, pin.ref)
    return replace(disconnect(design, pin), not_connected=tuple(sorted({*design.not_connected, pin})))


def move_on_sheet(design: Design, spots: Mapping[str, tuple[int, int]]) -> Design:
    """Keep the user's spots on the sheet, in grid units."""
    moved = {ref: SheetSpot(x=x, y=y) for ref, (x, y) in spots.items()}
    return replace(design, sheet={**design.sheet, **moved})


def forget_sheet(design: Design, refs: Iterable[str] | None = None) -> Design:
    """Let the sheet arrange itself again; with `refs`, only these parts."""
    gone = set(design.sheet if refs is None else refs)
    return replace(design, sheet={r: s for r, s in design.sheet.items() if r not in gone})


def set_outline(design: Design, points: Iterable[tuple[int, int]]) -> Design:
    """Give the board its outline, a closed polygon of at least three corners."""
    outline = tuple(points)
    if len(outline) < 3:
        raise EditError("An outline needs three corners or more", "outline", "Draw more corners")
    return replace(design, board=replace(design.board, outline=outline, cutouts=(), form=None))


def place(design: Design, ref: str, placement: Placement) -> Design:
    """Put a part on the board. Copper stays where it is; the review tells what no longer fits."""
    _part(design, ref)
    return set_board(design, placements={**design.board.placements, ref: placement})


def nudge(design: Design, ref: str, dx_nm: int = 0, dy_nm: int = 0, turn_mdeg: int = 0, flip: bool = False) -> Design:
    """Move, turn or flip a placed part. EditError if it is not on the board yet."""
    spot = design.board.placements.get(ref)
    if spot is None:
        raise EditError(f"{ref} is not on the board yet", ref, "Place the rest first")
    other: Face = "bottom" if spot.side == "top" else "top"
    moved = replace(
        spot,
        x_nm=spot.x_nm + dx_nm,
        y_nm=spot.y_nm + dy_nm,
        angle_mdeg=(spot.angle_mdeg + turn_mdeg) % 360_000,
        side=other if flip else spot.side,
    )
    return place(design, ref, moved)


def set_board(design: Design, **facts: Any) -> Design:
    """Change fields of the board by name. EditError for copper on a board that has that of given files."""
    given = facts.get("given", design.board.given)
    if given and any(facts.get(f) for f in ("tracks", "vias", "pours")):
        raise EditError(
            f"The copper of this board is that of {given}: none can be drawn here",
            "layout",
            "Let go of the given files in Order first, to draw it anew",
        )
    return replace(design, board=replace(design.board, **facts))


def set_copper(design: Design, tracks: Iterable[Track], vias: Iterable[Via], pours: Iterable[Pour]) -> Design:
    """Replace all routed copper."""
    return set_board(design, tracks=tuple(tracks), vias=tuple(vias), pours=tuple(pours))


def let_go_of_files(design: Design) -> Design:
    """Draw the copper here from now on, anew, instead of taking that of given files. EditError if there are none."""
    if not design.board.given:
        raise EditError("The board has no given files", "order", "Its copper is drawn in Layout already")
    placed = {ref: replace(spot, fixed=False) for ref, spot in design.board.placements.items()}
    return set_board(design, given="", placements=placed)


def unplace(design: Design, refs: Iterable[str]) -> Design:
    """Take parts off the board; they stay in the design."""
    gone = set(refs)
    return set_board(design, placements={r: s for r, s in design.board.placements.items() if r not in gone})


def without_machine_copper(design: Design) -> Design:
    """Take off the copper that the machine made; what is made by hand or locked stays."""
    board = design.board
    tracks, vias = (t for t in board.tracks if t.kept), (v for v in board.vias if v.kept)
    return set_board(design, tracks=tuple(tracks), vias=tuple(vias))


def rip_up(design: Design) -> Design:
    """Take all tracks, vias and pours off the board."""
    return set_copper(design, (), (), ())


def set_images(design: Design, images: Iterable[ImageSpec]) -> Design:
    """Say which firmware images belong to the board."""
    return replace(design, images=tuple(images))


def note_change(design: Design, text: str) -> Design:
    """Keep a point for the next revision."""
    if not text.strip():
        raise EditError("The note is empty", "note", "Type what the next revision should do better")
    return replace(design, changes=(*design.changes, ChangeNote(text=text.strip())))


def tick_change(design: Design, index: int, done: bool) -> Design:
    """Mark a point of the change list as dealt with, or not."""
    notes = list(design.changes)
    notes[index] = replace(notes[index], done=done)
    return replace(design, changes=tuple(notes))


def accept(design: Design, acceptance: Acceptance) -> Design:
    """Keep an acceptance, in the place of an earlier one about the same. EditError without a reason."""
    reason = acceptance.reason.strip()
    if not reason:
        raise EditError("A finding is accepted with a reason", acceptance.rule, "Type why it is all right as it is")
    others = take_back(design, acceptance).accepted
    return replace(design, accepted=(*others, replace(acceptance, reason=reason)))


def take_back(design: Design, acceptance: Acceptance) -> Design:
    """Let what was accepted count again."""
    about = subject_of(acceptance)
    return replace(design, accepted=tuple(a for a in design.accepted if subject_of(a) != about))


def subject_of(item: Acceptance) -> tuple[object, ...]:
    """Return what an acceptance is about: the same for two that stand for one finding."""
    return item.rule, frozenset(item.refs), frozenset(item.pins), frozenset(item.nets), item.which


def next_revision(design: Design) -> Design:
    """Return the design as the start of its next revision.

    A becomes B, Z AA, 2.1 becomes 2.2, any other name name-2.
    """
    return replace(design, revision=next_name(design.revision))


def next_name(revision: str) -> str:
    """Return the name that follows a revision's.

    >>> [next_name(r) for r in ("A", "Z", "AZ", "1", "2.9", "b", "Revision 1", "proto_")]
    ['B', 'AA', 'BA', '2', '2.10', 'c', 'Revision 2', 'proto_-2']
    """
    if match := re.fullmatch(r"(.*?)([0-9]+)", revision):
        return f"{match.group(1)}{int(match.group(2)) + 1}"
    if not re.fullmatch(r"[A-Z]{1,6}|[a-z]{1,6}", revision):
        return f"{revision}-2" if revision else "A"
    number = 1
    for place, letter in enumerate(reversed(revision.upper())):
        number += (ord(letter) - 64) * 26**place
    name = ""
    while number > 0:
        number, rest = divmod(number - 1, 26)
        name = chr(65 + rest) + name
    return name.lower() if revision.islower() else name


def fresh_net(design: Design, wish: str) -> str:
    """Return `wish`, or the first of wish_2, wish_3 ... that is free."""
    wish = re.sub(r"[^A-Za-z0-9_+\-/.#]", "_", wish)
    name, count = wish, 1
    while name in design.nets:
        count += 1
        name = f"{wish}_{count}"
    return name


def fresh_ref(design: Design, prefix: str) -> str:
    """Return the first free reference with this prefix: R1, R2 ..."""
    number = 1
    while f"{prefix}{number}" in design.parts:
        number += 1
    return f"{prefix}{number}"


def _part(design: Design, ref: str) -> Part:
    try:
        return design.parts[ref]
    except KeyError:
        raise EditError(f"There is no part {ref}", ref, "Check the reference") from None


__all__ = [
    "accept",
    "add_fresh_part",
    "add_part",
    "change_part",
    "connect",
    "disconnect",
    "forget_sheet",
    "fresh_net",
    "fresh_ref",
    "join_pins",
    "leave_open",
    "merge_nets",
    "move_on_sheet",
    "next_revision",
    "note_change",
    "nudge",
    "place",
    "remove_part",
    "rename_net",
    "rip_up",
    "set_board",
    "set_brief",
    "set_build",
    "set_copper",
    "set_images",
    "set_name",
    "set_outline",
    "subject_of",
    "take_back",
    "tick_change",
]
