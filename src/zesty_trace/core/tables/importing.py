"""The prototype as two tables.

`parts.csv` (ref, kind, value, package, variants, notes) and `wiring.csv` (net, ref, pin).

An import is all or nothing: every problem is reported with its file, line and column, and no design is made. The net
name `NC` says that a pin stays open on purpose. `variants` holds names separated by spaces; empty means all. Columns
may go by other usual names, and cells may be parted by commas, semicolons or tabs.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from dataclasses import dataclass

from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue, Kind, suggest
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.edits import NET_NAME
from zesty_trace.core.design.model import Brief, Design, Part, Pin
from zesty_trace.core.quantities import leading_value
from zesty_trace.core.review.brief import own_supply_v
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text, from_csv_cell

PART_COLUMNS = ("ref", "kind", "value", "package", "variants", "notes")
OPTIONAL_COLUMNS = ("block",)
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
_REF = re.compile(r"^[A-Za-z]{1,4}\d{1,4}$")


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


def import_prototype(
    parts_text: str,
    wiring_text: str,
    catalogue: Catalogue,
    base: Design | None = None,
    files: tuple[str, str] = ("parts.csv", "wiring.csv"),
    names: Mapping[str, str] | None = None,
) -> Design:
    """Return `base` (or an empty design) with its parts and nets replaced by those of the tables.

    `names` gives the kinds that stand for words of the kind column, in lower case. Raises ImportFailed with all
    problems of both files.
    """
    problems: list[Problem] = []
    unread: set[str] = set()
    parts = _read_parts(parts_text, files[0], catalogue, problems, names or {}, unread)
    nets, free = _read_wiring(wiring_text, files[1], catalogue, parts, problems, unread)
    if problems:
        raise ImportFailed(problems)
    base = base or Design()
    variants = tuple(dict.fromkeys(v for p in parts.values() for v in p.variants))
    board = replace(
        base.board,
        placements={r: p for r, p in base.board.placements.items() if r in parts},
        tracks=tuple(t for t in base.board.tracks if t.net in nets),
        vias=tuple(v for v in base.board.vias if v.net in nets),
        pours=tuple(p for p in base.board.pours if p.net in nets),
    )
    return replace(
        base,
        brief=base.brief if base.parts else with_own_supply(base.brief, parts, catalogue),
        board=board,
        parts=parts,
        nets={name: tuple(sorted(pins)) for name, pins in nets.items()},
        not_connected=tuple(sorted(free)),
        variants=base.variants if set(variants) <= set(base.variants) else (*base.variants, *variants),
        sheet={},
    )


def with_own_supply(brief: Brief, parts: Mapping[str, Part], catalogue: Catalogue) -> Brief:
    """Return a brief in which nobody has set the supply yet with that of the inlet."""
    known = {r: p for r, p in parts.items() if p.kind in catalogue.kinds}
    volt = own_supply_v(Wired(Design(parts=known), catalogue))
    return replace(brief, supply_v=volt) if volt and brief.supply_v == Brief().supply_v else brief


def _rows(text: str, file: str, needed: tuple[str, ...], problems: list[Problem]) -> list[tuple[int, dict[str, str]]]:
    before = len(problems)
    text = text.lstrip("\ufeff")
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=_delimiter(text), skipinitialspace=True)
    try:
        table = [(reader.line_num, row) for row in reader if any(cell.strip() for cell in row)]
    except csv.Error as error:
        problems.append(Problem(file, reader.line_num, needed[0], f"it is no table: {error}", "Save it as CSV again"))
        return []
    if not table:
        problems.append(Problem(file, 1, needed[0], "the file is empty", f"Start it with: {','.join(needed)}"))
        return []
    words = [cell.strip().lower() for cell in table[0][1]]
    header = [w if w in words[:k] or (s := SYNONYMS.get(w, w)) in words else s for k, w in enumerate(words)]
    allowed = needed + (OPTIONAL_COLUMNS if needed is PART_COLUMNS else ())
    for name in header:
        if name not in allowed:
            problems.append(Problem(file, table[0][0], name, f"unknown column “{name}”", suggest(name, allowed)))
    for name in needed[:3] if needed is WIRING_COLUMNS else needed[:2]:
        if name not in header:
            problems.append(
                Problem(file, table[0][0], name, f"column “{name}” is missing", f"Header: {','.join(needed)}")
            )
    if len(problems) > before:
        return []
    rows = []
    for line, cells in table[1:]:
        if len(cells) > len(header):
            problems.append(
                Problem(file, line, str(len(header) + 1), "more cells than the header has", "Quote cells with commas")
            )
            continue
        padded = [*cells, *[""] * (len(header) - len(cells))]
        rows.append((line, {n: from_csv_cell(cell.strip()) for n, cell in zip(header, padded, strict=True)}))
    return rows


def _delimiter(text: str) -> str:
    """Return what parts the cells of the first line."""
    first = next((line for line in text.splitlines() if line.strip()), "")
    return max(",;\t", key=first.count)


def _read_parts(
    text: str, file: str, catalogue: Catalogue, problems: list[Problem], names: Mapping[str, str], unread: set[str]
) -> dict[str, Part]:
    """Return the parts; references whose kind is not known go into `unread`."""
    parts: dict[str, Part] = {}
    for line, row in _rows(text, file, PART_COLUMNS, problems):
        ref, kind_id = row["ref"], row["kind"]
        if kind_id not in catalogue.kinds:
            kind_id = names.get(kind_id.lower(), kind_id)
        if not _REF.match(ref):
            problems.append(
                Problem(file, line, "ref", f"“{ref}” is not a reference", "Write letters, then a number: R12")
            )
            continue
        if ref in parts:
            problems.append(Problem(file, line, "ref", f"{ref} stands there twice", "Give one of them another number"))
            continue
        if kind_id not in catalogue.kinds:
            hint = suggest(kind_id, catalogue.kinds)
            problems.append(Problem(file, line, "kind", f"there is no part kind “{kind_id}”", hint, kind_id))
            unread.add(ref)
            continue
        kind = catalogue.kinds[kind_id]
        package = row.get("package") or kind.packages[0]
        if package not in kind.packages:
            hint = suggest(package, kind.packages)
            problems.append(Problem(file, line, "package", f"a {kind_id} does not come in “{package}”", hint))
        value = row.get("value", "")
        if problem := value_problem(kind, value):
            problems.append(Problem(file, line, "value", problem[0], problem[1]))
        variants = tuple(row.get("variants", "").replace(";", " ").split())
        parts[ref] = Part(
            ref=ref,
            kind=kind_id,
            value=value,
            package=package,
            variants=variants,
            notes=row.get("notes", ""),
            block=row.get("block", ""),
        )
    return parts


def value_problem(kind: Kind, value: str) -> tuple[str, str] | None:
    """Return (what is wrong, what to do) with a value for this kind, or None."""
    if kind.unit and (number := leading_value(value)) is None:
        return f"a {kind.id} needs a value in {kind.unit}, not “{value}”", "Write it like 4k7, 100n, 0.1u or 330"
    if kind.unit and number is not None and number <= 0:
        return f"{value} is not above zero", "Write it like 4k7, 100n, 0.1u or 330"
    if kind.options and value.split()[:1] and value.split(maxsplit=1)[0] not in kind.options:
        return f"“{value}” is not one of the {kind.id} options", suggest(value, kind.options)
    return None


def _read_wiring(
    text: str, file: str, catalogue: Catalogue, parts: dict[str, Part], problems: list[Problem], unread: set[str]
) -> tuple[dict[str, set[Pin]], set[Pin]]:
    nets: dict[str, set[Pin]] = {}
    free: set[Pin] = set()
    seen: dict[Pin, tuple[str, int]] = {}
    for line, row in _rows(text, file, WIRING_COLUMNS, problems):
        net, ref, name = row["net"], row["ref"], row["pin"]
        if not NET_NAME.match(net):
            problems.append(
                Problem(file, line, "net", f"“{net}” cannot name a net", "Use letters, digits, _ + - / . #")
            )
            continue
        if ref in unread:
            continue  # its kind is what has to be put right
        if ref not in parts:
            problems.append(
                Problem(file, line, "ref", f"{ref or 'nothing'} is not in the parts table", suggest(ref, parts))
            )
            continue
        kind = catalogue.kinds[parts[ref].kind]
        spec = kind.pin(name)
        if spec is None:
            known = ", ".join(f"{p.number} {p.name}" for p in kind.pins[:12]) or "it has none"
            problems.append(
                Problem(file, line, "pin", f"{ref} ({kind.id}) has no single pin “{name}”", f"Pins: {known}")
            )
            continue
        pin = Pin(ref, spec.number)
        if pin in seen and seen[pin][0] != net:
            where = f"{seen[pin][0]} in line {seen[pin][1]}"
            problems.append(
                Problem(
                    file, line, "pin", f"{ref}.{spec.name} is on {net} here and on {where}", "Keep one of the lines"
                )
            )
            continue
        seen.setdefault(pin, (net, line))
        if net == OPEN:
            free.add(pin)
        else:
            nets.setdefault(net, set()).add(pin)
    return nets, free


def export_parts(design: Design) -> str:
    """Return the parts table; importing it again gives the same parts."""
    rows: list[tuple[str, ...]] = [(*PART_COLUMNS, *OPTIONAL_COLUMNS)]
    for part in design.parts.values():
        rows.append((part.ref, part.kind, part.value, part.package, " ".join(part.variants), part.notes, part.block))
    return csv_text(rows)


def export_wiring(design: Design) -> str:
    """Return the wiring table; importing it again gives the same nets."""
    rows: list[tuple[str, ...]] = [WIRING_COLUMNS]
    for name in sorted(design.nets):
        rows += [(name, pin.ref, pin.number) for pin in design.nets[name]]
    rows += [(OPEN, pin.ref, pin.number) for pin in design.not_connected]
    return csv_text(rows)
