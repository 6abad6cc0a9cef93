"""What is in a fabrication zip from anybody: paths, sizes and programs are checked before anything is read."""

from __future__ import annotations

import io
import lzma
import zipfile
import zlib
from pathlib import PurePosixPath

from zesty_trace.errors import InputError, own_words

MAX_FILE_BYTES = 32_000_000
MAX_ZIP_BYTES = 96_000_000
MAX_ENTRIES = 200
PROGRAMS = frozenset(
    (".exe", ".dll", ".bat", ".cmd", ".com", ".scr", ".ps1", ".vbs", ".js", ".sh", ".msi", ".jar", ".lnk", ".app",
     ".apk", ".py", ".pif", ".hta", ".so", ".elf", ".bin", ".reg")
)  # fmt: skip
# The first bytes of programs: DOS and Windows, Linux, macOS (four kinds), scripts.
PROGRAM_STARTS = (
    b"MZ", b"\x7fELF", b"\xcf\xfa\xed\xfe", b"\xce\xfa\xed\xfe", b"\xfe\xed\xfa\xce", b"\xfe\xed\xfa\xcf", b"#!",
)  # fmt: skip
LEFT_ALONE = ("__MACOSX/", ".DS_Store", "Thumbs.db")


@own_words("zip")
def read_zip(data: bytes) -> dict[str, str]:
    """Return name -> text of the files in a fabrication zip.

    InputError for something that is no zip, a path that leads outside, a program, or more than a fabrication package
    holds: what is unpacked is counted as it is read, whatever the zip says of itself.
    """
    return {name: raw.decode("utf-8", errors="replace") for name, raw in read_zip_bytes(data).items()}


@own_words("zip")
def read_zip_bytes(data: bytes) -> dict[str, bytes]:
    """Return name -> content of the files in a fabrication zip; errors as of `read_zip`."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = archive.infolist()
        if len(entries) > MAX_ENTRIES:
            raise InputError(f"There are {len(entries)} files in it", "zip", "It is no fabrication package")
        return _unpacked(archive, entries)
    except (zipfile.BadZipFile, zlib.error, lzma.LZMAError, EOFError, NotImplementedError) as error:
        raise InputError("This is not a zip file, or it is damaged", "zip", "Write the package again") from error


def _unpacked(archive: zipfile.ZipFile, entries: list[zipfile.ZipInfo]) -> dict[str, bytes]:
    found: dict[str, bytes] = {}
    total = 0
    for entry in entries:
        path = PurePosixPath(entry.filename)
        if path.is_absolute() or ".." in path.parts or "\\" in entry.filename or ":" in entry.filename:
            raise InputError(f"{entry.filename} leads outside the zip", "zip", "Do not use this file")
        if entry.is_dir() or any(part in entry.filename for part in LEFT_ALONE):
            continue
        if entry.flag_bits & 1:
            raise InputError(f"{entry.filename} is locked by a password", "zip", "Unlock it first")
        if entry.external_attr >> 28 == 0xA:
            raise InputError(f"{entry.filename} is a link to another file", "zip", "Do not use this file")
        if entry.filename in found:
            raise InputError(f"{entry.filename} is in it twice", "zip", "Do not use this file")
        with archive.open(entry) as file:
            raw = file.read(MAX_FILE_BYTES + 1)
        total += len(raw)
        if len(raw) > MAX_FILE_BYTES or total > MAX_ZIP_BYTES:
            raise InputError(
                f"It unpacks to over {total // 1_000_000} MB, too large", "zip", "It is no fabrication package"
            )
        if path.suffix.lower() in PROGRAMS or raw.startswith(PROGRAM_STARTS):
            raise InputError(f"{entry.filename} is a program", "zip", "Fabrication data has none: do not use this file")
        found[entry.filename] = raw
    return found
