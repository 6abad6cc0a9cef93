"""Words of a sentence, with quotes; lists and runs of references and pins: `D1..D4`, `U4.Q0..Q11`."""

from __future__ import annotations

import re

from zesty_trace.errors import InputError

_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')
_RUN = re.compile(r"^(.*?)(\d+)\.\.(?:.*?)(\d+)$")
MOST = 256


def split_words(text: str) -> list[tuple[str, bool]]:
    """Return (word, whether it was quoted). InputError for a quote that does not end."""
    found = []
    for match in _WORD.finditer(text):
        quoted, plain = match.groups()
        if plain is not None and plain.startswith('"'):
            raise InputError("A quote does not end", plain, 'Close it with "')
        found.append((plain, False) if plain is not None else (re.sub(r"\\(.)", r"\1", quoted), True))
    return found


def quote(text: str, always: bool = False) -> str:
    """Return text as one word, in quotes if it has to be."""
    if not always and re.match(r"^[^\s\"\\#]+$", text):
        return text
    return '"' + re.sub(r'(["\\])', r"\\\1", " ".join(text.split())) + '"'


def expand(text: str) -> list[str]:
    """Return the words of a list, runs written out: `D1..D3, R4` gives D1 D2 D3 R4. InputError for a run too long.

    >>> expand("U4.Q0..Q2, R1")
    ['U4.Q0', 'U4.Q1', 'U4.Q2', 'R1']
    """
    found: list[str] = []
    for word in re.split(r"[,\s]+", text.strip()):
        match = _RUN.match(word)
        if not match:
            found += [word] if word else []
            continue
        head, first, last = match.group(1), int(match.group(2)), int(match.group(3))
        if abs(last - first) >= MOST:
            raise InputError(f"{word} is a run of more than {MOST}", word, "Write a shorter one")
        step = 1 if last >= first else -1
        found += [f"{head}{n}" for n in range(first, last + step, step)]
    return found
