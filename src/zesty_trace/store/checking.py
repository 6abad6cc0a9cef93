"""Checking the chain of events: is each as it was written, is each signed that ought to be, did the clock jump."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from json.encoder import encode_basestring
from pathlib import Path

from zesty_trace.store.chain import START
from zesty_trace.store.payloads import fields_of
from zesty_trace.store.signing import Key, holds

STEP_BACK_S, AHEAD_S = 60.0, 86_400.0
MOST_WRONG = 50
Row = tuple[int, str, str, str, str, str, str, str]  # number, checksum, serial, at, kind, verdict, summary, data


@dataclass(frozen=True)
class Checked:
    """What was found: what is wrong, what is odd but not wrong, and the newest event with its checksum."""

    wrong: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    count: int = 0
    checksum: str = START
    sealed: int = 0


def check_chain(path: Path, key: Key | None = None, known: tuple[int, str] = (0, ""), now: str = "") -> Checked:
    """Check every event of a database, in order; `known` is an event that must be there, with its checksum.

    sqlite3.Error for a file that cannot be read.
    """
    wrong: list[str] = []
    remarks: list[str] = []
    latest = now or datetime.now(UTC).isoformat(timespec="milliseconds")
    number, checksum, before_at = 0, START, ""
    sums: dict[int, str] = {}
    with closing(sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True)) as link:
        seals = _seals(link)
        for row in _rows(link):
            event = f"Event {row[0]} ({row[2]}, {row[4]}, {row[3]})"
            if row[0] != number + 1:
                wrong.append(f"Events {number + 1} to {row[0] - 1} are missing")
            number = row[0]
            found = _checksum(checksum, row)
            if found != row[1]:
                wrong.append(f"{event} was changed")
            checksum = row[1]
            if number in seals:
                sums[number] = found
            if number == known[0] and row[1] != known[1]:
                wrong.append(f"{event} is not the one that this computer has seen written")
            remarks += _clock(event, row[3], before_at, latest)
            before_at = row[3]
        sealed = _check_seals(seals, sums, key, wrong)
        if key is not None:
            wrong += _unsigned(link, sealed, key)
    if known[0] > number:
        wrong.append(f"There are {number} events, {known[0]} were seen on this computer: the last ones are missing")
    return Checked(tuple(wrong[:MOST_WRONG]), tuple(remarks[:MOST_WRONG]), number, checksum, sealed)


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path))


def _rows(link: sqlite3.Connection) -> Iterator[Row]:
    yield from link.execute("SELECT id, checksum, serial, at, kind, verdict, summary, data FROM log ORDER BY id")


def _checksum(before: str, row: Row) -> str:
    """Return what `chain.checksum_of` gives, on the short way: JSON of a list of strings."""
    try:
        plain = "[" + ", ".join(map(encode_basestring, (before, *row[2:]))) + "]"
    except TypeError:
        return ""  # a field is no text: nobody wrote it so
    return hashlib.sha256(plain.encode("utf-8", "surrogatepass")).hexdigest()


def _clock(event: str, at: str, before: str, latest: str) -> list[str]:
    """Return that the clock was set back before an event, or that the event is dated after today."""
    here, last, today = _time(at), _time(before), _time(latest)
    if here is None:
        return [f"{event} has no time that can be read"]
    if last is not None and (last - here).total_seconds() > STEP_BACK_S:
        return [f"Before {event[0].lower()}{event[1:]} the clock was set back by {_span(last - here)}"]
    if today is not None and (here - today).total_seconds() > AHEAD_S and (last is None or last <= today):
        return [f"{event} is dated {_span(here - today)} after now: the clock was ahead, or is behind"]
    return []


def _time(text: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text)
    except (ValueError, TypeError):
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _span(span: timedelta) -> str:
    seconds = span.total_seconds()
    for size, word in ((86_400, "days"), (3600, "hours"), (60, "minutes")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {word}"
    return f"{seconds:.0f} s"


def _seals(link: sqlite3.Connection) -> dict[int, list[tuple[str, str]]]:
    """Return the signatures (public key, signature) by the number of their event; none in records without them."""
    if not link.execute("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'seals'").fetchone():
        return {}
    found: dict[int, list[tuple[str, str]]] = {}
    for number, public, signature in link.execute("SELECT event, public, signature FROM seals ORDER BY event"):
        found.setdefault(int(number), []).append((str(public), str(signature)))
    return found


def _check_seals(
    seals: dict[int, list[tuple[str, str]]], sums: dict[int, str], key: Key | None, wrong: list[str]
) -> int:
    """Note the signatures that do not hold; return the newest event that the user's own key has signed."""
    own = 0
    for number, signed in seals.items():
        for public, signature in signed:
            if number not in sums:
                wrong.append(f"Event {number} was signed, and is not there")
            elif not holds(public, signature, number, sums[number]):
                wrong.append(f"Event {number} is not the one that was signed (key {public[:16]})")
            elif key is not None and public == key.public:
                own = max(own, number)
    return own


def _unsigned(link: sqlite3.Connection, sealed: int, key: Key) -> list[str]:
    """Return that events of the key's owner, written since they have the key, lack its signature."""
    rows = link.execute("SELECT id, data FROM log WHERE id > ? AND at >= ? ORDER BY id", (sealed, key.made))
    numbers = [int(number) for number, data in rows if str(fields_of(str(data)).get("who", "")) == key.who]
    if not numbers:
        return []
    which = f"Event {numbers[0]} is" if len(numbers) == 1 else f"Events {numbers[0]} to {numbers[-1]} are"
    return [f"{which} said to be by {key.who} and not signed by the key {key.short}, which signs what they write"]
