"""What may be called what, and how a name leaves the program: into a file name, a CSV cell, an instrument, a window.

Every name that comes from a file, a table or a keyboard passes through one of the checks here before it is used.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

from zesty_trace.errors import InputError

FREE_TEXT_MOST = 4000
TITLE_MOST = 120
REF = re.compile(r"[A-Za-z][A-Za-z0-9_]{0,15}\Z")
NET = re.compile(r"[A-Za-z0-9_+\-/.#]{1,40}\Z")
VARIANT = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_\-]{0,23}\Z")
REVISION = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9 _.\-]{0,14}[A-Za-z0-9_])?\Z")
IDENTIFIER = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9_.\-]{0,62}[A-Za-z0-9_\-])?\Z")
PIN = re.compile(r"[A-Za-z0-9_+\-/.#~]{1,16}\Z")
FILE = re.compile(r"[\w](?:[\w .()+\-]{0,118}[\w)])?\Z")
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n")
_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?\Z")
_PRINTABLE_ASCII = re.compile(r"[ -~]*\Z")

_HINTS = {
    "reference": (REF, "Write letters, then a number, such as R12"),
    "net name": (NET, "Use letters, digits and _ + - / . #, up to 40 of them"),
    "variant": (VARIANT, "Use letters, digits, _ and -, up to 24 of them"),
    "revision": (REVISION, "Use letters, digits, space and - _ . up to 16 of them, such as A or 2.1"),
    "kind": (IDENTIFIER, "Use letters, digits and _ - . up to 64 of them"),
    "package": (IDENTIFIER, "Use letters, digits and _ - . up to 64 of them"),
    "pin number": (PIN, "Use letters, digits and + - / . # ~, up to 16 of them"),
    "file name": (FILE, "Use letters, digits, space and - _ . up to 120 of them, without a folder"),
}


def is_name(text: str, sort: str) -> bool:
    """Whether `text` may be a name of this sort: "reference", "net name", "variant", "revision", "kind", "package",
    "pin number" or "file name"."""
    return bool(_HINTS[sort][0].match(text)) and ".." not in text


def check_name(text: str, sort: str, where: str) -> str:
    """Return `text` if it may be a name of this sort. InputError, with what is allowed, if not."""
    if is_name(text, sort):
        return text
    article = "an" if sort[0] in "aeiou" else "a"
    raise InputError(f"“{shorten(text)}” cannot be {article} {sort}", where, _HINTS[sort][1])


def check_text(text: str, where: str, most: int = FREE_TEXT_MOST) -> str:
    """Return free text that is not too long and holds no control characters but tabs and line ends.

    InputError if not.
    """
    if len(text) > most:
        raise InputError(f"The text has {len(text):,} characters", where, f"At most {most:,} are kept")
    if any(unicodedata.category(c) in ("Cc", "Cs") and c not in "\t\n\r" for c in text):
        raise InputError("The text holds control characters", where, "Type it again without them")
    return text


def shorten(text: str, most: int = 60) -> str:
    """Return text fit for a message: on one line, without control characters, cut where it is too long."""
    plain = "".join(c if unicodedata.category(c) not in ("Cc", "Cf", "Cs") else " " for c in text[: most + 1])
    return plain if len(text) <= most else plain[:most] + "…"


KEPT = "\n\t"
# Controls, formats (those of direction among them), halves, private and unassigned ones, separators of lines.
UNSEEN = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")


def printable(text: str) -> str:
    r"""Return a text in which whatever cannot be seen stands as its number, as JSON writes it.

    >>> printable("a\x1b[2Jb\u202e")
    'a\\u001b[2Jb\\u202e'
    """
    if text.isprintable():
        return text
    return "".join(c if c in KEPT or unicodedata.category(c) not in UNSEEN else _number_of(c) for c in text)


def _number_of(char: str) -> str:
    if ord(char) < 0x10000:
        return f"\\u{ord(char):04x}"
    high, low = divmod(ord(char) - 0x10000, 0x400)
    return f"\\u{0xD800 + high:04x}\\u{0xDC00 + low:04x}"


def csv_cell(text: object) -> str:
    """Return a cell that no spreadsheet takes for a formula.

    A leading = + - or @ gets an apostrophe, numbers do not.
    """
    cell = str(text)
    return "'" + cell if _is_formula(cell) and not _NUMBER.match(cell) else cell


def _is_formula(cell: str) -> bool:
    """Whether a spreadsheet may take a cell for a formula: by its first sign, in any width, behind any blank."""
    bare = cell.lstrip("'")
    if bare[:1] in ("\t", "\r", "\n"):
        return True
    first = next((c for c in bare if not c.isspace() and unicodedata.category(c) not in ("Cf", "Cc")), "")
    return unicodedata.normalize("NFKC", first)[:1] in _FORMULA if first else False


def from_csv_cell(cell: str) -> str:
    """Return what csv_cell was given."""
    return cell[1:] if cell[:1] == "'" and _is_formula(cell) else cell


def csv_text(rows: object) -> str:
    """Return rows of cells as CSV, every cell made safe by csv_cell."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for row in rows:  # type: ignore[attr-defined]
        writer.writerow([csv_cell(cell) for cell in row])
    return out.getvalue()


def scpi_string(text: str) -> str:
    """Return a quoted string parameter (IEEE 488.2, 7.7.5). InputError for what must not go to an instrument."""
    if not _PRINTABLE_ASCII.match(text) or any(c in text for c in "\"';\\") or len(text) > 64:
        raise InputError(
            f"“{shorten(text)}” cannot be sent to an instrument", "name", "Use letters, digits, - _ . + / #"
        )
    return f'"{text}"'


def slug(text: str, fallback: str) -> str:
    """Return a text as part of a file name: lower case letters, digits and dashes; `fallback` if nothing is left."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60] or fallback


MOST_NAMED = 16


def suggest(word: str, choices: Iterable[str]) -> str:
    """Return a hint with the nearest known words."""
    from difflib import get_close_matches

    known = sorted(choices)
    near = get_close_matches(word[:80], known, n=3, cutoff=0.5)
    if near:
        return f"Did you mean {' or '.join(near)}?"
    more = f" … ({len(known)} in all)" if len(known) > MOST_NAMED else ""
    return f"Known: {', '.join(known[:MOST_NAMED])}{more}"
