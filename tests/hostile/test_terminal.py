"""Commands on hostile projects and files print only what can be seen: no sequence reaches the terminal."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import unicodedata
from contextlib import suppress
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.cli import main
from zesty_trace.cli.terminal import printable
from zesty_trace.journey.demos import create_demo
from zesty_trace.names import csv_cell, from_csv_cell
from zesty_trace.store.payloads import FlashTold
from zesty_trace.store.records import Records

# A sequence that clears the screen, its one-byte form, a bell, a carriage return, a turned direction, a line separator.
EVIL = "\x1b[2J\x9b1m\x07\rPASS\u202e\u2028\u200b\U000e0041"


def seen(text: str) -> set[str]:
    """Return the characters of a text that nobody can see, line ends and tabs aside."""
    return {c for c in text if c not in "\n\t" and unicodedata.category(c)[0] in "CZ" and c not in (" ", "\xa0")}


@given(st.text())
def test_whatever_is_printed_can_be_seen(text: str) -> None:
    assert not {c for c in printable(text) if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp")} - {"\n", "\t"}
    assert json.loads(printable(json.dumps(text, ensure_ascii=False))) == text  # the numbers are those of JSON


@pytest.fixture(scope="module")
def evil_project(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("evil") / "board"
    create_demo(folder, date(2026, 12, 2))
    invisible = "a\u202eb\u200bc\x9b"
    raw = json.loads((folder / "design.json").read_text())
    for path in (("name",), ("brief", "purpose"), ("brief", "needed_by")):
        at = raw
        for key in path[:-1]:
            at = at[key]
        at[path[-1]] = "x\u202e\u200b"
    for part in list(raw["parts"].values())[:8]:
        part["notes"] = "a\u202eb\u200b"
    raw["changes"] = [{"text": "later\u202e"}]
    (folder / "design.json").write_text(json.dumps(raw))
    (folder / "design.last-good.json").unlink(missing_ok=True)
    (folder / "stock.csv").write_text(f"kind,value,package,count,place,note\nled,red,LED0603,5,{EVIL[-5:-3]},\n")
    (folder / "orders").mkdir(exist_ok=True)
    (folder / "orders" / f"2026-{invisible}.csv").write_text(
        "number,kind,count,for,note\nA\x1b[2J,led,3,D1\u202e,\x07\n"
    )
    (folder / "suppliers" / "odd.toml").write_text(
        'name = "Odd\\u202e"\n[[freight]]\nname = "p\\u200b"\ndays = 1\ncost = 1\n'
    )
    (folder / "houses").mkdir(exist_ok=True)
    (folder / "houses" / "x\x1b.toml").write_text("[house\x1b]\nname = 3\n")
    with_records = Records(folder)
    with_records.add_boards("A", "Full", [1])
    with_records.add("A-001", "note", "seen\u202e")
    with_records.add("A-001", "flashed", "x\u200b", "fail", FlashTold(source="real", who="w\u202e", image="i\u200b"))
    with_records.close()
    return folder


COMMANDS = [
    ("review", "P"), ("check", "P"), ("brief", "P"), ("quote", "P"), ("buy", "P"), ("receive", "P"), ("stock", "P"),
    ("record", "P"), ("records", "verify", "P"), ("list", "P"), ("find", "P", "R"), ("solve", "P"), ("budget", "P"),
    ("assembly", "P"), ("limits", "P"), ("schedule", "P"), ("plan", "P"), ("receive", "P", "2026-\u202e.csv"),
    ("review", "no such\x1b[2J folder"), ("image", "F", "--target", "zt32-128k"), ("read", "F"), ("intake", "F"),
    ("adopt", "F", "--out", "O"), ("import", "--parts", "T", "--wiring", "T", "--out", "O"), ("part", "check", "T"),
    ("stock", "P", "--put", EVIL, "x", "y", "3"), ("mark", EVIL), ("quote", "P", "--take", EVIL),
    ("say", "P", EVIL), ("kinds", EVIL), ("nonsense\x1b[2J",), ("package", "show", EVIL),
]  # fmt: skip


@pytest.mark.parametrize("json_too", [False, True])
@pytest.mark.parametrize("words", COMMANDS, ids=lambda w: printable(" ".join(w[:2])))
def test_commands_print_only_what_can_be_seen(
    evil_project: Path, tmp_path: Path, capsys, words: tuple[str, ...], json_too: bool
) -> None:
    project = tmp_path / "p"
    shutil.copytree(evil_project, project)
    odd = tmp_path / "odd\x1b[2J\u202e.gbr"
    odd.write_text("%FSLAX46Y46*%\n%MOMM*%\n%TF.FileFunction,\x1b[2J\u202e*%\n%ADD10C,0.1*%\nD10*\nX\x9b1D02*\n" + EVIL)
    table = tmp_path / "t\x1b.csv"
    table.write_text(f"ref,kind,value,{EVIL}\nR1\x1b[2J,{EVIL},{EVIL},x\n")
    names = {"P": str(project), "F": str(odd), "O": str(tmp_path / "out"), "T": str(table)}
    with suppress(SystemExit):  # words that the parser does not know
        main([*(names.get(w, w) for w in words), *(["--json"] if json_too else [])])
    told = capsys.readouterr()
    assert told.out + told.err
    assert seen(told.out + told.err) == set()


def test_the_program_itself_prints_only_what_can_be_seen(tmp_path: Path) -> None:
    evil = "\x1b[2J"
    for module, *words in (("zesty_trace.cli", "review", evil), ("zesty_trace", "sheet", evil, "--pdf", "x")):
        done = subprocess.run(
            [sys.executable, "-m", module, *words],
            capture_output=True,
            text=True,
            check=False,
            cwd=tmp_path,
            timeout=60,
        )
        assert done.returncode == 2
        assert "\\u001b[2J" in done.stderr
        assert seen(done.stderr) == set()


@pytest.mark.parametrize(
    "cell",
    [
        "=1+1",
        "＝1+1",
        "＋1+A1",
        "－1+A1",
        "＠SUM(A1)",
        "\u200b=1+1",
        "\ufeff＝1",
        " =1+1",
        "\xa0=1",
        "'=1",
        "''＝1",
        "\n=1",
        "﹦1",
        "+cmd",
    ],
)
def test_no_cell_is_taken_for_a_formula_whatever_the_width_of_its_sign(cell: str) -> None:
    written = csv_cell(cell)
    assert written == "'" + cell
    assert from_csv_cell(written) == cell


@given(st.text(alphabet="=＝＋+-@'x1 \u200b\ufeff", max_size=6))
def test_cells_come_back_as_they_were(cell: str) -> None:
    assert from_csv_cell(csv_cell(cell)) == cell
