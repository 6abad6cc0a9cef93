"""What a test leaves behind: threads that keep the program alive, and processes that it started."""

from __future__ import annotations

import os
import threading
import time
from pathlib import Path

PATIENCE_S = 3.0
KEPT = ("multiprocessing.forkserver", "multiprocessing.resource_tracker")  # they end with the program
POOLS = ("Dummy-", "pool-")  # of Qt's own threads seen from Python, and of pools that are kept on purpose


def threads() -> set[threading.Thread]:
    """Return the threads that would keep the program from ending."""
    return {t for t in threading.enumerate() if not t.daemon and t.is_alive() and not t.name.startswith(POOLS)}


def processes() -> set[int]:
    """Return the numbers of the processes that this one started and that still run."""
    found = set()
    for task in Path("/proc/self/task").iterdir():
        try:
            found |= {int(n) for n in (task / "children").read_text().split()}
        except OSError:
            continue
    return {n for n in found if _runs(n) and not any(word in _said(n) for word in KEPT)}


def _runs(number: int) -> bool:
    try:
        return Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def left_behind(threads_before: set[threading.Thread], processes_before: set[int]) -> list[str]:
    """Return what is there now and was not before, after a moment to end by itself."""
    end = time.monotonic() + PATIENCE_S
    while True:
        found = [f"thread {t.name}" for t in threads() - threads_before]
        found += [f"process {n}: {_said(n)}" for n in processes() - processes_before]
        if not found or time.monotonic() > end:
            return found
        time.sleep(0.02)


def _said(number: int) -> str:
    try:
        words = Path(f"/proc/{number}/cmdline").read_bytes().replace(b"\0", b" ")
    except OSError:
        return "ended"
    return words.decode(errors="replace")[:80] + f" (of {os.getpid()})"
