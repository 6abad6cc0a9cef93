"""Board rules by who makes the board: shipped sets, and the limits that a board house's file states."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from math import isfinite
from typing import Any, NamedTuple

from msgspec.structs import fields, replace

from zesty_trace.core.board.values import wrong_rules
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Rules
from zesty_trace.core.quantities import nm
from zesty_trace.errors import InputError
from zesty_trace.names import suggest

DEFAULT = "comfortable"
PLAIN = ("layers", "copper_um", "inner_um", "temperature_rise_c")


class RuleSet(NamedTuple):
    """Board rules under a name."""

    name: str
    title: str
    rules: Rules


@cache
def shipped_sets() -> dict[str, RuleSet]:
    """Return the rule sets that come with the application, by name."""
    text = (files("zesty_trace") / "data" / "rule_sets" / "rule_sets.toml").read_text("utf-8")
    return {name: _set(name, table) for name, table in tomllib.loads(text).items()}


def _set(name: str, table: Mapping[str, Any]) -> RuleSet:
    said = {k: v for k, v in table.items() if k != "title"}
    return RuleSet(name, table["title"], rules_of(said, name))


def rules_of(said: Mapping[str, Any], name: str) -> Rules:
    """Return the rules that a table of limits in mm states, the rest as by default. InputError."""
    known = {f.name.removesuffix("_nm"): f.name for f in fields(Rules) if f.name != "made_by"}
    changes: dict[str, Any] = {"made_by": name}
    for key, value in said.items():
        if key not in known:
            raise InputError(f"There is no board rule “{key}”", name, suggest(key, known))
        if isinstance(value, bool) or not isinstance(value, int | float) or not isfinite(value):
            raise InputError(f"The board rule {key} is no number", name, "Give it in mm")
        changes[known[key]] = value if key in PLAIN else nm(value)
    rules = replace(Rules(), **changes)
    for wrong in wrong_rules(rules):
        raise InputError(wrong.text, name, wrong.hint)
    return rules


def set_rules(design: Design, name: str, more: Mapping[str, RuleSet] | None = None) -> Design:
    """Give a board the rules of a set, its outline and copper as they are. InputError for one that there is not.

    A board house's limits leave the layers as they are. With layers that go, their pours and the machine's tracks go.
    """
    known = {**shipped_sets(), **(more or {})}
    if name not in known:
        raise InputError(f"There are no board rules “{name}”", name, suggest(name, known))
    board, rules = design.board, replace(known[name].rules, thickness_nm=design.board.rules.thickness_nm)
    if name not in shipped_sets() and board.rules.layers > 1:
        rules = replace(rules, layers=board.rules.layers)
    tracks = tuple(t for t in board.tracks if t.layer in rules.stack or t.kept)
    pours = tuple(p for p in board.pours if p.layer in rules.stack)
    return edits.set_board(design, rules=rules, tracks=tracks, pours=pours)
