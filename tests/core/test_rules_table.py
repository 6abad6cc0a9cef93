"""The register of rules: every rule that can speak is in it, whole, and the page of the documents is made from it."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

from zesty_trace.core.findings import RULES, Severity, rule
from zesty_trace.core.review.register import SOLVED, STATIC
from zesty_trace.journey.rules import all_rules, rules_markdown, rules_text
from zesty_trace.stations import STATIONS

ROOT = Path(__file__).parents[2]


def test_every_rule_says_why_by_what_source_and_against_what_limits() -> None:
    rules = all_rules()
    assert len(rules) > 75
    for r in rules:
        for text in (r.id, r.why, r.source, r.limits):
            assert text.strip() == text != "", r.id
        assert r.station in (*STATIONS, "any")
    assert len({r.id for r in rules}) == len(rules)


@pytest.mark.campaign
def test_no_finding_is_made_without_a_rule_of_the_register() -> None:
    """By the source itself: outside of `findings`, nobody makes a Finding by hand."""
    makers = []
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Finding":
                makers.append(path.name)
    assert makers == ["findings.py"]


def test_every_electrical_judge_is_entered_once() -> None:
    judges = [*STATIC, *SOLVED]
    assert len(judges) == len(set(judges)) == 93
    assert all(j.__doc__ and j.__doc__.startswith("Yield") for j in judges)


def test_a_name_is_given_once() -> None:
    known = next(iter(all_rules()))
    with pytest.raises(ValueError, match="two rules called"):
        rule(known.id, Severity.NOTE, "x", "x", limits="x")
    assert RULES[known.id] is known


def test_the_page_of_the_documents_is_the_register() -> None:
    assert (ROOT / "docs" / "rules.md").read_text("utf-8") == rules_markdown(), "run: zt rules --out docs/rules.md"
    assert "against: " in rules_text()
