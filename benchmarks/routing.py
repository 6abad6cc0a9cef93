"""How well and how fast made-up boards are routed: `python -m benchmarks.routing [parts ...] [--seeds N]`.

Each board is routed twice in one process, so that the second time is warm, and judged by shapely and networkx.
"""

from __future__ import annotations

import argparse
import resource
import time

from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board
from zesty_trace.core.board.router import route


def main() -> None:
    """Print a line a board."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", type=int, default=[25, 60, 120])
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--density", type=float, default=0.72)
    a = parser.parse_args()
    route(random_board(8, 1))
    print("parts seed  links  open near islands same  seconds  ratio  vias/link  MB")
    for parts in a.parts:
        for seed in range(1, a.seeds + 1):
            wired = random_board(parts, seed, a.density)
            first = route(wired)
            start = time.perf_counter()
            again = route(random_board(parts, seed, a.density))
            took = time.perf_counter() - start
            v = judge(wired.with_design(first.design))
            same = "yes" if again.design == first.design else "NO"
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            print(
                f"{parts:5} {seed:4} {v.wanted:6} {v.open:5} {len(v.too_near):4} {v.islands:7} {same:>4} "
                f"{took:8.2f}  {v.ratio:5.3f}  {v.vias_each:9.2f} {peak:4.0f}",
                flush=True,
            )


if __name__ == "__main__":
    main()
