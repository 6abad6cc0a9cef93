"""Reading a design back from its JSON.

Brought up version by version, whole and checked, or one error that says what is wrong.

Each schema has one step to the next, on plain values; a saved file of every schema is among the tests. What today's
schema does not know is refused, so that nothing is lost on the next save.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import msgspec

from zesty_trace.core.design.check import FILE, check_design
from zesty_trace.core.design.model import SCHEMA_VERSION, Design
from zesty_trace.core.design.references import prune
from zesty_trace.errors import InputError

Raw = dict[str, Any]
CHECKED_SINCE = 3  # designs of earlier schemas may name what is not there any more


class NewerSchema(InputError):
    """The design is from a newer version of the application."""


def _to_2(raw: Raw) -> Raw:
    """Schema 1 lacks fields that have defaults; nothing of it changed its meaning."""
    return raw


def _to_3(raw: Raw) -> Raw:
    """Acceptances became values that follow what they are about; readings name their net, part and pin apart."""
    return {
        **raw,
        "accepted": [_acceptance(raw, k, r) for k, r in dict(raw.get("accepted", {})).items()],
        "measured": [_reading(dict(m)) for m in raw.get("measured", ())],
    }


def _to_4(raw: Raw) -> Raw:
    """A supply that nobody has said was 12 V, and is now none; states say which inlets are unplugged."""
    brief = raw.get("brief", {})
    return {**raw, "brief": {"supply_v": 12.0, **brief}} if isinstance(brief, dict) else raw


def _to_5(raw: Raw) -> Raw:
    """States may say where wipers are, the build its oven; unsaid, both are what schema 4 took for granted."""
    return raw


def _to_6(raw: Raw) -> Raw:
    """Copper may say who made it, boards have cut-outs, keep-outs and net classes; unsaid, none of it is there."""
    return raw


def _to_7(raw: Raw) -> Raw:
    """Templates may have tolerances, parts stand in sockets, rules name who makes the board; unsaid, all as before."""
    return raw


def _to_8(raw: Raw) -> Raw:
    """Net classes may keep a distance of their own; unsaid, all as before."""
    return raw


def _to_9(raw: Raw) -> Raw:
    """Rules count layers of copper instead of sides; a keep-out that names none is for all."""
    board = raw.get("board", {})
    rules = board.get("rules", {})
    if "sides" in rules:
        rules["layers"] = rules.pop("sides")
    for zone in board.get("keepouts", ()):
        if zone.get("layers") == ["top", "bottom"]:
            del zone["layers"]
    return raw


def _to_10(raw: Raw) -> Raw:
    """The copper of a board may be that of given files; unsaid, it is in the design."""
    return raw


STEPS: dict[int, Callable[[Raw], Raw]] = {
    1: _to_2,
    2: _to_3,
    3: _to_4,
    4: _to_5,
    5: _to_6,
    6: _to_7,
    7: _to_8,
    8: _to_9,
    9: _to_10,
}


def _acceptance(raw: Raw, identity: str, reason: str) -> Raw:
    """Return an acceptance out of the words `rule: key`.

    A word that is no part, pin or net stays one, and matches nothing.
    """
    rule, _, key = identity.partition(": ")
    parts, nets = raw.get("parts", {}), raw.get("nets", {})
    found: dict[str, list[Any]] = {"refs": [], "pins": [], "nets": []}
    rest = []
    for word in key.split():
        pin = re.fullmatch(r"([^.]+)\.(\w+)", word)
        if word in parts:
            found["refs"].append(word)
        elif word in nets:
            found["nets"].append(word)
        elif pin and [pin[1], pin[2]] in [list(p) for pins in nets.values() for p in pins]:
            found["pins"].append([pin[1], pin[2]])
        else:
            rest.append(word)
    return {"rule": rule, "reason": reason, "which": " ".join(rest), **found}


def _reading(item: Raw) -> Raw:
    what, where = item.pop("what", ""), str(item.pop("where", ""))
    ref, _, pin = where.partition(".")
    return {**item, **({"net": where} if what == "voltage" else {"ref": ref, "pin": pin})}


def from_json(data: bytes, where: str = FILE) -> Design:
    """Return the design in `data`, older schemas brought up, checked as a whole. InputError, NewerSchema."""
    try:
        raw = msgspec.json.decode(data)
        if not isinstance(raw, dict):
            raise InputError("It is not a whole design", where, "Bring back a copy of the file")
        version = raw.get("schema", SCHEMA_VERSION)
        if not isinstance(version, int) or isinstance(version, bool) or version < 1:
            raise InputError(f"{str(version)[:40]} is no schema", where, f"From 1 to {SCHEMA_VERSION}")
        if version > SCHEMA_VERSION:
            raise NewerSchema(
                f"The project is from a newer version (schema {version}, this one reads up to {SCHEMA_VERSION})",
                where,
                "Update the application; the file was not touched",
            )
        for step in range(version, SCHEMA_VERSION):
            raw = STEPS[step](raw)
        design = msgspec.convert({**raw, "schema": SCHEMA_VERSION}, Design)
    except (msgspec.MsgspecError, UnicodeError, ValueError, TypeError, AttributeError, RecursionError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError(f"It is not a whole design: {error}", where, "Bring back a copy of the file") from error
    if version < CHECKED_SINCE:
        design = prune(design)
    check_design(design)
    return design
