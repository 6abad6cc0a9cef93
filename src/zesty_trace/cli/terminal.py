"""The one door to a terminal: what is not ours is shown, never sent. No control or invisible character gets through."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from io import TextIOBase
from typing import TextIO

from zesty_trace.names import printable


class Shown(TextIOBase):
    """A stream through which a command prints."""

    def __init__(self, under: TextIO) -> None:
        super().__init__()
        self.under = under

    def write(self, text: str) -> int:
        """Write what can be seen of a text."""
        self.under.write(printable(text))
        return len(text)

    def flush(self) -> None:
        """Pass on what was written."""
        self.under.flush()

    def isatty(self) -> bool:
        """Whether somebody looks on."""
        return not self.under.closed and self.under.isatty()

    @property
    def closed(self) -> bool:  # type: ignore[override]
        """Whether the stream below is closed."""
        return self.under.closed

    def fileno(self) -> int:
        """Return the descriptor below."""
        return self.under.fileno()

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """The encoding below."""
        return self.under.encoding


@contextmanager
def shown() -> Iterator[None]:
    """Let everything that is printed go through the door."""
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = Shown(before[0]), Shown(before[1])  # type: ignore[assignment]
    try:
        yield
    finally:
        sys.stdout, sys.stderr = before


def progress(line: str) -> None:
    """Show how far something is, on one line that is written over; nothing where nobody looks on."""
    under = sys.stderr.under if isinstance(sys.stderr, Shown) else sys.stderr
    if under.isatty():
        under.write(f"\r{printable(line)[:70]:70}" if line else "\n")
        under.flush()
