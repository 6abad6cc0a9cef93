"""The wheel, installed into an environment of its own: commands, licences, desktop files, and the window."""

from __future__ import annotations

import os
import subprocess
import sys
import venv
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel, built from what git would hold."""
    source, out = tmp_path_factory.mktemp("source"), tmp_path_factory.mktemp("wheel")
    for name in ("src", "packaging", "pyproject.toml", "README.md", "LICENSE"):
        subprocess.run(["cp", "-r", str(ROOT / name), str(source)], check=True)
    build = [
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "-q",
        "--no-deps",
        "--no-build-isolation",
        "-w",
        str(out),
        str(source),
    ]
    subprocess.run(build, check=True, capture_output=True)
    return next(out.glob("*.whl"))


@pytest.fixture(scope="module")
def home(wheel: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An environment with the wheel; what it depends on is borrowed, and what only tests need is shut out."""
    home = tmp_path_factory.mktemp("home")
    venv.create(home, with_pip=False)
    python = home / "bin" / "python"
    site = next((home / "lib").glob("python*")) / "site-packages"
    into = [
        sys.executable,
        "-m",
        "pip",
        "--python",
        str(python),
        "install",
        "-q",
        "--no-deps",
        "--no-index",
        str(wheel),
    ]
    subprocess.run(into, check=True, capture_output=True)
    borrowed = next(p for p in sys.path if p.endswith("site-packages"))
    (site / "borrowed.pth").write_text(borrowed + "\n")
    for name in ("hypothesis", "intelhex", "pygerber", "eseries"):
        (site / f"{name}.py").write_text(f"raise ImportError('{name} is for the tests alone')\n")
    return home


def run(home: Path, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
    env = {k: v for k, v in os.environ.items() if not k.startswith(("PYTHON", "COV"))}
    env |= {"QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(home), "XDG_STATE_HOME": str(home), **more}
    return subprocess.run(
        [str(home / "bin" / words[0]), *words[1:]], env=env, cwd=home, capture_output=True, text=True, check=False
    )


def test_the_wheel_holds_licences_types_and_desktop_files(wheel: Path) -> None:
    names = zipfile.ZipFile(wheel).namelist()
    for end in (
        "zesty_trace/py.typed",
        "share/applications/zesty-trace.desktop",
        "share/man/man1/zt.1",
        "scalable/apps/zesty-trace.svg",
        "ZestyTrace.metainfo.xml",
        "licenses/LICENSE",
        "fonts/LICENCE.txt",
    ):
        assert any(n.endswith(end) for n in names), end
    meta = zipfile.ZipFile(wheel).read(next(n for n in names if n.endswith("METADATA"))).decode()
    assert "License-Expression: MIT AND OFL-1.1" in meta
    assert "Requires-Dist: hypothesis" not in meta.split("extra ==")[0]


def test_the_installed_command_line_works(home: Path) -> None:
    from zesty_trace import __version__

    assert run(home, "zt", "--version").stdout.strip() == f"zt {__version__}"
    where = run(home, "python", "-c", "import zesty_trace; print(zesty_trace.__file__)").stdout.strip()
    assert where.startswith(str(home))
    rules = run(home, "zt", "rules")
    assert rules.returncode == 0, rules.stderr
    assert "level clash" in rules.stdout
    made = run(home, "zt", "new", "cabinet", "--demo")
    assert made.returncode == 0, made.stderr
    assert run(home, "zt", "review", "cabinet").returncode == 1


def test_the_installed_window_opens(home: Path) -> None:
    code = (
        "from zesty_trace.desktop.window.app import make_application\n"
        "from zesty_trace.desktop.window.opening import demo_folder, open_project\n"
        "from zesty_trace.desktop.window.shell import MainWindow\n"
        "from PySide6.QtCore import QTimer\n"
        "app = make_application(); window = MainWindow(open_project(demo_folder(True), ask=False)); window.show()\n"
        "def look():\n"
        "    if window.session.settled: print(window.session.open_count('schematic')); window.close(); app.quit()\n"
        "timer = QTimer(); timer.timeout.connect(look); timer.start(50); QTimer.singleShot(60000, app.quit); "
        "app.exec()\n"
    )
    done = run(home, "python", "-c", code, XDG_DATA_HOME=str(home), HOME=str(home))
    assert done.stdout.strip() == "3", done.stderr
    assert "Traceback" not in done.stderr


def test_a_pipe_that_closes_ends_it_quietly(home: Path) -> None:
    line = f"{home}/bin/zt rules | head -1"
    done = subprocess.run(["bash", "-c", f"set -o pipefail; {line}"], capture_output=True, text=True, check=False)
    assert done.stdout.strip().endswith("rules")
    assert done.stderr == ""


def test_the_manual_page_is_that_of_the_parser(tmp_path: Path) -> None:
    made = tmp_path / "zt.1"
    words = ["--module", "zesty_trace.cli", "--function", "_parser", "--project-name", "zesty-trace", "--prog", "zt"]
    words += ["--manual-title", "Zesty Trace", "--manual-section", "1", "--output", str(made)]
    subprocess.run([str(Path(sys.executable).parent / "argparse-manpage"), *words], check=True, capture_output=True)
    dated, *page = made.read_text("utf-8").splitlines()
    assert dated.startswith(".TH ZT")
    assert (ROOT / "packaging" / "zt.1").read_text("utf-8").splitlines()[1:] == page, "make packaging/zt.1 anew"


def test_no_traceback_reaches_a_terminal_unless_asked_for(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    from zesty_trace.cli import main, numbers
    from zesty_trace.logs import log_path

    def broken(_a: object) -> None:
        raise RuntimeError("a fault of ours")

    monkeypatch.setattr(numbers, "rules_command", broken)
    assert main(["rules"]) == 2
    said = capsys.readouterr()
    assert said.out == ""
    assert "Traceback" not in said.err
    assert str(log_path()) in said.err
    kept = log_path().read_text("utf-8")
    assert "Traceback" in kept
    assert "a fault of ours" in kept
    with pytest.raises(RuntimeError):
        main(["rules", "--debug"])
    for _ in range(200):
        main(["rules"])
    assert sum(p.stat().st_size for p in log_path().parent.glob("*.log*")) < 4 * 520_000
