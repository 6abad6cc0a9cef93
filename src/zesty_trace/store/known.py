"""What this computer knows of a project's records: how many events it last saw, and which was the newest.

It is kept in the user's own data folder, out of reach of whoever is handed the project, by the project's identity (a
random number in `records.id`) and its place. So records that were cut short, or taken away with all that lies beside
them, are noticed at the computer that wrote them.
"""

from __future__ import annotations

import hashlib
import os
import secrets
from contextlib import suppress
from pathlib import Path

import msgspec

from zesty_trace.errors import InputError
from zesty_trace.files import read_given, read_inside, write_given, write_inside

IDENTITY = "records.id"
MOST_STEPS = 50
Stamp = tuple[int, int, int, int]  # inode, size, changed and status-changed time of a file


class Taken(msgspec.Struct, frozen=True):
    """That somebody took other records than were known: when, who, why, and how many events were known."""

    at: str
    who: str
    why: str
    known: int
    now: int


class Known(msgspec.Struct, frozen=True, kw_only=True):
    """The newest event that was seen (0 before the first), and the file as it was then.

    `stamp` stands for a file whose whole chain was verified: while it is the same, nothing was written into it.
    """

    identity: str
    path: str
    count: int = 0
    checksum: str = ""
    at: str = ""
    stamp: Stamp | None = None
    taken: tuple[Taken, ...] = ()


def known_folder() -> Path:
    """Return where it is kept: the user's own data folder."""
    from platformdirs import user_data_path

    return user_data_path("zesty-trace") / "records"


def stamp_of(path: Path) -> Stamp | None:
    """Return what tells that a file was written to; None without one, or while others write beside it."""
    try:
        if os.path.lexists(f"{path}-wal") and os.stat(f"{path}-wal").st_size:
            return None
        found = os.stat(path, follow_symlinks=False)
    except OSError:
        return None
    return found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


def identity_of(project: Path) -> str:
    """Return the identity of a project; "" where it has none that can be read."""
    try:
        text = read_inside(project, IDENTITY, "words").decode("ascii", "replace").strip()
    except InputError:
        return ""
    return text if len(text) == 32 and all(c in "0123456789abcdef" for c in text) else ""


def look_up(project: Path) -> Known | None:
    """Return what is known of the records of a project; None of one that this computer has not seen.

    A project that was moved is known by its identity. One that stands where another stood, under an identity of its
    own, is another project; where the identity was taken away, it counts as the one that stood there.
    """
    identity, place = identity_of(project), _place(project)
    names = _names()
    stood = [k for k in map(_read, (n for n in names if n.startswith(place))) if k is not None]
    here = [k for k in stood if identity in ("", k.identity)]
    if here or not identity:
        return max(here, key=lambda k: k.at, default=None)
    for name in names:
        found = _read(name) if name.endswith(f"-{identity}.json") else None
        if found is not None and identity_of(Path(found.path)) != identity:
            return found  # it was moved; where it still stands at the old place, this one is a copy with its own fate
    return None


def begin(project: Path, known: Known | None) -> Known:
    """Return what is known under the project's place and identity, which is made where it has none."""
    identity = identity_of(project) or (known.identity if known is not None else "") or secrets.token_hex(16)
    if identity_of(project) != identity:
        with suppress(OSError, InputError):
            write_inside(project, IDENTITY, f"{identity}\n".encode())
    path = os.path.realpath(project)
    if known is None:
        return Known(identity=identity, path=path)
    return msgspec.structs.replace(known, identity=identity, path=path)


def give_identity(project: Path) -> None:
    """Give a new project an identity of its own, if it has none. OSError."""
    if not identity_of(project):
        write_inside(project, IDENTITY, f"{secrets.token_hex(16)}\n".encode())


def keep(known: Known) -> bool:
    """Write down what is known; whether it could be."""
    path = known_folder() / f"{_place(Path(known.path))}-{known.identity}.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_given(path, msgspec.json.encode(known) + b"\n")
    except OSError:
        return False
    return True


def _place(project: Path) -> str:
    return hashlib.sha256(os.path.realpath(project).encode("utf-8", "surrogateescape")).hexdigest()[:32]


def _names() -> list[str]:
    try:
        return sorted(os.listdir(known_folder()))
    except OSError:
        return []


def _read(name: str) -> Known | None:
    try:
        return msgspec.json.decode(read_given(known_folder() / name, "words"), type=Known)
    except (InputError, OSError, ValueError, RecursionError, msgspec.MsgspecError):
        return None
