"""Work for a process of its own that goes over every limit: sent there by name."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from typing import Any

from zesty_trace.core.tables.rows import ImportFailed, Problem
from zesty_trace.errors import InputError


def spins() -> None:
    while True:
        pass


def sleeps(report: Callable[[float, str], bool]) -> None:
    import time

    report(0.5, "asleep")
    time.sleep(1000)


def eats() -> int:
    held = []
    while True:
        held.append(bytearray(20_000_000))


def answers_too_much() -> bytes:
    return b"x" * 40_000_000


def dies() -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def refuses() -> None:
    raise InputError("It is no board", "a.gbr line 3", "Look again")


def refuses_many() -> None:
    raise ImportFailed([Problem("p.csv", k, "ref", f"bad {k}", "mend") for k in (1, 2)])


def stumbles() -> None:
    raise KeyError("y")


class Runs:
    """An answer that would run something where it is unpacked."""

    def __reduce__(self) -> tuple[Any, ...]:
        return os.system, ("touch /tmp/zesty-was-here",)


class Function:
    """An answer that names a function of the application itself."""

    def __reduce__(self) -> tuple[Any, ...]:
        from zesty_trace.files import write_given

        return write_given, ("/tmp/zesty-was-here", b"x")


def answers_code(which: str) -> object:
    return {"runs": Runs, "function": Function}[which]()


def adds(a: int, b: int, report: Callable[[float, str], bool]) -> int:
    for k in range(5):
        report(k / 5, f"step {k}")
    return a + b


def writes(path: str) -> None:
    with open(path, "wb") as file:
        for _ in range(200):
            file.write(b"x" * 1_000_000)
