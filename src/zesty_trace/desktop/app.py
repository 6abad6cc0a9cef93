"""Starting the window: the demo or a project, recent projects, a display where there is none."""

from __future__ import annotations

import os
import shutil
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from zesty_trace.desktop import theme
from zesty_trace.errors import StoreError
from zesty_trace.store.project import DamagedProject, ProjectFolder, restore_last_good

if TYPE_CHECKING:
    import subprocess

RECENT_COUNT = 8


def data_folder() -> Path:
    """Return where projects of this user are kept."""
    from platformdirs import user_data_path

    return user_data_path("zesty-trace", appauthor=False)


@contextmanager
def display() -> Iterator[None]:
    """Make sure that there is a screen: the user's, or one under Xvfb, which is said."""
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"):
        yield
        return
    server = shutil.which("Xvfb")
    if server is None:
        print("There is no display, and Xvfb is not installed. Run: sudo apt-get install -y xvfb", file=sys.stderr)
        raise SystemExit(2)
    process, name = start_xvfb(server)
    print(f"There is no display: the window is on a virtual one ({name}, Xvfb).", file=sys.stderr)
    os.environ["DISPLAY"] = name
    try:
        yield
    finally:
        process.terminate()
        process.wait(5)


def start_xvfb(server: str) -> tuple[subprocess.Popen[bytes], str]:
    """Start a virtual screen on a free number; return the process and its name."""
    import subprocess

    read, write = os.pipe()
    command = [server, "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"]
    process = subprocess.Popen(command, pass_fds=(write,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    os.close(write)
    with os.fdopen(read) as pipe:
        number = pipe.readline().strip()
    if not number:
        time.sleep(0.1)
        raise SystemExit("Xvfb did not start")
    return process, f":{number}"


def make_application() -> QApplication:
    """Return the application with fonts and theme."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
    app.setApplicationName("Zesty Trace")
    theme.load_fonts(app)
    theme.use(app, str(QSettings("zesty-trace", "zesty-trace").value("theme", "light")))
    return app


def demo_folder(reset: bool) -> Path:
    """Return the demo project, made when it is not there or is asked to be fresh."""
    from zesty_trace.journey import create_demo

    path = data_folder() / "demo" / "proofing-cabinet"
    if reset and path.exists():
        shutil.rmtree(path)
    if not (path / "design.json").exists():
        create_demo(path, date.today())
    return path


def open_project(path: Path, ask: bool = True) -> object:
    """Return a session on a project. A damaged one offers its last good state. StoreError if it cannot be opened."""
    from zesty_trace.desktop.session import Session

    try:
        folder, opened = ProjectFolder.open(path)
    except DamagedProject as error:
        if error.last_good is None or not ask or not _accept_last_good(error):
            raise
        restore_last_good(path, error.last_good)
        folder, opened = ProjectFolder.open(path)
    session = Session(folder, opened.design)
    if opened.recovered:
        from PySide6.QtCore import QTimer

        QTimer.singleShot(
            500, lambda: session.message.emit("Edits of a session that ended suddenly were brought back.")
        )
    return session


def _accept_last_good(error: DamagedProject) -> bool:
    from PySide6.QtWidgets import QMessageBox

    answer = QMessageBox.question(
        None, "The project is damaged",
        f"{error.message}\n\nBring back the last good state? The damaged file is kept beside it.",
    )  # fmt: skip
    return answer == QMessageBox.StandardButton.Yes


class Windows:
    """Keeps the open windows, and opens more."""

    def __init__(self) -> None:
        self.open: list[object] = []

    def show(self, path: Path) -> object:
        """Open a window on a project and remember it as recent."""
        from zesty_trace.desktop.shell import MainWindow

        window = MainWindow(open_project(path))  # type: ignore[arg-type]
        window.open_other.connect(self.choose)
        window.show()
        self.open.append(window)
        remember(path)
        return window

    def choose(self) -> None:
        """Ask for a project folder, the recent ones first, and open it."""
        from PySide6.QtWidgets import QFileDialog, QMessageBox

        start = str(next(iter(recent()), data_folder()))
        folder = QFileDialog.getExistingDirectory(None, "Open a project folder", start)
        if not folder:
            return
        try:
            self.show(Path(folder))
        except StoreError as error:
            QMessageBox.warning(None, "The project cannot be opened", str(error))


def recent() -> list[Path]:
    """Return recent projects that are still there, newest first."""
    value = QSettings("zesty-trace", "zesty-trace").value("recent", [])
    names = [value] if isinstance(value, str) else list(value or [])
    return [Path(n) for n in names if (Path(n) / "design.json").exists()]


def remember(path: Path) -> None:
    """Put a project on top of the recent ones."""
    names = [str(path), *(str(p) for p in recent() if p != path)]
    QSettings("zesty-trace", "zesty-trace").setValue("recent", names[:RECENT_COUNT])


def run(path: Path | None, reset: bool, shots: Path | None) -> int:
    """Open the demo (no path) or a project; with `shots`, draw each view to PNG and leave."""
    with display():
        app = make_application()
        if shots is not None:
            from zesty_trace.desktop.shots import take_shots

            take_shots(shots)
            return 0
        windows = Windows()
        try:
            windows.show(path or demo_folder(reset))
        except StoreError as error:
            print(error, file=sys.stderr)
            return 2
        return app.exec()
