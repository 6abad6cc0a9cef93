"""Records of the boards that were built: what happened to each serial number, in SQLite. Events are only added.

Each event carries a checksum over itself and the one before it, so that what was changed, taken out or slipped in can
be found (`verify`). `records.head` beside the file says how many events there must be. A copy is kept each day.
"""

from __future__ import annotations

import sqlite3
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
    func,
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
from zesty_trace.store.chain import LOG, START, checksum_of, end_of, plain_json, write_event
from zesty_trace.store.migrations import NewerRecords, bring_up
from zesty_trace.store.payloads import Made, Told, made_of, payload_of

FILE, HEAD, BACKUPS = "records.sqlite", "records.head", "backups"
BACKUPS_KEPT = 14
_SIDE_FILES = ("-wal", "-shm", "-journal")


class RecordsDamaged(StoreError):
    """The records cannot be trusted. `backups` are the names of the copies that can be brought back, newest first."""

    def __init__(self, message: str, where: str, backups: Sequence[str]) -> None:
        hint = f"The copy {backups[0]} can be brought back" if backups else "Put a copy back in its place"
        super().__init__(message, where, hint)
        self.backups = tuple(backups)


class Records:
    """The records of the project in `folder`. RecordsDamaged if they cannot be trusted; StoreError if not opened."""

    def __init__(self, folder: Path, today: date | None = None) -> None:
        self.folder, self.path = folder, folder / FILE
        self._read = 0  # the newest event that is kept below
        self._made: dict[str, Made] = {}
        self._events: dict[str, list[BoardEvent]] = {}
        self._boards: dict[str, BoardRecord] = {}
        self._reading = threading.Lock()
        self._refuse_odd_files()
        fresh = not exists_inside(folder, FILE)
        if fresh and exists_inside(folder, HEAD):
            raise RecordsDamaged("The records are gone", str(self.path), backup_names(folder))
        self._engine: Engine = create_engine(
            URL.create("sqlite", database=str(self.path)), connect_args={"timeout": 10}
        )
        event.listen(self._engine, "connect", _on_connect)
        event.listen(self._engine, "begin", _on_begin)
        try:
            with _told("opened", str(self.path)):
                if not fresh:
                    self._quick_check()
                with self._engine.begin() as link:
                    bring_up(link, str(self.path))
            self._hold_against_head()
            if not fresh:
                self._keep_backup(today or date.today())
        except StoreError as error:
            self._engine.dispose()
            if isinstance(error, RecordsDamaged | NewerRecords) or fresh:
                raise
            raise RecordsDamaged(error.message, str(self.path), backup_names(folder)) from error

    def _refuse_odd_files(self) -> None:
        for name in (FILE, *(FILE + end for end in _SIDE_FILES)):
            if exists_inside(self.folder, name) and not is_plain(self.folder, name):
                raise StoreError(f"{name} is no regular file", str(self.folder / name), "Take it out of the folder")

    def _quick_check(self) -> None:
        with self._engine.connect() as link:
            said = link.execute(text("PRAGMA quick_check(1)")).scalar()
        if said != "ok":
            raise RecordsDamaged("The records are damaged", str(self.path), backup_names(self.folder))

    def _hold_against_head(self) -> None:
        """Refuse records that lack events which were there, by the count and checksum kept beside them."""
        try:
            words = read_inside(self.folder, HEAD, "words").decode("ascii", "replace").split()
        except InputError:
            self._write_head()
            return
        count, checksum = (int(words[0]), words[1]) if len(words) == 2 and words[0].isdigit() else (0, "")
        if count == 0:
            return
        with self._engine.connect() as link:
            found = link.execute(select(LOG.c.checksum).where(LOG.c.id == count)).scalar()
        if found is None:
            raise RecordsDamaged(
                f"The records hold fewer than the {count} events they had", str(self.path), backup_names(self.folder)
            )
        if found != checksum:
            raise RecordsDamaged(
                f"Event {count} of the records is not the one that was written",
                str(self.path),
                backup_names(self.folder),
            )

    def _write_head(self) -> None:
        with self._engine.connect() as link:
            count, checksum = end_of(link)
        with suppress(OSError):
            write_inside(self.folder, HEAD, f"{count} {checksum}\n".encode())

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
        serials = ", ".join(r[0] for r in rows)
        with _told("recorded", serials), self._engine.begin() as link:
            number, checksum = end_of(link)
            now = max(_now(), str(link.execute(select(func.max(LOG.c.at))).scalar() or ""))
            for serial, kind, verdict, summary, told in rows:
                number += 1
                plain = plain_json(msgspec.to_builtins(told), serial)
                words = check_text(summary[:1000], serial)
                checksum = checksum_of(checksum, serial, now, kind, verdict, words, plain)
                write_event(link, number, checksum, serial, now, kind, verdict, words, plain)
        self._write_head()

    def boards(self, revision: str | None = None) -> list[BoardRecord]:
        """Return the boards with their events, by serial number. StoreError if the records cannot be read.

        Events are only added, so what was read before is kept and only what came since is read.
        """
        with self._reading, _told("read", str(self.path)), self._engine.connect() as link:
            rows = link.execute(select(LOG).where(LOG.c.id > self._read).order_by(LOG.c.id)).mappings().all()
            touched = {self._take(row) for row in rows}
            for serial in touched & self._made.keys():
                made, events = self._made[serial], tuple(self._events.get(serial, ()))
                self._boards[serial] = BoardRecord(serial, made.revision, made.variant, events)
            if touched:
                self._boards = dict(sorted(self._boards.items()))
            return [b for b in self._boards.values() if revision is None or b.revision == revision]

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
        wrong: list[str] = []
        checksum, number, at = START, 0, ""
        with _told("read", str(self.path)), self._engine.connect() as link:
            for row in link.execute(select(LOG).order_by(LOG.c.id)).mappings():
                if row["id"] != number + 1:
                    wrong.append(f"Events {number + 1} to {row['id'] - 1} are missing")
                number = row["id"]
                checksum = checksum_of(
                    checksum, row["serial"], row["at"], row["kind"], row["verdict"], row["summary"], row["data"]
                )
                if checksum != row["checksum"]:
                    wrong.append(f"Event {number} ({row['serial']}, {row['kind']}, {row['at']}) was changed")
                    checksum = row["checksum"]
                if row["at"] < at:
                    wrong.append(f"Event {number} ({row['serial']}) is dated before the one that it follows")
                at = row["at"]
        return wrong

    def count(self) -> int:
        """Return how many events there are."""
        with _told("read", str(self.path)), self._engine.connect() as link:
            return end_of(link)[0]

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()


