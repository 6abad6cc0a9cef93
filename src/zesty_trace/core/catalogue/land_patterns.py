"""Land patterns of all package families, each made from a few dimensions; see `lands`."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.lands import surface, through
from zesty_trace.core.catalogue.lands.pattern import LandPattern, Pad

FAMILIES: dict[str, Callable[[PackageSpec], LandPattern]] = {
    "chip": surface.chip,
    "gull": surface.gull,
    "quad": surface.quad,
    "tab": surface.tab,
    "balls": surface.balls,
    "castellated": surface.castellated,
    "dip": through.dip,
    "axial": through.axial,
    "radial": through.radial,
    "strip": through.strip,
    "strip2": through.strip2,
    "jack": through.jack,
    "button": through.button,
    "spot": through.spot,
    "hole": through.hole,
    "table": through.table,
}


@cache
def land_pattern(spec: PackageSpec) -> LandPattern:
    """Return the land pattern of a package. KeyError if its family is unknown."""
    return FAMILIES[spec.family](spec)


__all__ = ["FAMILIES", "LandPattern", "Pad", "land_pattern"]
