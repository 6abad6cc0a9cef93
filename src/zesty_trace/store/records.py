"""Records of the boards that were built: what happened to each serial number, in SQLite. Events are only added.

Each event carries a checksum over itself and the one before it, so that what was changed, taken out or slipped in can
be found; that is done whenever records are opened. How many events there must be stands in `records.head` beside the
file and, out of the project's reach, in the user's own data folder (`known`). A copy is kept each day.
"""

from __future__ import annotations

import dataclasses
import os
import sqlite3
import tempfile
import threading
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import (
    URL,
    Connection,
    Engine,
    RowMapping,
    create_engine,
    event,
    insert,
    select,
    text,
)
from sqlalchemy.exc import SQLAlchemyError

from zesty_trace.errors import InputError, StoreError, ZestyError
from zesty_trace.files import exists_inside, is_plain, make_folder, names_inside, read_inside, write_inside
from zesty_trace.names import check_name, check_text
from zesty_trace.store.board import (
    DEVICE_KINDS,
    KINDS,
    BoardEvent,
    BoardRecord,
    EventKind,
    serial_number,
)
from zesty_trace.store.chain import LOG, SEALS, START, checksum_of, end_of, plain_json, write_event
from zesty_trace.store.checking import Checked, check_chain
from zesty_trace.store.known import Known, Stamp, Taken, begin, keep, look_up, stamp_of
from zesty_trace.store.migrations import NewerRecords, bring_up
from zesty_trace.store.payloads import Made, Told, made_of, payload_of
from zesty_trace.store.signing import load_key

FILE, HEAD, BACKUPS = "records.sqlite", "records.head", "backups"
BACKUPS_KEPT = 14
SIDE_FILES = ("-wal", "-shm", "-journal")


class RecordsDamaged(StoreError):
    """The records cannot be trusted. `backups` are the names of the copies that can be brought back, newest first.

    `takeable` tells that what is there can be read, and taken as it is by somebody who knows why it is other.
    """

    def __init__(self, message: str, where: str, backups: Sequence[str], takeable: bool = False) -> None:
        hint = f"The copy {backups[0]} can be brought back" if backups else "Put a copy back in its place"
        super().__init__(message, where, hint)
        self.backups = tuple(backups)
        self.takeable = takeable


NOT_CHECKED = "the records are still being checked"


