"""The prototype as two tables.

`parts.csv` (ref, kind, value, package, variants, notes) and `wiring.csv` (net, ref, pin).

An import is all or nothing: every problem is reported with its file, line and column, and no design is made. The net
name `NC` says that a pin stays open on purpose. `variants` holds names separated by spaces; empty means all. Columns
may go by other usual names, and cells may be parted by commas, semicolons or tabs. A remark `# supply: 5 V 2 A` says
what comes in, for all inlets; a column `supply` says it for one. `# variants: Full, Basic` names variants.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec.structs import replace

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, suggest
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.edits import NET_NAME
from zesty_trace.core.design.model import Brief, Design, Part, Pin
from zesty_trace.core.review.brief import own_supply_v
from zesty_trace.core.stated import EXAMPLES, Stated, read_stated, stated_problem
from zesty_trace.core.tables.rows import (
    OPEN,
    OPTIONAL_COLUMNS,
    PART_COLUMNS,
    WIRING_COLUMNS,
    ImportFailed,
    Problem,
    Table,
    read_rows,
)
from zesty_trace.errors import InputError
from zesty_trace.names import csv_text

_REF = re.compile(r"^[A-Za-z]{1,4}\d{1,4}$")


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
    table = read_rows(parts_text, files[0], PART_COLUMNS, problems)
    parts = _read_parts(table, files[0], catalogue, problems, names or {}, unread)
    wires = read_rows(wiring_text, files[1], WIRING_COLUMNS, problems)
    if table.whole or parts:
        nets, free = _read_wiring(wires, files[1], catalogue, parts, problems, unread)
    supply = _said_supply(table, files[0], problems) or _said_supply(wires, files[1], problems)
    if problems:
        raise ImportFailed(problems)
    base = base or Design()
    named = (v.strip() for v in table.remarks.get("variants", (0, ""))[1].split(","))
    variants = tuple(dict.fromkeys([*filter(None, named), *(v for p in parts.values() for v in p.variants)]))
    board = replace(
        base.board,
        placements={r: p for r, p in base.board.placements.items() if r in parts},
        tracks=tuple(t for t in base.board.tracks if t.net in nets),
        vias=tuple(v for v in base.board.vias if v.net in nets),
        pours=tuple(p for p in base.board.pours if p.net in nets),
    )
    return replace(
        base,
        brief=_with_supply(base.brief, supply) if supply else with_own_supply(base.brief, parts, catalogue, base),
        board=board,
        parts=parts,
        nets={name: tuple(sorted(pins)) for name, pins in nets.items()},
        not_connected=tuple(sorted(free)),
        variants=base.variants if set(variants) <= set(base.variants) else (*base.variants, *variants),
        sheet={},
    )


def with_own_supply(brief: Brief, parts: Mapping[str, Part], catalogue: Catalogue, base: Design | None = None) -> Brief:
    """Return a brief in which nobody has set the supply yet with that of the inlet."""
    if base is not None and base.parts:
        return brief
    known = {r: p for r, p in parts.items() if p.kind in catalogue.kinds}
    volt = own_supply_v(Wired(Design(parts=known), catalogue))
    return replace(brief, supply_v=volt) if volt and not brief.supply_v else brief


def _with_supply(brief: Brief, said: Stated) -> Brief:
    limit = said.rating("A")
    return replace(brief, supply_v=said.value, supply_limit_a=brief.supply_limit_a if limit is None else limit)


def read_supply(text: str) -> Stated:
    """Return what `5 V 2 A` says of a supply. InputError if it begins with no voltage."""
    found = read_stated(text, "supply")
    if found.unit not in ("V", "") or found.value <= 0 or (not found.unit and found.lettered):
        raise InputError(f"“{text[:40]}” is no supply", "supply", "Write it like 5 V 2 A")
    return found


def _said_supply(table: Table, file: str, problems: list[Problem]) -> Stated | None:
    """Return what a remark says of the supply."""
    line, text = table.remarks.get("supply", (0, ""))
    if not text:
        return None
    try:
        return read_supply(text)
    except InputError as error:
        problems.append(Problem(file, line, "supply", error.message, error.hint))
        return None


def _read_parts(
    table: Table, file: str, catalogue: Catalogue, problems: list[Problem], names: Mapping[str, str], unread: set[str]
) -> dict[str, Part]:
    """Return the parts; references whose kind is not known go into `unread`."""
    parts: dict[str, Part] = {}
    folded: dict[str, str] = {}
    for line, row in table.rows:
        ref, kind_id = row["ref"], row["kind"]
        if kind_id not in catalogue.kinds:
            kind_id = names.get(kind_id.lower(), kind_id)
        if not _REF.match(ref):
            problems.append(
                Problem(file, line, "ref", f"“{ref}” is not a reference", "Write letters, then a number: R12")
            )
            continue
        if twin := folded.get(ref.lower()):
            problems.append(Problem(file, line, "ref", f"{twin} stands there twice", "Give one of them another number"))
            continue
        folded[ref.lower()] = ref
        if kind_id not in catalogue.kinds:
            hint = suggest(kind_id, catalogue.kinds)
            problems.append(Problem(file, line, "kind", f"there is no part kind “{kind_id}”", hint, kind_id))
            unread.add(ref)
            continue
        kind = catalogue.kinds[kind_id]
        package = row.get("package") or kind.packages[0]
        if package not in (fitting := catalogue.packages_for(kind)):
            hint = suggest(package, fitting)
            problems.append(Problem(file, line, "package", f"a {kind_id} does not come in “{package}”", hint))
        value = row.get("value", "")
        if supply := row.get("supply", ""):
            value = _inlet_value(kind, value, supply, file, line, problems)
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


def _inlet_value(kind: Kind, value: str, supply: str, file: str, line: int, problems: list[Problem]) -> str:
    """Return the value of an inlet for which the `supply` column says what it brings."""
    wrong = ""
    if not kind.is_a(m.Inlet) and not (kind.connector and kind.is_a(m.Open)):
        wrong = f"a {kind.id} brings no supply"
    elif value:
        wrong = "the inlet's value says already what it brings"
    else:
        try:
            read_supply(supply)
        except InputError as error:
            wrong = error.message
    if wrong:
        problems.append(Problem(file, line, "supply", wrong, "Write it like 5 V 2 A, in the row of an inlet"))
    return value or supply


def value_problem(kind: Kind, value: str) -> tuple[str, str] | None:
    """Return (what is wrong, what to do) with a value for this kind, or None."""
    if not value.strip() and kind.value_needed:
        return f"a {kind.id} needs a value in {kind.unit}", EXAMPLES
    if kind.unit and value.strip() and (problem := stated_problem(value, kind.unit)):
        return f"a {kind.id} needs a value in {kind.unit}: {problem[0]}", problem[1]
    if kind.is_a(m.Inlet) and value.strip():
        try:
            read_supply(value)
        except InputError as error:
            return error.message, error.hint
    if kind.options and value.split()[:1] and value.split(maxsplit=1)[0] not in kind.options:
        return f"“{value}” is not one of the {kind.id} options", suggest(value, kind.options)
    return None


def _read_wiring(
    table: Table, file: str, catalogue: Catalogue, parts: dict[str, Part], problems: list[Problem], unread: set[str]
) -> tuple[dict[str, set[Pin]], set[Pin]]:
    nets: dict[str, set[Pin]] = {}
    free: set[Pin] = set()
    seen: dict[Pin, tuple[str, int]] = {}
    spelled: dict[str, tuple[str, int]] = {}
    hints: dict[str, str] = {}
    written = {r.lower(): r for r in (*parts, *unread)}
    for line, row in table.rows:
        net, ref, name = row["net"], written.get(row["ref"].lower(), row["ref"]), row["pin"]
        net = OPEN if net.upper() == OPEN else net
        first = spelled.setdefault(net.lower(), (net, line))
        if first[0] != net:
            said = f"{net} is written {first[0]} in line {first[1]}"
            problems.append(Problem(file, line, "net", said, "Write it one way, or give it another name"))
            continue
        if not NET_NAME.match(net):
            problems.append(
                Problem(file, line, "net", f"“{net}” cannot name a net", "Use letters, digits, _ + - / . #")
            )
            continue
        if ref in unread:
            continue  # its kind is what has to be put right
        if ref not in parts:
            if ref not in hints:
                hints[ref] = suggest(ref, parts)
            problems.append(Problem(file, line, "ref", f"{ref or 'nothing'} is not in the parts table", hints[ref]))
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
    columns = tuple(c for c in OPTIONAL_COLUMNS if c != "supply")  # an inlet says it in its value
    rows: list[tuple[str, ...]] = [(*PART_COLUMNS, *columns)]
    for part in design.parts.values():
        rows.append((part.ref, part.kind, part.value, part.package, " ".join(part.variants), part.notes, part.block))
    used = {v for p in design.parts.values() for v in p.variants}
    idle = any(v not in used for v in design.variants)
    return (f"# variants: {', '.join(design.variants)}\n" if idle else "") + csv_text(rows)


def export_wiring(design: Design) -> str:
    """Return the wiring table; importing it again gives the same nets."""
    rows: list[tuple[str, ...]] = [WIRING_COLUMNS]
    for name in sorted(design.nets):
        rows += [(name, pin.ref, pin.number) for pin in design.nets[name]]
    rows += [(OPEN, pin.ref, pin.number) for pin in design.not_connected]
    return csv_text(rows)
