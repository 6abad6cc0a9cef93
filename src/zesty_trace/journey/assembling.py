"""The oven run of the batch, simulated and judged."""

from __future__ import annotations

from zesty_trace.core.assembly import oven, profiles
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.errors import EditError


def heat_run(wired: Wired) -> tuple[oven.Run, list[oven.Measure], profiles.AlloyWindow]:
    """Return the simulated oven run of the build's alloy, and its judged numbers. EditError without an outline."""
    design = wired.design
    if not design.board.outline:
        raise EditError("The board has no outline yet", "layout", "Place the parts first")
    window = profiles.WINDOWS[design.build.alloy]
    run = oven.simulate(design, profiles.target_profile(design.build.alloy, 25.0), 25.0)
    return run, oven.judge(run, window, oven.part_limit_c(wired)[0]), window
