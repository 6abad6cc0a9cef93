"""From the two tables of a prototype to a design."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design
from zesty_trace.core.tables.encoding import table_text
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.files import read_given


def read_tables(parts: Path, wiring: Path) -> tuple[str, str]:
    """Return the text of the two tables. InputError names the file that cannot be read."""
    return table_text(read_given(parts, "table"), str(parts)), table_text(read_given(wiring, "table"), str(wiring))


def import_files(
    parts: Path, wiring: Path, catalogue: Catalogue, base: Design | None = None, names: Mapping[str, str] | None = None
) -> Design:
    """Return the design in two CSV files. InputError names the file, line and column at fault."""
    return import_prototype(*read_tables(parts, wiring), catalogue, base, (parts.name, wiring.name), names)
