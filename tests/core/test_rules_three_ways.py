"""Each rule of the schematic speaks where it must, is silent where it must, and so for part kinds of one's own."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from zesty_trace.core.catalogue.kind import PinSpec
from zesty_trace.core.catalogue.kinds import Catalogue, shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Severity
from zesty_trace.core.review.rules import review
from zesty_trace.errors import SolveError
from zesty_trace.journey.rules import all_rules

from .more_rule_cases import MORE
from .rule_cases import CASES as FIRST

CASES = FIRST | MORE


@pytest.fixture(scope="module")
def catalogue() -> Catalogue:
    """The shipped catalogue, and a chip whose kind does not say how its output drives."""
    known = shipped()
    bare = replace(known.kinds["logic_output_5v"], id="bare_output", drive=None, connector=False)
    pins = tuple(PinSpec(p.number, "VDD" if p.name == "VCC" else p.name, p.role) for p in bare.pins)
    bare = replace(bare, pins=pins, model=replace(bare.model, supply="VDD"))
    return replace(known, kinds=known.kinds | {"bare_output": bare})


def speaks(design: Design, catalogue: Catalogue, rule: str) -> bool:
    return any(f.rule == rule for f in review(Wired(design, catalogue)))


def with_own_kinds(design: Design, catalogue: Catalogue) -> tuple[Design, Catalogue]:
    """Return the design with each kind under a name that says nothing, and the catalogue with those too."""
    names = {k: f"mine_{n}" for n, k in enumerate(sorted({p.kind for p in design.parts.values()}))}
    parts = {r: replace(p, kind=names[p.kind]) for r, p in design.parts.items()}
    kinds = catalogue.kinds | {names[k]: replace(catalogue.kinds[k], id=names[k]) for k in names}
    return replace(design, parts=parts), replace(catalogue, kinds=kinds)


def test_every_rule_of_the_schematic_has_its_cases() -> None:
    assert {*CASES, "solve"} == {r.id for r in all_rules() if r.station == "schematic"}


def test_what_cannot_be_solved_is_said(catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch) -> None:
    design = CASES["heat"][1].build(catalogue)
    assert not speaks(design, catalogue, "solve")

    def stuck(*_: object, **__: object) -> None:
        raise SolveError("5V and 3V3 do not settle", "5V", "Look there")

    monkeypatch.setattr("zesty_trace.core.circuit.analysis.solve", stuck)
    monkeypatch.setattr("zesty_trace.core.circuit.analysis.solve_alike", stuck)
    found = [f for f in review(Wired(design, catalogue)) if f.rule == "solve"]
    assert [f.severity for f in found] == [Severity.STOP]
    assert "do not settle" in found[0].detail


@pytest.mark.parametrize("rule", CASES)
def test_it_speaks_where_it_must(rule: str, catalogue: Catalogue) -> None:
    assert speaks(CASES[rule][0].build(catalogue), catalogue, rule)


@pytest.mark.parametrize("rule", CASES)
def test_it_is_silent_where_nothing_is_wrong(rule: str, catalogue: Catalogue) -> None:
    assert not speaks(CASES[rule][1].build(catalogue), catalogue, rule)


@pytest.mark.parametrize("rule", CASES)
def test_it_knows_parts_by_what_they_are_not_by_name(rule: str, catalogue: Catalogue) -> None:
    for circuit, wanted in zip(CASES[rule], (True, False), strict=True):
        assert speaks(*with_own_kinds(circuit.build(catalogue), catalogue), rule) == wanted
