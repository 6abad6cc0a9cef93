"""The cells of a table, as people save them: commas, semicolons or tabs, usual names for columns, remarks.

A line that begins with `#` is a remark; `# supply: 5 V 2 A` says something of the whole board.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.errors import InputError
from zesty_trace.names import from_csv_cell

PART_COLUMNS = ("ref", "kind", "value", "package", "variants", "notes")
OPTIONAL_COLUMNS = ("block", "supply")
WIRING_COLUMNS = ("net", "ref", "pin")
OPEN = "NC"
SYNONYMS = {
    "reference": "ref",
    "designator": "ref",
    "part": "ref",
    "type": "kind",
    "component": "kind",
    "description": "kind",
    "footprint": "package",
    "case": "package",
    "comment": "notes",
    "note": "notes",
    "remark": "notes",
    "variant": "variants",
    "signal": "net",
    "node": "net",
    "wire": "net",
    "terminal": "pin",
    "leg": "pin",
}
MOST_TOLD = 20
LONGEST_CELL = 4000
_REMARK = re.compile(r"^\s*\"?#\s*([A-Za-z]+)\s*[:=]\s*(.*?)\"?[\s,;]*$")


@dataclass(frozen=True)
class Problem:
    """One thing wrong in one cell; `unknown_kind` is the word that names no kind of part."""

    file: str
    line: int
    column: str
    text: str
    hint: str
    unknown_kind: str = ""

    def __str__(self) -> str:
        return f"{self.file} line {self.line}, column {self.column}: {self.text}. {self.hint}"


class ImportFailed(InputError):
    """The tables cannot be imported; `problems` has each cell at fault."""

    def __init__(self, problems: list[Problem]) -> None:
        first = problems[0]
        more = f" ({len(problems) - 1} more problems)" if len(problems) > 1 else ""
        super().__init__(first.text + more, f"{first.file} line {first.line}, column {first.column}", first.hint)
        self.problems = problems

    def __reduce__(self) -> tuple[type[ImportFailed], tuple[list[Problem]]]:
        return ImportFailed, (self.problems,)

    def told(self) -> list[str]:
        """Return the first problems in words, and how many more there are."""
        return told(self.problems)


def told(problems: Sequence[Problem], most: int = MOST_TOLD) -> list[str]:
    """Return the first problems in words, and how many more there are."""
    more = len(problems) - most
    return [*map(str, problems[:most]), *([f"and {more:,} more"] if more > 0 else [])]


@dataclass(frozen=True)
class Table:
    """The rows of a table with their lines, and its remarks: word -> (line, text). `whole` tells that all was read."""

    rows: tuple[tuple[int, dict[str, str]], ...]
    remarks: dict[str, tuple[int, str]]
    whole: bool


def read_rows(text: str, file: str, needed: tuple[str, ...], problems: list[Problem]) -> Table:
    """Return the rows of a table; what is wrong with it goes into `problems`."""
    before = len(problems)
    text = text.lstrip("\ufeff")
    remarks = _remarks(text)
    plain = "\n".join(_without_remarks(text))
    reader = csv.reader(io.StringIO(plain, newline=""), delimiter=_delimiter(plain), skipinitialspace=True)
    try:
        table = [(reader.line_num, row) for row in reader if any(cell.strip() for cell in row)]
    except csv.Error as error:
        said = "a cell is too long" if "limit" in str(error) else f"it is no table: {error}"
        problems.append(Problem(file, reader.line_num, needed[0], said, "Save it as CSV again"))
        return Table((), remarks, False)
    if not table:
        problems.append(Problem(file, 1, needed[0], "the file is empty", f"Start it with: {','.join(needed)}"))
        return Table((), remarks, False)
    header = _header(table[0][0], table[0][1], file, needed, problems)
    if len(problems) > before:
        return Table((), remarks, False)
    rows = []
    for line, cells in table[1:]:
        if any(cell.strip() for cell in cells[len(header) :]):
            problems.append(
                Problem(file, line, str(len(header) + 1), "more cells than the header has", "Quote cells with commas")
            )
            continue
        padded = [*cells[: len(header)], *[""] * (len(header) - len(cells))]
        row = {n: from_csv_cell(cell.strip()) for n, cell in zip(header, padded, strict=True)}
        long = next((n for n, cell in row.items() if len(cell) > LONGEST_CELL), "")
        if long:
            said = f"a cell of {len(row[long]):,} letters"
            problems.append(Problem(file, line, long, said, f"Up to {LONGEST_CELL:,}: is a quote left open?"))
            continue
        rows.append((line, row))
    return Table(tuple(rows), remarks, len(rows) == len(table) - 1)


def _lines(text: str) -> list[str]:
    return text.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def _without_remarks(text: str) -> Iterator[str]:
    """Yield the lines, remarks as empty ones; within quotes nothing is a remark."""
    quoted = False
    for line in _lines(text):
        yield "" if not quoted and line.lstrip().startswith(("#", '"#')) else line
        if not (not quoted and line.lstrip().startswith("#")):
            quoted ^= line.count('"') % 2 == 1


def _remarks(text: str) -> dict[str, tuple[int, str]]:
    found: dict[str, tuple[int, str]] = {}
    for number, line in enumerate(_lines(text), 1):
        if match := _REMARK.match(line):
            found.setdefault(match.group(1).lower(), (number, match.group(2).strip()))
    return found


def _header(line: int, cells: list[str], file: str, needed: tuple[str, ...], problems: list[Problem]) -> list[str]:
    """Return today's names of the columns; one that is unknown, missing or there twice is a problem."""
    words = [cell.strip().lower() for cell in cells]
    while words and not words[-1]:
        words.pop()  # a comma too many at the end of each line
    header = [w if w in words[:k] or (s := SYNONYMS.get(w, w)) in words else s for k, w in enumerate(words)]
    allowed = needed + (OPTIONAL_COLUMNS if needed is PART_COLUMNS else ())
    for k, name in enumerate(header):
        if name in header[:k]:
            problems.append(Problem(file, line, name, f"column “{name}” is there twice", "Take one of them out"))
        elif name not in allowed:
            problems.append(Problem(file, line, name, f"unknown column “{name}”", suggest(name, allowed)))
    for name in needed[:3] if needed is WIRING_COLUMNS else needed[:2]:
        if name not in header:
            problems.append(Problem(file, line, name, f"column “{name}” is missing", f"Header: {','.join(needed)}"))
    return header


def _delimiter(text: str) -> str:
    """Return what parts the cells of the first line."""
    first = next((line for line in text.splitlines() if line.strip()), "")
    return max(",;\t", key=first.count)
