"""How slow this machine is at this moment, so that a bound in seconds is not a bound on the machine."""

from __future__ import annotations

import time

LOOP_S = 0.11  # what the loop takes on the machine on which the bounds were set, at its full speed


def slowness() -> float:
    """Return 1 at full speed, 2 at half; never less than 1."""
    start, total = time.thread_time(), 0
    for k in range(1_000_000):
        total += k * k % 7
    return max(1.0, (time.thread_time() - start) / LOOP_S)