def has_records(folder: Path) -> bool:
    """Whether a project has, or had, records."""
    return exists_inside(folder, FILE) or exists_inside(folder, HEAD)


def backup_names(folder: Path) -> list[str]:
    """Return the names of the daily copies, newest first."""
    try:
        return sorted(names_inside(folder, BACKUPS, ".sqlite"), reverse=True)
    except StoreError:
        return []
    except InputError:
        return []


def bring_back(folder: Path, backup: str) -> Path | None:
    """Put a daily copy, or with "" nothing, in the place of damaged records; return where those are kept.

    StoreError.
    """
    kept: Path | None = None
    try:
        data = read_inside(folder, f"{BACKUPS}/{backup}", "archive") if backup else b""
        stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
        for name in (FILE, *(FILE + end for end in _SIDE_FILES), HEAD):
            if exists_inside(folder, name):
                target = folder / f"damaged-{stamp}-{name}"
                (folder / name).rename(target)
                kept = target if name == FILE else kept
        if data:
            write_inside(folder, FILE, data)
    except ZestyError as error:
        raise StoreError(error.message, error.where, error.hint) from error
    except OSError as error:
        raise StoreError(f"Could not bring it back: {error.strerror}", str(folder), "Check the folder") from error
    return kept


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@contextmanager
def _told(what: str, where: str) -> Iterator[None]:
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
