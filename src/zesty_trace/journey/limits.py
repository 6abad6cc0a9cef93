"""The board rules that a project can choose from: the shipped sets, and what its board houses say that they make."""

from __future__ import annotations

from pathlib import Path

from zesty_trace.core.board.rule_sets import RuleSet, rules_of, shipped_sets
from zesty_trace.core.ordering.houses import load_houses


def rule_sets_for(folder: Path | None) -> dict[str, RuleSet]:
    """Return the rule sets by name. InputError for a house whose limits cannot be."""
    found = dict(shipped_sets())
    for house in load_houses(folder):
        if house.limits:
            found[house.name] = RuleSet(
                house.name, f"{house.name}: what it says it makes", rules_of(house.limits, house.name)
            )
    return found
