"""The project folder: whole or not at all, at every moment; locked; honest about what it cannot read."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, to_json
from zesty_trace.errors import StoreError
from zesty_trace.store.autosave import Autosaver
from zesty_trace.store.project import (
    DESIGN,
    JOURNAL,
    LAST_GOOD,
    DamagedProject,
    ProjectFolder,
    project_schema,
    read_project,
    restore_last_good,
)

WRITER = """
import sys
from pathlib import Path
from zesty_trace.core.design.model import Design
from zesty_trace.core.design import edits
from zesty_trace.store.project import ProjectFolder
folder, opened = ProjectFolder.open(Path(sys.argv[1]))
design, k = opened.design, int(opened.design.name.split()[-1])
print("ready", flush=True)
while True:
    k += 1
    design = edits.set_name(design, f"step {k}")
    (folder.save if k % 5 == 0 else folder.journal)(design)
    print(k, flush=True)
"""


def named(name: str) -> Design:
    return edits.add_part(Design(name=name), Part(ref="R1", kind="resistor", value="1k"))


def test_create_open_save_open(tmp_path: Path, demo: Design) -> None:
    path = tmp_path / "p"
    with ProjectFolder.create(path, demo) as folder:
        folder.save(edits.set_name(demo, "Second"))
    folder, opened = ProjectFolder.open(path)
    folder.close()
    assert opened.design == edits.set_name(demo, "Second")
    assert not opened.recovered
    assert (path / LAST_GOOD).read_bytes() == to_json(demo)


def test_a_second_window_is_refused_and_nothing_changes(tmp_path: Path) -> None:
    with ProjectFolder.create(tmp_path / "p", named("one")):
        before = (tmp_path / "p" / DESIGN).read_bytes()
        with pytest.raises(StoreError, match="open in another window"):
            ProjectFolder.open(tmp_path / "p")
        assert (tmp_path / "p" / DESIGN).read_bytes() == before
    ProjectFolder.open(tmp_path / "p")[0].close()


def test_journalled_edits_come_back(tmp_path: Path) -> None:
    folder = ProjectFolder.create(tmp_path / "p", named("one"))
    folder.journal(named("two"))
    folder.journal(named("three"))
    folder.close()
    opened = read_project(tmp_path / "p")
    assert opened.recovered
    assert opened.design.name == "three"


def test_a_torn_journal_line_is_passed_over(tmp_path: Path) -> None:
    folder = ProjectFolder.create(tmp_path / "p", named("one"))
    folder.journal(named("two"))
    folder.journal(named("three"))
    folder.close()
    journal = tmp_path / "p" / JOURNAL
    journal.write_bytes(journal.read_bytes()[:-40])
    assert read_project(tmp_path / "p").design.name == "two"


def test_killed_many_times_in_the_middle_of_saving_nothing_older_than_the_last_step_is_lost(tmp_path: Path) -> None:
    path = tmp_path / "p"
    ProjectFolder.create(path, named("step 0")).close()
    rng = random.Random(11)
    for _ in range(12):
        process = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        assert process.stdout.readline().strip() == "ready"
        time.sleep(rng.uniform(0.01, 0.12))
        process.send_signal(signal.SIGKILL)
        told = [int(line) for line in process.stdout.read().split()]
        process.wait()
        process.stdout.close()
        found = int(read_project(path).design.name.split()[-1])
        assert found >= (told[-1] if told else 0)
        assert found <= (told[-1] if told else found) + 1


def test_damaged_file_offers_the_last_good_state(tmp_path: Path) -> None:
    path = tmp_path / "p"
    with ProjectFolder.create(path, named("one")) as folder:
        folder.save(named("two"))
    (path / DESIGN).write_bytes(b'{"schema": 1, "name": 5, ')
    with pytest.raises(DamagedProject) as caught:
        ProjectFolder.open(path)
    assert caught.value.last_good.name == "one"
    restore_last_good(path, caught.value.last_good)
    folder, opened = ProjectFolder.open(path)
    folder.close()
    assert opened.design.name == "one"
    assert (path / "design.damaged.json").exists()


def test_a_file_of_the_wrong_shape_is_damaged_not_a_traceback(tmp_path: Path) -> None:
    path = tmp_path / "p"
    ProjectFolder.create(path, named("one")).close()
    (path / DESIGN).write_text('{"schema": 1, "parts": {"R1": {"ref": "R1"}}}')
    with pytest.raises(DamagedProject, match="kind"):
        read_project(path)


def test_a_file_from_a_newer_version_is_refused_and_not_touched(tmp_path: Path) -> None:
    path = tmp_path / "p"
    ProjectFolder.create(path, named("one")).close()
    data = json.loads((path / DESIGN).read_bytes())
    data["schema"] = 99
    (path / DESIGN).write_text(json.dumps(data))
    with pytest.raises(StoreError, match="newer version") as caught:
        ProjectFolder.open(path)
    assert not isinstance(caught.value, DamagedProject)
    assert json.loads((path / DESIGN).read_bytes())["schema"] == 99


def test_no_project_and_one_too_many_are_told(tmp_path: Path) -> None:
    with pytest.raises(StoreError, match="no project"):
        ProjectFolder.open(tmp_path)
    ProjectFolder.create(tmp_path / "p", named("one")).close()
    with pytest.raises(StoreError, match="already"):
        ProjectFolder.create(tmp_path / "p", named("two"))


FULL = """
import resource, signal, sys
from pathlib import Path
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.errors import StoreError
from zesty_trace.store.project import ProjectFolder
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
folder, opened = ProjectFolder.open(Path(sys.argv[1]))
big = edits.set_brief(Design(), facts={str(k): "x" * 3000 for k in range(40)})
resource.setrlimit(resource.RLIMIT_FSIZE, (4096, 4096))
for act in (folder.save, folder.journal):
    try:
        act(big)
    except StoreError as error:
        print(error)
