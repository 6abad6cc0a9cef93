"""Starting the window: the demo or a project, recent projects, a display where there is none."""

from __future__ import annotations

import os
import shutil
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from zesty_trace import __version__, logs
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.window.opening import demo_folder, open_project, remember
from zesty_trace.errors import StoreError, ZestyError

if TYPE_CHECKING:
    import subprocess

WARM_AFTER_MS = 4_000


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


class Windows:
    """Keeps the open windows, and opens more."""

    def __init__(self) -> None:
        self.open: list[object] = []

    def show(self, path: Path) -> None:
        """Open a window on a project and remember it as recent. StoreError if it cannot be opened."""
        from zesty_trace.desktop.window.shell import MainWindow

        window = MainWindow(open_project(path))
        window.open_asked.connect(self.try_to_show)
        window.show()
        self.open.append(window)
        remember(path)

    def told(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """Keep a fault of the program in the log, and say where it is; with --debug show it in the terminal."""
        if "--debug" in sys.argv:
            sys.__excepthook__(kind, error, trace)
        path = logs.keep(error)
        said = f"A fault of the program: {kind.__name__}. Details are in {path}; please report it"
        print(said, file=sys.stderr)
        for window in self.open:
            window.session.failed.emit(ZestyError(said))  # type: ignore[attr-defined]

    def try_to_show(self, path: Path) -> None:
        """Open a window on a project, or say why not."""
        from zesty_trace.desktop.kit.text import warn

        try:
            self.show(path)
        except StoreError as error:
            warn("The project cannot be opened", str(error))


def run(path: Path | None, reset: bool, shots: Path | None, demo: str = "proofing") -> int:
    """Open a demo (no path) or a project; with `shots`, draw each view to PNG and leave."""
    with display():
        app = make_application()
        if shots is not None:
            from zesty_trace.desktop.window.shots import take_shots

            take_shots(shots, demo=demo)
            return 0
        windows = Windows()
        sys.excepthook = windows.told
        try:
            windows.show(path or demo_folder(reset, demo))
        except ZestyError as error:
            print(error, file=sys.stderr)
            return 2
        _warm_router_later()
        with _ended_by_signals(app, windows):
            return app.exec()


def _warm_router_later() -> None:
    """Once for each version, compile the router's loops in a process of their own, when the window has come up."""
    from PySide6.QtCore import QProcess, QTimer

    settings = QSettings("zesty-trace", "zesty-trace")
    if settings.value("router/compiled") == __version__:
        return

    def start() -> None:
        QProcess.startDetached(sys.executable, ["-m", "zesty_trace.core.board.warm"])
        settings.setValue("router/compiled", __version__)

    QTimer.singleShot(WARM_AFTER_MS, start)


@contextmanager
def _ended_by_signals(app: QApplication, windows: Windows) -> Iterator[None]:
    """Close every window in order when a signal or a lost terminal ends the program.

    What is typed is kept, supplies go off.
    """
    import signal

    from PySide6.QtCore import QTimer

    def end(_number: int, _frame: object) -> None:
        for window in windows.open:
            window.leave()  # type: ignore[attr-defined]
        app.quit()

    before = {s: signal.signal(s, end) for s in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)}
    beat = QTimer()
    beat.timeout.connect(lambda: None)  # Python looks at signals only when it runs
    beat.start(300)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
