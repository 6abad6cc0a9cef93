"""Records that somebody changes, shortens, takes away or writes anew: what is left of them is never called a pass."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from zesty_trace.cli import main
from zesty_trace.core.design.model import Design
from zesty_trace.journey.measuring import bench_findings
from zesty_trace.store import records as module
from zesty_trace.store.chain import START, checksum_of
from zesty_trace.store.known import IDENTITY, known_folder, look_up
from zesty_trace.store.own import keep_person
from zesty_trace.store.payloads import Told
from zesty_trace.store.project import ProjectFolder
from zesty_trace.store.records import FILE, HEAD, Records, RecordsDamaged
from zesty_trace.store.restoring import bring_back, has_records, take_as_they_are
from zesty_trace.store.signing import key_path, load_key, make_key

GUARDS = ("log_no_update", "log_no_delete", "log_in_order")


@pytest.fixture
def project(tmp_path: Path) -> Path:
    """A project with two boards of six events."""
    folder = tmp_path / "board"
    ProjectFolder.create(folder, Design()).close()
    with closing(Records(folder)) as made:
        made.add_boards("A", "", [1, 2])
        for serial, verdict in (("A-001", "fail"), ("A-002", "pass"), ("A-001", "fail"), ("A-002", "pass")):
            made.add(serial, "measured", f"a {verdict}", verdict, Told(source="real", who="mara"))
    return folder


def attack(folder: Path, *statements: str) -> None:
    with closing(sqlite3.connect(folder / FILE)) as link:
        for guard in GUARDS:
            link.execute(f"DROP TRIGGER {guard}")
        for statement in statements:
            link.execute(statement)
        link.commit()


def written_anew(folder: Path) -> None:
    """Recompute every checksum and the head: what somebody does who knows how the chain works."""
    with closing(sqlite3.connect(folder / FILE)) as link:
        checksum, number = START, 0
        rows = link.execute("SELECT id, serial, at, kind, verdict, summary, data FROM log ORDER BY id").fetchall()
        for number, *fields in rows:
            checksum = checksum_of(checksum, *fields)
            link.execute("UPDATE log SET checksum = ? WHERE id = ?", (checksum, number))
        link.commit()
    (folder / HEAD).write_text(f"{number} {checksum}\n")


def standings(folder: Path) -> set[str]:
    with closing(Records(folder)) as records:
        return {b.standing().verdict for b in records.boards()}


CHANGES = [
    "UPDATE log SET verdict = 'pass' WHERE id = 3",
    "UPDATE log SET verdict = 'fail' WHERE id = 6",
    "UPDATE log SET serial = 'A-002' WHERE id = 5",
    "UPDATE log SET summary = 'fine' WHERE id = 5",
    "UPDATE log SET at = '2020-01-01T00:00:00.000+00:00' WHERE id = 4",
    "UPDATE log SET kind = 'note' WHERE id = 5",
    "UPDATE log SET data = '{}' WHERE id = 4",
    "UPDATE log SET verdict = x'70617373' WHERE id = 5",
    "DELETE FROM log WHERE id = 5",
]


@pytest.mark.parametrize("statement", CHANGES)
def test_no_board_passes_once_an_event_was_changed(project: Path, statement: str, capsys) -> None:
    assert standings(project) == {"fail", "pass"}
    attack(project, statement)
    assert standings(project) == {"open"}
    with closing(Records(project)) as records:
        (found,) = bench_findings(records.boards())
    assert found.title.startswith("The records do not hold together")
    assert main(["records", "verify", str(project)]) == 1
    assert any(w in capsys.readouterr().out for w in ("was changed", "are missing"))
    assert main(["record", str(project)]) == 0
    told = capsys.readouterr().out
    assert "DO NOT HOLD TOGETHER" in told
    assert "  pass" not in told


def test_a_change_is_found_though_the_times_of_the_file_are_put_back(project: Path) -> None:
    import os

    standings(project)  # the whole chain is verified, and remembered by the file's stamp
    known = look_up(project)
    assert known is not None
    assert known.stamp is not None
    before = os.stat(project / FILE)
    attack(project, "UPDATE log SET verdict = 'pass' WHERE id = 5")
    os.utime(project / FILE, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert standings(project) == {"open"}


@pytest.mark.parametrize("writes", [False, True])
def test_a_change_made_while_records_are_open_is_found_at_the_next_opening(project: Path, writes: bool) -> None:
    """The file must not be remembered as checked as it is when it is let go of."""
    standings(project)
    with closing(Records(project)) as records:
        records.boards()
        attack(project, "UPDATE log SET verdict = 'pass' WHERE id = 5")
        if writes:
            records.add("A-001", "note", "written after it")
    assert standings(project) == {"open"}
    assert standings(project) == {"open"}


def test_a_project_that_was_moved_away_is_remembered_though_another_stands_there(project: Path) -> None:
    moved = project.with_name("board.old-1")
    project.rename(moved)
    ProjectFolder.create(project, Design()).close()
    with closing(Records(project)) as records:
        records.add_boards("A", "", [1])
    attack(moved, "DELETE FROM log WHERE id > 4")
    written_anew(moved)
    with pytest.raises(RecordsDamaged, match="fewer than the 6"):
        Records(moved)


def test_what_another_program_adds_while_records_are_open_is_checked(project: Path) -> None:
    with closing(Records(project)) as records:
        assert {b.standing().verdict for b in records.boards()} == {"fail", "pass"}
        with closing(sqlite3.connect(project / FILE)) as link:
            link.execute(
                "INSERT INTO log SELECT id + 1, 'A-001', at, kind, 'pass', summary, data, checksum FROM log "
                "WHERE id = 6"
            )
            link.commit()
        assert {b.standing().verdict for b in records.boards()} == {"open"}
        assert "Event 7" in records.wrong[0]


def test_a_tail_cut_off_with_its_head_is_known_to_the_computer(project: Path, capsys) -> None:
    attack(project, "DELETE FROM log WHERE id > 4")
    written_anew(project)
    with pytest.raises(RecordsDamaged, match="fewer than the 6 events that this computer has seen") as error:
        Records(project)
    assert error.value.takeable
    assert main(["records", "verify", str(project)]) == 1
    assert "6 events that this computer has seen" in capsys.readouterr().out


def test_a_chain_written_anew_is_known_to_the_computer(project: Path) -> None:
    attack(project, "UPDATE log SET verdict = 'pass' WHERE id = 5")
    written_anew(project)
    with pytest.raises(RecordsDamaged, match="Event 6 of the records is not the one"):
        Records(project)


@pytest.mark.parametrize("gone", [(FILE,), (HEAD,), (FILE, HEAD), (FILE, HEAD, IDENTITY), (FILE, HEAD, "backups")])
def test_records_that_were_taken_away_are_missed(project: Path, gone: tuple[str, ...], capsys) -> None:
    Records(project).close()  # a copy is kept
    for name in gone:
        path = project / name
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    for side in project.glob(FILE + "-*"):
        side.unlink()
    assert has_records(project)
    if gone == (HEAD,):
        assert main(["records", "verify", str(project)]) == 0
        assert "6 events" in capsys.readouterr().out
        return
    with pytest.raises(RecordsDamaged, match="6 events were seen on this computer"):
        Records(project)
    assert main(["records", "verify", str(project)]) == 1
    told = capsys.readouterr().out
    assert "gone" in told
    assert ("Copies lie in backups" in told) == ("backups" not in gone)
    assert main(["record", str(project)]) == 2


def test_where_this_computer_knows_nothing_the_copies_tell(project: Path) -> None:
    Records(project).close()
    shutil.rmtree(known_folder())
    for name in (FILE, HEAD):
        (project / name).unlink()
    with pytest.raises(RecordsDamaged, match="copies of them are there"):
        Records(project)


def test_a_project_that_is_moved_copied_or_made_anew_is_no_false_alarm(project: Path, tmp_path: Path) -> None:
    copy = tmp_path / "copy"
    shutil.copytree(project, copy)
    with closing(Records(copy)) as records:
        records.add("A-001", "note", "only in the copy")
    with closing(Records(project)) as records:
        records.add("A-002", "note", "only in the first")
    moved = tmp_path / "moved"
    project.rename(moved)
    assert look_up(moved) is not None
    assert standings(moved) == {"fail", "pass"}
    attack(moved, "DELETE FROM log WHERE id > 4")
    written_anew(moved)
    with pytest.raises(RecordsDamaged, match="fewer than the 7"):  # it is remembered at its new place
        Records(moved)
    ProjectFolder.create(project, Design()).close()
    with closing(Records(project)) as records:
        assert records.boards() == []


def test_older_records_can_be_taken_with_a_reason_that_stays(project: Path, capsys) -> None:
    attack(project, "DELETE FROM log WHERE id > 4")
    written_anew(project)
    assert main(["records", "take", str(project)]) == 2
    assert main(["records", "take", str(project), "--why", "the disk was restored from a copy"]) == 0
    capsys.readouterr()
    assert standings(project) == {"fail", "pass"}
    assert main(["records", "verify", str(project)]) == 0
    told = capsys.readouterr().out
    assert "4 events where 6 were known (the disk was restored from a copy)" in told


def test_a_copy_brought_back_counts_from_then_on(project: Path) -> None:
    Records(project).close()
    (name,) = (p.name for p in (project / "backups").iterdir())
    with closing(Records(project)) as records:
        records.add("A-001", "note", "after the copy")
    (project / FILE).write_bytes(b"no database" * 400)
    with pytest.raises(RecordsDamaged):
        Records(project)
    bring_back(project, name)
    assert standings(project) == {"fail", "pass"}
    bring_back(project, "")
    with closing(Records(project)) as records:
        assert records.boards() == []
    assert take_as_they_are(project, "nothing to take") == 0


# Signed ---------------------------------------------------------------------------------------------------------------


@pytest.fixture
def signed(project: Path) -> Path:
    """The project goes on with a key of its owner."""
    keep_person("mara", "bench 1")
    assert main(["records", "key"]) == 0
    with closing(Records(project)) as records:
        for verdict in ("fail", "fail"):
            records.add("A-001", "measured", f"a {verdict}", verdict, Told(source="real", who="mara"))
    return project


def test_a_key_is_made_once_for_its_owner_alone(signed: Path, capsys) -> None:
    assert key_path().stat().st_mode & 0o077 == 0
    first = load_key()
    capsys.readouterr()
    assert main(["records", "key", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert first is not None
    assert (told["public"], told["who"], told["fresh"]) == (first.public, "mara", False)
    assert first.secret not in json.dumps(told)
    assert main(["records", "verify", str(signed), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["signed"] == 8


@pytest.mark.parametrize("seals", ["kept", "removed", "of another key"])
def test_a_chain_written_anew_is_found_by_its_signature(signed: Path, seals: str, capsys) -> None:
    attack(signed, "UPDATE log SET verdict = 'pass' WHERE id = 8")
    if seals != "kept":
        attack_seals(signed, seals)
    written_anew(signed)
    shutil.rmtree(known_folder())  # what the computer remembered is gone as well
    assert standings(signed) == {"open"}
    assert main(["records", "verify", str(signed)]) == 1
    told = capsys.readouterr().out
    assert "not the one that was signed" in told or "not signed by the key" in told


def attack_seals(folder: Path, how: str) -> None:
    from nacl.signing import SigningKey

    with closing(sqlite3.connect(folder / FILE)) as link:
        link.execute("DELETE FROM seals")
        link.commit()
        if how == "of another key":
            other = SigningKey.generate()
            written_anew(folder)
            ((checksum,),) = link.execute("SELECT checksum FROM log WHERE id = 8").fetchall()
            signature = other.sign(f"zesty-trace records 8 {checksum}".encode()).signature.hex()
            link.execute("INSERT INTO seals VALUES (8, ?, ?)", (other.verify_key.encode().hex(), signature))
        link.commit()


def test_a_key_that_cannot_be_read_stops_recording(project: Path) -> None:
    make_key("mara")
    key_path().write_text("{}")
    with pytest.raises(OSError, match="key that signs records cannot be read"):
        Records(project)


# The clock ------------------------------------------------------------------------------------------------------------


def test_one_event_of_another_year_does_not_pin_the_times_after_it(project: Path, monkeypatch) -> None:
    now = datetime.now(UTC)
    times = [now + timedelta(days=3650), now + timedelta(seconds=5), now + timedelta(seconds=9)]
    for moment in times:
        monkeypatch.setattr(module, "time_now", lambda moment=moment: moment.isoformat(timespec="milliseconds"))
        with closing(Records(project)) as records:
            records.add("A-001", "note", "what time is it")
    with closing(Records(project)) as records:
        said = [e.at for e in records.boards()[0].events][-3:]
        assert said == [t.isoformat(timespec="milliseconds") for t in times]
        found = records.check()
    assert found.wrong == ()
    assert any("dated 3650 days after now" in r for r in found.remarks)
    assert any("set back by 3650 days" in r for r in found.remarks)


def test_a_folder_that_can_only_be_read_is_read_and_verified(project: Path, monkeypatch, capsys) -> None:
    import os

    access = os.access
    monkeypatch.setattr(module.os, "access", lambda p, mode: mode != os.W_OK and access(p, mode))
    before = sorted((p.name, p.stat().st_mtime_ns) for p in project.iterdir())
    assert main(["records", "verify", str(project)]) == 0
    assert "6 events" in capsys.readouterr().out
    assert main(["record", str(project)]) == 0
    with closing(Records(project)) as records, pytest.raises(OSError, match="Nothing can be recorded"):
        records.add("A-001", "note", "x")
    assert sorted((p.name, p.stat().st_mtime_ns) for p in project.iterdir()) == before
