"""What belongs to the user and not to one project: words for part kinds, and part kinds of their own."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec

from zesty_trace.errors import StoreError
from zesty_trace.files import read_given, write_given

FILE = "import-names.json"


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
