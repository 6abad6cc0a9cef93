"""The fabrication zip: all image, drill and table files of a board, the same bytes for the same design."""

from __future__ import annotations

import hashlib
import io
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import msgspec

from zesty_trace.core.board.gate import refuse_stopped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.fabrication.drawings import drawings
from zesty_trace.core.fabrication.job import fabrication_note, job_file
from zesty_trace.core.fabrication.layers import all_files
from zesty_trace.core.fabrication.netlist356 import netlist_text, records_of
from zesty_trace.core.fabrication.tables import bom_csv, centroid_csv
from zesty_trace.errors import EditError, StoreError
from zesty_trace.files import write_given, write_inside
from zesty_trace.names import slug

EPOCH = (2020, 1, 1, 0, 0, 0)


def fabrication_files(wired: Wired) -> dict[str, str]:
    """Return file name -> text of all data in the zip. EditError if nothing is placed yet, or the files are given."""
    design = wired.design
    if design.board.given:
        hint = "Order the boards with that zip, as it is"
        raise EditError(f"The files of this board are given: fabrication/{design.board.given}", "order", hint)
    if not design.board.outline or not design.board.placements:
        raise EditError("There is no board to write yet", "layout", "Place and route the parts first")
    files = all_files(wired)
    for variant, suffix in _suffixes(design.variants or ("",)):
        files[f"bom{suffix}.csv"] = bom_csv(wired, variant)
        files[f"centroid{suffix}.csv"] = centroid_csv(wired, variant)
    files["netlist.ipc"] = netlist_text(f"{design.name} {design.revision}", records_of(wired))
    files["job.gbrjob"] = job_file(wired, files)
    files["fabrication-note.txt"] = fabrication_note(wired)
    return files


def package_files(wired: Wired) -> dict[str, str | bytes]:
    """Return file name -> content of everything in the zip, its drawings too. EditError as `fabrication_files`."""
    suffixes = dict(_suffixes(wired.design.variants or ("",)))
    return {**fabrication_files(wired), **drawings(wired, suffixes)}


def _suffixes(variants: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Yield variants with what their file names end in: names that differ by large and small letters get numbers."""
    taken: set[str] = set()
    for variant in variants:
        plain = f"-{slug(variant, 'variant')}" if variant else ""
        suffix = next(s for s in (plain, *(f"{plain}-{k}" for k in range(2, 10_000))) if s not in taken)
        taken.add(suffix)
        yield variant, suffix


def zip_name(design: Design) -> str:
    """Return the file name of the zip: that of given files, else name and revision."""
    return design.board.given or f"{slug(design.name, 'board')}-rev-{slug(design.revision, 'a')}.zip"


def design_mark(wired: Wired) -> str:
    """Return what tells one board from another: a hash of all that the files are made from."""
    d = wired.design
    packages = {ref: wired.package(ref) for ref in sorted(d.board.placements) if ref in d.parts}
    made_from = (
        d.name, d.revision, d.variants, d.parts, d.nets, d.board, packages, d.build.centroid, d.build.colour,
    )  # fmt: skip
    return hashlib.sha256(msgspec.json.encode(made_from)).hexdigest()


def mark_of(path: Path) -> str:
    """Return the mark of the design that a zip was written for; "" if it carries none, or is no zip."""
    try:
        with zipfile.ZipFile(path) as archive:
            words = archive.comment.decode("ascii", "replace").split()
    except (OSError, zipfile.BadZipFile):
        return ""
    return words[1] if len(words) == 2 and words[0] == "design" else ""


def zip_bytes(files: Mapping[str, str | bytes], mark: str = "") -> bytes:
    """Return a zip of `files` with fixed dates, sorted by name; it carries the mark of its design as its comment."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.comment = f"design {mark}".encode() if mark else b""
        for name in sorted(files):
            archive.writestr(zipfile.ZipInfo(name, EPOCH), files[name], zipfile.ZIP_DEFLATED)
    return buffer.getvalue()


def _checked_zip(wired: Wired) -> bytes:
    refuse_stopped(wired)
    return zip_bytes(package_files(wired), design_mark(wired))


def write_package(wired: Wired, folder: Path) -> Path:
    """Write the zip into `folder` and return its path. StoreError if the folder cannot be written.

    EditError for a board that something stops.
    """
    design = wired.design
    data = _checked_zip(wired)
    path = folder / zip_name(design)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_given(path, data)
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(path), "Choose another folder") from error
    return path


def keep_package(wired: Wired, project: Path) -> Path:
    """Write the zip into a project's `fabrication` folder and return its path.

    StoreError if it cannot be written, EditError for a board that something stops.
    """
    design = wired.design
    name = f"fabrication/{zip_name(design)}"
    data = _checked_zip(wired)
    try:
        write_inside(project, name, data)
    except StoreError:
        raise
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(project / name), "Check the folder") from error
    return project / name
