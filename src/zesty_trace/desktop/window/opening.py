"""Opening and making projects, and remembering the recent ones."""

from __future__ import annotations

import os
from datetime import date
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer

from zesty_trace.desktop.project.session import Session
from zesty_trace.errors import InputError, StoreError
from zesty_trace.stations import DEMOS
from zesty_trace.store.project import DamagedProject, ProjectFolder, restore_last_good

RECENT_COUNT = 8


def data_folder() -> Path:
    """Return where projects of this user are kept."""
    from platformdirs import user_data_path

    return user_data_path("zesty-trace", appauthor=False)


def demo_folder(reset: bool, demo: str = "proofing") -> Path:
    """Return a demo project, made when it is not there or is asked to be fresh. InputError for an unknown demo."""
    if demo not in DEMOS:
        raise InputError(f"There is no demo “{demo}”", demo, f"Known: {', '.join(DEMOS)}")
    path = data_folder() / "demo" / DEMOS[demo]
    if reset and os.path.lexists(path):
        _move_aside(path)
    if not (path / "design.json").exists():
        from zesty_trace.journey.demos import create_demo

        create_demo(path, date.today(), demo)
    return path


def _move_aside(path: Path) -> None:
    """Move an old demo out of the way; nothing is deleted. StoreError for a folder that is not marked as a demo."""
    from zesty_trace.journey.demos import DEMO_MARK

    known = (path / DEMO_MARK).is_file() or not (path / "design.json").exists()
    if path.is_symlink() or not path.is_dir() or not known:
        raise StoreError(
            "This folder is not one that the application made for a demo", str(path), "Move it away yourself"
        )
    number = 1
    while os.path.lexists(path.with_name(f"{path.name}.old-{number}")):
        number += 1
    path.rename(path.with_name(f"{path.name}.old-{number}"))


def open_project(path: Path, ask: bool = True) -> Session:
    """Return a session on a project. A damaged one offers its last good state. StoreError if it cannot be opened."""
    try:
        folder, opened = ProjectFolder.open(path)
    except DamagedProject as error:
        if error.last_good is None or not ask or not _accept_last_good(error):
            raise
        restore_last_good(path, error.last_good)
        folder, opened = ProjectFolder.open(path)
    session = Session(folder, opened.design)
    session.stale = opened.stale
    if opened.recovered:
        words = "Edits from before a sudden end were brought back."
        QTimer.singleShot(500, session, lambda: session.message.emit(words))
    return session


def _accept_last_good(error: DamagedProject) -> bool:
    from zesty_trace.desktop.kit.text import ask

    text = f"{error.message}\n\nBring back the last good state? The damaged file is kept beside it."
    return ask("The project is damaged", text)


def new_project(path: Path) -> Path:
    """Make an empty project in a folder, named after it. StoreError if there is one already."""
    from zesty_trace.core.design.model import Design

    ProjectFolder.create(path, Design(name=path.name)).close()
    return path


def recent(settings: QSettings | None = None) -> list[Path]:
    """Return recent projects that are still there, newest first."""
    value = (settings or QSettings("zesty-trace", "zesty-trace")).value("recent", [])
    names = [value] if isinstance(value, str) else [str(v) for v in value] if isinstance(value, list | tuple) else []
    return [Path(n) for n in names if (Path(n) / "design.json").exists()]


def remember(path: Path, settings: QSettings | None = None) -> None:
    """Put a project on top of the recent ones."""
    settings = settings or QSettings("zesty-trace", "zesty-trace")
    names = [str(path), *(str(p) for p in recent(settings) if p != path)]
    settings.setValue("recent", names[:RECENT_COUNT])
