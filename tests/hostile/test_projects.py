"""A stranger's project.

Nothing outside it is read, written or removed, nothing hangs, and every refusal is in words.
"""

from __future__ import annotations

import io
import os
import zipfile
from collections.abc import Callable
from datetime import date
from pathlib import Path

import pytest

from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.history import History
from zesty_trace.core.design.model import Design, ImageSpec, Part, Pin, to_json
from zesty_trace.core.design.reading import from_json
from zesty_trace.core.fabrication.zips import MAX_ZIP_BYTES, read_zip
from zesty_trace.core.firmware.image import image_inside
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.tables.importing import export_parts
from zesty_trace.desktop.window.opening import demo_folder
from zesty_trace.errors import InputError, StoreError, ZestyError
from zesty_trace.files import read_given, read_inside, write_inside
from zesty_trace.journey.demos import DEMO_MARK, create_demo
from zesty_trace.journey.kinds import check_known, project_catalogue
from zesty_trace.names import csv_cell, from_csv_cell, scpi_string
from zesty_trace.store.project import DESIGN, JOURNAL, LOCK, DamagedProject, ProjectFolder, read_project


@pytest.fixture
def victim(tmp_path: Path) -> Path:
    path = tmp_path / "victim.txt"
    path.write_text("mine")
    return path


@pytest.fixture
def project(tmp_path: Path) -> Path:
    path = tmp_path / "p"
    ProjectFolder.create(path, Design(name="one")).close()
    return path


def open_and_save(path: Path) -> None:
    folder, opened = ProjectFolder.open(path)
    with folder:
        folder.journal(edits.set_name(opened.design, "two"))
        folder.save(edits.set_name(opened.design, "three"))


@pytest.mark.parametrize("name", [LOCK, JOURNAL, DESIGN])
def test_links_in_the_place_of_a_projects_files_are_not_followed(project: Path, victim: Path, name: str) -> None:
    (project / name).unlink(missing_ok=True)
    (project / name).symlink_to(victim)
    with pytest.raises(StoreError):
        open_and_save(project)
    assert victim.read_text() == "mine"


@pytest.mark.parametrize("name", [LOCK, JOURNAL])
def test_a_second_name_of_a_file_outside_is_put_aside(project: Path, victim: Path, name: str) -> None:
    (project / name).unlink(missing_ok=True)
    os.link(victim, project / name)
    open_and_save(project)
    assert victim.read_text() == "mine"
    assert read_project(project).design.name == "three"


@pytest.mark.parametrize("folder", ["firmware", "fabrication", "parts"])
def test_a_link_in_the_place_of_a_folder_is_refused(project: Path, tmp_path: Path, folder: str) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (project / folder).rmdir()
    (project / folder).symlink_to(outside)
    with pytest.raises(ZestyError):
        open_and_save(project)
    with pytest.raises((ZestyError, OSError)):
        write_inside(project, f"{folder}/x", b"data")
    assert list(outside.iterdir()) == []


SPECIAL: list[tuple[str, Callable[[Path], None]]] = [
    ("pipe", os.mkfifo),
    ("zero", lambda p: p.symlink_to("/dev/zero")),
    ("folder", lambda p: p.mkdir()),
    ("large", lambda p: os.truncate(os.open(p, os.O_CREAT | os.O_RDWR), 4_000_000_000)),
    ("link", lambda p: p.symlink_to("/etc/passwd")),
]


@pytest.mark.parametrize("what", [s[0] for s in SPECIAL])
@pytest.mark.parametrize("where", [DESIGN, JOURNAL, "firmware/a.bin", "houses/a.toml", "parts/a.toml"])
def test_what_is_no_plain_file_is_refused_at_once(project: Path, what: str, where: str) -> None:
    (project / "houses").mkdir()
    (project / where).unlink(missing_ok=True)
    dict(SPECIAL)[what](project / where)
    reader: dict[str, Callable[[], object]] = {
        "firmware": lambda: image_inside(project, "a.bin"),
        "houses": lambda: load_houses(project),
        "parts": lambda: project_catalogue(project),
    }
    with pytest.raises(ZestyError):
        reader.get(where.split("/", maxsplit=1)[0], lambda: ProjectFolder.open(project))()


@pytest.mark.parametrize("path", ["/dev/zero", "/etc", "/dev/stdin"])
def test_a_file_that_a_person_names_must_be_plain_too(path: str) -> None:
    with pytest.raises(InputError):
        read_given(Path(path), "image")


@pytest.mark.parametrize("name", ["../x", "/etc/passwd", "a/../../x", "firmware/../../x", "", "..", "a\0b"])
def test_no_name_leads_out_of_the_project(project: Path, name: str) -> None:
    with pytest.raises((InputError, OSError)):
        read_inside(project, name, "image")
    with pytest.raises((InputError, OSError)):
        write_inside(project, name, b"x")


PART = {"R1": Part(ref="R1", kind="resistor", value="1k")}
NAMES: list[tuple[str, Design]] = [
    ("kind", Design(parts={"R1": Part(ref="R1", kind="../../x")})),
    ("package", Design(parts={"R1": Part(ref="R1", kind="resistor", package="../x")})),
    ("revision", Design(revision="a/../../../x")),
    ("revision dots", Design(revision="..")),
    ("variant", Design(variants=("../../../evil",))),
    ("variants alike", Design(variants=("Full", "full"))),
    ("image", Design(images=(ImageSpec(file="../../etc/passwd", target="zt32-64k"),))),
    ("image root", Design(images=(ImageSpec(file="/etc/passwd", target="zt32-64k"),))),
    ("net", Design(parts=PART, nets={'";:OUTP ON': (Pin("R1", "1"),)})),
    ("net of a part that is gone", Design(nets={"A": (Pin("R9", "1"),)})),
    ("pin twice", Design(parts=PART, nets={"A": (Pin("R1", "1"),), "B": (Pin("R1", "1"),)})),
    ("reference", Design(parts={"../R1": Part(ref="../R1", kind="resistor")})),
    ("two names", Design(parts={"R1": Part(ref="R2", kind="resistor")})),
    ("unknown variant", Design(parts={"R1": Part(ref="R1", kind="resistor", variants=("X",))})),
    ("control characters", Design(name="a\x1b]0;x\x07")),
    ("long name", Design(name="x" * 10_000)),
]


