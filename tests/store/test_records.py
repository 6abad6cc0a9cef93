"""Records: boards by serial number, events that are only ever added, a chain that shows what was tampered with."""

from __future__ import annotations

import sqlite3
from datetime import date
from pathlib import Path

import pytest

from zesty_trace.errors import InputError, StoreError
from zesty_trace.store.board import Wanted, parse_serial, serial_number
from zesty_trace.store.payloads import FlashTold, MeasureTold, Told
from zesty_trace.store.records import FILE, HEAD, Records, RecordsDamaged, backup_names
from zesty_trace.store.restoring import bring_back

REAL, SIM = Told(source="real"), Told(source="simulated")


@pytest.fixture
def records(tmp_path: Path):
    made = Records(tmp_path)
    yield made
    made.close()


def standing(records: Records, serial: str = "A-001", **wanted: str) -> tuple[str, str]:
    board = next(b for b in records.boards() if b.serial == serial)
    found = board.standing(Wanted(**wanted))
    return found.verdict, found.why


def test_boards_are_added_once_and_keep_their_variant(records: Records) -> None:
    assert records.add_boards("A", "Full", range(1, 4)) == ["A-001", "A-002", "A-003"]
    records.add_boards("A", "Full", range(2, 6))
    assert [b.serial for b in records.boards()] == [serial_number("A", k) for k in range(1, 6)]
    assert records.boards("B") == []
    with pytest.raises(StoreError, match="board of the variant Full"):
        records.add_boards("A", "Basic", [1])


def test_the_verdict_follows_the_last_measurement_flash_and_rework(records: Records) -> None:
    records.add_boards("A", "", [1])
    assert standing(records) == ("open", "not measured yet")
    records.add("A-001", "measured", "no answer", "fail", REAL)
    assert standing(records)[0] == "fail"
    records.add("A-001", "reworked", "resoldered U5")
    assert standing(records)[0] == "open"
    records.add("A-001", "measured", "fine", "pass", MeasureTold(source="real", plan="p1"))
    assert standing(records, plan="p1")[0] == "pass"
    assert standing(records, plan="p2") == ("open", "the test plan has changed since: measure it again")
    records.add("A-001", "flashing", "erasing", "open", FlashTold(source="real", sha256="new"))
    assert standing(records)[0] == "open"
    assert records.boards()[0].content().why.startswith("unknown content")


def test_a_board_passes_only_with_the_image_that_is_asked_for(records: Records) -> None:
    records.add_boards("A", "", [1])
    records.add("A-001", "flashed", "old verified", "pass", FlashTold(source="real", sha256="old"))
    records.add("A-001", "measured", "fine", "pass", REAL)
    assert standing(records, image_sha256="old")[0] == "pass"
    assert standing(records, image_sha256="new")[0] == "open"
    assert records.boards()[0].content("new").verdict == "open"


def test_what_stand_ins_told_does_not_count_on_a_real_board(records: Records) -> None:
    records.add_boards("A", "", [1])
    records.add("A-001", "measured", "fine", "pass", SIM)
    board = records.boards()[0]
    assert board.standing().words == "pass, simulated"
    records.add("A-001", "flashed", "verified", "pass", FlashTold(source="real", sha256="x"))
    assert standing(records) == ("open", "not measured yet")


def test_a_device_event_must_say_whether_it_is_real(records: Records) -> None:
    records.add_boards("A", "", [1])
    with pytest.raises(StoreError, match="real or simulated"):
        records.add("A-001", "measured", "fine", "pass", Told())


ATTACKS = [
    "UPDATE log SET verdict = 'pass'",
    "DELETE FROM log",
    "INSERT OR REPLACE INTO log SELECT id, serial, at, kind, 'pass', summary, data, checksum FROM log WHERE id = 2",
    "REPLACE INTO log SELECT id, serial, at, kind, 'pass', summary, data, checksum FROM log WHERE id = 2",
    "INSERT INTO log SELECT id + 7, serial, at, kind, 'pass', summary, data, checksum FROM log WHERE id = 2",
]


@pytest.mark.parametrize("statement", ATTACKS)
def test_events_can_neither_be_changed_nor_replaced(records: Records, tmp_path: Path, statement: str) -> None:
    records.add_boards("A", "", [1])
    records.add("A-001", "measured", "bad", "fail", REAL)
    link = sqlite3.connect(tmp_path / FILE)
    with pytest.raises(sqlite3.IntegrityError):
        link.execute(statement)
    link.close()
    assert records.verify() == []
    assert standing(records)[0] == "fail"


def test_what_passes_the_guards_is_found_by_the_chain(records: Records, tmp_path: Path) -> None:
    records.add_boards("A", "", [1])
    records.add("A-001", "measured", "bad", "fail", REAL)
    records.add("A-001", "note", "later")
    link = sqlite3.connect(tmp_path / FILE)
    link.execute("DROP TRIGGER log_no_update")
    link.execute("UPDATE log SET verdict = 'pass' WHERE id = 2")
    link.commit()
    link.close()
    assert any("Event 2" in w and "changed" in w for w in records.verify())


