"""Firmware images: Intel HEX and plain binary. What is in one, and does it fit the target. Parsing by bincopy."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.firmware.targets import Target
from zesty_trace.errors import InputError

ERASED = 0xFF
EOF_RECORD = ":00000001FF"


@dataclass(frozen=True)
class Segment:
    """Bytes at an address."""

    address: int
    data: bytes

    @property
    def end(self) -> int:
        """The first address past the segment."""
        return self.address + len(self.data)


@dataclass(frozen=True)
class Image:
    """An image: where it came from, its hash over the file as it is, and its contents in address order."""

    name: str
    sha256: str
    segments: tuple[Segment, ...]

    @property
    def size(self) -> int:
        """Bytes in all segments."""
        return sum(len(s.data) for s in self.segments)

    def flat(self, start: int, size: int) -> bytes:
        """Return `size` bytes from `start`, erased bytes where the image has none."""
        out = bytearray([ERASED]) * size
        for s in self.segments:
            low, high = max(s.address, start), min(s.end, start + size)
            if low < high:
                out[low - start : high - start] = s.data[low - s.address : high - s.address]
        return bytes(out)


def read_image(path: Path, base_address: int = 0) -> Image:
    """Return the image in a file: Intel HEX by its content, else binary placed at `base_address`. InputError."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(f"Could not read: {error.strerror}", str(path), "Choose another file") from error
    return parse_image(data, path.name, base_address)


def parse_image(data: bytes, name: str, base_address: int = 0) -> Image:
    """Return the image in `data`. InputError with file and line for a damaged or cut-off HEX file."""
    if not data:
        raise InputError("The file is empty", name, "Build the firmware again")
    if name.lower().endswith((".exe", ".elf", ".zip", ".sh")) or data[:4] == b"\x7fELF" or data[:2] == b"MZ":
        raise InputError("This is a program or an archive, not an image", name, "Export an Intel HEX or binary file")
    digest = hashlib.sha256(data).hexdigest()
    if data[:1] == b":" or name.lower().endswith((".hex", ".ihex")):
        return Image(name, digest, _parse_hex(data, name))
    return Image(name, digest, (Segment(base_address, data),))


def _parse_hex(data: bytes, name: str) -> tuple[Segment, ...]:
    import bincopy

    try:
        text = data.decode("ascii")
    except UnicodeDecodeError as error:
        raise InputError("This is no Intel HEX file", name, "Choose the .hex or the .bin file") from error
    lines = [(n, line.strip()) for n, line in enumerate(text.splitlines(), 1) if line.strip()]
    for number, line in lines:
        try:
            bincopy.unpack_ihex(line)
        except (bincopy.Error, ValueError, IndexError) as error:
            raise InputError(
                f"Damaged record: {error}", f"{name} line {number}", "The file was cut or changed; build it again"
            ) from error
    if not any(line.upper() == EOF_RECORD for _, line in lines):
        raise InputError("The file has no end record, so it is cut off", name, "Copy or build it again")
    try:
        parsed = bincopy.BinFile()
        parsed.add_ihex("\n".join(line for _, line in lines))
    except bincopy.Error as error:
        raise InputError(f"Damaged file: {error}", name, "Build it again") from error
    segments = tuple(Segment(s.address, bytes(s.data)) for s in parsed.segments)
    if not segments:
        raise InputError("The file holds no data", name, "Build the firmware again")
    return segments


def fit_findings(image: Image, target: Target) -> list[Finding]:
    """Return what keeps the image from being written to the target; a note on the room left if nothing does."""
    found = []
    for s in image.segments:
        if s.address < target.flash_start or s.end > target.flash_end:
            over = max(0, s.end - target.flash_end)
            what = f"{over} bytes too large" if over and s.address >= target.flash_start else "outside the flash"
            found.append(
                _finding(
                    f"{s.address:08x}", Severity.STOP, f"{image.name} does not fit: {what}",
                    f"0x{s.address:08X} to 0x{s.end - 1:08X}; {target.name} has 0x{target.flash_start:08X} to "
                    f"0x{target.flash_end - 1:08X} ({target.flash_bytes // 1024} KB). Choose the image for this target.",
                    float(s.end - s.address), float(target.flash_bytes),
                )
            )  # fmt: skip
    if not found:
        share = image.size / target.flash_bytes
        found.append(
            _finding(
                "fits", Severity.NOTE, f"{image.name} fits {target.name}",
                f"{image.size:,} of {target.flash_bytes:,} bytes ({share:.0%}).", float(image.size),
                float(target.flash_bytes),
            )
        )  # fmt: skip
    return found


def _finding(key: str, severity: Severity, title: str, detail: str, value: float, limit: float) -> Finding:
    why = "An image outside the flash is lost or wraps round over itself."
    source = "memory map of the target"
    return Finding("image", key, severity, title, detail, why, source, "flash", value=value, limit=limit, unit="bytes")


def pages_of(image: Image, target: Target) -> list[int]:
    """Return the flash pages that the image touches, rising."""
    pages = set()
    for s in image.segments:
        first = (s.address - target.flash_start) // target.page_bytes
        last = (s.end - 1 - target.flash_start) // target.page_bytes
        pages |= set(range(first, last + 1))
    return sorted(pages)
