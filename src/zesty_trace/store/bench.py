"""The user's instruments: how far each may be off as its sheet says, and when it was calibrated."""

from __future__ import annotations

from pathlib import Path

import msgspec

from zesty_trace.errors import StoreError
from zesty_trace.files import read_given, write_given
from zesty_trace.store.own import names_path

FILE = "instruments.json"
BY_HAND = "by hand"  # what a person reads off, and names no other way
MOST = 100


class Instrument(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What was said of an instrument: accuracies as written, day of calibration, and when it was last asked for."""

    volt: str = ""
    ohm: str = ""
    amp: str = ""
    calibrated: str = ""
    asked: str = ""


def instruments_path() -> Path:
    """Return where it is kept: the user's configuration folder."""
    return names_path().parent / FILE


def load_instruments() -> dict[str, Instrument]:
    """Return name -> what was said of it; empty where nothing was. A damaged file counts as empty."""
    try:
        return msgspec.json.decode(read_given(instruments_path(), "words"), type=dict[str, Instrument])
    except (OSError, ValueError, RecursionError, msgspec.MsgspecError):
        return {}


def keep_instrument(name: str, said: Instrument) -> None:
    """Keep what was said of an instrument. StoreError if it cannot be kept."""
    path = instruments_path()
    known = {**load_instruments(), name: said}
    if len(known) > MOST:
        raise StoreError(f"There are {MOST} instruments already", str(path), "Take some out of the file")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_given(path, msgspec.json.format(msgspec.json.encode(known), indent=2) + b"\n")
    except OSError as error:
        raise StoreError(f"Could not keep it: {error.strerror}", str(path), "Check the folder's rights") from error
