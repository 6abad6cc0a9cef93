"""Tables about parts: their head, their cells with lines, numbers that are checked."""

from __future__ import annotations

import csv
import io
import math
from decimal import Decimal, InvalidOperation

from zesty_trace.errors import InputError
from zesty_trace.names import from_csv_cell, shorten, suggest

MOST_ROWS = 20_000
MOST_PIECES = 10_000_000


def read_sheet(
    text: str, name: str, needed: tuple[str, ...], columns: tuple[str, ...]
) -> list[tuple[int, dict[str, str]]]:
    """Return the rows of a table with their lines; lines that begin with # are remarks. InputError."""
    lines = ["" if line.lstrip().startswith("#") else line for line in text.lstrip("\ufeff").splitlines()]
    mark = max(",;\t", key=next((x for x in lines if x.strip()), "").count)
    reader = csv.reader(io.StringIO("\n".join(lines)), delimiter=mark, skipinitialspace=True)
    try:
        table = [(reader.line_num, [c.strip() for c in row]) for row in reader if any(c.strip() for c in row)]
    except csv.Error as error:
        raise InputError(
            f"It is no table: {error}", f"{name} line {reader.line_num}", "Save it as CSV again"
        ) from error
    if not table:
        raise InputError("The table is empty", name, f"Start it with: {','.join(columns)}")
    if len(table) > MOST_ROWS:
        raise InputError(f"The table has {len(table):,} rows", name, f"Up to {MOST_ROWS:,}")
    line, head = table[0][0], [c.lower().replace(" ", "_") for c in table[0][1]]
    for word in head:
        if word not in columns:
            raise InputError(f"Unknown column “{shorten(word)}”", f"{name} line {line}", suggest(word, columns))
        if head.count(word) > 1:
            raise InputError(f"Column “{word}” is there twice", f"{name} line {line}", "Take one of them out")
    for word in needed:
        if word not in head:
            raise InputError(f"Column “{word}” is missing", f"{name} line {line}", f"Head: {','.join(columns)}")
    rows = []
    for number, cells in table[1:]:
        if any(cells[len(head) :]):
            raise InputError("More cells than the head has", f"{name} line {number}", "Quote cells with commas")
        full = [*cells[: len(head)], *[""] * (len(head) - len(cells))]
        rows.append((number, {h: from_csv_cell(c) for h, c in zip(head, full, strict=True)}))
    return rows


def whole(cell: str, where: str, what: str, least: int = 0, most: int = MOST_PIECES, default: int | None = None) -> int:
    """Return a whole number of a cell. InputError for what is none, or out of range."""
    if not cell and default is not None:
        return default
    try:
        value = int(cell)
    except ValueError as error:
        raise InputError(f"{what}: “{shorten(cell)}” is no whole number", where, f"From {least} to {most}") from error
    if not least <= value <= most:
        raise InputError(f"{what} = {value} cannot be", where, f"From {least} to {most}")
    return value


def amount(cell: str, where: str, what: str, most: float = 1e7) -> Decimal:
    """Return a sum of money of a cell. InputError for what is none."""
    try:
        value = Decimal(cell.replace(",", ".") if cell.count(",") == 1 and "." not in cell else cell)
    except InvalidOperation as error:
        raise InputError(f"{what}: “{shorten(cell)}” is no amount", where, "Write it like 0.085") from error
    if not value.is_finite() or not 0 <= value <= Decimal(str(most)) or math.isnan(float(value)):
        raise InputError(f"{what} = {shorten(cell)} cannot be", where, f"From 0 to {most:g}")
    return value
