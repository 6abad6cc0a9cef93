"""Place for me: the constructive placing first, then annealing, then every part put down where it is allowed to be.

What comes out is kept only where it is better than what was there: shorter, and nothing over a limit that was within.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from zesty_trace.core.board.copper import courtyard_shape
from zesty_trace.core.board.place import Placer, place_rest, pull_near
from zesty_trace.core.board.placing.problem import PlacingProblem, problem_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled

MOVES_A_PART = 12_000
LEAST_MOVES, MOST_MOVES = 100_000, 2_000_000
CHUNKS = 24
TRIES = 3  # with other seeds, until nothing is too far from what it belongs to
WEIGHTS = (0.3, 1.0, 3.0, 8.0)  # of overlaps, growing as it cools
COLD = 0.05
Draw = Callable[[Design], None]


def arrange_parts(
    wired: Wired,
    report: Report = quiet,
    draw: Draw | None = None,
    everything: bool = False,
    seed: int = 1,
    moves_a_part: int = MOVES_A_PART,
) -> Design:
    """Return the design with every part on the board, as good as annealing makes it.

    Only parts that were not placed are moved, or with `everything` all that are not held; the machine's copper is then
    taken off. `draw(design)` is shown what it looks like meanwhile. Cancelled keeps nothing; EditError if a part fits
    nowhere.
    """
    before = set(wired.design.board.placements)
    if everything:
        wired = wired.with_design(edits.without_machine_copper(wired.design))
    held = {r for r, p in wired.design.board.placements.items() if p.fixed}
    placed = place_rest(wired, lambda share, text: report(0.2 * share, text))
    there = wired.with_design(placed)
    template = {h.ref for h in placed.brief.template}
    movable = set(placed.parts) - held - template - (set() if everything else before)
    refs, problem = problem_of(there, movable)
    free = np.flatnonzero(problem.movable).astype(np.int32)
    if len(free) < 2:
        return placed
    names = {refs[k] for k in free}
    best, worth = placed, _worth(there)
    for trial in range(TRIES):
        state = _annealed(there, refs, problem, free, _part_of(report, trial), draw, seed + trial * 1000, moves_a_part)
        legal = _put_down(there, refs, problem, state, names)
        if legal is None:
            continue
        after = pull_near(there.with_design(legal), names)
        found = _worth(there.with_design(after))
        if found < worth:
            best, worth = after, found
        if best is not placed and worth[0] == 0:
            break
    report(1.0, "placed")
    return best


def _part_of(report: Report, trial: int) -> Report:
    """Return a report of one trial: each takes half of what is left."""
    start, wide = 0.2 + 0.7 * (1 - 0.5**trial), 0.7 * 0.5 ** (trial + 1)
    return lambda share, text: report(start + wide * share, text)


def _worth(wired: Wired) -> tuple[int, float]:
    """Return how many findings that stop or want mending, and the length of the links, mm; less is better."""
    from zesty_trace.core.board.placing.measure import measure_placing

    measured = measure_placing(wired)
    return measured.findings, measured.links_mm


def _annealed(
    wired: Wired,
    refs: list[str],
    problem: PlacingProblem,
    free: np.ndarray,
    report: Report,
    draw: Draw | None,
    seed: int,
    moves_a_part: int,
) -> PlacingProblem:
    from zesty_trace.core.board.placing.anneal import anneal, state_of, total_cost

    state = state_of(problem)
    moves = int(min(max(LEAST_MOVES, moves_a_part * len(free)), MOST_MOVES)) // CHUNKS
    wide = max(problem.outside.shape) * problem.origin[2]
    hot = max(2.0, 0.01 * total_cost(problem, *state, 1.0) / math.sqrt(len(free)))
    best, best_cost = (state.x.copy(), state.y.copy(), state.turn.copy()), math.inf
    for chunk in range(CHUNKS):
        share = chunk / CHUNKS
        now, then = (hot * (COLD / hot) ** s for s in (share, share + 1 / CHUNKS))
        weight = WEIGHTS[min(len(WEIGHTS) - 1, int(share * len(WEIGHTS)))]
        reach = max(0.4, 0.5 * wide * (1 - share) ** 3)
        anneal(problem, *state, free, moves, now, then, reach, weight, seed + chunk)
        cost = total_cost(problem, *state, WEIGHTS[-1])
        if cost < best_cost:
            best, best_cost = (state.x.copy(), state.y.copy(), state.turn.copy()), cost
        if draw:
            draw(_design(wired, refs, problem, best, free))
        if not report((chunk + 1) / CHUNKS, "finding places: links get shorter"):
            raise Cancelled
    return problem._replace(x=best[0], y=best[1], turn=best[2])


def _design(
    wired: Wired,
    refs: list[str],
    problem: PlacingProblem,
    state: tuple[np.ndarray, np.ndarray, np.ndarray],
    free: np.ndarray,
) -> Design:
    x, y, turn = state
    placements = dict(wired.design.board.placements)
    for k in free.tolist():
        old = placements[refs[k]]
        placements[refs[k]] = Placement(
            x_nm=round(x[k] * 10) * 100_000,
            y_nm=round(y[k] * 10) * 100_000,
            angle_mdeg=int(turn[k]) * 90_000,
            side=old.side,
        )
    return edits.set_board(wired.design, placements=placements)


def _put_down(
    wired: Wired, refs: list[str], problem: PlacingProblem, best: PlacingProblem, movable: set[str]
) -> Design | None:
    """Return the placing with no part on another's room: such go to the nearest free spot; None if there is none."""
    free = np.flatnonzero(problem.movable)
    design = _design(wired, refs, problem, (best.x, best.y, best.turn), free)
    placer = Placer(wired.with_design(design))
    size = {r: courtyard_shape(wired, r, placer.spots[r]).area for r in refs if r in movable}
    ordered = sorted((r for r in refs if r in movable), key=lambda r: -size[r])
    waiting = {r: placer.spots.pop(r) for r in ordered}
    for ref in ordered:
        spot = placer.nearest(ref, waiting[ref])
        if spot is None:
            return None
        placer.spots[ref] = spot
    return edits.set_board(design, placements=placer.placements())
