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


BUSES = ("SDA", "SCL", "SCK", "SDI", "SDO", "MOSI", "MISO", "CS", "NSS")
SERIAL = ("TX", "RX", "TXD", "RXD", "RTS", "CTS")
CONTROL = ("INT", "IRQ", "RST", "NRST", "EN", "CE", "OE", "WE", "RD", "WR", "CLK", "LED")
USUAL = frozenset((*BUSES, *SERIAL, *CONTROL))  # lines whose names differ little


def looks_like_a_slip(word: str, known: str) -> bool:
    """Whether a name is a known one with one letter wrong, missing, too many, or two exchanged, whatever the case.

    Names that differ in a digit, and the usual names of lines, are names of their own.

    >>> looks_like_a_slip("GMD", "GND"), looks_like_a_slip("LED_2", "LED_1"), looks_like_a_slip("SCK", "SCL")
    (True, False, False)
    """
    a, b = word.upper(), known.upper()
    if a == b or a in USUAL or min(len(a), len(b)) < 3 or abs(len(a) - len(b)) > 1:
        return False
    if len(a) == len(b):
        wrong = [k for k in range(len(a)) if a[k] != b[k]]
        if len(wrong) == 1:
            return a[wrong[0]].isalpha() and b[wrong[0]].isalpha()
        if len(wrong) != 2 or wrong[1] != wrong[0] + 1:
            return False
        pair = a[wrong[0]] + a[wrong[1]]
        return pair.isalpha() and pair[::-1] == b[wrong[0]] + b[wrong[1]]
    long, short = (a, b) if len(a) > len(b) else (b, a)
    return any(long[:k] + long[k + 1 :] == short and long[k].isalpha() for k in range(1, len(long)))
