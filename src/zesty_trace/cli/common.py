"""What the commands share: exit statuses, opening and changing a project, findings in words."""

from __future__ import annotations

import argparse
import signal
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.check import check_design
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity

FINE, FOUND, BAD, STOPPED = 0, 1, 2, 130
STALE = (
    "Edits of a session that ended suddenly belong to another design.json: they are not used, "
    "and kept in design.unsaved.json."
)
COMMAND_WAIT_S = 30.0  # for another command; a window is not waited for
Answer = tuple[int, Any, str]  # exit status, what --json prints, what is printed else
Handler = Callable[[argparse.Namespace], Answer]


@contextmanager
def orderly_end() -> Iterator[None]:
    """Let a signal or a lost terminal end the command by way of every clean-up: supplies off, attempts closed."""

    def stop(_number: int, _frame: object) -> None:
        raise KeyboardInterrupt

    signals = (signal.SIGTERM, signal.SIGHUP)
    before = {}
    if threading.current_thread() is threading.main_thread():
        before = {s: signal.signal(s, stop) for s in signals}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def load(project: str) -> tuple[Wired, Path]:
    """Return the design with its catalogue, and the folder. StoreError, InputError."""
    from zesty_trace.journey.kinds import check_known, project_catalogue
    from zesty_trace.store.project import read_project

    folder = Path(project)
    opened = read_project(folder)
    if opened.stale is not None:
        print(STALE, file=sys.stderr)
    wired = Wired(opened.design, project_catalogue(folder))
    check_known(wired)
    return wired, folder


def edit(project: str, change: Callable[[Wired], Design]) -> tuple[Wired, Path]:
    """Open the project under its lock, change its design and save it."""
    from zesty_trace.journey.kinds import carry_kinds, check_known, project_catalogue
    from zesty_trace.store.project import ProjectFolder

    path = Path(project)
    folder, opened = ProjectFolder.open(path, wait_s=COMMAND_WAIT_S)
    with folder:
        if opened.stale is not None:
            print(STALE, file=sys.stderr)
        wired = Wired(opened.design, project_catalogue(path))
        check_known(wired)
        design = change(wired)
        check_design(design, opened.design)
        carry_kinds(design, path, wired.catalogue)
        folder.save(design)
    return wired.with_design(design), path


def elsewhere(handler: Handler) -> Handler:
    """Return a command that reads a stranger's file: done in a process of its own, within limits of time and memory."""

    def run(a: argparse.Namespace) -> Answer:
        if a.debug:
            return handler(a)
        from zesty_trace.sandbox import apart

        sent = argparse.Namespace(**{k: v for k, v in vars(a).items() if k != "handler"})
        status, data, text = apart(handler, sent)
        return status, data, text

    return run


def say_findings(findings: Sequence[Finding]) -> str:
    if not findings:
        return "Nothing found."
    lines = []
    for f in findings:
        lines.append(f"{f.severity.word.upper():5} {f.title}")
        lines.append(f"      {f.detail}")
        if f.mend:
            lines.append(f"      Mend: {f.mend.label}")
    return "\n".join(lines)


def verdict(findings: Sequence[Finding]) -> int:
    return FOUND if any(f.severity <= Severity.FIX for f in findings) else FINE