class Records:
    """The records of the project in `folder`. RecordsDamaged if they cannot be trusted; StoreError if not opened.

    What is wrong with events that are there is said in `wrong`; while anything is, or with `check` False nothing was
    checked yet, no board of them stands as passed. In a folder that cannot be written they are read from a copy.
    """

    def __init__(self, folder: Path, today: date | None = None, check: bool = True) -> None:
        self.folder, self.path = folder, folder / FILE
        self._read = 0  # the newest event that is kept below
        self._made: dict[str, Made] = {}
        self._events: dict[str, list[BoardEvent]] = {}
        self._boards: dict[str, BoardRecord] = {}
        self._reading = threading.RLock()
        self._copy: tempfile.TemporaryDirectory[str] | None = None
        self.checked = Checked()
        self._distrust = NOT_CHECKED
        self._stamp: Stamp | None = None  # of the file as it was when its chain was checked
        self._refuse_odd_files()
        fresh = not exists_inside(folder, FILE)
        self._key = load_key()
        self._known = known = look_up(folder)
        if fresh:
            _refuse_if_gone(folder, known)
        self.read_only = not (os.access(folder, os.W_OK) and (fresh or os.access(self.path, os.W_OK)))
        stamp = stamp_of(self.path)
        if self.read_only:
            self._read_from_copy(fresh)
        else:
            self._known = begin(folder, known)
        self._engine: Engine = create_engine(
            URL.create("sqlite", database=str(self.path)), connect_args={"timeout": 10}
        )
        event.listen(self._engine, "connect", _on_connect)
        event.listen(self._engine, "begin", _on_begin)
        try:
            self._open(fresh, stamp, today, check)
        except StoreError as error:
            self._let_go()
            if isinstance(error, RecordsDamaged | NewerRecords) or fresh:
                raise
            raise RecordsDamaged(error.message, str(self.path), backup_names(folder)) from error

    def _open(self, fresh: bool, stamp: Stamp | None, today: date | None, check: bool) -> None:
        known = self._known
        same = not fresh and stamp is not None and known is not None and known.stamp == stamp
        self._stamp = stamp if same or check else None
        with in_words("opened", str(self.path)):
            if not fresh and not same:
                self._quick_check()
            with self._engine.begin() as link:
                bring_up(link, str(self.path))
        self._hold_against_head()
        self._hold_against_known()
        if known is not None and (same or fresh):
            self._trust(Checked((), (), known.count, known.checksum or START))
        elif check:
            self.check()
        if not fresh and not self.read_only:
            self._keep_backup(today or date.today())

    def _read_from_copy(self, fresh: bool) -> None:
        """Read a copy of what is in a folder that cannot be written: SQLite needs to write beside its file."""
        if fresh:
            raise StoreError("There are no records, and none can be begun here", str(self.folder), "Check its rights")
        self._copy = tempfile.TemporaryDirectory(prefix="zt-records-")
        for name in (FILE, *(FILE + end for end in SIDE_FILES if end != "-shm")):
            if exists_inside(self.folder, name):
                (Path(self._copy.name) / name).write_bytes(read_inside(self.folder, name, "records"))
        self.path = Path(self._copy.name) / FILE

    def _let_go(self) -> None:
        self._engine.dispose()
        if self._copy is not None:
            self._copy.cleanup()

    @property
    def wrong(self) -> tuple[str, ...]:
        """What is wrong with the events, in words; nothing if each is as it was written, or nothing was checked yet."""
        return self.checked.wrong

    @property
    def distrust(self) -> str:
        """Why no board of these records stands as passed; "" if they can be trusted."""
        return self._distrust

    def check(self) -> Checked:
        """Check the chain from its first event on, which may take a second, and trust it or not. StoreError."""
        known = self._known
        seen = (known.count, known.checksum) if known is not None else (0, "")
        before = stamp_of(self.path)
        with in_words("checked", str(self.path)):
            found = check_chain(self.path, self._key, seen)
        self._stamp = before
        self._trust(found)
        return found

    def _trust(self, found: Checked) -> None:
        self.checked = found
        self._distrust = f"the records were changed: {found.wrong[0]}" if found.wrong else ""
        with self._reading:
            boards = {s: dataclasses.replace(b, distrust=self._distrust) for s, b in self._boards.items()}
            self._boards = boards

    def _refuse_odd_files(self) -> None:
        for name in (FILE, *(FILE + end for end in SIDE_FILES)):
            if exists_inside(self.folder, name) and not is_plain(self.folder, name):
                raise StoreError(f"{name} is no regular file", str(self.folder / name), "Take it out of the folder")

    def _quick_check(self) -> None:
        with self._engine.connect() as link:
            said = link.execute(text("PRAGMA quick_check(1)")).scalar()
        if said != "ok":
            raise RecordsDamaged("The records are damaged", str(self.path), backup_names(self.folder))

    def _hold_against_head(self) -> None:
        """Refuse records that lack events which were there, by the count and checksum kept beside them."""
        head = _head_of(self.folder)
        if head is None:
            self._write_head()
        elif head[0]:
            self._must_hold(*head, "they had")

    def _hold_against_known(self) -> None:
        """Refuse records that lack events which this computer has seen written."""
        if self._known is not None and self._known.count:
            self._must_hold(self._known.count, self._known.checksum, "that this computer has seen")

    def _must_hold(self, count: int, checksum: str, which: str) -> None:
        with in_words("read", str(self.path)), self._engine.connect() as link:
            found = link.execute(select(LOG.c.checksum).where(LOG.c.id == count)).scalar()
        if found is None:
            words = f"The records hold fewer than the {count} events {which}"
            raise RecordsDamaged(words, str(self.path), backup_names(self.folder), takeable=True)
        if found != checksum:
            words = f"Event {count} of the records is not the one that was written"
            raise RecordsDamaged(words, str(self.path), backup_names(self.folder), takeable=True)

    def _write_head(self) -> None:
        """Write down how far the records go, beside them and in the user's own folder."""
        with self._engine.connect() as link:
            count, checksum = end_of(link)
        if self.read_only:
            return
        with suppress(OSError):
            write_inside(self.folder, HEAD, f"{count} {checksum}\n".encode())
        if self._known is not None:
            fresh = msgspec.structs.replace(self._known, count=count, checksum=checksum, at=time_now(), stamp=None)
            self._known = fresh
            keep(fresh)

    def _keep_backup(self, today: date) -> None:
        """Keep one copy a day, the newest few; what fails here is no reason not to go on."""
        name = f"records-{today.isoformat()}.sqlite"
        try:
            make_folder(self.folder, BACKUPS)
            known = names_inside(self.folder, BACKUPS, ".sqlite")
            if name in known:
                return
            write_inside(self.folder, f"{BACKUPS}/{name}", self.snapshot())
            for old in sorted([*known, name])[:-BACKUPS_KEPT]:
                (self.folder / BACKUPS / old).unlink(missing_ok=True)
        except (OSError, ZestyError, sqlite3.Error):
            return

    def snapshot(self) -> bytes:
        """Return the whole records as the bytes of a database file."""
        with closing(sqlite3.connect(self.path)) as source, closing(sqlite3.connect(":memory:")) as copy:
            source.backup(copy)
            return copy.serialize()

    def add_boards(self, revision: str, variant: str, numbers: Iterable[int]) -> list[str]:
        """Make sure that these boards are in the records, as boards of a variant; return their serial numbers.

        StoreError, and none is added, if one of them is there as a board of another variant.
        """
        serials = [serial_number(check_name(revision, "revision", "records"), n) for n in numbers]
        known = {b.serial: b for b in self.boards(revision)}
        for serial in serials:
            if serial in known and known[serial].variant != variant:
                raise StoreError(
                    f"{serial} is a board of the variant {known[serial].variant or 'for all'}, not "
                    f"{variant or 'for all'}",
                    serial,
                    "Choose that variant, or another board",
                )
        fresh = [s for s in serials if s not in known]
        if fresh:
            made = Made(revision=revision, variant=variant)
            self._append([(s, "made", "", f"rev {revision} {variant}".strip(), made) for s in fresh])
        return serials

    def add(self, serial: str, kind: EventKind, summary: str, verdict: str = "", told: Told | None = None) -> None:
        """Add an event. StoreError for a serial number that is not in the records, or an unknown kind."""
        self.add_all([serial], kind, summary, verdict, told)

    def add_all(
        self, serials: list[str], kind: EventKind, summary: str, verdict: str = "", told: Told | None = None
    ) -> None:
        """Add the same event to several boards, all or none, in one write. StoreError as for `add`."""
        words = ", ".join(serials)
        if kind not in KINDS or kind == "made":
            raise StoreError(f"“{kind}” is no kind of event to add", words, f"Known: {', '.join(KINDS[1:])}")
        if verdict not in ("", "pass", "fail", "open"):
            raise StoreError(f"“{verdict}” is no verdict", words, "pass, fail or open")
        if kind in DEVICE_KINDS and (told is None or told.source not in ("real", "simulated")):
            raise StoreError("The event does not say whether it is real or simulated", words, "Please report this")
        known = {b.serial for b in self.boards()}
        for serial in serials:
            if serial not in known:
                raise StoreError(
                    f"The event was not recorded: there is no board {serial}", serial, "Add the board first"
                )
        if serials:
            self._append([(s, kind, verdict, summary, told or Told()) for s in serials])

    def _append(self, rows: Sequence[tuple[str, str, str, str, Told | Made]]) -> None:
        if self.read_only:
            raise StoreError("Nothing can be recorded here", str(self.folder), "The folder can only be read")
        serials = ", ".join(r[0] for r in rows)
        with in_words("recorded", serials), self._engine.begin() as link:
            number, checksum = before = end_of(link)
            now = time_now()
            for serial, kind, verdict, summary, told in rows:
                number += 1
                plain = plain_json(msgspec.to_builtins(told), serial)
                words = check_text(summary[:1000], serial)
                checksum = checksum_of(checksum, serial, now, kind, verdict, words, plain)
                write_event(link, number, checksum, serial, now, kind, verdict, words, plain)
            self._seal(link, number, checksum)
        self._follow(before, (number, checksum))
        self._write_head()

    def _seal(self, link: Connection, number: int, checksum: str) -> None:
        """Sign the newest event, where the user has a key."""
        if self._key is not None:
            signature = self._key.sign(number, checksum)
            link.execute(insert(SEALS).values(event=number, public=self._key.public, signature=signature))

    def _follow(self, before: tuple[int, str], after: tuple[int, str]) -> None:
        """Count what was just written as checked, where it continues what was."""
        if (self.checked.count, self.checked.checksum) == before:
            count, checksum = after
            self.checked = dataclasses.replace(self.checked, count=count, checksum=checksum)

    def boards(self, revision: str | None = None) -> list[BoardRecord]:
        """Return the boards with their events, by serial number. StoreError if the records cannot be read.

        Events are only added, so what was read before is kept and only what came since is read.
        """
        with self._reading, in_words("read", str(self.path)), self._engine.connect() as link:
            rows = link.execute(select(LOG).where(LOG.c.id > self._read).order_by(LOG.c.id)).mappings().all()
            self._check_new(rows)
            touched = {self._take(row) for row in rows}
            for serial in touched & self._made.keys():
                made, events = self._made[serial], tuple(self._events.get(serial, ()))
                self._boards[serial] = BoardRecord(serial, made.revision, made.variant, events, self._distrust)
            if touched:
                self._boards = dict(sorted(self._boards.items()))
            return [b for b in self._boards.values() if revision is None or b.revision == revision]

    def _check_new(self, rows: Sequence[RowMapping]) -> None:
        """Check events that came since the chain was checked: another program may have written them."""
        for row in rows:
            last = self.checked
            if self._distrust:
                return
            if row["id"] <= last.count:
                continue
            fields = (row["serial"], row["at"], row["kind"], row["verdict"], row["summary"], row["data"])
            if row["id"] != last.count + 1 or checksum_of(last.checksum, *fields) != row["checksum"]:
                said = f"Event {row['id']} ({row['serial']}, {row['kind']}, {row['at']}) was changed"
                self._trust(dataclasses.replace(last, wrong=(said,)))
                return
            self.checked = dataclasses.replace(last, count=row["id"], checksum=row["checksum"])

    def _take(self, row: RowMapping) -> str:
        """Add one row of the log to what is kept; return its serial number."""
        serial = str(row["serial"])
        self._read = int(row["id"])
        if row["kind"] == "made":
            self._made.setdefault(serial, made_of(row["data"]))
        else:
            told = payload_of(row["kind"], row["data"])
            found = BoardEvent(serial, row["at"], row["kind"], row["verdict"], row["summary"], told)
            self._events.setdefault(serial, []).append(found)
        return serial

    def verify(self) -> list[str]:
        """Return what is wrong with the chain of events, in words; nothing if every event is as it was written."""
        return list(self.check().wrong)

    @property
    def taken(self) -> tuple[Taken, ...]:
        """When and why records other than the known ones were taken at this computer."""
        return self._known.taken if self._known is not None else ()

    def count(self) -> int:
        """Return how many events there are."""
        with in_words("read", str(self.path)), self._engine.connect() as link:
            return end_of(link)[0]

    def close(self) -> None:
        """Let go of the file, and remember that it was checked as it is now.

        What was written here is checked once more before: another program may have changed an older event meanwhile.
        """
        self._let_go()
        if self.read_only or self._known is None or self._distrust or not exists_inside(self.folder, FILE):
            return
        stamp = stamp_of(self.path)
        if stamp is not None and stamp != self._stamp:
            with suppress(StoreError):
                self.check()
        if stamp is None or stamp != self._stamp or self._distrust:
            return
        fresh = {"count": self.checked.count, "checksum": self.checked.checksum, "stamp": stamp}
        if any(getattr(self._known, field) != value for field, value in fresh.items()):
            keep(msgspec.structs.replace(self._known, at=self._known.at or time_now(), **fresh))


