"""Records: boards by serial number, events that are only ever added."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from zesty_trace.errors import StoreError
from zesty_trace.store.records import Records, serial_number


@pytest.fixture
def records(tmp_path: Path):
    made = Records(tmp_path / "records.sqlite")
    yield made
    made.close()


def test_boards_are_added_once(records: Records) -> None:
    assert records.add_boards("A", "Full", range(1, 4)) == ["A-001", "A-002", "A-003"]
    records.add_boards("A", "Full", range(2, 6))
    assert [b.serial for b in records.boards()] == [serial_number("A", k) for k in range(1, 6)]
    assert records.boards("B") == []


def test_events_keep_their_order_and_the_last_measurement_is_the_verdict(records: Records) -> None:
    records.add_boards("A", "Full", [1])
    records.add("A-001", "assembled", "by hand")
    records.add("A-001", "measured", "no answer", "fail", {"readings": [1, 2]})
    records.add("A-001", "reworked", "resoldered U5")
    records.add("A-001", "measured", "fine", "pass")
    board = records.boards()[0]
    assert [e.kind for e in board.events] == ["assembled", "measured", "reworked", "measured"]
    assert board.verdict == "pass"
    assert board.events[1].data == {"readings": [1, 2]}
    assert board.last("flashed") is None


def test_events_can_neither_be_changed_nor_deleted(records: Records, tmp_path: Path) -> None:
    records.add_boards("A", "", [1])
    records.add("A-001", "note", "first")
    link = sqlite3.connect(tmp_path / "records.sqlite")
    for statement in ("UPDATE events SET summary = 'x'", "DELETE FROM events"):
        with pytest.raises(sqlite3.IntegrityError, match="only added"):
            link.execute(statement)
    assert link.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    link.close()


def test_unknown_board_and_unknown_kind_are_refused(records: Records) -> None:
    with pytest.raises(StoreError, match="not recorded"):
        records.add("Z-999", "note", "x")
    records.add_boards("A", "", [1])
    with pytest.raises(StoreError, match="no kind of event"):
        records.add("A-001", "painted", "x")  # type: ignore[arg-type]


def test_a_damaged_file_is_told(tmp_path: Path) -> None:
    (tmp_path / "records.sqlite").write_bytes(b"this is no database, whatever its name says" * 40)
    with pytest.raises(StoreError, match="cannot be read"):
        Records(tmp_path / "records.sqlite")
