"""Whether a project has records, and how they come back: a daily copy, new ones, or what is there as it is."""

from __future__ import annotations

import sqlite3
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.files import exists_inside, read_inside, write_inside
from zesty_trace.names import check_text
from zesty_trace.store.chain import START
from zesty_trace.store.checking import check_chain
from zesty_trace.store.known import MOST_STEPS, Taken, begin, keep, look_up
from zesty_trace.store.records import BACKUPS, FILE, HEAD, SIDE_FILES, backup_names, in_words, time_now


def has_records(folder: Path) -> bool:
    """Whether a project has, or had, records: itself, by its copies, or as far as this computer knows."""
    if exists_inside(folder, FILE) or exists_inside(folder, HEAD) or backup_names(folder):
        return True
    known = look_up(folder)
    return known is not None and known.count > 0


def take_as_they_are(folder: Path, why: str, who: str = "") -> int:
    """Take the records that are there for those of the project, though others were known; return how many events.

    That it was done, and why, is kept in the user's own folder and shown with the records. StoreError.
    """
    check_text(why, "reason", 400)
    if not why.strip():
        raise StoreError("There is no reason", "records", "Say why they are other than they were")
    count, checksum = 0, START
    path = folder / FILE
    if exists_inside(folder, FILE):
        with in_words("read", str(path)):
            found = check_chain(path)
            count, checksum = found.count, found.checksum
    _rebase(folder, count, checksum, why, who)
    return count


def _rebase(folder: Path, count: int, checksum: str, why: str, who: str) -> None:
    known = begin(folder, look_up(folder))
    step = Taken(time_now(), who, why, known.count, count)
    taken = (*known.taken, step)[-MOST_STEPS:] if known.count else known.taken
    keep(msgspec.structs.replace(known, count=count, checksum=checksum, at=time_now(), stamp=None, taken=taken))
    with suppress(OSError):
        write_inside(folder, HEAD, f"{count} {checksum}\n".encode())


def bring_back(folder: Path, backup: str) -> Path | None:
    """Put a daily copy, or with "" nothing, in the place of damaged records; return where those are kept.

    StoreError.
    """
    kept: Path | None = None
    try:
        data = read_inside(folder, f"{BACKUPS}/{backup}", "records") if backup else b""
        stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
        for name in (FILE, *(FILE + end for end in SIDE_FILES), HEAD):
            if exists_inside(folder, name):
                target = folder / f"damaged-{stamp}-{name}"
                (folder / name).rename(target)
                kept = target if name == FILE else kept
        count, checksum = 0, START
        if data:
            write_inside(folder, FILE, data)
            found = check_chain(folder / FILE)
            count, checksum = found.count, found.checksum
        _rebase(folder, count, checksum, f"brought back {backup}" if backup else "begun anew", "")
    except sqlite3.Error as error:
        raise StoreError(f"The copy cannot be read: {error}", backup, "Choose another one") from error
    except ZestyError as error:
        raise StoreError(error.message, error.where, error.hint) from error
    except OSError as error:
        raise StoreError(f"Could not bring it back: {error.strerror}", str(folder), "Check the folder") from error
    return kept
