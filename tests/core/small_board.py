"""A small board of the corpus, placed and routed once a process."""

from __future__ import annotations

from functools import cache

from tests.corpus import cases
from zesty_trace.core.board.placing.arrange import arrange_parts
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired


@cache
def routed() -> Wired:
    """Return it."""
    wired = cases.faultless(list(cases.prototypes())[20])
    wired = wired.with_design(arrange_parts(wired))
    return wired.with_design(route(wired).design)
