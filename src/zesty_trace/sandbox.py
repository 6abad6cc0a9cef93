"""Work on files of strangers in a process of its own, within limits of time, memory and what it may give back.

A file can be made so that reading it never ends, or fills the memory. So it is read elsewhere: the process is ended
when it goes over a limit, or when its owner stops waiting, and what came of it is said in words. It changes nothing
here but by its answer, of which a reader makes values of this application and no other things.
"""

from __future__ import annotations

import io
import multiprocessing
import os
import pickle
import resource
import signal
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from zesty_trace import logs
from zesty_trace.errors import Cancelled, InputError, ZestyError

Report = Callable[[float, str], bool]
MB = 1_000_000
GRACE_S = 5
# What a process imports before it is forked for a reading, so that a reading does not wait for it.
PRELOADED = ("zesty_trace.journey.foreign",)
# Values of these libraries may be in an answer, made by these functions and no others.
MADE_BY = {
    ("shapely.io", "from_wkb"), ("shapely", "from_wkb"), ("builtins", "set"), ("builtins", "frozenset"),
    ("builtins", "complex"), ("builtins", "bytearray"), ("builtins", "range"), ("collections", "OrderedDict"),
    ("collections", "Counter"), ("decimal", "Decimal"), ("datetime", "date"), ("datetime", "datetime"),
    ("fractions", "Fraction"), ("pathlib", "PosixPath"), ("pathlib", "PurePosixPath"), ("numpy", "ndarray"),
    ("numpy", "dtype"), ("numpy.core.multiarray", "_reconstruct"), ("numpy._core.multiarray", "_reconstruct"),
    ("numpy.core.multiarray", "scalar"), ("numpy._core.multiarray", "scalar"), ("numpy._core.numeric", "_frombuffer"),
    ("numpy.core.numeric", "_frombuffer"), ("msgspec._utils", "rebuild"), ("copyreg", "__newobj_ex__"),
}  # fmt: skip


@dataclass(frozen=True)
class Limits:
    """What a reading may take: seconds of processor time, seconds in all, memory and answer in bytes."""

    processor_s: int = 60
    all_s: float = 180.0
    memory: int = 1500 * MB
    answer: int = 256 * MB


LIMITS = Limits()


class TooMuch(InputError):
    """A file that was not read to its end, since that took more than it may."""


def apart(
    work: Callable[..., Any], *args: Any, report: Report | None = None, limits: Limits | None = None, **named: Any
) -> Any:
    """Return `work(*args, report, **named)`, done in a process of its own. `work` is a function of a module.

    TooMuch where it goes over a limit; Cancelled when `report` returns False; what `work` raises of this application's
    errors is raised here. What it prints is not seen.
    """
    limits = limits or LIMITS
    ours, theirs = multiprocessing.Pipe(duplex=False)
    process = _way().Process(  # type: ignore[attr-defined]
        target=_inside, args=(theirs, limits, work, args, named, report is not None), daemon=True
    )
    process.start()
    theirs.close()
    try:
        return _answer(process, ours, report, limits, _where(args))
    finally:
        ours.close()
        if process.is_alive():
            process.kill()
        process.join()
        process.close()


def _way() -> Any:
    """Return how processes are made: by a fork where this one has one thread, else by one that forks for us."""
    alone = threading.active_count() == 1 and "PySide6.QtCore" not in sys.modules
    if alone:
        return multiprocessing.get_context("fork")
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(list(PRELOADED))
    return context


def _where(args: tuple[Any, ...]) -> str:
    """Return the name of the file that is read: the first path of the arguments, or of a command's options."""
    for value in args:
        named = value if isinstance(value, Path) else getattr(value, "zip", getattr(value, "file", None))
        if isinstance(named, str | Path):
            return Path(named).name
    return "file"


def _answer(process: Any, ours: Connection, report: Report | None, limits: Limits, where: str) -> Any:
    """Wait for the answer, pass on how far it is, and say what became of the process without one."""
    end = time.monotonic() + limits.all_s
    told = 0.0, "reading"
    while time.monotonic() < end:
        if not ours.poll(0.1):
            if report is not None and not report(*told):
                raise Cancelled
            if process.is_alive():
                continue
            if not ours.poll(0):
                raise _ended(process, limits, where)
        try:
            kind, value = _read(ours, limits, where)
        except EOFError:
            process.join(5)
            raise _ended(process, limits, where) from None
        if kind == "progress":
            told = float(value[0]), str(value[1])[:200]
            if report is not None and not report(*told):
                raise Cancelled
        elif kind == "error":
            raise value if isinstance(value, ZestyError) else InputError(str(value), where, "Check it")
        elif kind == "memory":
            raise _too_much(f"over {limits.memory // MB:,} MB of memory", where)
        else:
            return value
    raise _too_much(f"over {limits.all_s:.0f} s", where)


