"""Bills of materials and centroid tables as other tools write them."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from dataclasses import dataclass

from zesty_trace.errors import InputError
from zesty_trace.names import from_csv_cell, shorten

HEAD_LINES = 60  # titles and remarks before the head of a table
MOST_ROWS = 20_000
MOST_OF_A_RANGE = 2000
MOST_OF_A_HEAD, MOST_IN_A_CELL = 200, 20_000
COLUMNS = {
    "ref": "ref refs reference references designator designators refdes refdesignator part parts component components",
    "value": "value val comment name",
    "package": "package footprint case pattern pkg casepackage",
    "words": "description descr title type partname kind",
    "fitted": "fitted populate populated mount assembled",
    "omitted": "dnp dnf dni nofit notfitted donotfit donotpopulate donotplace nopop",
    "x": "x posx midx xpos centerx centrex locationx positionx xcenter xcentre xlocation xcoordinate coordinatex",
    "y": "y posy midy ypos centery centrey locationy positiony ycenter ycentre ylocation ycoordinate coordinatey",
    "turn": "rotation rot angle orientation turn rotationdegrees",
    "side": "side layer face tb boardside mountside mountingside",
}
KNOWN = {word: column for column, words in COLUMNS.items() for word in words.split()}
UNITS = {"mm": 1.0, "mil": 0.0254, "mils": 0.0254, "in": 25.4, "inch": 25.4, "inches": 25.4, "um": 0.001}
_UNIT = re.compile(r"\b(mm|mils?|in|inch|inches|um)\b", re.I)
_NUMBER = re.compile(r"([-+]?\d*[.,]?\d+(?:e[-+]?\d+)?)\s*(mm|mils?|inch(?:es)?|in|um|\"|°|deg)?\Z", re.I)
_RANGE = re.compile(r"([A-Za-z_]+)(\d+)\s*(?:-|…|\.\.+|–)\s*([A-Za-z_]*)(\d+)\Z")
TOP = ("top", "t", "f", "front", "toplayer", "component", "componentside", "primary", "0")
BOTTOM = ("bottom", "bot", "b", "back", "bottomlayer", "solder", "solderside", "secondary")
NOTHING = ("-", "~", "--", "n/a", "N/A", "none", "None")
YES = ("1", "y", "yes", "x", "true", "dnp", "dnf", "dni")


@dataclass(frozen=True)
class Bought:
    """A part by a bill of materials; `fitted` is False where the table says that it stays off."""

    ref: str
    value: str
    package: str
    words: str
    fitted: bool
    line: int


@dataclass(frozen=True)
class Spot:
    """Where the middle of a part sits by a centroid table, in mm if `unit` was said, else as the table has it."""

    ref: str
    x: float
    y: float
    turn: float
    side: str
    value: str
    package: str
    line: int


@dataclass(frozen=True)
class Spots:
    """A centroid table; `unit` is mm per unit, None if nothing says it."""

    rows: tuple[Spot, ...]
    unit: float | None
    name: str


def read_bom(text: str, name: str) -> list[Bought]:
    """Return the parts of a bill of materials, one for each reference. InputError for what has no references."""
    head, rows = _table(text, name, ("ref",))
    if not {"value", "package", "words"} & set(head):
        hint = "It needs a column such as value, package or description"
        raise InputError("The table says nothing of its parts", name, hint)
    found: dict[str, Bought] = {}
    for line, row in rows:
        for ref in references(row.get("ref", ""), f"{name} line {line}"):
            if ref in found:
                first = f"line {found[ref].line}"
                raise InputError(f"{ref} stands in {first} already", f"{name} line {line}", "Keep one of the two")
            off = row.get("omitted", "").lower() in YES or row.get("fitted", "").lower() in ("0", "n", "no", "false")
            found[ref] = Bought(
                ref, row.get("value", ""), row.get("package", ""), row.get("words", ""), not off, line
            )  # fmt: skip
    if not found:
        raise InputError("The bill of materials has no parts", name, "Is it another table?")
    return list(found.values())


def read_centroid(text: str, name: str) -> Spots:
    """Return where parts sit by a table: middle, turn and side. InputError with the line of what is no place."""
    head, rows = _table(text, name, ("ref", "x", "y"))
    if "turn" not in head or "side" not in head:
        lacks = "rotation" if "turn" not in head else "side"
        raise InputError(f"The table has no column for the {lacks}", name, "It needs ref, x, y, rotation and side")
    found: dict[str, Spot] = {}
    units = {_unit_of(head["x"]), _unit_of(head["y"])} - {None}
    for line, row in rows:
        where = f"{name} line {line}"
        ref = row.get("ref", "").strip()
        if not ref:
            continue
        if ref in found:
            raise InputError(f"{ref} stands in line {found[ref].line} already", where, "Keep one of the two")
        x, unit = _number(row["x"], where)
        y, other = _number(row["y"], where)
        turn, _ = _number(row["turn"], where)
        units |= {unit, other} - {None}
        side = _side(row["side"], where)
        found[ref] = Spot(ref, x, y, turn, side, row.get("value", ""), row.get("package", ""), line)
    units = units or {_said_unit(text)} - {None}
    if len(units) > 1:
        raise InputError("Some places are in one unit, some in another", name, "Write all in mm")
    unit = next(iter(units), None)
    scale = unit or 1.0
    spots = tuple(
        Spot(s.ref, s.x * scale, s.y * scale, s.turn, s.side, s.value, s.package, s.line) for s in found.values()
    )
    if not spots:
        raise InputError("The table has no places", name, "Is it another table?")
    return Spots(spots, unit, name)


def references(text: str, where: str) -> list[str]:
    """Return the references of a cell: `R1, R2 R5-R8`. InputError for a range that runs backwards or is endless."""
    found: list[str] = []
    text = re.sub(r" ?(-|…|\.\.+|–) ?", r"\1", " ".join(text.split()))
    for word in re.split(r"[,;\s]+", text.strip()):
        match = _RANGE.match(word) if len(word) < MOST_OF_A_HEAD else None
        if match and match[3] in ("", match[1]):
            first, last = int(match[2]), int(match[4])
            if not 0 <= last - first < MOST_OF_A_RANGE:
                raise InputError(f"“{shorten(word)}” is no range", where, "Write R3-R7, or each one")
            found += [f"{match[1]}{k}" for k in range(first, last + 1)]
        elif word:
            found.append(word)
    return found


def _plain(cell: str) -> str:
    cell = cell[:MOST_OF_A_HEAD]
    bare = re.sub(r"\([^)]*\)|\[[^]]*\]", "", cell.lower()).replace("_", " ")
    return re.sub(r"[^a-z]", "", re.sub(r"\b(deg|degrees?)\b", "", _UNIT.sub("", bare)))


def _table(text: str, name: str, needed: tuple[str, ...]) -> tuple[dict[str, str], list[tuple[int, dict[str, str]]]]:
    """Return the heads of the known columns, and the rows below them with their lines. InputError without a head."""
    lines = text.lstrip("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    for at, line in enumerate(lines[:HEAD_LINES]):
        for mark in ("\t", ";", ",", "|", None):
            cells = _split(line.lstrip("#").strip(), mark)
            columns = {k: KNOWN.get(_plain(c)) for k, c in enumerate(cells)}
            if all(n in columns.values() for n in needed) and len(set(columns.values()) - {None}) >= 2:
                return _below(lines, at, mark, cells, columns, name)
    wanted = ", ".join(needed)
    raise InputError("The table has no head that is understood", name, f"Its first line should name {wanted} and so on")


def _split(line: str, mark: str | None) -> list[str]:
    if mark is None:
        return line.split()
    return next(csv.reader(io.StringIO(line), delimiter=mark, skipinitialspace=True), [])


def _below(
    lines: list[str], at: int, mark: str | None, heads: list[str], columns: Mapping[int, str | None], name: str
) -> tuple[dict[str, str], list[tuple[int, dict[str, str]]]]:
    head: dict[str, str] = {}
    spots: dict[str, int] = {}
    rank = {word: n for words in COLUMNS.values() for n, word in enumerate(words.split())}
    for k in sorted(columns, key=lambda k: (rank.get(_plain(heads[k]), 99), k)):
        column = columns[k]
        if column and column not in spots:
            head[column], spots[column] = heads[k], k
    for k, column in columns.items():  # a column “part” says what the part is where another one has the references
        if column == "ref" and k != spots["ref"] and "words" not in spots:
            head["words"], spots["words"] = heads[k], k
    if mark is None:
        table = [(n, line.split()) for n, line in enumerate(lines[at + 1 :], at + 2) if not line.startswith("#")]
    else:
        reader = csv.reader(io.StringIO("\n".join(lines[at + 1 :])), delimiter=mark, skipinitialspace=True)
        try:
            table = [(at + 1 + reader.line_num, row) for row in reader if not (row and row[0].startswith("#"))]
        except csv.Error as error:
            raise InputError(
                f"It is no table: {error}", f"{name} line {at + 1 + reader.line_num}", "Save it again"
            ) from None
    if len(table) > MOST_ROWS:
        raise InputError(f"The table has {len(table):,} rows", name, f"Up to {MOST_ROWS:,}")
    rows = []
    for line, cells in table:
        if not any(c.strip() for c in cells):
            continue
        row = {c: _cell(cells[k]) if k < len(cells) else "" for c, k in spots.items()}
        if "x" in spots and max(spots["x"], spots.get("y", 0), spots.get("side", 0)) >= len(cells):
            raise InputError("The row is shorter than the head", f"{name} line {line}", "Fill its cells")
        rows.append((line, row))
    return head, rows


def _cell(cell: str) -> str:
    if len(cell) > MOST_IN_A_CELL:
        raise InputError(f"A cell has {len(cell):,} letters", "table", f"At most {MOST_IN_A_CELL:,}: is it a table?")
    text = from_csv_cell(cell.strip())
    return "" if text in NOTHING else text


def _number(cell: str, where: str) -> tuple[float, float | None]:
    """Return a number and the mm of its unit, None without one."""
    match = _NUMBER.match(cell.strip()) if len(cell) < MOST_OF_A_HEAD else None
    if not match:
        raise InputError(f"“{shorten(cell)}” is no number", where, "Write it like 12.5")
    unit = (match[2] or "").lower().replace('"', "in")
    return float(match[1].replace(",", ".")), UNITS.get(unit)


def _unit_of(head: str) -> float | None:
    match = _UNIT.search(head.replace("_", " "))
    return UNITS[match[1].lower()] if match else None


def _said_unit(text: str) -> float | None:
    """Return the unit that a remark of the table names."""
    pattern = r"unit[s ]{0,9}(?:used)?\s{0,9}[:=]\s{0,9}\"?(mm|millimet\w{1,9}|mils?|inch(?:es)?|in|um)\b"
    match = re.search(pattern, text, re.I)
    if not match:
        return None
    word = match[1].lower()
    return 1.0 if word.startswith("millimet") else UNITS[word]


def _side(cell: str, where: str) -> str:
    word = re.sub(r"[^a-z0-9]", "", cell.lower())
    if word in TOP:
        return "top"
    if word in BOTTOM:
        return "bottom"
    raise InputError(f"“{shorten(cell)}” is no side", where, "Write top or bottom")
