"""Files of strangers are read within limits: what takes too long, too much, or answers with code ends in words."""

from __future__ import annotations

import subprocess
import sys
import time
import zipfile
from pathlib import Path

import pytest

from tests.hostile import bombs
from zesty_trace.core.fabrication.adopting.tables_in import read_bom, read_centroid, references
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.fabrication.guessing import format_of
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.tables.rows import ImportFailed
from zesty_trace.errors import Cancelled, InputError
from zesty_trace.journey import foreign
from zesty_trace.sandbox import Limits, TooMuch, apart

SMALL = Limits(processor_s=1, all_s=4.0, memory=300_000_000, answer=10_000_000)
RUN = "import sys; from zesty_trace.cli import main; sys.exit(main(sys.argv[1:]))"


def test_work_elsewhere_answers_and_tells_how_far_it_is() -> None:
    heard: list[str] = []
    found = apart(bombs.adds, 2, 3, report=lambda _s, text: bool(heard.append(text)) or True)
    assert found == 5
    assert [h for h in heard if h.startswith("step")] == [f"step {k}" for k in range(5)]


@pytest.mark.parametrize(
    ("bomb", "words"),
    [
        (bombs.spins, "over 1 s of processor time"), (bombs.eats, "300 MB of memory"),
        (bombs.answers_too_much, "an answer of over 10 MB"), (bombs.dies, "ended without an answer"),
    ],
)  # fmt: skip
def test_what_goes_over_a_limit_ends_in_words(bomb, words: str) -> None:
    start = time.monotonic()
    with pytest.raises(TooMuch, match=words):
        apart(bomb, limits=SMALL)
    assert time.monotonic() - start < 20


def test_what_only_waits_ends_too_and_what_is_no_longer_wanted_at_once() -> None:
    with pytest.raises(TooMuch, match="over 2 s"):
        apart(bombs.sleeps, report=lambda _s, _t: True, limits=Limits(all_s=2.0))
    start = time.monotonic()
    with pytest.raises(Cancelled):
        apart(bombs.sleeps, report=lambda share, _t: share < 0.5)
    assert time.monotonic() - start < 10


def test_refusals_come_over_as_they_were_made() -> None:
    with pytest.raises(InputError) as error:
        apart(bombs.refuses)
    assert (error.value.message, error.value.where, error.value.hint) == (
        "It is no board",
        "a.gbr line 3",
        "Look again",
    )
    with pytest.raises(ImportFailed) as many:
        apart(bombs.refuses_many)
    assert [p.text for p in many.value.problems] == ["bad 1", "bad 2"]
    with pytest.raises(InputError, match="KeyError"):
        apart(bombs.stumbles)


@pytest.mark.parametrize("which", ["runs", "function"])
def test_an_answer_is_values_and_never_runs_anything(which: str) -> None:
    mark = Path("/tmp/zesty-was-here")
    mark.unlink(missing_ok=True)
    with pytest.raises(InputError, match="is no value"):
        apart(bombs.answers_code, which)
    assert not mark.exists()


def test_it_cannot_fill_the_disk(tmp_path: Path) -> None:
    with pytest.raises(InputError):
        apart(bombs.writes, str(tmp_path / "big"))
    assert (tmp_path / "big").stat().st_size <= 64_000_000


# Files that were made to keep a program busy --------------------------------------------------------------------------

HEAD = "%FSLAX46Y46*%\n%MOMM*%\n%TF.FileFunction,{}*%\n"
SQUARE = "X0Y0D02*\nX{0}Y0D01*\nX{0}Y{0}D01*\nX0Y{0}D01*\nX0Y0D01*\n"


def zipped(path: Path, **files: str) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in files.items():
            archive.writestr(name.replace("_", "."), text)
    return path


def test_step_and_repeat_within_an_outline_is_stopped(tmp_path: Path, monkeypatch) -> None:
    """523 bytes that asked for more than 100 s."""
    text = HEAD.format("Profile,NP") + "%ADD10C,0.1*%\nD10*\n" + SQUARE.format(100_000_000)
    text += "%SRX99Y99I1.0J1.0*%\n" + SQUARE.format(900_000) + "%SR*%\nM02*\n"
    path = zipped(tmp_path / "sr.zip", outline_gbr=text)
    monkeypatch.setattr("zesty_trace.sandbox.LIMITS", Limits(processor_s=2))
    start = time.monotonic()
    with pytest.raises(TooMuch, match=r"sr\.zip.*processor time"):
        foreign.look_at(path, False, ())
    assert time.monotonic() - start < 15


def test_a_million_apertures_are_refused() -> None:
    many = "".join(f"%ADD{k}C,0.1*%\n" for k in range(10, 60_010))
    with pytest.raises(InputError, match="apertures"):
        read_gerber(HEAD.format("Copper,L1,Top") + many + "M02*\n", "a.gbr")


@pytest.mark.parametrize(
    "letters", ["(" * 60_000, "[" * 60_000, "-" * 60_000, " " * 60_000 + "x", "1" * 60_000, "A" * 60_000]
)
def test_long_cells_take_no_longer_than_their_length(letters: str) -> None:
    start = time.process_time()
    for text in (f"{letters},value\nR1,1\n", f"ref,value\n{letters},1\n", f"ref,x,y,rot,side\nR1,{letters},1,0,top\n"):
        for read in (read_bom, read_centroid):
            try:
                read(text, "t.csv")
            except InputError:
                continue
        format_of("t.csv", text)
    references(letters, "x")
    assert time.process_time() - start < 2


def test_a_table_with_x_and_no_y_is_refused_in_words() -> None:
    """It ended in a KeyError."""
    assert [b.ref for b in read_bom("ref,value,x\nR1,1k,2\n", "b.csv")] == ["R1"]
    for short in ("ref,value,x\nR1,1k\n", "ref,value,x\nR1\n"):
        with pytest.raises(InputError, match="shorter than the head"):
            read_bom(short, "b.csv")


@pytest.mark.parametrize("command", ["read", "intake", "trace", "adopt", "panel"])
def test_commands_read_in_a_process_of_its_own(tmp_path: Path, command: str) -> None:
    """A pipe in place of the file is refused, as is a directory; a file that is none is told with its name."""
    import os

    os.mkfifo(tmp_path / "pipe.zip")
    (tmp_path / "no.zip").write_bytes(b"PK\x03\x04 and nothing")
    for name in ("pipe.zip", "no.zip"):
        words = [command, str(tmp_path / name), *([str(tmp_path / "out")] if command == "adopt" else [])]
        done = subprocess.run(
            [sys.executable, "-c", RUN, *words], capture_output=True, text=True, timeout=60, check=False, cwd=tmp_path
        )
        assert done.returncode == 2, done.stdout
        assert done.stderr.strip()
        assert "Traceback" not in done.stderr
    assert not (tmp_path / "out").exists()


def test_what_comes_back_is_what_was_read(tmp_path: Path) -> None:
    text = HEAD.format("Copper,L1,Top") + "%ADD10C,0.5*%\nD10*\nX1000000Y1000000D03*\nM02*\n"
    outline = HEAD.format("Profile,NP") + "%ADD10C,0.1*%\nD10*\n" + SQUARE.format(20_000_000) + "M02*\n"
    path = zipped(tmp_path / "a.zip", top_gbr=text, outline_gbr=outline)
    seen = foreign.look_at(path, False, ())
    assert isinstance(seen.board, BoardSet)
    assert seen.board.edges.size_mm == pytest.approx((20.0, 20.0), abs=0.2)
    assert "20.00 x 20.00 mm" in seen.words
