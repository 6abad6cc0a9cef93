"""The command line: the whole journey of the demo board, and bad input answered with status 2."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from zesty_trace.cli import main

HERE = Path(__file__).parents[1] / "src" / "zesty_trace" / "data" / "demo" / "proofing"


@pytest.fixture(scope="module")
def project(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("cli") / "cabinet"
    assert main(["new", str(path), "--demo"]) == 0
    return path


def run(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, object]:
    capsys.readouterr()
    status = main([*words, "--json"])
    return status, json.loads(capsys.readouterr().out)


def test_the_journey_by_command_line(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    name = str(project)
    status, found = run(capsys, "review", name)
    assert (status, {f["rule"] for f in found}) == (1, {"heat", "level clash", "bus address"})
    status, done = run(capsys, "mend", name)
    assert (status, len(done["mended"])) == (0, 3)
    assert run(capsys, "review", name) == (0, [])
    status, solved = run(capsys, "solve", name)
    assert solved["volts"]["3V3"] == pytest.approx(3.3, abs=0.01)
    assert run(capsys, "solve", name, "--state", "all off")[1]["state"] == "all off"
    status, routed = run(capsys, "route", name)
    assert (status, routed["missing"], routed["conflicts"]) == (0, 0, 0)
    status, found = run(capsys, "check", name)
    assert (status, {f["severity"] for f in found}) == (0, {"note"})
    status, made = run(capsys, "fab", name, "--out", str(project / "out"))
    assert Path(made["zip"]).stat().st_size > 20_000
    status, offers = run(capsys, "quote", name)
    assert status in (0, 1)
    assert len({o["house"] for o in offers}) == 3
    status, steps = run(capsys, "assembly", name)
    assert steps[0]["how"] == "paste"
    assert run(capsys, "reflow", name)[0] == 0
    status, flashed = run(capsys, "flash", name, "--simulate", "--boards", "12")
    assert (status, [f["verdict"] for f in flashed]) == (0, ["pass"] * 12)
    status, measured = run(capsys, "bench", name, "--simulate", "--boards", "12")
    assert status == 1
    assert [m["serial"] for m in measured if not m["passed"]] == ["A-004", "A-007", "A-010"]
    status, boards = run(capsys, "record", name)
    assert [b["verdict"] for b in boards].count("pass") == 9
    assert {e["kind"] for e in boards[3]["events"]} == {"flashed", "measured"}


def test_import_of_the_shipped_tables(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    words = (
        "import",
        "--parts",
        str(HERE / "parts.csv"),
        "--wiring",
        str(HERE / "wiring.csv"),
        "--out",
        str(tmp_path / "p"),
    )
    status, told = run(capsys, *words)
    assert status == 0
    assert told["unaccounted_pins"] == 0
    assert run(capsys, *words)[0] == 0  # again, over the project that is there now


def test_flash_of_a_faulty_target_is_recorded_as_failed(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, told = run(capsys, "flash", str(project), "--simulate", "--serial", "A-020", "--fault", "identity")
    assert (status, told[0]["verdict"]) == (1, "fail")


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("review", "/nowhere"), "design.json is missing"),
        (("image", str(HERE / "parts.csv"), "--target", "zt99"), "There is no target"),
        (("image", "/nowhere.hex", "--target", "zt32-64k"), "Could not read"),
        (("import", "--parts", "/nowhere.csv", "--wiring", "/nowhere.csv", "--out", "/tmp/zt-none"), "Could not read"),
    ],
)
def test_bad_input_is_status_two_and_json(
    words: tuple[str, ...], expected: str, capsys: pytest.CaptureFixture[str]
) -> None:
    status, told = run(capsys, *words)
    assert status == 2
    assert expected in told["error"]
    assert told["hint"]


def test_wrong_column_is_told_in_plain_text(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "parts.csv").write_text("ref,kynd\nR1,resistor\nR2,resistor\n")
    (tmp_path / "wiring.csv").write_text("net,ref,pin\n")
    words = [
        "import",
        "--parts",
        str(tmp_path / "parts.csv"),
        "--wiring",
        str(tmp_path / "wiring.csv"),
        "--out",
        str(tmp_path / "p"),
    ]
    assert main(words) == 2
    told = capsys.readouterr().err
    assert "parts.csv line 1, column kynd" in told
    assert "Did you mean kind" in told
    assert not (tmp_path / "p").exists()


def test_an_image_too_large_is_a_finding(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "big.bin").write_bytes(bytes(200_000))
    status, told = run(capsys, "image", str(tmp_path / "big.bin"), "--target", "zt32-128k")
    assert status == 1
    assert "too large" in told["findings"][0]["title"]


def test_missing_port_state_and_instruments_are_told(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(capsys, "flash", str(project))[0] == 2
    assert run(capsys, "bench", str(project))[0] == 2
    status, told = run(capsys, "solve", str(project), "--state", "dancing")
    assert status == 2
    assert "all off" in told["hint"]


def test_help_names_every_command(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit):
        main(["--help"])
    text = capsys.readouterr().out
    for command in ("new", "import", "review", "solve", "route", "check", "fab", "quote", "assembly", "reflow", "image", "flash",
                    "bench", "shots"):  # fmt: skip
        assert command in text


def test_marks_and_export(tmp_path: Path, project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(capsys, "mark", "yellow", "violet", "red", "gold") == (
        0,
        {"ohm": 4700.0, "tolerance": 0.05, "e24": 4700.0},
    )
    assert run(capsys, "mark", "01C")[1]["ohm"] == 10_000.0
    assert run(capsys, "mark", "pink")[0] == 2
    status, told = run(capsys, "export", str(project), "--out", str(tmp_path / "out"))
    assert status == 0
    words = ("import", "--parts", told["parts"], "--wiring", told["wiring"], "--out", str(tmp_path / "again"))
    assert run(capsys, *words)[1]["unaccounted_pins"] == 0


def test_spread_arrangement_and_part_check(project: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, told = run(capsys, "solve", str(project), "--tolerance", "200")
    assert status == 0
    assert told["spread"]["12V"]["low"] < told["volts"]["12V"] < told["spread"]["12V"]["high"]
    status, told = run(capsys, "arrange", str(project))
    assert (status, told["overlaps"], told["through parts"]) == (0, 0, 0)
    (tmp_path / "mine.toml").write_text('[lamp]\ntitle = "Lamp"\n')
    status, told = run(capsys, "part", "check", str(tmp_path / "mine.toml"))
    assert status == 2
    assert told["where"] == "mine.toml line 1, [lamp]"
    shipped = Path(__file__).parents[1] / "src" / "zesty_trace" / "data" / "kinds" / "passive.toml"
    assert run(capsys, "part", "check", str(shipped))[0] == 0
