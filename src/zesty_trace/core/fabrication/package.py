"""The fabrication zip: all image, drill and table files of a board, the same bytes for the same design."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.fabrication.layers import all_files
from zesty_trace.core.fabrication.tables import bom_csv, centroid_csv
from zesty_trace.errors import EditError, StoreError
from zesty_trace.files import write_given, write_inside
from zesty_trace.names import slug

EPOCH = (2020, 1, 1, 0, 0, 0)


def fabrication_files(wired: Wired) -> dict[str, str]:
    """Return file name -> text of everything in the zip. EditError if nothing is placed yet."""
    design = wired.design
    if not design.board.outline or not design.board.placements:
        raise EditError("There is no board to write yet", "layout", "Place and route the parts first")
    files = all_files(wired)
    for variant in design.variants or ("",):
        suffix = f"-{variant.lower()}" if variant else ""
        files[f"bom{suffix}.csv"] = bom_csv(wired, variant)
        files[f"centroid{suffix}.csv"] = centroid_csv(wired, variant)
    return files


def zip_name(design: Design) -> str:
    """Return the file name of the zip: name and revision."""
    return f"{slug(design.name, 'board')}-rev-{slug(design.revision, 'a')}.zip"


def zip_bytes(files: dict[str, str]) -> bytes:
    """Return a zip of `files` with fixed dates, sorted by name."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(files):
            archive.writestr(zipfile.ZipInfo(name, EPOCH), files[name], zipfile.ZIP_DEFLATED)
    return buffer.getvalue()


def write_package(wired: Wired, folder: Path) -> Path:
    """Write the zip into `folder` and return its path. StoreError if the folder cannot be written."""
    design = wired.design
    data = zip_bytes(fabrication_files(wired))
    path = folder / zip_name(design)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_given(path, data)
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(path), "Choose another folder") from error
    return path


def keep_package(wired: Wired, project: Path) -> Path:
    """Write the zip into a project's `fabrication` folder and return its path. StoreError if it cannot be written."""
    design = wired.design
    name = f"fabrication/{zip_name(design)}"
    data = zip_bytes(fabrication_files(wired))
    try:
        write_inside(project, name, data)
    except StoreError:
        raise
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(project / name), "Check the folder") from error
    return project / name
