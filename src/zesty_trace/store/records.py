"""Records of the boards that were built: serial numbers and what happened to each, in SQLite. Events are only added."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import (
    JSON,
    Column,
    Engine,
    ForeignKey,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    event,
    insert,
    select,
    text,
)
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.pool import StaticPool

from zesty_trace.errors import StoreError

EventKind = Literal["assembled", "flashed", "measured", "reworked", "note"]
KINDS: tuple[EventKind, ...] = ("assembled", "flashed", "measured", "reworked", "note")
_META = MetaData()
BOARDS = Table(
    "boards", _META,
    Column("serial", String, primary_key=True),
    Column("revision", String, nullable=False),
    Column("variant", String, nullable=False),
    Column("made_at", String, nullable=False),
)  # fmt: skip
EVENTS = Table(
    "events", _META,
    Column("id", Integer, primary_key=True),
    Column("serial", String, ForeignKey("boards.serial"), nullable=False, index=True),
    Column("at", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("verdict", String, nullable=False),
    Column("summary", String, nullable=False),
    Column("data", JSON, nullable=False),
)  # fmt: skip
_APPEND_ONLY = [
    f"CREATE TRIGGER IF NOT EXISTS events_no_{verb.lower()} BEFORE {verb} ON events "
    "BEGIN SELECT RAISE(ABORT, 'events are only added'); END"
    for verb in ("UPDATE", "DELETE")
]


@dataclass(frozen=True)
class BoardEvent:
    """One thing that happened to a board. `verdict` is pass, fail or empty."""

    serial: str
    at: str
    kind: str
    verdict: str
    summary: str
    data: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class BoardRecord:
    """A board and its events, oldest first."""

    serial: str
    revision: str
    variant: str
    events: tuple[BoardEvent, ...]

    def last(self, kind: str) -> BoardEvent | None:
        """Return the newest event of a kind."""
        return next((e for e in reversed(self.events) if e.kind == kind), None)

    @property
    def verdict(self) -> str:
        """pass or fail by the last measurement, or open."""
        measured = self.last("measured")
        return measured.verdict if measured else "open"


def serial_number(revision: str, number: int) -> str:
    """Return the serial number of board `number` of a revision: `A-001`."""
    return f"{revision}-{number:03d}"


class Records:
    """The records of one project. Without a path they are kept in memory only, while a damaged file is put right."""

    def __init__(self, path: Path | None) -> None:
        if path is None:
            self._engine: Engine = create_engine(
                "sqlite://", connect_args={"check_same_thread": False}, poolclass=StaticPool
            )
        else:
            self._engine = create_engine(f"sqlite:///{path}")
        event.listen(self._engine, "connect", _pragmas)
        try:
            _META.create_all(self._engine)
            with self._engine.begin() as link:
                for statement in _APPEND_ONLY:
                    link.execute(text(statement))
        except SQLAlchemyError as error:
            raise StoreError(
                f"The records cannot be read: {error}", str(path), "Put a copy back in its place"
            ) from error

    def add_boards(self, revision: str, variant: str, numbers: Iterable[int]) -> list[str]:
        """Make sure that these boards are in the records; return their serial numbers."""
        serials = [serial_number(revision, n) for n in numbers]
        with self._engine.begin() as link:
            known = set(link.execute(select(BOARDS.c.serial)).scalars())
            fresh = [s for s in serials if s not in known]
            if fresh:
                now = _now()
                rows = [{"serial": s, "revision": revision, "variant": variant, "made_at": now} for s in fresh]
                link.execute(insert(BOARDS), rows)
        return serials

    def add(
        self, serial: str, kind: EventKind, summary: str, verdict: str = "", data: dict[str, Any] | None = None
    ) -> None:
        """Add an event. StoreError for a serial number that is not in the records, or an unknown kind."""
        self.add_all([serial], kind, summary, verdict, data)

    def add_all(
        self, serials: list[str], kind: EventKind, summary: str, verdict: str = "", data: dict[str, Any] | None = None
    ) -> None:
        """Add the same event to several boards, all or none, in one write. StoreError as for `add`."""
        if kind not in KINDS:
            raise StoreError(f"“{kind}” is no kind of event", ", ".join(serials), f"Known: {', '.join(KINDS)}")
        plain, now = json.loads(json.dumps(data or {})), _now()
        rows = [
            {"serial": s, "at": now, "kind": kind, "verdict": verdict, "summary": summary, "data": plain}
            for s in serials
        ]  # fmt: skip
        if not rows:
            return
        try:
            with self._engine.begin() as link:
                link.execute(insert(EVENTS), rows)
        except SQLAlchemyError as error:
            words = ", ".join(serials)
            raise StoreError(f"The event was not recorded: {error}", words, "Add the board first") from error

    def boards(self, revision: str | None = None) -> list[BoardRecord]:
        """Return the boards with their events, by serial number."""
        with self._engine.connect() as link:
            boards = link.execute(select(BOARDS).order_by(BOARDS.c.serial)).mappings().all()
            events = link.execute(select(EVENTS).order_by(EVENTS.c.id)).mappings().all()
        by_serial: dict[str, list[BoardEvent]] = {}
        for e in events:
            by_serial.setdefault(e["serial"], []).append(
                BoardEvent(e["serial"], e["at"], e["kind"], e["verdict"], e["summary"], e["data"])
            )
        return [
            BoardRecord(b["serial"], b["revision"], b["variant"], tuple(by_serial.get(b["serial"], ())))
            for b in boards
            if revision is None or b["revision"] == revision
        ]

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _pragmas(connection: Any, _record: Any) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute("PRAGMA synchronous=FULL")
    cursor.close()
