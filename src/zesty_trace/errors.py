"""The one exception family. Raised at the edges: parsers, devices, the store."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager


class ZestyError(Exception):
    """Something a person can put right: what is wrong, where, and what to do about it."""

    def __init__(self, message: str, where: str = "", hint: str = "") -> None:
        super().__init__(message, where, hint)
        self.message, self.where, self.hint = message, where, hint

    def __str__(self) -> str:
        text = f"{self.where}: {self.message}" if self.where else self.message
        return f"{text}. {self.hint}" if self.hint else text


class InputError(ZestyError, ValueError):
    """A file or a typed value that cannot be read; `line` is the line of the text, from 1, where there is one."""

    def __init__(self, message: str, where: str = "", hint: str = "", line: int | None = None) -> None:
        super().__init__(message, where, hint)
        self.line = line


class EditError(ZestyError, ValueError):
    """An edit that the design cannot take."""


class StoreError(ZestyError, OSError):
    """The project folder cannot be read or written."""


class DeviceError(ZestyError, ConnectionError):
    """A programmer or an instrument that does not answer as it should."""


class SolveError(ZestyError, ArithmeticError):
    """A circuit that has no solution, with the nets at fault."""


class Cancelled(Exception):
    """A job that its owner stopped."""


@contextmanager
def own_words(what: str) -> Iterator[None]:
    """Let nothing but the project's own errors out of a reader: what it did not foresee is said, not thrown.

    A safety net under the checks of each reader, for input that none of them thought of.
    """
    try:
        yield
    except (ZestyError, Cancelled):
        raise
    except Exception as error:  # libraries raise whatever they like on what they did not foresee
        raise InputError(
            f"The {what} cannot be read ({type(error).__name__}: {str(error)[:120]})", what, "Check it"
        ) from error
