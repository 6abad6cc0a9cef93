"""Packages of the user's own: from dimensions, from a table of pads; written as TOML."""

from __future__ import annotations

import re
from math import inf, isfinite
from typing import Any

import msgspec

from zesty_trace.core.catalogue.kind import PackageSpec, PadRow
from zesty_trace.core.catalogue.lands.check import check_package
from zesty_trace.errors import InputError
from zesty_trace.names import shorten, suggest

SHAPES = ("rect", "round", "oblong")
_CELLS = re.compile(r"\s*[,;\t|]\s*|\s+")
_PAIR = re.compile(r"\s*(?:\.\.|,|x| to )\s*")
FIELDS = {f.name: f for f in msgspec.structs.fields(PackageSpec)}


def spec_from_words(name: str, words: list[str], start: PackageSpec | None = None) -> PackageSpec:
    """Return a package from `field=value` words, lengths in mm: `length=2.9..3.1`, `sides=3,2`, `polar=yes`.

    With `start` only what is said differs from it. InputError names the field.
    """
    table: dict[str, Any] = msgspec.to_builtins(start) if start else {"height": 1.0}
    for word in words:
        field, sign, said = word.partition("=")
        field = field.strip().replace("-", "_")
        if not sign or field not in FIELDS or field in ("id", "pads", "shell"):
            known = [f for f in FIELDS if f not in ("id", "pads", "shell")]
            raise InputError(f"“{shorten(word)}” is no dimension", name, suggest(field, known))
        table[field] = _value(field, said.strip(), name)
    table["id"] = name
    if "family" not in table:
        raise InputError("Its family is missing", name, "Say for example family=gull")
    try:
        spec = msgspec.convert(table, PackageSpec)
    except msgspec.ValidationError as error:
        raise InputError(f"{name}: {error}", name, "Check the dimensions") from error
    check_package(spec, name)
    return spec


def _value(field: str, said: str, name: str) -> Any:
    kind = FIELDS[field].type
    if kind is str:
        return said
    if kind is bool:
        return said.lower() in ("yes", "true", "1", "on")
    try:
        if kind is int:
            return int(said)
        if kind is float:
            return float(said)
        cells = [c for c in _PAIR.split(said) if c]
        if field in ("numbers", "missing"):
            return cells
        if field == "sides":
            return [int(c) for c in cells]
        numbers = [float(c) for c in cells]
        if field == "pitches":
            return numbers
        return [numbers[0], numbers[-1]] if len(numbers) in (1, 2) else numbers
    except (ValueError, IndexError) as error:
        hint = f"Write {field}=2.9..3.1 for two limits, {field}=1.6 for one" if field else ""
        raise InputError(f"“{shorten(said)}” is no {field}", name, hint) from error


def spec_from_table(name: str, text: str, height: float, body: tuple[float, float] = (0.0, 0.0)) -> PackageSpec:
    """Return a package from lines `number x y width height [shape] [drill] [slot]`, mm; # begins a comment.

    Without a size its body is that of its pads. InputError names the line.
    """
    rows = []
    for number, line in enumerate(text.splitlines(), 1):
        cells = [c for c in _CELLS.split(line.split("#")[0].strip()) if c]
        if not cells or cells[0].lower() in ("number", "pad", "pin", "name"):
            continue
        where = f"{name} line {number}"
        if len(cells) < 5:
            raise InputError(f"“{shorten(line.strip())}” is no pad", where, "Write: number x y width height")
        shape = cells[5].lower() if len(cells) > 5 and not _is_number(cells[5]) else "rect"
        if shape not in SHAPES:
            raise InputError(f"There is no shape “{shorten(shape)}”", where, suggest(shape, SHAPES))
        numbers = [c for c in cells[1:] if _is_number(c)]
        try:
            x, y, wide, high, *rest = (float(c) for c in numbers)
        except ValueError as error:
            raise InputError(f"“{shorten(line.strip())}” is no pad", where, "Numbers in mm, with a point") from error
        drill, slot = (*rest, 0.0, 0.0)[:2]
        if not all(isfinite(v) for v in (x, y, drill, slot)) or not (0 < wide < inf and 0 < high < inf):
            raise InputError(f"Pad {cells[0]} is {wide:g} x {high:g} mm", where, "Give it a size above zero")
        plated = cells[0] not in ("-", "hole")
        row_shape: Any = shape
        rows.append(PadRow(cells[0] if plated else "", x, y, wide, high, row_shape, drill, slot, plated))
    if not rows:
        raise InputError("The table has no pads", name, "Write lines: number x y width height")
    spec = PackageSpec(id=name, family="table", height=height, pads=tuple(rows), **body_of(rows, body))
    check_package(spec, name)
    return spec


def _is_number(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True


def body_of(rows: list[PadRow], body: tuple[float, float]) -> dict[str, Any]:
    """Return the body of a table of pads: as it is said, or the box of the pads, and its middle, mm."""
    x0, x1 = min(r.x - r.width / 2 for r in rows), max(r.x + r.width / 2 for r in rows)
    y0, y1 = min(r.y - r.height / 2 for r in rows), max(r.y + r.height / 2 for r in rows)
    shift = (round((x0 + x1) / 2, 4), round((y0 + y1) / 2, 4))
    return {"body": body if body[0] and body[1] else (x1 - x0, y1 - y0), "body_shift": shift}


def write_package(spec: PackageSpec) -> str:
    """Return a package as TOML; only what differs from the defaults."""
    import tomli_w

    raw = msgspec.to_builtins(spec)
    default = msgspec.to_builtins(PackageSpec(id="", family="", height=-1.0))
    return tomli_w.dumps({spec.id: {k: v for k, v in raw.items() if k != "id" and v != default[k]}})
