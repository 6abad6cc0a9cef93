"""Saved files of every schema: read, brought up, and nothing lost on the way."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from alembic.config import Config
from alembic.script import ScriptDirectory

from zesty_trace.core.design.model import SCHEMA_VERSION, Acceptance, Design, Measured, Pin, to_json
from zesty_trace.core.design.reading import STEPS, NewerSchema, from_json
from zesty_trace.errors import InputError
from zesty_trace.store import migrations
from zesty_trace.store.records import Records

SAVED = Path(__file__).parent / "versions"
RENAMED = {"sides": "layers"}
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
        named = {RENAMED.get(k, k): v for k, v in saved.items()}
        return all(k in today and holds(today[k], v) for k, v in named.items())
    if isinstance(saved, list) and isinstance(today, list):
        return len(saved) == len(today) and all(holds(a, b) for a, b in zip(today, saved, strict=True))
    return today == saved


def test_sides_became_layers_and_a_keep_out_on_both_faces_is_for_all_layers() -> None:
    zone = {"name": "z", "outline": [[0, 0], [9, 0], [9, 9]], "layers": ["top", "bottom"]}
    old = {"schema": 8, "board": {"rules": {"sides": 1}, "keepouts": [zone, {**zone, "layers": ["top"]}]}}
    board = from_json(json.dumps(old).encode()).board
    assert board.rules.layers == 1
    assert board.rules.plated_through == ("bottom",)
    assert [z.on("inner1") for z in board.keepouts] == [True, False]


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
        from_json(b'{"schema": 11, "name": "x", "colours": []}')
    for wrong in ({"colours": []}, {"brief": {"purpos": "x"}}, {"schema": 0}, {"schema": "3"}, {"schema": True}, []):
        with pytest.raises(InputError):
            from_json(json.dumps(wrong if isinstance(wrong, list) else {"schema": 6, **wrong}).encode())
    assert from_json(b"{}") == Design()


@pytest.mark.parametrize("version", [1, 2, 3])
def test_records_of_each_version_are_brought_up(version: int, tmp_path: Path) -> None:
    shutil.copy(SAVED / f"records-{version}.sqlite", tmp_path / "records.sqlite")
    with closing(Records(tmp_path)) as records:
        boards = {b.serial: b for b in records.boards()}
        assert list(boards) == ["A-001", "A-002"]
        assert [e.kind for e in boards["A-001"].events] == ["assembled", "flashed", "measured"]
        assert boards["A-001"].events[1].flash.sha256 == "ab" * 32
        assert boards["A-001"].revision == "A"
        assert records.verify() == []
        records.add("A-002", "assembled", "later")
    with closing(sqlite3.connect(tmp_path / "records.sqlite")) as link:
        assert link.execute("SELECT version_num FROM alembic_version").fetchall() == [(migrations.HEAD,)]
    with closing(Records(tmp_path)) as again:
        assert again.verify() == []
        assert len(again.boards()[1].events) == 1


def test_there_is_one_step_to_each_version_of_the_records_and_the_last_is_todays() -> None:
    config = Config()
    config.set_main_option("script_location", str(migrations.SCRIPTS))
    scripts = ScriptDirectory.from_config(config)
    assert scripts.get_current_head() == migrations.HEAD
    assert [s.revision for s in scripts.walk_revisions()] == ["0002", "0001"]


def test_records_of_a_newer_version_are_refused_and_not_touched(tmp_path: Path) -> None:
    shutil.copy(SAVED / "records-3.sqlite", tmp_path / "records.sqlite")
    with closing(sqlite3.connect(tmp_path / "records.sqlite")) as link:
        link.execute("UPDATE alembic_version SET version_num = '0099'")
        link.commit()
    with pytest.raises(migrations.NewerRecords, match="newer version"):
        Records(tmp_path)
    with closing(sqlite3.connect(tmp_path / "records.sqlite")) as link:
        assert link.execute("SELECT count(*) FROM log").fetchone() == (5,)
