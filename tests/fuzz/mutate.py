"""Small edits that turn a valid file into one that is nearly valid."""

from __future__ import annotations

import random

TOKENS = (
    b"",
    b"0",
    b"-1",
    b"1e999",
    b"1e-320",
    b"NaN",
    b"inf",
    b"99999999999999999999",
    b"\x00",
    b"\xff",
    b"\xfe\xff",
    b"\n",
    b"\r",
    b"\t",
    b'"',
    b"'",
    b"[",
    b"]",
    b"{",
    b"}",
    b"[[[[[[[[",
    b"../../x",
    b"/etc/passwd",
    b"%",
    b"*",
    b"X",
    b"Y",
    b"D",
    b"G36*",
    b"T0",
    b"T99",
    b"=1+1",
    "µ".encode(),
    "€".encode(),
    b"\xc3",
    b"null",
    b"true",
    b"1.5",
    b"1,5",
    b" ",
    b"." * 40,
    b"9" * 400,
    b"..",
    b"x99",
)
LONGEST = 400_000


def mutated(data: bytes, rng: random.Random, edits: int) -> bytes:
    """Return `data` after some random edits."""
    for _ in range(edits):
        data = _edited(data, rng)[:LONGEST]
    return data


def _edited(data: bytes, rng: random.Random) -> bytes:
    at = rng.randrange(len(data) + 1)
    size = min(len(data) - at, rng.choice((1, 1, 2, 4, 16, 64, 1000)))
    way = rng.randrange(8)
    if way == 0 and data:
        at = min(at, len(data) - 1)
        return data[:at] + bytes([data[at] ^ (1 << rng.randrange(8))]) + data[at + 1 :]
    if way == 1:
        return data[:at] + data[at + size :]
    if way == 2:
        return data[:at] + rng.choice(TOKENS) + data[at:]
    if way == 3:
        return data[:at] + rng.choice(TOKENS) + data[at + size :]
    if way == 4:
        return data[:at] + data[at : at + size] * rng.choice((2, 3, 50)) + data[at + size :]
    if way == 5:
        return data[:at]
    lines = data.split(b"\n")
    a, b = rng.randrange(len(lines)), rng.randrange(len(lines))
    if way == 6:
        lines[a], lines[b] = lines[b], lines[a]
    else:
        lines.insert(a, lines[b])
    return b"\n".join(lines)
