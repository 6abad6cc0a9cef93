"""Opening a DXF drawing, and its unit."""

from __future__ import annotations

from io import StringIO
from typing import Any

from zesty_trace.errors import InputError


def open_dxf(text: str, where: str) -> tuple[Any, float]:
    """Return the drawing and how many millimetres its unit is (1 if it states none). InputError if it is no drawing."""
    import ezdxf
    from ezdxf import units

    try:
        drawing = ezdxf.read(StringIO(text))  # type: ignore[attr-defined]
    except (ezdxf.DXFError, OSError, ValueError, IndexError) as error:
        raise InputError(f"It is no DXF drawing: {error}", where, "Export it again as DXF") from error
    unit = drawing.units
    if not unit:
        return drawing, 1.0
    return drawing, float(units.conversion_factor(units.InsertUnits(unit), units.InsertUnits.Millimeters))
