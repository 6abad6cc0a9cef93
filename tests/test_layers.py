"""House rules swept over the whole tree: layers, docstrings, file sizes, nothing that runs project data."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "zesty_trace"
FILES = sorted(SOURCE.rglob("*.py"))
BELOW_THE_WINDOW = [p for p in FILES if "desktop" not in p.parts and p.name != "__main__.py"]


def imported(path: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            names.add(node.module or "")
    return names


@pytest.mark.parametrize("path", BELOW_THE_WINDOW, ids=lambda p: str(p.relative_to(SOURCE)))
def test_nothing_below_the_window_imports_qt(path: Path) -> None:
    """In-function imports count too."""
    assert not any(n.startswith(("PySide6", "pyqtgraph", "zesty_trace.desktop")) for n in imported(path))


def test_project_data_is_never_run_or_unpickled() -> None:
    for path in FILES:
        tree = ast.parse(path.read_text("utf-8"))
        called = {n.func.id for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)}
        assert not called & {"eval", "exec", "compile"}, path
        if path.name != "sandbox.py":  # answers of a process of ours, by a reader that makes values only
            assert not imported(path) & {"pickle", "marshal", "shelve"}, path


def test_files_stay_small_and_say_what_they_are() -> None:
    for path in FILES:
        text = path.read_text("utf-8")
        assert len(text.splitlines()) <= 560, path
        if text.strip():
            assert ast.get_docstring(ast.parse(text)), path


def test_public_functions_of_the_core_have_docstrings() -> None:
    missing = []
    for path in SOURCE.glob("core/**/*.py"):
        for node in ast.parse(path.read_text("utf-8")).body:
            if (
                isinstance(node, ast.FunctionDef | ast.ClassDef)
                and not node.name.startswith("_")
                and not ast.get_docstring(node)
            ):
                missing.append(f"{path.name}:{node.name}")
    assert missing == []


def test_lock_files_pin_everything_and_hold_no_address() -> None:
    for name in ("requirements.lock", "requirements-dev.lock"):
        text = (ROOT / name).read_text()
        pinned = text.replace(" \\\n", " ").splitlines()[1:]
        assert len(pinned) > 15
        assert all(re.match(r"[a-z0-9_.-]+==\S+( --hash=sha256:[0-9a-f]{64})+$", k.replace("    ", "")) for k in pinned)
        assert "://" not in text


def test_stand_in_servers_bind_to_loopback_only() -> None:
    text = (SOURCE / "standins" / "instruments.py").read_text()
    assert '("127.0.0.1", 0)' in text
    assert "0.0.0.0" not in text


def test_readme_pictures_are_there_and_are_pictures() -> None:
    names = re.findall(r"docs/screenshots/[\w-]+\.png", (ROOT / "README.md").read_text())
    assert len(names) == 18
    for name in names:
        assert (ROOT / name).read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
