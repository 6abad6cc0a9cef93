"""The project folder: `design.json`, its journal, its last good copy, a lock, records, firmware and fabrication.

A save writes a new file beside the old one, flushes it to the disk and renames it over the old one. Between saves
every edit goes to the journal, one checksummed line each, so that a crash loses at most what was not yet written. The
journal says which `design.json` it continues: one that continues another file is never taken for it.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import time
import zlib
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import IO, Any

import msgspec

from zesty_trace.core.design.model import Design, to_json
from zesty_trace.core.design.reading import NewerSchema, from_json
from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import FileProblem, exists_inside, make_folder, open_inside, read_inside, sweep, write_inside
from zesty_trace.store.known import give_identity

DESIGN, LAST_GOOD, JOURNAL, LOCK = "design.json", "design.last-good.json", "design.journal", ".lock"
UNSAVED, THEIRS = "design.unsaved.json", "design.theirs.json"
BRIEF = "command"  # written into the lock by who opens the project for a moment only
FOLDERS = ("firmware", "fabrication", "parts")
JOURNAL_LIMIT_BYTES = 16_000_000
FULL_DISK = (27, 28, 122)  # file too large, no space, quota


class DamagedProject(StoreError):
    """`design.json` cannot be read; `last_good` is the newest design that can, or None."""

    def __init__(self, message: str, where: str, hint: str, last_good: Design | None) -> None:
        super().__init__(message, where, hint)
        self.last_good = last_good


class ChangedOutside(StoreError):
    """Another program wrote `design.json` meanwhile. `theirs` is what it holds now, or None if that is no design."""

    def __init__(self, where: str, theirs: Design | None) -> None:
        words = "was changed by another program" if theirs else "was damaged by another program"
        super().__init__(f"design.json {words} while it was open here", where, "Save yours over it, or take theirs")
        self.theirs = theirs


class FolderGone(StoreError):
    """The project folder is not there any more."""


@dataclass(frozen=True)
class Opened:
    """A project as it was found.

    `recovered` tells that edits of a crashed session came back from the journal; `stale` are edits of a journal that
    continues another `design.json` than the one found, kept in `design.unsaved.json` and not applied.
    """

    design: Design
    recovered: bool
    stale: Design | None = None


class ProjectFolder:
    """An open, locked project folder. Use `create` or `open`; close it when done."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock: IO[str] | None = None
        self._journal: IO[bytes] | None = None
        self._known = ""  # the checksum of design.json as it was last read or written here
        self._stamp: tuple[int, int, int] | None = None

    @property
    def is_open(self) -> bool:
        """Whether the lock is held."""
        return self._lock is not None

    @classmethod
    def create(cls, path: Path, design: Design) -> ProjectFolder:
        """Make a new project. StoreError if the folder holds one already or cannot be written."""
        if exists_inside(path, DESIGN):
            raise StoreError(
                "There is a project in this folder already", str(path), "Open it, or choose another folder"
            )
        folder = cls(path)
        try:
            path.mkdir(parents=True, exist_ok=True)
            for name in FOLDERS:
                make_folder(path, name)
            give_identity(path)
        except OSError as error:
            raise _os_error(error, path) from error
        folder._take_lock()
        try:
            folder.save(design)
        except StoreError:
            folder.close()
            raise
        return folder

    @classmethod
    def open(cls, path: Path, wait_s: float = 0.0) -> tuple[ProjectFolder, Opened]:
        """Open a project and bring back journalled edits. What is opened for a moment only waits for its like so long.

        StoreError if it is not one, is open elsewhere, or is from a newer version; DamagedProject if it is damaged.
        """
        if not exists_inside(path, DESIGN) and not exists_inside(path, LAST_GOOD):
            raise StoreError("There is no project in this folder", str(path), "Choose a folder that holds design.json")
        folder = cls(path)
        folder._take_lock(wait_s)
        try:
            sweep(path, FOLDERS)
            opened = read_project(path)
            for name in FOLDERS:
                make_folder(path, name)
            if opened.stale is not None:
                write_inside(path, UNSAVED, to_json(opened.stale))
                folder._restart_journal()
            folder._note_file(read_inside(path, DESIGN, "design"))
        except FileProblem as error:
            folder.close()
            raise StoreError(error.message, error.where, error.hint) from error
        except OSError as error:
            folder.close()
            raise _os_error(error, path) from error
        return folder, opened

    def save(self, design: Design, over_theirs: bool = False) -> None:
        """Replace `design.json`; the one before stays as the last good copy.

        StoreError, with nothing lost, if that fails; FolderGone; ChangedOutside if another program wrote the file
        since, unless `over_theirs`: then theirs is kept as `design.theirs.json`.
        """
        data = _readable(design)
        try:
            before = self._present()
            if before is not None and _checksum(before) != self._known:
                self._someone_elses(before, over_theirs)
            elif before is not None:
                write_inside(self.path, LAST_GOOD, before)
            if self._journal is not None or exists_inside(self.path, JOURNAL):
                self._append(b"saved %s\n" % _checksum(data).encode())
            write_inside(self.path, DESIGN, data)
            self._note_file(data)
            self._restart_journal()
        except FileProblem as error:
            self._let_go_of_journal()
            raise StoreError(error.message, error.where, error.hint) from error
        except OSError as error:
            self._let_go_of_journal()
            raise _os_error(error, self.path / DESIGN) from error

    def _let_go_of_journal(self) -> None:
        """Close the journal; what is appended next says anew which file it continues."""
        if self._journal is not None:
            with suppress(OSError):
                self._journal.close()
            self._journal = None

    def _present(self) -> bytes | None:
        """Return what design.json holds now, None if there is none. FolderGone."""
        self.check_there()
        try:
            return read_inside(self.path, DESIGN, "design")
        except FileProblem as error:
            if error.missing:
                return None
            raise

    def _someone_elses(self, before: bytes, over_theirs: bool) -> None:
        if not over_theirs and self._known:
            try:
                theirs = from_json(before)
            except InputError:
                theirs = None
            raise ChangedOutside(str(self.path / DESIGN), theirs)
        write_inside(self.path, THEIRS, before)

    def check_there(self) -> None:
        """Refuse to go on in a folder that was deleted, moved or replaced. FolderGone."""
        try:
            if not exists_inside(self.path, LOCK) and exists_inside(self.path, DESIGN):
                self._take_lock()  # only the lock file was removed
            same = self._lock is not None and os.path.samestat(
                os.fstat(self._lock.fileno()), os.stat(self.path / LOCK, follow_symlinks=False)
            )
        except (OSError, StoreError):
            same = False
        if not same:
            raise FolderGone("The project folder is gone", str(self.path), "Save the project in another folder")

    def changed_outside(self) -> bool:
        """Whether another program has written design.json since it was last read or written here."""
        try:
            found = os.stat(self.path / DESIGN, follow_symlinks=False)
        except OSError:
            return False
        if (found.st_mtime_ns, found.st_size, found.st_ino) == self._stamp:
            return False
        try:
            return _checksum(read_inside(self.path, DESIGN, "design")) != self._known
        except InputError:
            return True

    def take_theirs(self) -> Design:
        """Return what another program has written and go on from there. StoreError if that is no design."""
        try:
            data = read_inside(self.path, DESIGN, "design")
            design = from_json(data)
        except InputError as error:
            raise StoreError(error.message, error.where, "Save yours over it") from error
        self._note_file(data)
        return design

    def _note_file(self, data: bytes) -> None:
        self._known = _checksum(data)
        with suppress(OSError):
            found = os.stat(self.path / DESIGN, follow_symlinks=False)
            self._stamp = (found.st_mtime_ns, found.st_size, found.st_ino)

    def journal(self, design: Design) -> None:
        """Append the design to the journal and flush it to the disk. StoreError if that fails; FolderGone."""
        body = msgspec.json.encode(design)
        try:
            same = from_json(body) == design
        except InputError as error:
            raise StoreError(
                f"Not kept, since it could not be read again: {error.message}", error.where, error.hint
            ) from error
        if not same:
            raise StoreError("Not kept, since it would read back differently", DESIGN, "Undo the last edit")
        self.check_there()
        try:
            start = self._append(b"%08x %d %s\n" % (zlib.crc32(body), len(body), body))
            if start > JOURNAL_LIMIT_BYTES:
                self.save(design)
        except OSError as error:
            raise _os_error(error, self.path / JOURNAL) from error

    def _append(self, line: bytes) -> int:
        """Write a line at the journal's end and flush it to the disk; return where it starts. OSError."""
        if self._journal is None:
            descriptor = open_inside(self.path, JOURNAL, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
            self._journal = os.fdopen(descriptor, "ab")
            fresh = self._journal.seek(0, os.SEEK_END) == 0
            # each process says anew what it continues; a line that a crash left unfinished ends before it
            line = (b"" if fresh else b"\n") + b"base %s\n" % self._known.encode() + line
        start = self._journal.tell()
        try:
            self._journal.write(line)
            self._journal.flush()
            os.fsync(self._journal.fileno())
        except OSError:
            self._cut_journal(start)
            raise
        return start

    def _cut_journal(self, length: int) -> None:
        if self._journal is not None:
            with suppress(OSError):
                os.ftruncate(self._journal.fileno(), length)
            self._let_go_of_journal()

    def _restart_journal(self) -> None:
        self._let_go_of_journal()
        (self.path / JOURNAL).unlink(missing_ok=True)

    def _take_lock(self, wait_s: float = 0.0) -> None:
        path, end = self.path / LOCK, time.monotonic() + wait_s
        try:
            self._lock = os.fdopen(open_inside(self.path, LOCK, os.O_RDWR | os.O_CREAT), "r+")
            while True:
                try:
                    fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except BlockingIOError:
                    said = os.pread(self._lock.fileno(), 40, 0).decode("ascii", "replace")
                    if wait_s and time.monotonic() < end and (BRIEF in said or not said.strip()):
                        time.sleep(0.02)
                        continue
                    raise
        except BlockingIOError:
            assert self._lock is not None
            holder = "".join(c for c in said if c.isdigit())
            self._lock.close()
            self._lock = None
            raise StoreError(
                f"The project is open in another window (process {holder or 'unknown'})",
                str(self.path),
                "Close it there first",
            ) from None
        except OSError as error:
            raise _os_error(error, path) from error
        self._lock.seek(0)
        self._lock.truncate(0)
        self._lock.write(f"{os.getpid()} {BRIEF if wait_s else ''}\n")
        self._lock.flush()

    def close(self) -> None:
        """Let go of the journal and the lock."""
        self._let_go_of_journal()
        if self._lock is not None:
            with suppress(OSError):
                self._lock.truncate(0)
            self._lock.close()
            self._lock = None

    def __enter__(self) -> ProjectFolder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self.close()


def _checksum(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _readable(design: Design) -> bytes:
    """Return the design as JSON that reads back as the same design. StoreError if it would not."""
    data = to_json(design)
    try:
        same = from_json(data) == design
    except InputError as error:
        raise StoreError(
            f"Not saved, since it could not be read again: {error.message}", error.where, error.hint
        ) from error
    if not same:
        raise StoreError("Not saved, since it would read back differently", DESIGN, "Undo the last edit and save again")
    return data


def _os_error(error: OSError, path: Path) -> StoreError:
    if isinstance(error, StoreError):
        return error
    if error.errno == 40:  # a link where a file of the project must be
        return StoreError("It is a link, which is not followed", str(path), "Take the link out of the folder")
    full = error.errno in FULL_DISK
    hint = "Free some space and save again; your edits are still in the window" if full else "Check the folder's rights"
    return StoreError(f"Could not write: {error.strerror or error}", str(path), hint)


def _parse(path: Path, name: str) -> Design | None:
    try:
        return from_json(read_inside(path, name, "design"), name)
    except InputError:
        return None


def read_project(path: Path) -> Opened:
    """Return the newest whole design in a project folder, without taking its lock.

    StoreError if it cannot be read or is from a newer version; DamagedProject if it is damaged.
    """
    target = path / DESIGN
    try:
        data = read_inside(path, DESIGN, "design")
        design = from_json(data)
    except NewerSchema as error:
        raise StoreError(error.message, str(target), error.hint) from error
    except FileProblem as error:
        if error.missing and not path.is_dir():
            raise StoreError("There is no such folder", str(path), "Check the name") from error
        message = "design.json is missing" if error.missing else f"design.json cannot be read: {error.message}"
        raise _damaged(message, path) from error
    except InputError as error:
        raise _damaged(f"design.json cannot be read: {error}", path) from error
    journalled, continues = _last_journalled(path, _checksum(data))
    if journalled is None or journalled == design:
        return Opened(design, False)
    return Opened(journalled, True) if continues else Opened(design, False, journalled)


def _damaged(message: str, path: Path) -> DamagedProject:
    try:
        journalled, _ = _last_journalled(path, "")
    except StoreError:
        journalled = None
    last = journalled or _parse(path, LAST_GOOD)
    hint = "The last good state can be brought back" if last else "Bring back design.json from a copy of the folder"
    return DamagedProject(message, str(path / DESIGN), hint, last)


def restore_last_good(path: Path, design: Design) -> None:
    """Put `design` in the place of a damaged `design.json`, which is kept beside it as `design.damaged.json`.

    StoreError.
    """
    try:
        if exists_inside(path, DESIGN):
            kept, count = "design.damaged.json", 1
            while exists_inside(path, kept):
                count += 1
                kept = f"design.damaged-{count}.json"
            os.replace(path / DESIGN, path / kept)
        write_inside(path, DESIGN, _readable(design))
        (path / JOURNAL).unlink(missing_ok=True)
    except OSError as error:
        raise _os_error(error, path) from error


def _last_journalled(path: Path, checksum: str) -> tuple[Design | None, bool]:
    """Return the design of the journal's last whole line, and whether the journal continues the file of this checksum.

    A torn or damaged end is passed over. StoreError for a journal that is no regular file.
    """
    try:
        data = read_inside(path, JOURNAL, "journal")
    except FileProblem as error:
        if error.missing:
            return None, False
        raise StoreError(error.message, error.where, "Take design.journal out of the folder") from error
    lines = data.split(b"\n")
    marks = [k for k, line in enumerate(lines) if line.startswith((b"base ", b"saved "))]
    for number in range(len(lines) - 1, -1, -1):
        design = _journal_line(lines[number])
        if design is None:
            continue
        after = [m for m in marks if m > number]
        if after and lines[after[-1]].partition(b" ")[2].decode("ascii", "replace") == checksum:
            return None, True  # what was written then is the file that is there
        own = [m for m in marks if m < number]
        if own:
            return design, lines[own[-1]].partition(b" ")[2].decode("ascii", "replace") == checksum
        return design, _journal_is_newer(path)
    return None, False


def _journal_line(line: bytes) -> Design | None:
    head, _, rest = line.partition(b" ")
    size, _, body = rest.partition(b" ")
    try:
        if len(body) != int(size) or zlib.crc32(body) != int(head, 16):
            return None
        return from_json(body)
    except ValueError:
        return None


def _journal_is_newer(path: Path) -> bool:
    """Judge a journal of an earlier version, which does not say what it continues, by its time."""
    try:
        return (path / JOURNAL).stat().st_mtime_ns >= (path / DESIGN).stat().st_mtime_ns
    except OSError:
        return True


def project_schema() -> dict[str, Any]:
    """Return the JSON Schema of `design.json`."""
    from zesty_trace.core.design.model import json_schema

    return dict(json_schema())
