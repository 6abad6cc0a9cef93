"""What changed between two designs, in words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from zesty_trace.core.design.edits import subject_of
from zesty_trace.core.design.model import Acceptance, Design, Pin
from zesty_trace.core.design.references import lapsed
from zesty_trace.core.quantities import mm


def describe_changes(old: Design, new: Design) -> list[str]:
    """Return one sentence for each difference; an empty list if the two are equal."""
    if old == new:
        return []
    return [*_facts(old, new), *_parts(old, new), *_nets(old, new), *_board(old, new), *_rest(old, new)]


def _facts(old: Design, new: Design) -> Iterator[str]:
    for field in ("name", "revision", "variants"):
        if getattr(old, field) != getattr(new, field):
            yield f"{field}: {getattr(old, field)} became {getattr(new, field)}"
    for group in ("brief", "build"):
        before, after = getattr(old, group), getattr(new, group)
        for fact in msgspec.structs.fields(before):
            a, b = getattr(before, fact.name), getattr(after, fact.name)
            if a != b:
                yield f"{group}, {fact.name}: {_short(a)} became {_short(b)}"


def _parts(old: Design, new: Design) -> Iterator[str]:
    for ref in sorted(new.parts.keys() - old.parts.keys()):
        yield f"{ref} added ({new.parts[ref].kind} {new.parts[ref].value})".replace(" )", ")")
    for ref in sorted(old.parts.keys() - new.parts.keys()):
        yield f"{ref} removed"
    for ref in sorted(old.parts.keys() & new.parts.keys()):
        a, b = old.parts[ref], new.parts[ref]
        for field in msgspec.structs.fields(a):
            before, after = getattr(a, field.name), getattr(b, field.name)
            if before != after:
                yield f"{ref}, {field.name}: {_short(before)} became {_short(after)}"


def _nets(old: Design, new: Design) -> Iterator[str]:
    before, after = old.net_of(), new.net_of()
    renamed = {
        a: b
        for a, pins in old.nets.items()
        for b in new.nets
        if a != b and a not in new.nets and b not in old.nets and new.nets[b] == pins
    }
    for a, b in renamed.items():
        yield f"net {a} is now called {b}"
    for pin in sorted(before.keys() | after.keys()):
        was, now = before.get(pin), after.get(pin)
        if was == now or (was in renamed and renamed[was] == now):
            continue
        if pin.ref not in new.parts or pin.ref not in old.parts:
            continue
        yield _moved(pin, was, now)
    opened = sorted(set(new.not_connected) - set(old.not_connected))
    if opened:
        yield f"left open on purpose: {_list(map(str, opened))}"


def _moved(pin: Pin, a: str | None, b: str | None) -> str:
    if a is None:
        return f"{pin} connected to {b}"
    if b is None:
        return f"{pin} taken off {a}"
    return f"{pin} moved from {a} to {b}"


def _board(old: Design, new: Design) -> Iterator[str]:
    if old.board.outline != new.board.outline:
        yield "board outline changed"
    a, b = old.board.placements, new.board.placements
    for ref in sorted(a.keys() & b.keys()):
        if a[ref] != b[ref]:
            yield f"{ref} now at {mm(b[ref].x_nm):.2f}, {mm(b[ref].y_nm):.2f} mm, {b[ref].side}"
    if fresh := sorted(b.keys() - a.keys()):
        yield f"placed: {_list(fresh)}"
    for what in ("tracks", "vias", "pours"):
        before, after = len(getattr(old.board, what)), len(getattr(new.board, what))
        if getattr(old.board, what) != getattr(new.board, what):
            yield f"{what}: {before} became {after}"
    if old.board.rules != new.board.rules:
        yield "board rules changed"


def _rest(old: Design, new: Design) -> Iterator[str]:
    if old.sheet != new.sheet:
        moved = sorted(r for r in old.sheet.keys() | new.sheet.keys() if old.sheet.get(r) != new.sheet.get(r))
        yield f"moved on the sheet: {_list(moved)}"
    for what in ("states", "timeline", "measured", "options", "pages"):
        before, after = getattr(old, what), getattr(new, what)
        if before != after:
            yield f"{what}: {len(before)} became {len(after)}" if len(before) != len(after) else f"{what} changed"
    if old.images != new.images:
        yield f"images: {_list(i.file for i in new.images)}"
    for item in new.accepted:
        if item not in old.accepted:
            yield f"accepted ({item.reason}): {say_acceptance(item)}"
    about = {subject_of(a) for a in new.accepted}
    gone = lapsed(old, new)
    for item in old.accepted:
        if subject_of(item) not in about and item in gone:
            yield f"counts again: {say_acceptance(item)}"
    for note in new.changes:
        if note not in old.changes:
            yield f"{'dealt with' if note.done else 'to do'}: {note.text}"


def _short(value: object) -> str:
    text = str(value)
    return text if len(text) <= 60 else text[:57] + "..."


def _list(words: Iterable[str]) -> str:
    found = list(words)
    return ", ".join(found[:8]) + (f" and {len(found) - 8} more" if len(found) > 8 else "") or "none"


def say_acceptance(item: Acceptance) -> str:
    """Return what was accepted in words: the rule, and what it is about."""
    about = ", ".join([*item.refs, *map(str, item.pins), *item.nets, *([item.which] if item.which else [])])
    return f"{item.rule}: {about}" if about else item.rule