def _head_of(folder: Path) -> tuple[int, str] | None:
    """Return the count and checksum of the head beside the records; None where there is none."""
    try:
        words = read_inside(folder, HEAD, "words").decode("ascii", "replace").split()
    except InputError:
        return None
    return (int(words[0]), words[1]) if len(words) == 2 and words[0].isdigit() else (0, "")


def _refuse_if_gone(folder: Path, known: Known | None) -> None:
    """Refuse to begin new records where there were some. RecordsDamaged says what is known of them."""
    copies, head = backup_names(folder), _head_of(folder)
    if known is not None and known.count:
        words = f"The records are gone: {known.count} events were seen on this computer, the last on {known.at[:10]}"
    elif head is not None and head != (0, START):
        words = f"The records are gone: {head[0]} events were there" if head[0] else "The records are gone"
    elif head is None and copies:
        words = "The records are gone, and copies of them are there"
    else:
        return
    raise RecordsDamaged(words, str(folder / FILE), copies)


def backup_names(folder: Path) -> list[str]:
    """Return the names of the daily copies, newest first."""
    try:
        return sorted(names_inside(folder, BACKUPS, ".sqlite"), reverse=True)
    except StoreError:
        return []
    except InputError:
        return []


def time_now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@contextmanager
def in_words(what: str, where: str) -> Iterator[None]:
    """Turn what the database says into the project's own words."""
    try:
        yield
    except (SQLAlchemyError, sqlite3.Error, ValueError, TypeError, OverflowError) as error:
        if isinstance(error, ZestyError):
            raise StoreError(error.message, error.where, error.hint) from error
        said = str(getattr(error, "orig", error))[:200]
        raise StoreError(f"The records cannot be {what}: {said}", where, "Check the disk and the file") from error


def _on_connect(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions are begun by _on_begin
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=FULL")
    cursor.execute("PRAGMA recursive_triggers=ON")
    cursor.execute("PRAGMA trusted_schema=OFF")
    cursor.close()


def _on_begin(link: Connection) -> None:
    link.exec_driver_sql("BEGIN IMMEDIATE")
