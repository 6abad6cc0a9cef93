"""Compile the loops of router and placer ahead of use: `python -m zesty_trace.core.board.warm`.

The window starts this as a process of its own the first time that a version runs, so that nobody waits for it.
"""

from __future__ import annotations

import os

import numpy as np

from zesty_trace.core.board.routing.ground import join_one, join_stranded
from zesty_trace.core.board.routing.negotiate import Negotiation
from zesty_trace.core.board.routing.problem import Group, Problem, Shape, lay_out
from zesty_trace.core.progress import quiet


def warm_up() -> int:
    """Route a board of two nets and a pour, which compiles everything; return how many groups stay open: none."""
    spots = ((2.0, 2.0, 0), (8.0, 8.0, 0), (2.0, 8.0, 1), (8.0, 2.0, 1), (5.0, 2.0, 2), (5.0, 8.0, 2))
    shapes = tuple(Shape(x, y, 0.4, 0.4, 0.0, 0.0, net, (0,)) for x, y, net in spots)
    groups = (*(Group(net, (k,), 0.2) for k, (_, _, net) in enumerate(spots)), Group(2, (), 0.0))
    ring = np.array([(0, 0), (10, 0), (10, 10), (0, 10)], dtype=float)
    problem = Problem(
        rings=(ring,), shapes=shapes, groups=groups, nets=("A", "B", "GND"), poured_on=(-1, -1, 1),
        clearance_mm=0.2, edge_mm=0.3, hole_mm=0.25, widths_mm=(0.2, 0.3), via_mm=0.6, drill_mm=0.3,
    )  # fmt: skip
    work = Negotiation(lay_out(problem), quiet)
    work.run()
    join_stranded(work, 2, 1)
    work.shorten()
    work.restore(work.snapshot())
    work.make_way(0, np.array([0]))  # what is asked only where something stays open, and of pads that a pour leaves out
    first, second = work.board.net_groups()[2:4] - (0, 2)
    join_one(work, 2, work.board.group_cells(first), work.board.group_cells(second))
    return int(work.open_groups().sum())


def warm_placing() -> None:
    """Place two resistors, which compiles the loops of the placer."""
    from zesty_trace.core.board.placing.arrange import arrange_parts
    from zesty_trace.core.catalogue.kinds import shipped
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.core.design.model import Design, Part, Pin

    parts = {f"R{k}": Part(ref=f"R{k}", kind="resistor", value="1k", package="R0603") for k in (1, 2, 3)}
    nets = {"A": tuple(Pin(r, "1") for r in parts), "B": tuple(Pin(r, "2") for r in parts)}
    arrange_parts(Wired(Design(parts=parts, nets=nets), shipped()), moves_a_part=1)


if __name__ == "__main__":
    os.nice(10)
    warm_up()
    warm_placing()
