"""Files of strangers, each read in a process of its own (`zesty_trace.sandbox`): what comes back are values.

The functions that do the reading stand below; they run over there, and are named here only to be sent.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zesty_trace.core.board.object import ObjectDrawing, read_object
from zesty_trace.core.board.outline import rings_from_dxf, rings_from_svg
from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.lands.own import spec_from_table
from zesty_trace.core.catalogue.lands.own_dxf import spec_from_dxf
from zesty_trace.core.design.model import Design
from zesty_trace.core.fabrication.contacts import Contact
from zesty_trace.core.fabrication.finished import BoardSet, read_set
from zesty_trace.core.fabrication.looking.compare import Difference, compare
from zesty_trace.core.fabrication.looking.intake import Intake, intake
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.fabrication.sources import set_of_zip, zip_files
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import say_count
from zesty_trace.core.tables.repair import Preview, preview_import
from zesty_trace.files import read_given, read_inside, text_of
from zesty_trace.journey.importing import import_files, read_tables
from zesty_trace.sandbox import apart


@dataclass(frozen=True)
class Seen:
    """A set that was read and looked through: what intake says, the smallest things in words, tables beside it."""

    board: BoardSet
    answer: Intake
    words: str
    has_tables: bool = False


def look_at(path: Path, own: bool, contacts: Sequence[Contact], report: Report = quiet) -> Seen:
    """Return a zip that was looked through, an `own` one read within its project only. InputError, Cancelled."""
    return apart(_look_at, path, own, tuple(contacts), report=report)  # type: ignore[no-any-return]


def compared(board: BoardSet, path: Path, report: Report = quiet) -> tuple[Difference, BoardSet]:
    """Return what differs between a set and that of a zip, and the latter. InputError, Cancelled."""
    return apart(_compared, board, path, report=report)  # type: ignore[no-any-return]


def outline_of(path: Path, svg: bool | None = None) -> list[Any]:
    """Return the rings of an outline drawing, DXF or SVG: as it is said, else by its name. InputError."""
    return apart(_outline_of, path, path.suffix.lower() == ".svg" if svg is None else svg)  # type: ignore[no-any-return]


def object_of(path: Path, design: Design) -> ObjectDrawing:
    """Return what a drawing of the object says. InputError."""
    return apart(_object_of, path, design)  # type: ignore[no-any-return]


def package_of(path: Path, name: str, height_mm: float, drawn: bool) -> PackageSpec:
    """Return the package of a drawing, or of a table of pads. InputError."""
    return apart(_package_of, path, name, height_mm, drawn)  # type: ignore[no-any-return]


def previewed(parts: Path, wiring: Path, catalogue: Catalogue, base: Design, names: Mapping[str, str]) -> Preview:
    """Return what importing two tables would give. InputError."""
    return apart(_previewed, parts, wiring, catalogue, base, dict(names))  # type: ignore[no-any-return]


def imported(parts: Path, wiring: Path, catalogue: Catalogue, base: Design, names: Mapping[str, str]) -> Design:
    """Return the design in two tables. InputError names file, line and column."""
    return apart(import_files, parts, wiring, catalogue, base, dict(names))  # type: ignore[no-any-return]


# Over there -----------------------------------------------------------------------------------------------------------


def _look_at(path: Path, own: bool, contacts: tuple[Contact, ...], report: Report) -> Seen:
    inside = f"{path.parent.name}/{path.name}"
    files = read_zip(read_inside(path.parents[1], inside, "archive")) if own else zip_files(path)
    board = read_set(files, report=lambda share, text: report(share / 2, text))
    answer = intake(
        board, contacts=contacts, source="the design", report=lambda share, text: report(0.5 + share / 3, text)
    )
    report(0.9, "measuring")
    has_tables = {g.format for g in board.guesses.values()} >= {"bom", "centroid"}
    return Seen(board, answer, _words(board), has_tables)


def _words(board: BoardSet) -> str:
    m, size = Measures(board), board.edges.size_mm
    words = [
        f"{size[0]:.2f} x {size[1]:.2f} mm" if size else "no closed outline",
        f"{len(board.layers)} layers of copper",
    ]
    for name, found in (("track", m.tracks), ("gap", m.gaps)):
        words += [f"smallest {name} {found[0].mm:.2f} mm"] if found else []
    words += [f"ring {m.rings[0][0].mm:.2f} mm"] if m.rings else []
    words.append(say_count(len(board.holes), "hole"))
    odd = board.remarks()
    if odd:
        words.append(f"{say_count(len(odd), 'odd thing')}: {odd[0]}")
    return ", ".join(words)


def _compared(board: BoardSet, path: Path, report: Report) -> tuple[Difference, BoardSet]:
    theirs = set_of_zip(path, report=lambda share, text: report(share / 2, text))
    report(0.6, "laying one over the other")
    return compare(board, theirs), theirs


def _outline_of(path: Path, svg: bool) -> list[Any]:
    text = read_given(path, "drawing").decode("utf-8", "replace")
    return (rings_from_svg if svg else rings_from_dxf)(text, path.name)


def _object_of(path: Path, design: Design) -> ObjectDrawing:
    return read_object(read_given(path, "drawing").decode("utf-8", "replace"), design, path.name)


def _package_of(path: Path, name: str, height_mm: float, drawn: bool) -> PackageSpec:
    sort = "drawing" if drawn else "package"
    return (spec_from_dxf if drawn else spec_from_table)(name, text_of(read_given(path, sort), str(path)), height_mm)


def _previewed(parts: Path, wiring: Path, catalogue: Catalogue, base: Design, names: dict[str, str]) -> Preview:
    return preview_import(*read_tables(parts, wiring), catalogue, base, (parts.name, wiring.name), names)