def test_removed_events_and_a_vanished_file_are_refused_not_opened_empty(tmp_path: Path) -> None:
    made = Records(tmp_path)
    made.add_boards("A", "", [1])
    made.add("A-001", "measured", "bad", "fail", REAL)
    made.close()
    link = sqlite3.connect(tmp_path / FILE)
    link.execute("DROP TRIGGER log_no_delete")
    link.execute("DELETE FROM log WHERE id = 2")
    link.commit()
    link.close()
    with pytest.raises(RecordsDamaged, match="fewer than the 2"):
        Records(tmp_path)
    for path in tmp_path.glob(FILE + "*"):
        path.unlink()
    with pytest.raises(RecordsDamaged, match="gone"):
        Records(tmp_path)


def test_a_copy_is_kept_each_day_and_can_be_brought_back(tmp_path: Path) -> None:
    made = Records(tmp_path)
    made.add_boards("A", "", [1, 2])
    made.close()
    Records(tmp_path, date(2026, 11, 26)).close()
    assert backup_names(tmp_path) == ["records-2026-11-26.sqlite"]
    (tmp_path / FILE).write_bytes(b"this is no database, whatever its name says" * 40)
    with pytest.raises(RecordsDamaged) as caught:
        Records(tmp_path)
    assert caught.value.backups == ("records-2026-11-26.sqlite",)
    kept = bring_back(tmp_path, caught.value.backups[0])
    assert kept is not None
    assert kept.read_bytes().startswith(b"this is no database")
    again = Records(tmp_path)
    assert [b.serial for b in again.boards()] == ["A-001", "A-002"]
    again.close()


@pytest.mark.parametrize("name", ["two words", "50 %", "what?", "a#b&c=d", "Grüße"])
def test_any_folder_name_has_records_of_its_own(tmp_path: Path, name: str) -> None:
    """A ? or % in an address would be taken for options: two projects then shared one file."""
    for folder in (tmp_path / name, tmp_path / name.split("?", maxsplit=1)[0].split("%", maxsplit=1)[0]):
        folder.mkdir(exist_ok=True)
    made = Records(tmp_path / name)
    made.add_boards("A", "", [1])
    made.close()
    assert (tmp_path / name / FILE).exists()
    assert (tmp_path / name / HEAD).exists()


@pytest.mark.parametrize("name", [FILE, FILE + "-wal", FILE + "-journal"])
def test_a_link_in_the_place_of_the_records_is_refused(tmp_path: Path, name: str) -> None:
    outside = tmp_path / "outside"
    outside.write_bytes(b"keep")
    (tmp_path / "p").mkdir()
    (tmp_path / "p" / name).symlink_to(outside)
    with pytest.raises(StoreError, match="no regular file"):
        Records(tmp_path / "p")
    assert outside.read_bytes() == b"keep"


def test_unknown_board_and_unknown_kind_are_refused(records: Records) -> None:
    with pytest.raises(StoreError, match="not recorded"):
        records.add("Z-999", "note", "x")
    records.add_boards("A", "", [1])
    with pytest.raises(StoreError, match="no kind of event"):
        records.add("A-001", "painted", "x")  # type: ignore[arg-type]


def test_records_of_the_first_version_are_taken_over(tmp_path: Path) -> None:
    link = sqlite3.connect(tmp_path / FILE)
    link.execute("CREATE TABLE boards (serial VARCHAR PRIMARY KEY, revision VARCHAR, variant VARCHAR, made_at VARCHAR)")
    link.execute(
        "CREATE TABLE events (id INTEGER PRIMARY KEY, serial VARCHAR, at VARCHAR, kind VARCHAR, verdict VARCHAR, "
        "summary VARCHAR, data JSON)"
    )
    link.execute("INSERT INTO boards VALUES ('A-001', 'A', 'Full', '2026-01-01T00:00:00+00:00')")
    link.execute(
        "INSERT INTO events VALUES (1, 'A-001', '2026-01-02T00:00:00+00:00', 'measured', 'pass', 'fine', '{}')"
    )
    link.commit()
    link.close()
    made = Records(tmp_path)
    board = made.boards()[0]
    assert (board.variant, board.events[0].words) == ("Full", "fine (not known whether simulated)")
    assert made.verify() == []
    made.close()


@pytest.mark.parametrize("text", ["A-099x", "foo", "B-003", "A-", "A-0", "A-000", "A-1", "A-0001", "", "A-００１"])
def test_what_is_no_serial_number_is_refused(text: str) -> None:
    with pytest.raises(InputError, match="no serial number"):
        parse_serial(text, "A")


def test_serial_numbers_are_read_as_people_write_them() -> None:
    assert [parse_serial(t, "A") for t in ("A-002", "a-002", " A-002 ", "A-1234")] == [2, 2, 2, 1234]
    assert parse_serial("2.1-b-007", "2.1-B") == 7
