"""Entries of a TOML file of part kinds or packages.

Read one by one, each mistake told with its line and the nearest name.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from typing import Any

import msgspec

from zesty_trace.core.catalogue.facts import FORMER_NAMES, Facts, in_todays_names
from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.catalogue.models import MODELS
from zesty_trace.errors import InputError
from zesty_trace.names import shorten, suggest

MOST_ENTRIES = 2000
MOST_IN_A_ROW = 200
_WORD = re.compile(r"\{(\w+)\}")
Problem = tuple[str, str, str]  # field at fault such as `.model`, what is wrong, what to do


def read_entries(text: str, where: str, shape: type[Any]) -> dict[str, Any]:
    """Return the entries of a TOML text, each as a `shape`.

    InputError with file, line and entry at the first mistake.
    """
    try:
        raw = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        raise InputError(f"Not readable as TOML: {error}", where, "Mend the line named") from error
    if len(raw) > MOST_ENTRIES:
        raise InputError(f"There are {len(raw):,} entries", where, f"At most {MOST_ENTRIES:,}")
    return {n: _entry(text, where, n, table, shape) for name, entry in raw.items() for n, table in members(name, entry)}


def members(name: str, table: object) -> list[tuple[str, object]]:
    """Return the entries of a family: one for each of its `members`, whose words stand for `{word}` in its texts.

    A text that is nothing but `{word}` becomes the value itself, and `pins` that are a number that many pins in a row.
    An entry without members is itself.

    >>> members("header_{n}", {"title": "{n} ways", "pins": "{n}", "members": [{"n": 2}]})[0][1]["title"]
    '2 ways'
    """
    if not isinstance(table, dict) or not isinstance(table.get("members"), list):
        return [(name, table)]
    found: list[tuple[str, object]] = []
    for member in table["members"][:MOST_ENTRIES]:
        words = member if isinstance(member, dict) else {}
        made = {k: _filled(v, words) for k, v in table.items() if k != "members"}
        if type(made.get("pins")) is int and 0 < made["pins"] <= MOST_IN_A_ROW:
            made["pins"] = [[str(n), str(n), "passive"] for n in range(1, made["pins"] + 1)]
        found.append((str(_filled(name, words)), made))
    return found


def _filled(value: Any, words: Mapping[str, object]) -> Any:
    if isinstance(value, dict):
        return {k: _filled(v, words) for k, v in value.items()}
    if isinstance(value, list):
        return [_filled(v, words) for v in value]
    if not isinstance(value, str):
        return value
    whole = _WORD.fullmatch(value)
    if whole and whole.group(1) in words:
        return words[whole.group(1)]
    return _WORD.sub(lambda found: str(words.get(found.group(1), found.group(0))), value)


def _entry(text: str, where: str, name: str, table: object, shape: type[Any]) -> Any:
    def at(path: str) -> str:
        return f"{where} line {line_of_entry(text, name, path)}, [{name}]"

    if not isinstance(table, dict):
        raise InputError(
            f"“{shorten(name)}” stands outside of any entry", where, f"Begin an entry with [{shorten(name)}]"
        )
    problem = _unknown_field(table, shape) or (_unknown_in_kind(table) if shape is Kind else None)
    if problem:
        path, words, hint = problem
        raise InputError(words, at(path), hint)
    if isinstance(table.get("facts"), dict):
        table = {**table, "facts": in_todays_names(table["facts"])}
    try:
        return msgspec.convert({"id": name, **table}, shape)
    except (msgspec.ValidationError, OverflowError, RecursionError) as error:
        said, _, path = str(error).partition(" - at `$")
        path = path.rstrip("`")
        missing = re.search(r"missing required field `(\w+)`", said)
        if missing and path == ".model":
            said = f"a {table['model']['type']} needs {missing.group(1)}"
            raise InputError(said, at(path), "Look it up in the data sheet") from error
        raise InputError(said, at(path) + path, "Mend the entry") from error


def _unknown_field(table: Mapping[str, object], shape: type[Any]) -> Problem | None:
    known = {f.encode_name for f in msgspec.structs.fields(shape)}
    for field in table:
        if field not in known:
            return f".{field}", f"there is no field “{shorten(field)}”", suggest(field, known)
    return None


def _unknown_in_kind(table: Mapping[str, object]) -> Problem | None:
    """Return what is misspelt in the model or the facts of a kind."""
    model, facts = table.get("model"), table.get("facts", {})
    if not isinstance(model, dict) or not isinstance(facts, dict):
        return None  # the wrong form: the conversion says so
    known = {*(f.encode_name for f in msgspec.structs.fields(Facts)), *FORMER_NAMES}
    for name in facts:
        if name not in known:
            today = {f.encode_name for f in msgspec.structs.fields(Facts)}
            return ".facts", f"there is no fact “{shorten(name)}”", suggest(name, today)
    type_ = model.get("type")
    if type_ is None:
        return ".model", "its model has no type", 'Write at least: model = { type = "open" }'
    if not isinstance(type_, str) or type_ not in MODELS:
        return ".model", f"there is no model “{shorten(str(type_))}”", suggest(str(type_), MODELS)
    allowed = {f.encode_name for f in msgspec.structs.fields(MODELS[type_])}
    for name in model:
        if name != "type" and name not in allowed:
            hint = suggest(name, allowed) if allowed else "Take it out"
            return ".model", f"a {type_} has no “{shorten(name)}”", hint
    return None


_STEP = re.compile(r"\.([A-Za-z_]\w*)|\[(\d+)\]")


def line_of_entry(text: str, table: str, path: str) -> int:
    """Return the number, from 1, of the line on which an entry of a TOML table stands: `.pins[3]` its fourth pin."""
    lines = text.splitlines()
    start = next((n for n, row in enumerate(lines) if row.strip() == f"[{table}]"), 0)
    steps = _STEP.findall(path)
    if not steps or not steps[0][0]:
        return start + 1
    key = steps[0][0]
    for number in range(start + 1, len(lines)):
        row = lines[number].strip()
        if row.startswith("["):
            if not row.startswith(('["', "[[")):
                break
            continue
        if re.match(rf"{re.escape(key)}\s*=", row):
            index = next((int(i) for _, i in steps[1:2] if i), None)
            return _line_of_item(lines, number, index) + 1
    return start + 1


def _line_of_item(lines: list[str], start: int, index: int | None) -> int:
    """Return the line of the item with this index in a list of lists or tables that begins on `start`."""
    if index is None:
        return start
    seen = -1
    for number in range(start, len(lines)):
        row = lines[number].partition("=")[2] if number == start else lines[number]
        row = row.replace("[", "", 1) if number == start else row
        seen += len(re.findall(r"\[\s*[\"']|\{", row))
        if seen >= index:
            return number
    return start
