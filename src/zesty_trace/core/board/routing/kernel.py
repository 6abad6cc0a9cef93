"""How the loops of the router are compiled: kept on disk, without the interpreter's lock.

What only other compiled loops call goes without a door for Python: that halves its compile time.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

from numba import njit

_F = TypeVar("_F", bound=Callable[..., Any])


def entry(loop: _F) -> _F:
    """Compile a loop that Python calls."""
    return cast(_F, njit(cache=True, nogil=True, error_model="numpy")(loop))


def inner(loop: _F) -> _F:
    """Compile a loop that only other compiled loops call."""
    options: dict[str, Any] = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
    return cast(_F, njit(cache=True, nogil=True, error_model="numpy", **options)(loop))
