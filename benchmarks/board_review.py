"""How long a board review takes, whole and of one moved part: `python -m benchmarks.board_review [parts ...]`.

The boards are made up and routed first, which takes most of the time.
"""

from __future__ import annotations

import argparse
import statistics
import time
from random import Random

from benchmarks.random_boards import random_board
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.graph import CopperGraph
from zesty_trace.core.board.live import LiveReview
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits

MOVES = 60


def main() -> None:
    """Print a line a board."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", type=int, default=[60, 120])
    print("parts  whole ms  graph built ms  graph and links ms  live ms, median and worst")
    for parts in parser.parse_args().parts:
        wired = random_board(parts, 1)
        wired = wired.with_design(route(wired).design)
        check_board(wired)
        fresh = Wired(wired.design, wired.catalogue)
        whole = _ms(lambda fresh=fresh: check_board(fresh))
        graph, built = CopperGraph(wired), _ms(lambda wired=wired: CopperGraph(wired))
        live = LiveReview(wired)
        random, follow, alive = Random(1), [], []
        for _ in range(MOVES):
            ref = random.choice(list(wired.design.parts))
            moved = wired.edited(edits.nudge, ref, dx_nm=100_000 * random.randint(-5, 5), dy_nm=100_000).after(wired)
            follow.append(_ms(lambda g=graph, m=moved: (g.update(m), g.connectivity())))
            alive.append(_ms(lambda v=live, m=moved, r=ref: (v.moved(m, [r]), v.links())))
            wired = moved
        print(
            f"{parts:5} {whole:9.0f} {built:15.0f} {statistics.median(follow):19.1f}"
            f"  {statistics.median(alive):8.1f} {max(alive):8.1f}",
            flush=True,
        )


def _ms(work: object) -> float:
    start = time.perf_counter()
    work()  # type: ignore[operator]
    return (time.perf_counter() - start) * 1000


if __name__ == "__main__":
    main()
