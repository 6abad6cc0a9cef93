"""Holes and their pads from the leads that go through them.

The hole is the largest lead plus an allowance by fit, the pad that hole plus a ring (IPC-7251 draft: 0.25, 0.20 and
0.15 mm, and 0.35, 0.30 and 0.25 mm of ring, from memory; common practice too).
"""

from __future__ import annotations

import math

from zesty_trace.core.catalogue.kind import PackageSpec

ALLOWANCE_MM = {"loose": 0.25, "normal": 0.20, "snug": 0.15}
RING_MM = {"most": 0.35, "nominal": 0.30, "least": 0.25}
STEP_MM = 0.05
PLATED_HOLE_TOLERANCE_MM = 0.08  # a finished hole may be so much smaller or larger: common practice


def hole_for(lead_mm: float, fit: str = "normal") -> float:
    """Return the finished hole for a lead, mm, in steps of 0.05 mm. KeyError for a fit that there is not.

    >>> hole_for(0.8)
    1.0
    """
    return round(math.ceil((lead_mm + ALLOWANCE_MM[fit]) / STEP_MM - 1e-6) * STEP_MM, 3)


def pad_for(hole_mm: float, density: str = "nominal") -> float:
    """Return the diameter of the pad round a hole, mm.

    >>> pad_for(1.0)
    1.6
    """
    return round(hole_mm + 2 * RING_MM[density], 3)


def drill_of(spec: PackageSpec) -> float:
    """Return the hole of each lead of a package, mm: as given, or for its lead."""
    return spec.drill or (hole_for(spec.lead, spec.fit) if spec.lead else 0.0)


def pad_of(spec: PackageSpec) -> tuple[float, float]:
    """Return the size of each pad of a package, mm: as given, or for its hole."""
    if spec.pad != (1.0, 1.0) or not spec.lead:
        return spec.pad
    size = pad_for(drill_of(spec), spec.density)
    return size + max(0.0, spec.slot - spec.lead), size
