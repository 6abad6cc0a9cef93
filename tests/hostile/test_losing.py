"""Nothing that was typed, saved or recorded is lost, whatever happens to the folder.

And what cannot be kept is said.
"""

from __future__ import annotations

import errno
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Moment, Part, Pin, to_json
from zesty_trace.core.design.scenario_edits import note_measured, reading, set_timeline
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.store.autosave import Autosaver
from zesty_trace.store.project import (
    DESIGN,
    JOURNAL,
    THEIRS,
    UNSAVED,
    ChangedOutside,
    DamagedProject,
    FolderGone,
    ProjectFolder,
    read_project,
    restore_last_good,
)


@pytest.fixture
def folder(tmp_path: Path):
    made = ProjectFolder.create(tmp_path / "p", Design(name="step 0"))
    yield made
    made.close()


def test_a_saved_edit_never_comes_back_older(folder: ProjectFolder) -> None:
    """The autosaver used to take the design before its lock, and to write it after a save had overtaken it."""
    saver = Autosaver(folder)
    rng = random.Random(5)
    for k in range(1, 60):
        saver.submit(Design(name=f"edit {k}"))
        time.sleep(rng.uniform(0.0, 0.02) if k % 8 else 0.31)
        saver.save(Design(name=f"saved {k}"))
        assert read_project(folder.path).design.name == f"saved {k}"
    saver.close()


def test_a_stale_journal_does_not_beat_a_newer_file(folder: ProjectFolder) -> None:
    folder.journal(Design(name="edits of a crash"))
    folder.close()
    (folder.path / DESIGN).write_bytes(to_json(Design(name="written by another program")))
    again, opened = ProjectFolder.open(folder.path)
    again.close()
    assert opened.design.name == "written by another program"
    assert opened.stale is not None
    assert opened.stale.name == "edits of a crash"
    assert (folder.path / UNSAVED).exists()


def test_a_journal_that_a_save_has_overtaken_is_spent(folder: ProjectFolder, monkeypatch) -> None:
    """A crash between writing the file and removing the journal leaves both behind."""
    folder.journal(Design(name="older"))
    monkeypatch.setattr(folder, "_restart_journal", lambda: None)
    folder.save(Design(name="newer"))
    assert (folder.path / JOURNAL).exists()
    opened = read_project(folder.path)
    assert (opened.design.name, opened.recovered, opened.stale) == ("newer", False, None)


def test_a_save_that_finds_a_journal_of_an_earlier_process_marks_it_as_spent(
    folder: ProjectFolder, monkeypatch
) -> None:
    """A kill between the file and the removal of a journal that this process did not write itself."""
    folder.journal(Design(name="earlier"))
    folder.close()
    again, opened = ProjectFolder.open(folder.path)
    monkeypatch.setattr(again, "_restart_journal", lambda: None)
    again.save(edits.set_name(opened.design, "saved at once"))
    again.close()
    found = read_project(folder.path)
    assert (found.design.name, found.stale) == ("saved at once", None)


def test_a_save_that_fails_after_its_mark_leaves_the_journal_continuing_the_old_file(
    folder: ProjectFolder, monkeypatch
) -> None:
    from zesty_trace.store import project

    folder.journal(Design(name="edit 1"))
    real = project.write_inside

    def full(root: Path, name: str, data: bytes) -> None:
        if name == DESIGN:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(root, name, data)

    monkeypatch.setattr(project, "write_inside", full)
    with pytest.raises(StoreError, match="No space"):
        folder.save(Design(name="edit 2"))
    folder.journal(Design(name="edit 3"))
    found = read_project(folder.path)
    assert (found.design.name, found.stale) == ("edit 3", None)


def test_another_programs_file_is_not_overwritten_unasked(folder: ProjectFolder) -> None:
    (folder.path / DESIGN).write_bytes(to_json(Design(name="theirs")))
    assert folder.changed_outside()
    with pytest.raises(ChangedOutside) as caught:
        folder.save(Design(name="mine"))
    assert caught.value.theirs == Design(name="theirs")
    assert read_project(folder.path).design.name == "theirs"
    folder.save(Design(name="mine"), over_theirs=True)
    assert read_project(folder.path).design.name == "mine"
    assert b"theirs" in (folder.path / THEIRS).read_bytes()
    assert not folder.changed_outside()


