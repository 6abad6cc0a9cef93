"""Copper by hand on made-up boards: python -m benchmarks.by_hand [parts ...]

For each size: laying the board out once, the way to the pointer for each move (on one layer, then with vias where
that fails), and closing ten gaps of a routed board.
"""

from __future__ import annotations

import sys
from random import Random
from time import perf_counter

import numpy as np

from benchmarks.board_judge import judge
from benchmarks.random_boards import random_board
from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.hand.guide import Guide
from zesty_trace.core.board.hand.pieces import taken, with_what_hangs_on
from zesty_trace.core.board.links import connectivity
from zesty_trace.core.board.repair import repair
from zesty_trace.core.board.router import route
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits

NETS, STEPS, GAPS, BOARDS = 40, 8, 10, 3


def routed_board(parts: int, seed: int = 1) -> Wired:
    """Return a routed board."""
    wired = random_board(parts, seed)
    return wired.with_design(route(wired).design)


def ways(wired: Wired) -> tuple[float, list[float], list[float], int]:
    """Return seconds to lay the board out, of each move, of each that asked for vias, and how many found no way."""
    board = wired.design.board
    poured = {p.net for p in board.pours}
    nets = [n for k, n in enumerate(wired.design.nets) if k % 10 == 0 and n not in poured][:NETS]
    tracks = [t for t in board.tracks if t.net not in nets]
    open_board = wired.edited(edits.set_copper, tracks, [v for v in board.vias if v.net not in nets], board.pours)
    start = perf_counter()
    guide = Guide(open_board)
    laid_out = perf_counter() - start
    plain, through, none = [], [], 0
    for net in nets:
        a, b = [p for p in board_pads(open_board) if p.net == net][:2]
        for k in range(1, STEPS + 1):
            x, y = ((p + (q - p) * k / STEPS) / 1e6 for p, q in ((a.x_nm, b.x_nm), (a.y_nm, b.y_nm)))
            start = perf_counter()
            way = guide.follow(net, a, a.layers[0], x, y, guide.width_nm(a))
            plain.append(perf_counter() - start)
            if way is None:
                way = guide.follow(net, a, a.layers[0], x, y, guide.width_nm(a), vias=True)
                through.append(perf_counter() - start)
            none += way is None
    return laid_out, plain, through, none


def gaps(wired: Wired) -> list[tuple[int, int, float]]:
    """Return how many links were open, how many are left by the judge, and the seconds, board by board."""
    poured = {p.net for p in wired.design.board.pours}
    own = [k for k, t in enumerate(wired.design.board.tracks) if t.net not in poured]
    found = []
    for seed in range(BOARDS):
        gone = with_what_hangs_on(wired, {("track", k) for k in Random(seed).sample(own, GAPS)})
        torn = wired.with_design(taken(wired.design, gone))
        links = len(connectivity(torn).links)
        start = perf_counter()
        done = repair(torn)
        seconds = perf_counter() - start
        found.append((links, judge(torn.with_design(done.design)).open, seconds))
    return found


def main(sizes: list[int]) -> None:
    """Print the table."""
    ways(routed_board(10))
    repair(routed_board(10))
    print("parts  laid out s  way ms: median   95 %  worst   with vias: median  worst   no way   gaps: open left s")
    for parts in sizes:
        wired = routed_board(parts)
        laid_out, plain, through, none = ways(wired)
        one, two = np.array(plain) * 1e3, np.array(through or [0.0]) * 1e3
        closed = "  ".join(f"{a}/{b}/{s:.2f}" for a, b, s in gaps(wired))
        print(
            f"{parts:5} {laid_out:11.2f} {np.median(one):15.1f} {np.percentile(one, 95):6.1f} {one.max():6.1f} "
            f"{np.median(two):19.1f} {two.max():6.1f} {none:8}   {closed}"
        )


if __name__ == "__main__":
    main([int(word) for word in sys.argv[1:]] or [25, 60, 120, 250])
