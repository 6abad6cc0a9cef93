"""Faults of the program: the traceback goes to a file in the user's state folder, and the message names the file."""

from __future__ import annotations

import logging
import logging.handlers
import sys
from pathlib import Path

MOST_BYTES, KEPT = 512_000, 3


def log_path() -> Path:
    """Return where the log is: the user's state folder."""
    from platformdirs import user_state_path

    return user_state_path("zesty-trace") / "zesty-trace.log"


def keep(error: BaseException) -> Path:
    """Write an error with its traceback to the log, which is turned over before it grows large; return its path.

    Where nothing can be written the error is not kept; nothing is raised.
    """
    path = log_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8")
    except OSError:
        return path
    handler.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
    details = (type(error), error, error.__traceback__)
    record = logging.LogRecord("zesty_trace", logging.ERROR, "", 0, " ".join(sys.argv[:3]), None, details)
    try:
        handler.emit(record)
    finally:
        handler.close()
    return path
