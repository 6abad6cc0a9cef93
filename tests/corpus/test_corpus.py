"""Every planted mistake is found by the rule that is for it; a faultless prototype raises no alarm."""

from __future__ import annotations

import pytest

from zesty_trace.core.review.rules import review

from .cases import Mistake, Prototype, alarms, broken, faultless, prototypes

PROTOTYPES = prototypes()
MISTAKES = [(p, m) for p in PROTOTYPES for m in p.mistakes]


@pytest.mark.parametrize("prototype", PROTOTYPES, ids=lambda p: p.name)
def test_a_faultless_prototype_raises_no_alarm(prototype: Prototype) -> None:
    assert [f.title for f in alarms(prototype)] == []


@pytest.mark.parametrize(("prototype", "mistake"), MISTAKES, ids=lambda v: str(v) if isinstance(v, Mistake) else "")
def test_a_planted_mistake_is_found(prototype: Prototype, mistake: Mistake) -> None:
    before = {f.identity for f in review(faultless(prototype))}
    found = [f for f in review(broken(prototype, mistake)) if f.identity not in before]
    assert (mistake.finds in {f.rule for f in found}) != bool(mistake.missed), [f"{f.rule}: {f.title}" for f in found]
