"""From somebody's fabrication zip, with its tables, to a project that orders, assembles and tests that board."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from zesty_trace.core.catalogue.lands.own import write_package
from zesty_trace.core.catalogue.make_part import write_kind
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.adopting.adopt import Adopted, adopt
from zesty_trace.core.fabrication.adopting.tables_in import Bought, Spots, read_bom, read_centroid
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.guessing import guess
from zesty_trace.core.fabrication.sources import zip_files
from zesty_trace.core.gerber.drill_image import DrillFormat
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.tables.encoding import table_text
from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import read_given, write_inside
from zesty_trace.journey.kinds import check_known, project_catalogue
from zesty_trace.names import slug
from zesty_trace.sandbox import apart
from zesty_trace.store.project import ProjectFolder

GIVEN = "given"


def adopt_zip(
    path: Path,
    folder: Path,
    boms: Sequence[Path] = (),
    centroids: Sequence[Path] = (),
    told: Mapping[str, tuple[str, str]] | None = None,
    formats: Mapping[str, DrillFormat] | None = None,
    report: Report = quiet,
) -> Adopted:
    """Make a project of a finished set in a folder, and return what was made and what is not known.

    Tables in the zip are taken where none are named. InputError, StoreError; Cancelled leaves nothing behind.
    """
    tables = {p.name: _given_table(p) for p in boms}, {p.name: _given_table(p) for p in centroids}
    found: Adopted = apart(_adopted, path, folder.name, tables, dict(told or {}), dict(formats or {}), report=report)
    check_known(Wired(found.design, found.known(project_catalogue(None))))
    _write(found, path, folder)
    return found


def _adopted(
    path: Path,
    name: str,
    tables: tuple[dict[str, str], dict[str, str]],
    told: dict[str, tuple[str, str]],
    formats: dict[str, DrillFormat],
    report: Report,
) -> Adopted:
    """Return the project of a zip with its tables (bills, places); done in a process of its own."""
    files = zip_files(path)
    board = read_set(files, told, formats, lambda share, text: report(share * 0.4, text))
    in_zip = {n: guess(n, t).format for n, t in files.items()}
    bought = tables[0] or {n: files[n] for n, f in in_zip.items() if f == "bom"}
    placed = tables[1] or {n: files[n] for n, f in in_zip.items() if f == "centroid"}
    if not bought and not placed:
        hint = "Name them: a bill of materials and a table of places (centroid), as CSV"
        raise InputError("There are no tables of parts", path.name, hint)
    return adopt(
        board,
        _boms(bought, placed),
        _spots(placed),
        project_catalogue(None),
        name,
        f"{GIVEN}-{slug(path.stem, 'files')}.zip",
        lambda share, text: report(0.4 + share * 0.6, text),
    )


def sorted_tables(paths: Sequence[Path]) -> tuple[list[Path], list[Path]]:
    """Return which tables are bills of materials and which are of places. InputError for one that is neither."""
    found: dict[str, list[Path]] = {"bom": [], "centroid": []}
    for path in paths:
        kind = guess(path.name, _given_table(path)).format
        if kind not in found:
            hint = "Its head must name references, and values, or places and turns"
            raise InputError("It is neither a bill of materials nor a table of places", path.name, hint)
        found[kind].append(path)
    return found["bom"], found["centroid"]


def _given_table(path: Path) -> str:
    return table_text(read_given(path, "table"), str(path))


def _boms(texts: Mapping[str, str], placed: Mapping[str, str]) -> dict[str, list[Bought]]:
    """Return variant -> bill of materials; tables of places say what there is where nobody gives a bill."""
    tables = {name: read_bom(text, name) for name, text in sorted(texts.items())}
    if not tables:
        spots = _spots(placed)
        assert spots is not None
        return {"": [Bought(s.ref, s.value, s.package, "", True, s.line) for s in spots.rows]}
    if len(tables) == 1:
        return {"": next(iter(tables.values()))}
    found: dict[str, list[Bought]] = {}
    for name, rows in tables.items():
        found[_variant(name, found)] = rows
    return found


def _variant(name: str, taken: Mapping[str, object]) -> str:
    """Return what to call the boards of a table: the last word of its name."""
    words = [w for w in re.split(r"[^A-Za-z0-9]+", Path(name).stem) if w.lower() not in ("bom", "")]
    base = (words[-1] if words else "variant")[:20]
    return next(n for n in (base, *(f"{base}-{k}" for k in range(2, 1000))) if n not in taken)


def _spots(texts: Mapping[str, str]) -> Spots | None:
    """Return the places of all tables; parts that several name must sit in one place. InputError."""
    found: Spots | None = None
    for name, text in sorted(texts.items()):
        more = read_centroid(text, name)
        if found is None:
            found = more
            continue
        if found.unit != more.unit:
            raise InputError(f"{name} and {found.name} are in different units", name, "Name one of the two")
        known = {s.ref: s for s in found.rows}
        for s in more.rows:
            if s.ref in known and (s.x, s.y, s.side) != (known[s.ref].x, known[s.ref].y, known[s.ref].side):
                raise InputError(
                    f"{s.ref} sits elsewhere in {found.name}", f"{name} line {s.line}", "Name one of the two"
                )
        found = Spots((*found.rows, *(s for s in more.rows if s.ref not in known)), found.unit, found.name)
    return found


def _write(found: Adopted, path: Path, folder: Path) -> None:
    """Make the project: the design, the kinds and packages made for it, and the files as they came."""
    with ProjectFolder.create(folder, found.design):
        try:
            for package in found.packages.values():
                write_inside(folder, f"packages/{package.id}.toml", write_package(package).encode())
            for kind in found.kinds.values():
                write_inside(folder, f"parts/{kind.id}.toml", write_kind(kind).encode())
            write_inside(folder, f"fabrication/{found.design.board.given}", read_given(path, "archive"))
        except OSError as error:
            if isinstance(error, StoreError):
                raise
            raise StoreError(f"Could not write: {error.strerror}", str(folder), "Check the folder") from error
