"""Starting stand-ins as separate processes, and ending them again."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from zesty_trace.errors import DeviceError


@contextmanager
def running(name: str, *arguments: str, stdin: str = "") -> Iterator[dict[str, Any]]:
    """Run `python -m zesty_trace.standins.NAME` and yield what it said of itself. DeviceError if it does not start."""
    process = subprocess.Popen(
        [sys.executable, "-m", f"zesty_trace.standins.{name}", "--parent", str(os.getpid()), *arguments],
        stdin=subprocess.PIPE if stdin else subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        if stdin and process.stdin:
            process.stdin.write(stdin)
            process.stdin.close()
        line = process.stdout.readline() if process.stdout else ""
        if not line:
            raise DeviceError(f"The stand-in {name} did not start", name, "See the messages in the terminal")
        yield json.loads(line)
    finally:
        process.terminate()
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        if process.stdout:
            process.stdout.close()
