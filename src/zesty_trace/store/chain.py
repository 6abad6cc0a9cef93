"""The chain of events in the records' file: its table, what guards it, and how an event is written and checked."""

from __future__ import annotations

import hashlib
import json
import math
from typing import Any

from sqlalchemy import Column, Connection, Integer, MetaData, String, Table, Text, insert, select, text

from zesty_trace.errors import StoreError
from zesty_trace.store.payloads import fields_of

DATA_MOST = 2_000_000
START = "0" * 64


_META = MetaData()


LOG = Table(
    "log",
    _META,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("serial", String, nullable=False, index=True),
    Column("at", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("verdict", String, nullable=False),
    Column("summary", String, nullable=False),
    Column("data", Text, nullable=False),
    Column("checksum", String, nullable=False),
)


SEALS = Table(
    "seals",
    _META,
    Column("event", Integer, nullable=False),
    Column("public", String, nullable=False),
    Column("signature", String, nullable=False),
)


GUARDS = (
    "CREATE TRIGGER IF NOT EXISTS log_no_update BEFORE UPDATE ON log "
    "BEGIN SELECT RAISE(ABORT, 'events are only added'); END",
    "CREATE TRIGGER IF NOT EXISTS log_no_delete BEFORE DELETE ON log "
    "BEGIN SELECT RAISE(ABORT, 'events are only added'); END",
    "CREATE TRIGGER IF NOT EXISTS log_in_order BEFORE INSERT ON log "
    "WHEN NEW.id IS NOT (SELECT coalesce(max(id), 0) + 1 FROM log) "
    "BEGIN SELECT RAISE(ABORT, 'events are added at the end only'); END",
)


def end_of(link: Connection) -> tuple[int, str]:
    """Return the number and the checksum of the newest event; 0 and START before the first."""
    row = link.execute(select(LOG.c.id, LOG.c.checksum).order_by(LOG.c.id.desc()).limit(1)).first()
    return (int(row[0]), str(row[1])) if row else (0, START)


def checksum_of(before: str, *fields: str) -> str:
    """Return the checksum of an event over the one before it and its own fields."""
    return hashlib.sha256(
        json.dumps([before, *fields], ensure_ascii=False).encode("utf-8", "surrogatepass")
    ).hexdigest()


def plain_json(data: dict[str, Any], where: str) -> str:
    """Return the data as JSON that reads back the same; what is no number is kept as null. StoreError if too large."""

    def clean(value: Any) -> Any:
        if isinstance(value, dict):
            return {str(k): clean(v) for k, v in value.items()}
        if isinstance(value, list | tuple):
            return [clean(v) for v in value]
        return None if isinstance(value, float) and not math.isfinite(value) else value

    plain = json.dumps(clean(data), ensure_ascii=False, allow_nan=False)
    if len(plain) > DATA_MOST:
        raise StoreError("There is too much to record", where, "Please report this")
    return plain


def write_event(link: Connection, number: int, checksum: str, *fields: str) -> None:
    """Add one event at the end of the chain: serial number, time, kind, verdict, summary, data as JSON."""
    names = ("serial", "at", "kind", "verdict", "summary", "data")
    link.execute(insert(LOG).values(id=number, checksum=checksum, **dict(zip(names, fields, strict=True))))


def take_over_first_version(link: Connection) -> None:
    """Copy the events of records of the first version, which had no checksums, into the chain; the old tables stay."""
    tables = set(link.execute(text("SELECT name FROM sqlite_master WHERE type = 'table'")).scalars())
    if not {"boards", "events"} <= tables or end_of(link)[0]:
        return
    number, checksum, last = 0, START, ""
    rows: list[tuple[str, str, str, str, str, str]] = []
    for b in link.execute(text("SELECT serial, revision, variant, made_at FROM boards ORDER BY serial")).mappings():
        data = plain_json({"revision": b["revision"], "variant": b["variant"]}, b["serial"])
        rows.append((b["serial"], str(b["made_at"]), "made", "", f"rev {b['revision']} {b['variant']}".strip(), data))
    for e in link.execute(text("SELECT serial, at, kind, verdict, summary, data FROM events ORDER BY id")).mappings():
        data = plain_json({**fields_of(e["data"] or "{}"), "source": "unknown"}, e["serial"])
        rows.append((e["serial"], str(e["at"]), e["kind"], e["verdict"], e["summary"], data))
    for serial, at, kind, verdict, summary, data in rows:
        number, last = number + 1, max(last, at)
        checksum = checksum_of(checksum, serial, last, kind, verdict, summary, data)
        write_event(link, number, checksum, serial, last, kind, verdict, summary, data)
