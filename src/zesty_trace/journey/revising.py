"""The end of a revision."""

from __future__ import annotations

from pathlib import Path

from zesty_trace.core.design.model import Design, to_json
from zesty_trace.errors import StoreError
from zesty_trace.files import write_inside
from zesty_trace.names import check_name


def keep_revision(folder: Path, design: Design) -> Path:
    """Keep the design of a finished revision beside the project. StoreError if it cannot be written."""
    check_name(design.revision, "revision", "revision")
    path = folder / f"design-rev-{design.revision}.json"
    try:
        write_inside(folder, path.name, to_json(design))
    except OSError as error:
        raise StoreError(
            f"Could not keep rev {design.revision}: {error.strerror}", str(path), "Free some space"
        ) from error
    return path
