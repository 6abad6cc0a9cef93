"""What a board house can make: the smallest things of its usual service."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Capability:
    """The limits of a service, mm: those of a usual one for one and two layers (common practice, they vary)."""

    name: str = "a usual service"
    track: float = 0.15
    gap: float = 0.15
    ring: float = 0.13
    drill: float = 0.2
    slot: float = 0.6
    largest_drill: float = 6.3
    hole_to_hole: float = 0.2
    copper_to_edge: float = 0.2
    inner_to_hole: float = 0.2
    web: float = 0.1
    silk: float = 0.12
    smallest_board: float = 5.0
    largest_board: float = 500.0


USUAL = Capability()
USUAL_INSIDE = Capability(name="a usual service for four layers", track=0.1, gap=0.1, ring=0.1)


def usual(layers: int) -> Capability:
    """Return the limits of a usual service for boards of so many layers: finer where there are inner ones."""
    return USUAL_INSIDE if layers > 2 else USUAL
