"""Where a set of files comes from: a zip, or the files that a design would be written as now."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.finished import SIDES, BoardSet, read_set
from zesty_trace.core.fabrication.package import fabrication_files
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.gerber.drill_image import DrillFormat
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import InputError
from zesty_trace.files import read_given

ROLES = ("copper", "mask", "paste", "silk", "outline", "drill", "other")


def zip_files(path: Path) -> dict[str, str]:
    """Return name -> text of the files in a zip. InputError if it cannot be read, or is no set."""
    return read_zip(read_given(path, "archive"))


def set_of_zip(
    path: Path,
    told: Mapping[str, tuple[str, str]] | None = None,
    formats: Mapping[str, DrillFormat] | None = None,
    report: Report = quiet,
) -> BoardSet:
    """Return the set in a zip."""
    return read_set(zip_files(path), told, formats, report)


def set_of_design(wired: Wired) -> BoardSet:
    """Return the set that a design is written as. EditError without a board."""
    return read_set(fabrication_files(wired))


def told_role(text: str) -> tuple[str, tuple[str, str]]:
    """Return (file, (role, side)) of `name=copper,top`. InputError for what is no role."""
    name, equals, rest = text.partition("=")
    role, _, side = rest.strip().partition(",")
    role, side = role.strip().lower(), side.strip().lower()
    sides = {"drill": ("plated", "bare", ""), "outline": ("",), "other": ("",)}.get(role, SIDES)
    known = side in sides or (role == "copper" and side.startswith("inner") and side[5:].isdigit())
    if not equals or role not in ROLES or not known:
        raise InputError(
            f"“{text}” names no layer", text, "Write FILE=copper,top, or mask, paste, silk, outline, drill"
        )
    return name.strip(), (role, side)


def told_format(text: str) -> tuple[str, DrillFormat]:
    """Return (file, format) of `drill.txt=inch,2.4,leading`. InputError for what is none."""
    name, _, rest = text.partition("=")
    words = [w.strip().lower() for w in rest.split(",")]
    try:
        unit = {"inch": 25.4, "mm": 1.0}[words[0]]
        before, after = (int(d) for d in words[1].split("."))
        zeros = {"leading": "leading", "trailing": "trailing"}[words[2]]
    except (KeyError, IndexError, ValueError):
        raise InputError(
            f"“{text}” is no drill format", text, "Write FILE=inch,2.4,leading: the unit, digits, which zeros are there"
        ) from None
    if not (0 <= before <= 6 and 0 <= after <= 6):
        raise InputError(f"“{text}” is no drill format", text, "There are up to 6 digits on each side")
    return name.strip(), DrillFormat(unit, before, after, zeros)
