"""What belongs to the user and not to one project: words for part kinds, and part kinds of their own."""

from __future__ import annotations

import getpass
from collections.abc import Mapping
from pathlib import Path

import msgspec

from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import read_given, write_given
from zesty_trace.names import check_text

FILE, PERSON = "import-names.json", "person.json"
MOST_NAME = 60


class Person(msgspec.Struct, frozen=True):
    """Who works here and at which bench, as they said; `said` tells whether they did, or the system's name is taken."""

    name: str = ""
    bench: str = ""
    said: bool = False


def person_path() -> Path:
    """Return where the user's name is kept: the user's configuration folder."""
    return names_path().parent / PERSON


def person() -> Person:
    """Return who works here: as they said, else by the name that the system knows them by."""
    try:
        found = msgspec.json.decode(read_given(person_path(), "words"), type=Person)
    except (OSError, ValueError, RecursionError, msgspec.MsgspecError):
        found = Person()
    if found.name:
        return Person(found.name[:MOST_NAME], found.bench[:MOST_NAME], True)
    try:
        return Person(getpass.getuser()[:MOST_NAME], found.bench[:MOST_NAME])
    except (KeyError, OSError):
        return Person("unknown", found.bench[:MOST_NAME])


def keep_person(name: str, bench: str) -> Person:
    """Keep who works here, and at which bench. InputError for no name; StoreError if it cannot be kept."""
    name, bench = name.strip(), bench.strip()
    for text, where in ((name, "name"), (bench, "bench")):
        check_text(text, where, MOST_NAME)
    if not name or "\n" in name + bench:
        raise InputError("There is no name", "name", "Write who measures here")
    found = Person(name, bench, True)
    path = person_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_given(path, msgspec.json.encode(found) + b"\n")
    except OSError as error:
        raise StoreError(
            f"Could not keep the name: {error.strerror}", str(path), "Check the folder's rights"
        ) from error
    return found


def names_path() -> Path:
    """Return where the words are kept: the user's configuration folder."""
    from platformdirs import user_config_path

    return user_config_path("zesty-trace") / FILE


def own_parts_path() -> Path:
    """Return the folder of the user's own part kinds, which every project may use."""
    from platformdirs import user_config_path

    return user_config_path("zesty-trace") / "parts"


def own_packages_path() -> Path:
    """Return the folder of the user's own packages, which every project may use."""
    return own_parts_path().parent / "packages"


def load_names(path: Path | None = None) -> dict[str, str]:
    """Return word in lower case -> kind; empty where nothing was kept. A damaged file counts as empty."""
    try:
        return msgspec.json.decode(read_given(path or names_path(), "words"), type=dict[str, str])
    except (OSError, ValueError, RecursionError, msgspec.MsgspecError):
        return {}


def keep_names(fresh: Mapping[str, str], path: Path | None = None) -> dict[str, str]:
    """Add words to those kept and return all. StoreError if they cannot be written."""
    path = path or names_path()
    known = {**load_names(path), **{w.lower(): k for w, k in fresh.items()}}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_given(path, msgspec.json.format(msgspec.json.encode(known), indent=2) + b"\n")
    except OSError as error:
        raise StoreError(
            f"Could not keep the words: {error.strerror}", str(path), "Check the folder's rights"
        ) from error
    return known
