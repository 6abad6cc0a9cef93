"""From the two tables of a prototype to a design."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.files import read_given, text_of


def read_tables(parts: Path, wiring: Path) -> tuple[str, str]:
    """Return the text of the two tables. InputError names the file that cannot be read."""
    return text_of(read_given(parts, "table"), str(parts)), text_of(read_given(wiring, "table"), str(wiring))


def import_files(
    parts: Path, wiring: Path, catalogue: Catalogue, base: Design | None = None, names: Mapping[str, str] | None = None
) -> Design:
    """Return the design in two CSV files. InputError names the file, line and column at fault."""
    return import_prototype(*read_tables(parts, wiring), catalogue, base, (parts.name, wiring.name), names)
