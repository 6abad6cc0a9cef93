"""The project folder: `design.json`, its journal, its last good copy, a lock, records, firmware and fabrication.

A save writes a new file beside the old one, flushes it to the disk and renames it over the old one. Between saves
every edit goes to the journal, one checksummed line each, so that a crash loses at most what was not yet written.
"""

from __future__ import annotations

import fcntl
import os
import zlib
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import IO, Any

import msgspec

from zesty_trace.core.design.model import SCHEMA_VERSION, Design, from_json, to_json
from zesty_trace.errors import StoreError

DESIGN, LAST_GOOD, JOURNAL, LOCK = "design.json", "design.last-good.json", "design.journal", ".lock"
RECORDS = "records.sqlite"
FOLDERS = ("firmware", "fabrication", "parts")
JOURNAL_LIMIT_BYTES = 16_000_000


class DamagedProject(StoreError):
    """`design.json` cannot be read; `last_good` is the newest design that can, or None."""

    def __init__(self, message: str, where: str, hint: str, last_good: Design | None) -> None:
        super().__init__(message, where, hint)
        self.last_good = last_good


@dataclass(frozen=True)
class Opened:
    """A project as it was found. `recovered` tells that edits of a crashed session came back from the journal."""

    design: Design
    recovered: bool


class ProjectFolder:
    """An open, locked project folder. Use `create` or `open`; close it when done."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock: IO[str] | None = None
        self._journal: IO[bytes] | None = None

    @classmethod
    def create(cls, path: Path, design: Design) -> ProjectFolder:
        """Make a new project. StoreError if the folder holds one already or cannot be written."""
        if (path / DESIGN).exists():
            raise StoreError(
                "There is a project in this folder already", str(path), "Open it, or choose another folder"
            )
        folder = cls(path)
        try:
            path.mkdir(parents=True, exist_ok=True)
            for name in FOLDERS:
                (path / name).mkdir(exist_ok=True)
        except OSError as error:
            raise _os_error(error, path) from error
        folder._take_lock()
        folder.save(design)
        return folder

    @classmethod
    def open(cls, path: Path) -> tuple[ProjectFolder, Opened]:
        """Open a project and bring back journalled edits.

        StoreError if it is not one, is open elsewhere, or is from a newer version; DamagedProject if it is damaged.
        """
        if not (path / DESIGN).exists() and not (path / LAST_GOOD).exists():
            raise StoreError("There is no project in this folder", str(path), "Choose a folder that holds design.json")
        folder = cls(path)
        folder._take_lock()
        try:
            opened = read_project(path)
        except StoreError:
            folder.close()
            raise
        for name in FOLDERS:
            (path / name).mkdir(exist_ok=True)
        return folder, opened

    def save(self, design: Design) -> None:
        """Replace `design.json`; the one before stays as the last good copy. StoreError, with nothing lost, if not."""
        target = self.path / DESIGN
        try:
            data = to_json(design)
            if target.exists():
                _keep_copy(target, self.path / LAST_GOOD)
            write_atomically(target, data)
            self._restart_journal()
        except OSError as error:
            raise _os_error(error, target) from error

    def journal(self, design: Design) -> None:
        """Append the design to the journal and flush it to the disk. StoreError if that fails."""
        body = msgspec.json.encode(design)
        line = b"%08x %d %s\n" % (zlib.crc32(body), len(body), body)
        try:
            if self._journal is None:
                self._journal = (self.path / JOURNAL).open("ab")
            start = self._journal.tell()
            try:
                self._journal.write(line)
                self._journal.flush()
                os.fsync(self._journal.fileno())
            except OSError:
                self._cut_journal(start)
                raise
            if start > JOURNAL_LIMIT_BYTES:
                self.save(design)
        except OSError as error:
            raise _os_error(error, self.path / JOURNAL) from error

    def _cut_journal(self, length: int) -> None:
        if self._journal is not None:
            self._journal.close()
            self._journal = None
        os.truncate(self.path / JOURNAL, length)

    def _restart_journal(self) -> None:
        if self._journal is not None:
            self._journal.close()
            self._journal = None
        (self.path / JOURNAL).unlink(missing_ok=True)

    def _take_lock(self) -> None:
        path = self.path / LOCK
        try:
            self._lock = path.open("a+")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = path.read_text().strip()
            self._lock = None
            raise StoreError(
                f"The project is open in another window (process {holder})", str(self.path), "Close it there first"
            ) from None
        except OSError as error:
            raise _os_error(error, path) from error
        self._lock.truncate(0)
        self._lock.write(f"{os.getpid()}\n")
        self._lock.flush()

    def close(self) -> None:
        """Let go of the journal and the lock."""
        if self._journal is not None:
            self._journal.close()
            self._journal = None
        if self._lock is not None:
            self._lock.close()
            self._lock = None

    def __enter__(self) -> ProjectFolder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self.close()


def _os_error(error: OSError, path: Path) -> StoreError:
    if isinstance(error, StoreError):
        return error
    full = error.errno in (28, 27, 122)  # no space, file too large, quota
    hint = "Free some space and save again; your edits are still in the window" if full else "Check the folder's rights"
    return StoreError(f"Could not write: {error.strerror or error}", str(path), hint)


def write_atomically(target: Path, data: bytes) -> None:
    """Replace `target` by a file with `data`, whole or not at all. OSError if that fails; nothing is left behind."""
    fresh = target.with_name(f".{target.name}.{os.getpid()}.tmp")
    try:
        with fresh.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        fresh.replace(target)
    except OSError:
        fresh.unlink(missing_ok=True)
        raise
    folder = os.open(target.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def _keep_copy(source: Path, target: Path) -> None:
    """Keep `source` under a second name if it is readable, without copying its bytes."""
    if _parse(source) is None:
        return
    fresh = target.with_name(f".{target.name}.tmp")
    fresh.unlink(missing_ok=True)
    os.link(source, fresh)
    fresh.replace(target)


def _parse(path: Path) -> Design | None:
    try:
        return from_json(path.read_bytes())
    except (OSError, msgspec.MsgspecError):
        return None


def read_project(path: Path) -> Opened:
    """Return the newest whole design in a project folder, without taking its lock."""
    target = path / DESIGN
    journalled = _last_journalled(path / JOURNAL)
    try:
        data = target.read_bytes()
        _check_version(data, target)
        design = from_json(data)
    except FileNotFoundError:
        raise _damaged("design.json is missing", path, journalled) from None
    except msgspec.MsgspecError as error:
        raise _damaged(f"design.json cannot be read: {error}", path, journalled) from error
    except OSError as error:
        if isinstance(error, StoreError):
            raise
        raise StoreError(f"Could not read: {error.strerror}", str(target), "Check the folder's rights") from error
    if journalled is not None and journalled != design:
        return Opened(journalled, True)
    return Opened(design, False)


def _damaged(message: str, path: Path, journalled: Design | None) -> DamagedProject:
    last = journalled or _parse(path / LAST_GOOD)
    hint = "The last good state can be brought back" if last else "Bring back design.json from a copy of the folder"
    return DamagedProject(message, str(path / DESIGN), hint, last)


def restore_last_good(path: Path, design: Design) -> None:
    """Put `design` in the place of a damaged `design.json`, which is kept beside it as `design.damaged.json`."""
    target = path / DESIGN
    if target.exists():
        target.replace(path / "design.damaged.json")
    write_atomically(target, to_json(design))


def _check_version(data: bytes, path: Path) -> None:
    class Head(msgspec.Struct):
        schema: int = 0

    version = msgspec.json.decode(data, type=Head).schema
    if version > SCHEMA_VERSION:
        raise StoreError(
            f"The project is from a newer version (schema {version}, this one reads up to {SCHEMA_VERSION})",
            str(path), "Update the application; the file was not touched",
        )  # fmt: skip


def _last_journalled(path: Path) -> Design | None:
    """Return the design of the last whole line of the journal; a torn or damaged end is passed over."""
    try:
        data = path.read_bytes()
    except OSError:
        return None
    for line in reversed(data.split(b"\n")):
        head, _, rest = line.partition(b" ")
        size, _, body = rest.partition(b" ")
        try:
            if len(body) == int(size) and zlib.crc32(body) == int(head, 16):
                return from_json(body)
        except (ValueError, msgspec.MsgspecError):
            continue
    return None


def project_schema() -> dict[str, Any]:
    """Return the JSON Schema of `design.json`."""
    from zesty_trace.core.design.model import json_schema

    return dict(json_schema())
