"""Saved files of every schema: read, brought up, and nothing lost on the way."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from zesty_trace.core.design.model import SCHEMA_VERSION, Acceptance, Design, Measured, Pin, to_json
from zesty_trace.core.design.reading import STEPS, NewerSchema, from_json
from zesty_trace.errors import InputError

SAVED = Path(__file__).parent / "versions"
FOLLOWED = ("schema", "accepted", "measured", "options", "states")  # what a step rewrites or prunes


def test_there_is_a_saved_file_and_a_step_for_every_schema() -> None:
    assert sorted(STEPS) == list(range(1, SCHEMA_VERSION))
    assert {p.name for p in SAVED.glob("design-*.json")} == {f"design-{v}.json" for v in range(1, SCHEMA_VERSION + 1)}


@pytest.mark.parametrize("version", range(1, SCHEMA_VERSION + 1))
def test_a_saved_file_of_each_schema_is_read_whole(version: int) -> None:
    data = (SAVED / f"design-{version}.json").read_bytes()
    raw = json.loads(data)
    assert raw["schema"] == version
    design = from_json(data)
    assert design.schema == SCHEMA_VERSION
    assert from_json(to_json(design)) == design
    today = json.loads(to_json(design))
    for field, value in raw.items():
        if field not in FOLLOWED:
            assert holds(today[field], value), field


def holds(today: object, saved: object) -> bool:
    """Whether all that was saved is there today; fields that came later may stand beside it."""
    if isinstance(saved, dict) and isinstance(today, dict):
        return all(k in today and holds(today[k], v) for k, v in saved.items())
    if isinstance(saved, list) and isinstance(today, list):
        return len(saved) == len(today) and all(holds(a, b) for a, b in zip(today, saved, strict=True))
    return today == saved


def test_what_the_second_schema_kept_as_words_became_values() -> None:
    design = from_json((SAVED / "design-2.json").read_bytes())
    assert "U5" not in design.parts
    assert design.options == ()  # its only part had been removed, and that version left it
    assert design.accepted == (
        Acceptance(rule="bus address", refs=("U4",), which="U5", reason="only one is fitted"),  # one of the two is gone
        Acceptance(rule="no-connect wired", pins=(Pin("U3", "1"),), reason="the data sheet allows it"),
        Acceptance(rule="static", which="J5.TXD", reason="a short cable"),  # a pin's name: matches nothing, is kept
    )
    assert design.measured == (
        Measured(net="3V3", value=3.28),
        Measured(ref="J1", value=0.2, state="warm"),
        Measured(ref="U3", pin="VDD", value=0.02),
    )


def test_a_newer_schema_is_refused_and_no_field_is_dropped() -> None:
    with pytest.raises(NewerSchema, match="newer version"):
        from_json(b'{"schema": 4, "name": "x", "colours": []}')
    for wrong in ({"colours": []}, {"brief": {"purpos": "x"}}, {"schema": 0}, {"schema": "3"}, {"schema": True}, []):
        with pytest.raises(InputError):
            from_json(json.dumps(wrong if isinstance(wrong, list) else {"schema": 3, **wrong}).encode())
    assert from_json(b"{}") == Design()
