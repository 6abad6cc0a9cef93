"""The one place that opens files: regular files only, with a limit for each sort, never through a link of the project.

A project may come from a stranger. What is read or written inside one is opened name by name from the project folder
down, following no link; new files are made under a random name with exclusive creation and renamed into place. Paths
that a person gives are taken as they are, but devices, pipes and files over the limit are refused all the same.
"""

from __future__ import annotations

import errno
import fcntl
import os
import secrets
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath

from zesty_trace.errors import InputError, StoreError

MB = 1_000_000
LIMITS = {  # bytes
    "design": 64 * MB,
    "journal": 96 * MB,
    "image": 32 * MB,
    "parts": 2 * MB,
    "packages": 2 * MB,
    "package": 2 * MB,
    "drawing": 16 * MB,
    "house": MB,
    "table": 16 * MB,
    "archive": 96 * MB,
    "text": 4 * MB,
    "words": MB,
    "records": 512 * MB,
}
_TEMP_PREFIX, _TEMP_SUFFIX = ".zt-", ".tmp"
TABLES_LOCK = ".tables.lock"
LOCK_WAIT_S = 30.0
SWEPT_AFTER_S = 600.0  # no write takes so long
_READ = os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class FileProblem(InputError):
    """A file that is not read. `missing` tells that there is none of this name."""

    def __init__(self, message: str, where: str, hint: str, missing: bool = False) -> None:
        super().__init__(message, where, hint)
        self.missing = missing


def read_given(path: Path, sort: str) -> bytes:
    """Return the bytes of a file that a person named. FileProblem if it is no regular file, too large or unreadable."""
    with _told(path):
        descriptor = os.open(path, _READ)
        return _read_all(descriptor, path, sort)


def read_inside(root: Path, name: str, sort: str) -> bytes:
    """Return the bytes of `root`/`name`, no link followed below `root`. FileProblem as read_given."""
    with _told(root / name), _folder_of(root, name) as (folder, leaf):
        descriptor = os.open(leaf, _READ | os.O_NOFOLLOW, dir_fd=folder)
        return _read_all(descriptor, root / name, sort)


def text_of(data: bytes, where: str) -> str:
    """Return UTF-8 text, with or without a byte order mark.

    InputError with the place of the first byte that is none.
    """
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise InputError(
            f"Byte 0x{data[error.start]:02X} at {error.start} is no UTF-8 text",
            f"{where} line {line}",
            "Save it as UTF-8",
        ) from error


def _read_all(descriptor: int, path: Path, sort: str) -> bytes:
    try:
        found = os.fstat(descriptor)
        if not stat.S_ISREG(found.st_mode):
            raise FileProblem("This is no regular file", str(path), "Devices, pipes and folders are not read")
        limit = LIMITS[sort]
        if found.st_size > limit:
            raise _too_large(path, limit)
        with os.fdopen(os.dup(descriptor), "rb") as file:
            data = file.read(limit + 1)
        if len(data) > limit:
            raise _too_large(path, limit)
        return data
    finally:
        os.close(descriptor)


def _too_large(path: Path, limit: int) -> FileProblem:
    return FileProblem(f"The file is over {limit // MB} MB", str(path), "Choose the right file, or a smaller one")


def write_given(path: Path, data: bytes) -> None:
    """Replace a file that a person named, whole or not at all. OSError if that fails; nothing is left behind."""
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        _write_at(folder, path.name, data)
    finally:
        os.close(folder)


def write_inside(root: Path, name: str, data: bytes) -> None:
    """Replace `root`/`name`, no link followed below `root`; its folder is made if need be. OSError if that fails."""
    parts = PurePosixPath(name).parts
    for depth in range(1, len(parts)):
        make_folder(root, "/".join(parts[:depth]))
    with _folder_of(root, name) as (folder, leaf):
        _write_at(folder, leaf, data)


class _Held(threading.local):
    """How often this thread holds the lock of each folder."""

    def __init__(self) -> None:
        self.depth: dict[str, int] = {}


_held = _Held()


@contextmanager
def changing(root: Path, wait_s: float = LOCK_WAIT_S) -> Iterator[None]:
    """Hold the one lock of all tables beside a design, while they are read, changed and written.

    Whoever changes what somebody else may change as well reads it within, never before: threads and processes wait
    for each other. Entered again by the same thread it does nothing more. StoreError if it is not had in time, or
    cannot be taken at all.
    """
    key = os.path.realpath(root)
    if _held.depth.get(key):
        _held.depth[key] += 1
        try:
            yield
        finally:
            _held.depth[key] -= 1
        return
    descriptor = _locked(root, wait_s)
    _held.depth[key] = 1
    try:
        yield
    finally:
        del _held.depth[key]
        os.close(descriptor)


def _locked(root: Path, wait_s: float) -> int:
    """Return the descriptor of the locked file. StoreError."""
    try:
        descriptor = open_inside(root, TABLES_LOCK, os.O_RDWR | os.O_CREAT)
    except StoreError:
        raise
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(root), "Check the folder's rights") from error
    end = time.monotonic() + wait_s
    while True:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return descriptor
        except BlockingIOError:
            if time.monotonic() > end:
                os.close(descriptor)
                raise StoreError(
                    f"Another program has held the tables for {wait_s:.0f} s", str(root), "Wait, or end it; try again"
                ) from None
            time.sleep(0.01)
        except OSError as error:
            os.close(descriptor)
            raise StoreError(f"Could not lock: {error.strerror}", str(root), "Use a local folder") from error


