"""A window on a fresh copy of the demo, and a way to wait until it has settled."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from zesty_trace.core.design.model import Design
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.window.opening import open_project
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.journey.demos import create_demo
from zesty_trace.store.project import ProjectFolder

from ..conftest import TODAY
from .watchdog import WatchedApplication

PATIENCE_MS = 60_000


@pytest.fixture(scope="session")
def qapp_cls() -> type[WatchedApplication]:
    return WatchedApplication


@pytest.fixture(scope="session")
def demo_project(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("demo") / "cabinet"
    create_demo(path, TODAY)
    return path


@pytest.fixture
def settle(qtbot) -> Callable[[MainWindow], None]:
    def wait(window: MainWindow) -> None:
        qtbot.waitUntil(lambda: window.session.settled and not window.session.jobs.busy(), timeout=PATIENCE_MS)

    return wait


@pytest.fixture
def open_window(qtbot, tmp_path: Path, settle) -> Iterator[Callable[[Path], MainWindow]]:
    windows: list[MainWindow] = []
    settings = QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)

    def make(path: Path) -> MainWindow:
        window = MainWindow(open_project(path, ask=False), settings)
        windows.append(window)
        window.resize(1280, 800)
        window.show()
        qtbot.waitUntil(lambda: bool(window.current), timeout=5000)
        settle(window)
        return window

    app = QApplication.instance()
    theme.load_fonts(app)
    theme.use(app, "light")
    yield make
    for window in windows:
        if window.session.folder._lock is not None:
            window.close()


@pytest.fixture
def window(open_window, demo_project: Path, tmp_path: Path) -> MainWindow:
    path = tmp_path / "cabinet"
    shutil.copytree(demo_project, path)
    return open_window(path)


@pytest.fixture
def routed_window(open_window, routed: Design, demo_project: Path, tmp_path: Path) -> MainWindow:
    path = tmp_path / "routed"
    shutil.copytree(demo_project, path)
    folder, _ = ProjectFolder.open(path)
    with folder:
        folder.save(routed)
    return open_window(path)