def _read(ours: Connection, limits: Limits, where: str) -> tuple[str, Any]:
    try:
        data = ours.recv_bytes(limits.answer)
    except EOFError:
        raise
    except OSError as error:
        raise _too_much(f"an answer of over {limits.answer // MB} MB", where) from error
    try:
        kind, value = _Values(io.BytesIO(data)).load()
    except (pickle.UnpicklingError, ValueError, TypeError, AttributeError, ImportError, IndexError, KeyError) as error:
        raise InputError(f"The reading gave an answer that is none ({error})", where, "Please report this") from error
    return str(kind), value


class _Values(pickle.Unpickler):
    """Makes values of this application and a few of its libraries, and nothing else."""

    def find_class(self, module: str, name: str) -> Any:
        """Return a class or one of the functions that make values. UnpicklingError for all else."""
        if (module, name) in MADE_BY:
            return super().find_class(module, name)
        if module.startswith("zesty_trace.") and "." not in name:
            found = super().find_class(module, name)
            if isinstance(found, type):
                return found
        raise pickle.UnpicklingError(f"{module}.{name} is no value")


def _ended(process: Any, limits: Limits, where: str) -> ZestyError:
    process.join(5)
    code = process.exitcode
    if code == -signal.SIGKILL:
        hint = "Close what needs memory and try again; if it stays, do not use this file"
        return TooMuch("Reading it was ended by the system, as when memory runs out", where, hint)
    if code == -signal.SIGXCPU:
        return _too_much(f"over {limits.processor_s} s of processor time", where)
    return TooMuch(f"Reading it ended without an answer ({code})", where, "Do not use this file; please report it")


def _too_much(what: str, where: str) -> TooMuch:
    hint = "It was stopped. Files of boards do not need that: ask for the file again, or do not use it"
    return TooMuch(f"Reading it took {what}", where, hint)


def _inside(theirs: Connection, limits: Limits, work: Callable[..., Any], args: Any, named: Any, reports: bool) -> None:
    """Do the work within its limits, and send what came of it; runs in the process of its own."""
    _limit(limits)

    def report(share: float, text: str) -> bool:
        theirs.send_bytes(pickle.dumps(("progress", (share, text))))
        return True

    try:
        more = {"report": report} if reports else {}
        found = "done", work(*args, **more, **named)
    except ZestyError as error:
        found = "error", error
    except MemoryError:
        found = "memory", None
    except Exception as error:
        found = (
            "error",
            InputError(f"It cannot be read ({type(error).__name__}: {str(error)[:120]})", "file", "Check it"),
        )
    try:
        data = pickle.dumps(found, protocol=pickle.HIGHEST_PROTOCOL)
    except MemoryError:
        data = pickle.dumps(("memory", None))
    except Exception as error:
        data = pickle.dumps(
            ("error", InputError(f"No answer can be given ({error})"[:200], "file", "Please report it"))
        )
    with suppress(OSError):
        theirs.send_bytes(data)
    theirs.close()
    os._exit(0)


def _fault(said: str, error: Exception) -> InputError:
    """Return what is told of something that nobody foresaw; its details are kept in the log."""
    path = logs.keep(error)
    return InputError(said, "file", f"Check it; details are in {path}")


def _limit(limits: Limits) -> None:
    signal.signal(signal.SIGXCPU, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    used = resource.getrusage(resource.RUSAGE_SELF)
    spent = int(used.ru_utime + used.ru_stime)
    with open("/proc/self/statm", encoding="ascii") as file:
        there = int(file.read().split()[0]) * resource.getpagesize()
    for which, most in (
        (resource.RLIMIT_CPU, spent + limits.processor_s),
        (resource.RLIMIT_AS, there + limits.memory),
        (resource.RLIMIT_FSIZE, 64 * MB),
        (resource.RLIMIT_CORE, 0),
    ):
        with suppress(ValueError, OSError):
            hard = resource.getrlimit(which)[1]
            top = most if hard == resource.RLIM_INFINITY else min(most, hard)
            beyond = top + GRACE_S if which == resource.RLIMIT_CPU and hard == resource.RLIM_INFINITY else top
            resource.setrlimit(which, (top, beyond))  # at the first the signal tells which limit it was