def remove_inside(root: Path, name: str) -> None:
    """Remove a file of the project itself, no link followed. FileProblem if there is none."""
    with _told(root / name), _folder_of(root, name) as (folder, leaf):
        os.unlink(leaf, dir_fd=folder)


def _write_at(folder: int, leaf: str, data: bytes) -> None:
    fresh = f"{_TEMP_PREFIX}{secrets.token_hex(8)}{_TEMP_SUFFIX}"
    descriptor = os.open(
        fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666, dir_fd=folder
    )
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(fresh, leaf, src_dir_fd=folder, dst_dir_fd=folder)
    except OSError:
        with suppress(OSError):
            os.unlink(fresh, dir_fd=folder)
        raise
    with suppress(OSError):  # some network folders cannot flush a folder; the file itself is down
        os.fsync(folder)


def open_inside(root: Path, name: str, flags: int) -> int:
    """Return a descriptor of a regular file of the project itself, to write in place. OSError; StoreError for a link.

    A file that has a second name (a hard link) could be one outside: it is put aside and made anew.
    """
    with _folder_of(root, name) as (folder, leaf):
        descriptor = os.open(leaf, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o666, dir_fd=folder)
        found = os.fstat(descriptor)
        if stat.S_ISREG(found.st_mode) and found.st_nlink <= 1:
            return descriptor
        os.close(descriptor)
        if not stat.S_ISREG(found.st_mode):
            raise StoreError("This is no regular file", str(root / name), "Take it out of the folder")
        os.unlink(leaf, dir_fd=folder)
        return os.open(leaf, flags | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666, dir_fd=folder)


def make_folder(root: Path, name: str) -> None:
    """Make a folder inside a project, if it is not there. StoreError if a file or a link stands in its place."""
    with _folder_of(root, name) as (folder, leaf):
        with suppress(FileExistsError):
            os.mkdir(leaf, dir_fd=folder)
        try:
            os.close(os.open(leaf, _FOLDER, dir_fd=folder))
        except OSError as error:
            raise StoreError(
                f"“{name}” is a file or a link where a folder must be", str(root / name), "Rename or remove it"
            ) from error


def names_inside(root: Path, folder: str, suffix: str, most: int = 1000) -> list[str]:
    """Return the names of `root`/`folder` that end in `suffix`, sorted; none where there is no such folder.

    FileProblem if the folder is a link, or holds more than `most` of them.
    """
    try:
        with _folder_of(root, f"{folder}/x") as (held, _):
            found = sorted(n for n in os.listdir(held) if n.endswith(suffix) and not n.startswith("."))
    except (FileNotFoundError, NotADirectoryError):
        if (root / folder).is_symlink():
            raise FileProblem("This folder is a link", str(root / folder), "Put a real folder there") from None
        return []
    except OSError as error:
        raise FileProblem(f"Could not read: {error.strerror}", str(root / folder), "Check the folder") from error
    if len(found) > most:
        raise FileProblem(f"There are {len(found):,} files", str(root / folder), f"At most {most} are read")
    return found


def exists_inside(root: Path, name: str) -> bool:
    """Whether there is anything of this name, a dangling link included."""
    return os.path.lexists(root / name)


def is_plain(root: Path, name: str) -> bool:
    """Whether `root`/`name` is a regular file with one name only, reached without a link."""
    try:
        with _folder_of(root, name) as (folder, leaf):
            found = os.stat(leaf, dir_fd=folder, follow_symlinks=False)
    except OSError:
        return False
    return stat.S_ISREG(found.st_mode) and found.st_nlink == 1


def sweep(root: Path, folders: tuple[str, ...] = ()) -> None:
    """Remove what a write that was cut off has left: not what another program is writing at this moment."""
    before = time.time() - SWEPT_AFTER_S
    for folder in ("", *folders):
        with suppress(OSError), _folder_of(root, f"{folder}/x" if folder else "x") as (held, _):
            for name in os.listdir(held):
                if name.startswith(_TEMP_PREFIX) and name.endswith(_TEMP_SUFFIX):
                    with suppress(OSError):
                        if os.stat(name, dir_fd=held, follow_symlinks=False).st_mtime < before:
                            os.unlink(name, dir_fd=held)


@contextmanager
def _folder_of(root: Path, name: str) -> Iterator[tuple[int, str]]:
    """Yield a descriptor of the folder that holds `name`, opened step by step without following links, and the leaf."""
    parts = PurePosixPath(name).parts
    if not parts or any(p in ("..", "/") for p in parts) or name.startswith("/") or "\0" in name:
        raise FileProblem(f"“{name}” leads out of the project", str(root), "Name a file inside the project folder")
    held = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for step in parts[:-1]:
            deeper = os.open(step, _FOLDER, dir_fd=held)
            os.close(held)
            held = deeper
        yield held, parts[-1]
    finally:
        os.close(held)


@contextmanager
def _told(path: Path) -> Iterator[None]:
    """Turn what the system says into the project's own words."""
    try:
        yield
    except FileProblem:
        raise
    except FileNotFoundError as error:
        raise FileProblem("There is no such file", str(path), "Check the name", missing=True) from error
    except ValueError as error:
        raise FileProblem("This cannot be the name of a file", str(path), "Check the name") from error
    except OSError as error:
        link = error.errno in (errno.ELOOP, errno.EMLINK) or (error.errno == errno.ENOTDIR and path.parent.is_symlink())
        words = "It is a link, which is not followed" if link else f"Could not read: {error.strerror or error}"
        raise FileProblem(words, str(path), "Put the file itself there" if link else "Check its rights") from error