@pytest.mark.parametrize("design", [n[1] for n in NAMES], ids=[n[0] for n in NAMES])
def test_names_that_cannot_be_are_refused_where_they_enter(design: Design, tmp_path: Path) -> None:
    with pytest.raises(InputError) as caught:
        from_json(to_json(design))
    assert "design.json" in caught.value.where
    assert caught.value.hint
    history = History(Design())
    with pytest.raises(InputError):
        history.do("hostile", lambda _d: design)
    assert history.design == Design()
    path = tmp_path / "p"
    with ProjectFolder.create(path, Design()) as folder, pytest.raises(StoreError, match="could not be read again"):
        folder.save(design)
    (path / DESIGN).write_bytes(to_json(design))
    with pytest.raises(DamagedProject):
        ProjectFolder.open(path)


@pytest.mark.parametrize("name", ["../../victim", "nothing", "/etc", "", "."])
def test_demos_are_a_closed_choice_and_a_reset_removes_nothing(name: str, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    victim = tmp_path / "victim"
    victim.mkdir()
    (victim / "kept.txt").write_text("mine")
    with pytest.raises(InputError, match="no demo"):
        demo_folder(True, name)
    assert (victim / "kept.txt").read_text() == "mine"


def test_a_reset_moves_the_old_demo_aside_and_touches_demos_only(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    path = demo_folder(False, "sensor-node")
    (path / "notes.txt").write_text("mine")
    again = demo_folder(True, "sensor-node")
    assert again == path
    assert not (path / "notes.txt").exists()
    assert (path.with_name(path.name + ".old-1") / "notes.txt").read_text() == "mine"
    (path / DEMO_MARK).unlink()
    with pytest.raises(StoreError, match="not one that the application made"):
        demo_folder(True, "sensor-node")


def test_a_demo_is_not_made_over_something_else(tmp_path: Path) -> None:
    (tmp_path / "d").mkdir()
    (tmp_path / "d" / "mine.txt").write_text("x")
    with pytest.raises(StoreError, match="holds something else"):
        create_demo(tmp_path / "d", date(2026, 11, 26))


def test_a_zip_that_unpacks_to_gigabytes_is_refused_while_it_is_read() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for k in range(8):
            archive.writestr(f"{k}.gbr", bytes(30_000_000))
    data = out.getvalue()
    assert len(data) < MAX_ZIP_BYTES / 100
    with pytest.raises(InputError, match="unpacks to over"):
        read_zip(data)


@pytest.mark.parametrize("name", ["../x", "/x", "a/../../x", "..\\x"])
def test_a_zip_with_paths_that_lead_outside_is_refused(name: str) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(name, "x")
    with pytest.raises(InputError, match="leads outside"):
        read_zip(out.getvalue())


@pytest.mark.parametrize("text", ["=1+1", "+5V", "-x", "@SUM(A1)", "=cmd|' /C calc'!A0", "-5", "+3.3", "plain", "'=x"])
def test_no_cell_is_a_formula_and_every_cell_reads_back(text: str) -> None:
    cell = csv_cell(text)
    assert cell[0] not in "=@\t\r"
    assert cell[0] not in "+-" or float(cell) is not None
    assert from_csv_cell(cell) == text


def test_formulas_do_not_pass_into_exported_tables() -> None:
    design = Design(parts={"R1": Part(ref="R1", kind="resistor", value="1k", notes='=HYPERLINK("http://x")')})
    assert ",'=HYPERLINK" in export_parts(design).replace("\"'", "'")


@pytest.mark.parametrize("text", ['a";:OUTP ON', "a\nOUTP ON", "ü", "a;b", "x" * 100, "a'b", "a\\b"])
def test_nothing_but_plain_names_goes_to_an_instrument(text: str) -> None:
    with pytest.raises(InputError):
        scpi_string(text)


def test_temporary_files_of_a_write_that_was_cut_off_are_swept(project: Path, victim: Path) -> None:
    (project / ".zt-0123.tmp").write_bytes(b"half")
    (project / "firmware" / ".zt-4567.tmp").symlink_to(victim)
    for old in project.rglob(".zt-*"):
        os.utime(old, (1, 1), follow_symlinks=False)
    (project / ".zt-89ab.tmp").write_bytes(b"being written by another program")
    ProjectFolder.open(project)[0].close()
    assert [p.name for p in project.rglob(".zt-*")] == [".zt-89ab.tmp"]
    assert victim.read_text() == "mine"


def test_catalogue_faults_of_a_design_are_told_on_opening(tmp_path: Path) -> None:
    for wrong in (
        Design(parts=PART, nets={"A": (Pin("R1", "7"),)}),
        Design(parts={"R1": Part(ref="R1", kind="resistor", value="1e-320")}),
        Design(parts={"R1": Part(ref="R1", kind="resistor", value="much")}),
        Design(parts={"R1": Part(ref="R1", kind="resistr")}),
    ):
        with pytest.raises(InputError):
            check_known(Wired(wrong, shipped()))
