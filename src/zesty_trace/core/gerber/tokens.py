"""The commands of an image file with their lines: words up to a star, and parameters between percent signs."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zesty_trace.errors import InputError

_TOKEN = re.compile(r"\s*(?:%([^%]*)%|([^*%]*)\*)")


def commands(text: str, name: str) -> Iterator[tuple[int, bool, str]]:
    """Yield (line, whether it is a parameter, text): a parameter whole, as it may hold several commands.

    InputError with the line of what is not closed.
    """
    at, line, counted = 0, 1, 0
    end = len(text.rstrip())
    while at < end:
        match = _TOKEN.match(text, at)
        if match is None:
            line += text.count("\n", counted, at) + _blank_lines(text, at)
            raise InputError("A command is not closed", f"{name} line {line}", "The file is damaged or cut off")
        begin = match.start(1) if match[1] is not None else match.start(2)
        begin += _lead(match[1] if match[1] is not None else match[2])
        line += text.count("\n", counted, begin)
        counted = begin
        yield line, match[1] is not None, match[1] if match[1] is not None else match[2].strip()
        at = match.end()


def _lead(text: str) -> int:
    return len(text) - len(text.lstrip())


def _blank_lines(text: str, at: int) -> int:
    rest = text[at:]
    return rest[: _lead(rest)].count("\n")


def parts_of(parameter: str, line: int) -> Iterator[tuple[int, str]]:
    """Yield the commands within one pair of percent signs with their lines; a macro is one, whatever it holds."""
    body = parameter.strip()
    if body.startswith("AM"):
        yield line, body
        return
    at = line
    for part in body.split("*"):
        inner = part.strip()
        here = at + part[: _lead(part)].count("\n")
        at += part.count("\n")
        if inner:
            yield here, re.sub(r"[\r\n]+", "", inner)