"""


def test_full_disk_at_save_is_told_and_the_old_file_stays(tmp_path: Path) -> None:
    """The size limit of the process stands in for a full disk: the system refuses the write in the same way."""
    path = tmp_path / "p"
    ProjectFolder.create(path, named("one")).close()
    before = (path / DESIGN).read_bytes()
    done = subprocess.run([sys.executable, "-c", FULL, str(path)], capture_output=True, text=True, check=True)
    assert done.stdout.count("Free some space") == 2
    assert (path / DESIGN).read_bytes() == before
    assert not list(path.glob("*.tmp"))
    assert read_project(path).design.name == "one"


def test_autosave_writes_within_a_second_and_tells_of_failure(tmp_path: Path) -> None:
    folder = ProjectFolder.create(tmp_path / "p", named("one"))
    heard: list[StoreError] = []
    saver = Autosaver(folder, heard.append)
    for k in range(50):
        saver.submit(named(f"edit {k}"))
    deadline = time.monotonic() + 1.0
    while read_project(tmp_path / "p").design.name != "edit 49" and time.monotonic() < deadline:
        time.sleep(0.02)
    assert read_project(tmp_path / "p").design.name == "edit 49"
    assert (tmp_path / "p" / JOURNAL).read_bytes().count(b"\n") < 10  # the newest only, not each
    saver.submit(named("last"))
    saver.close()
    folder.close()
    assert read_project(tmp_path / "p").design.name == "last"
    assert heard == []


def test_autosave_failure_reaches_its_listener(tmp_path: Path) -> None:
    folder = ProjectFolder.create(tmp_path / "p", named("one"))
    heard: list[StoreError] = []
    saver = Autosaver(folder, heard.append)
    (tmp_path / "p" / JOURNAL).mkdir()
    saver.submit(named("two"))
    saver.close()
    folder.close()
    assert "Could not write" in heard[0].message


def test_written_schema_is_the_one_in_the_docs() -> None:
    path = Path(__file__).parents[2] / "docs" / "design.schema.json"
    assert json.loads(path.read_text("utf-8")) == json.loads(json.dumps(project_schema()))


def test_unwritable_folder_is_told(tmp_path: Path) -> None:
    if os.geteuid() == 0:
        target = Path("/proc/zesty")
    else:
        target = tmp_path / "locked" / "p"
        target.parent.mkdir(mode=0o500)
    with pytest.raises(StoreError, match="Could not write"):
        ProjectFolder.create(target, named("one"))