@pytest.mark.parametrize("value", [float("inf"), float("-inf"), float("nan"), 1e300])
def test_what_is_no_number_is_refused_by_saving_and_by_the_journal(folder: ProjectFolder, value: float) -> None:
    part = Part(ref="R1", kind="resistor")
    wired = edits.connect(edits.add_part(Design(), part), Pin("R1", "1"), "3V3")
    for wrong in (
        edits.set_brief(Design(), supply_v=value),
        note_measured(wired, reading("voltage", "3V3", value=value)),
        set_timeline(Design(), [Moment(state="on", seconds=value)])
        if value > 0
        else edits.set_brief(Design(), budget_eur=value),
    ):
        for act in (folder.save, folder.journal):
            with pytest.raises(StoreError, match=r"read again|out of range"):
                act(wrong)
    assert read_project(folder.path).design.name == "step 0"


DAMAGE = {
    "one invalid byte": lambda d: d.replace(b"step", b"st\xffp"),
    "deep nesting": lambda _: b"[" * 100_000,
    "deep in a field": lambda _: b'{"x":' + b"[" * 100_000,
    "a number that overflows": lambda d: d.replace(b'"supply_v": 0.0', b'"supply_v": 1e999'),
    "cut off": lambda d: d[: len(d) // 2],
    "empty": lambda _: b"",
    "zeros": lambda d: bytes(len(d)),
    "another shape": lambda _: b'["design"]',
    "UTF-16": lambda d: d.decode().encode("utf-16"),
}


@pytest.mark.parametrize("how", DAMAGE, ids=list(DAMAGE))
def test_the_last_good_state_is_offered_for_every_kind_of_damage(folder: ProjectFolder, how: str) -> None:
    folder.save(Design(name="good"))
    folder.save(Design(name="step 2"))
    folder.close()
    path = folder.path / DESIGN
    path.write_bytes(DAMAGE[how](path.read_bytes()))
    with pytest.raises(DamagedProject) as caught:
        ProjectFolder.open(folder.path)
    assert caught.value.last_good is not None
    assert caught.value.last_good.name == "good"
    restore_last_good(folder.path, caught.value.last_good)
    again, opened = ProjectFolder.open(folder.path)
    again.close()
    assert opened.design.name == "good"


def test_damage_while_it_is_open_is_told_and_not_overwritten_in_silence(folder: ProjectFolder) -> None:
    (folder.path / DESIGN).write_bytes(b'{"name": "\xff"}')
    with pytest.raises(ChangedOutside) as caught:
        folder.save(Design(name="mine"))
    assert caught.value.theirs is None
    folder.save(Design(name="mine"), over_theirs=True)
    assert read_project(folder.path).design.name == "mine"


def test_saving_works_where_there_are_no_hard_links(folder: ProjectFolder, monkeypatch) -> None:
    def refuse(*_args: object, **_more: object) -> None:
        raise OSError(errno.EPERM, "Operation not permitted")

    monkeypatch.setattr(os, "link", refuse)
    for k in range(4):
        folder.save(Design(name=f"save {k}"))
    assert read_project(folder.path).design.name == "save 3"


def test_autosave_goes_on_after_any_error_and_says_so(folder: ProjectFolder, monkeypatch) -> None:
    heard: list[ZestyError] = []
    written: list[float] = []
    real, left = folder.journal, [2]

    def failing(design: Design) -> None:
        if left[0]:
            left[0] -= 1
            raise RuntimeError("something else")
        real(design)

    monkeypatch.setattr(folder, "journal", failing)
    monkeypatch.setattr("zesty_trace.store.autosave.AGAIN_S", 0.05)
    saver = Autosaver(folder, heard.append, written.append)
    saver.submit(Design(name="kept after all"))
    end = time.monotonic() + 5
    while not written and time.monotonic() < end:
        time.sleep(0.02)
    saver.close()
    assert len(heard) == 2
    assert "something else" in str(heard[0])
    assert read_project(folder.path).design.name == "kept after all"


def test_a_folder_that_is_deleted_is_told_at_once_and_saved_elsewhere(folder: ProjectFolder, tmp_path: Path) -> None:
    heard: list[ZestyError] = []
    saver = Autosaver(folder, heard.append)
    shutil.rmtree(folder.path)
    end = time.monotonic() + 5
    while not heard and time.monotonic() < end:
        time.sleep(0.02)
    saver.close()
    assert isinstance(heard[0], FolderGone)
    with pytest.raises(FolderGone):
        folder.save(Design(name="mine"))
    ProjectFolder.create(tmp_path / "elsewhere", Design(name="mine")).close()
    assert read_project(tmp_path / "elsewhere").design.name == "mine"


@pytest.mark.parametrize("name", ["firmware", "fabrication", "parts"])
def test_a_file_with_the_name_of_a_folder_is_told(tmp_path: Path, name: str) -> None:
    (tmp_path / "p").mkdir()
    (tmp_path / "p" / name).write_text("x")
    with pytest.raises(StoreError, match=name):
        ProjectFolder.create(tmp_path / "p", Design())


WRITERS = """
import os, sys
from pathlib import Path
from zesty_trace.core.design.model import Design
from zesty_trace.store.project import ProjectFolder
from zesty_trace.store.records import Records

def write(path):
    folder, opened = ProjectFolder.open(path)
    k = int(opened.design.name.split()[-1])
    records = Records(folder.path)
    serial = records.add_boards("A", "", [1])[0]
    print("ready", flush=True)
    while True:
        k += 1
        (folder.save if k % 5 == 0 else folder.journal)(Design(name=f"step {k}"))
        records.add(serial, "note", f"step {k}")
        os.write(1, f"{k}\\n".encode())  # in one piece, whenever it is killed

for line in sys.stdin:
    child = os.fork()
    if child == 0:
        write(Path(sys.argv[1]))
    print("writer", child, flush=True)
    os.waitpid(child, 0)
    print("dead", flush=True)
"""


def test_forty_kills_lose_no_step_and_no_event(folder: ProjectFolder) -> None:
    """A program that has all loaded forks one writer after the other; each is killed at a random moment."""
    from zesty_trace.store.records import Records

    folder.close()
    rng = random.Random(23)
    command = [sys.executable, "-c", WRITERS, str(folder.path)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdin is not None
        assert process.stdout is not None
        for _ in range(40):
            process.stdin.write("go\n")
            process.stdin.flush()
            said = [process.stdout.readline().strip() for _ in range(2)]
            writer = int(next(s for s in said if s.startswith("writer")).split()[1])
            time.sleep(rng.uniform(0.0, 0.08))
            os.kill(writer, signal.SIGKILL)
            told = []
            while (line := process.stdout.readline().strip()) != "dead":
                told.append(int(line))
            opened = read_project(folder.path)
            assert opened.stale is None
            assert int(opened.design.name.split()[-1]) >= (told[-1] if told else 0)
            records = Records(folder.path)
            notes = [e.summary for e in records.boards()[0].events]
            assert records.verify() == []
            records.close()
            assert not told or f"step {told[-1]}" in notes


WINDOW = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QSettings, QTimer
from zesty_trace.core.design import edits
from zesty_trace.desktop.window.app import make_application
from zesty_trace.desktop.window.opening import open_project
from zesty_trace.desktop.window.shell import MainWindow
app = make_application()
settings = QSettings(sys.argv[1] + "/s.ini", QSettings.Format.IniFormat)
window = MainWindow(open_project(Path(sys.argv[1]), ask=False), settings)
window.show()
number = int(window.session.design.name.split()[-1])
def edit():
    global number
    number += 1
    window.session.do("edit", lambda d: edits.set_name(d, f"step {number}"))
    print(number, time.time(), flush=True)
timer = QTimer()
timer.timeout.connect(edit)
timer.start(15)
app.exec()
"""


def test_killed_windows_lose_under_a_second(folder: ProjectFolder, tmp_path: Path) -> None:
    """The journal follows each edit within DELAY_S and a write: what is lost at a kill is younger than a second."""
    folder.close()
    rng = random.Random(7)
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    for _ in range(5):
        command = [sys.executable, "-c", WINDOW, str(folder.path)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=env) as process:
            assert process.stdout is not None
            process.stdout.readline()
            time.sleep(rng.uniform(0.3, 1.5))
            process.kill()
            killed = time.time()
            told = [line.split() for line in process.stdout.read().splitlines()]
        found = int(read_project(folder.path).design.name.split()[-1])
        due = [int(n) for n, at in (t for t in told if len(t) == 2) if float(at) < killed - 1.0]
        assert found >= max(due, default=0)
