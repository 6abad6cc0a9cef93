"""Firmware images: Intel HEX, S-record, ELF and plain binary. What is in one, does it fit the target.

Parsing by bincopy.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.firmware.formats import sort_of
from zesty_trace.core.firmware.targets import Target
from zesty_trace.errors import InputError, own_words
from zesty_trace.files import read_given, read_inside
from zesty_trace.names import check_name

ERASED = 0xFF
EOF_RECORD = ":00000001FF"
TOP = 0xFFFFFFFF
CONTROLLER_MACHINES = (40, 83, 94, 105, 243)  # machine numbers of controllers in the ELF registry


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
    """Return the image in a file that a person chose; a binary one is placed at `base_address`. InputError."""
    return parse_image(read_given(path, "image"), path.name, base_address)


def image_inside(project: Path, name: str, base_address: int = 0) -> Image:
    """Return the image of this name in a project's `firmware` folder. InputError."""
    check_name(name, "file name", "images")
    return parse_image(read_inside(project, f"firmware/{name}", "image"), name, base_address)


def parse_image(data: bytes, name: str, base_address: int = 0) -> Image:
    """Return the image in `data`: Intel HEX, S-record, ELF or plain binary, known by the content.

    InputError, with the line where there are lines, for a damaged or cut-off file and for what is no firmware.
    """
    sort = sort_of(data, name)
    digest = hashlib.sha256(data).hexdigest()
    if sort == "binary":
        if not 0 <= base_address <= TOP or base_address + len(data) > TOP + 1:
            raise InputError("The image does not fit below 4 GB", name, "Check the address of the binary file")
        return Image(name, digest, (Segment(base_address, data),))
    with own_words("image"):
        segments = {"hex": _parse_hex, "srec": _parse_srec, "elf": _parse_elf}[sort](data, name)
    if not segments:
        raise InputError("The file holds no data", name, "Build the firmware again")
    if any(s.end > TOP + 1 for s in segments):
        raise InputError("The image does not fit below 4 GB", name, "Build the firmware again")
    return Image(name, digest, segments)


def _lines(data: bytes, name: str, what: str) -> list[tuple[int, str]]:
    try:
        text = data.decode("ascii")
    except UnicodeDecodeError as error:
        raise InputError(f"This is no {what} file", name, "Choose the image file") from error
    return [(n, line.strip()) for n, line in enumerate(text.splitlines(), 1) if line.strip()]


def _parse_hex(data: bytes, name: str) -> tuple[Segment, ...]:
    import bincopy

    lines = _lines(data, name, "Intel HEX")
    for number, line in lines:
        _unpack(bincopy.unpack_ihex, line, f"{name} line {number}")
    ends = [k for k, (_, line) in enumerate(lines) if line.upper() == EOF_RECORD]
    if not ends:
        raise InputError("The file has no end record, so it is cut off", name, "Copy or build it again")
    if ends[0] != len(lines) - 1:
        raise InputError("Records follow the end record", f"{name} line {lines[ends[0] + 1][0]}", "Build it again")
    return _segments("add_ihex", "\n".join(line for _, line in lines), name)


def _parse_srec(data: bytes, name: str) -> tuple[Segment, ...]:
    import bincopy

    lines = _lines(data, name, "S-record")
    for number, line in lines:
        _unpack(bincopy.unpack_srec, line, f"{name} line {number}")
    if not lines or lines[-1][1][:2] not in ("S5", "S6", "S7", "S8", "S9"):
        raise InputError("The file has no end record, so it is cut off", name, "Copy or build it again")
    counted = next((int(line[4:-2], 16) for _, line in lines if line[:2] in ("S5", "S6")), None)
    if counted is not None and counted != sum(line[:2] in ("S1", "S2", "S3") for _, line in lines):
        raise InputError(f"The file says that it has {counted} records and has others", name, "Copy or build it again")
    return _segments("add_srec", "\n".join(line for _, line in lines), name)


def _unpack(unpack: Callable[[str], object], line: str, where: str) -> None:
    import bincopy

    try:
        unpack(line)
    except (bincopy.Error, ValueError, IndexError) as error:
        raise InputError(f"Damaged record: {error}", where, "The file was cut or changed; build it again") from error


def _parse_elf(data: bytes, name: str) -> tuple[Segment, ...]:
    """Return the loadable contents.

    Only programs for controllers are taken (machine numbers of the ELF specification).
    """
    machine = int.from_bytes(data[18:20], "big" if data[5:6] == b"\x02" else "little")
    if machine not in CONTROLLER_MACHINES:
        raise InputError(
            "This is a program for a desktop computer, not an image", name, "Choose the controller's ELF file"
        )
    found = _segments("add_elf", data, name)
    if sum(len(s.data) for s in found) > len(data):
        raise InputError("The file is damaged: it holds more than it is long", name, "Build it again")
    return found


def _segments(add: str, content: str | bytes, name: str) -> tuple[Segment, ...]:
    import bincopy

    parsed = bincopy.BinFile()
    try:
        getattr(parsed, add)(content)
    except Exception as error:  # the parsers below it raise many unrelated types
        raise InputError(f"Damaged file: {str(error)[:120]}", name, "Build it again") from error
    return tuple(Segment(s.address, bytes(s.data)) for s in parsed.segments)


IMAGE_FIT = rule(
    "image fit",
    Severity.STOP,
    "An image outside the flash is lost or wraps round over itself.",
    "memory map of the target",
    limits="the flash of the target",
    station="flash",
)
IMAGE_START = rule(
    "image start",
    Severity.FIX,
    "The chip would be written and verified, and then not start.",
    "exception vector table (DDI 0403)",
    limits="the memory and the code of the image",
    station="flash",
)


def fit_findings(image: Image, target: Target) -> list[Finding]:
    """Return what keeps the image from being written to the target; a note on the room left if nothing does."""
    found = []
    for s in image.segments:
        if s.address < target.flash_start or s.end > target.flash_end:
            over = max(0, s.end - target.flash_end)
            what = f"{over} bytes too large" if over and s.address >= target.flash_start else "outside the flash"
            found.append(
                IMAGE_FIT.found(
                    Subject(which=f"{s.address:08x}"),
                    f"{image.name} does not fit: {what}",
                    f"0x{s.address:08X} to 0x{s.end - 1:08X}; {target.name} has 0x{target.flash_start:08X} to "
                    f"0x{target.flash_end - 1:08X} ({target.flash_bytes // 1024} KB). Choose the image for this "
                    "target.",
                    value=float(s.end - s.address),
                    limit=float(target.flash_bytes),
                    unit="bytes",
                )
            )
    if not found:
        found += vector_findings(image, target)
        share = image.size / target.flash_bytes
        found.append(
            IMAGE_FIT.found(
                Subject(which="fits"),
                f"{image.name} fits {target.name}",
                f"{image.size:,} of {target.flash_bytes:,} bytes ({share:.0%}).",
                severity=Severity.NOTE,
                value=float(image.size),
                limit=float(target.flash_bytes),
                unit="bytes",
            )
        )
    return found


def vector_findings(image: Image, target: Target) -> list[Finding]:
    """Return what is wrong with the first two words of the flash.

    The stack must lie in the memory, the start in the image.

    Source: the exception vector table of the ARMv7-M and ARMv6-M architecture manuals (DDI 0403, DDI 0419): word 0 is
    the first stack pointer, word 1 the address of the reset routine with its lowest bit set. A target without such a
    table, and an image that does not begin at the flash's start, are not judged.
    """
    head = image.flat(target.flash_start, 8)
    if not target.ram_bytes or all(s.address > target.flash_start for s in image.segments):
        return []
    stack, start = (int.from_bytes(head[k : k + 4], "little") for k in (0, 4))
    wrong = []
    if not target.ram_start < stack <= target.ram_start + target.ram_bytes or stack % 4:
        wrong.append(f"the stack would begin at 0x{stack:08X}, outside the memory")
    inside = any(s.address <= start - 1 < s.end for s in image.segments)
    if not start % 2 or not inside:
        wrong.append(f"it would start at 0x{start:08X}, where the image has no code")
    if not wrong:
        return []
    return [
        IMAGE_START.found(
            Subject(which=image.name),
            f"{image.name} cannot start on {target.name}",
            f"By its first two words {' and '.join(wrong)}. Choose the image built for this chip and address.",
        )
    ]


def pages_of(image: Image, target: Target) -> list[int]:
    """Return the flash pages that the image touches, rising."""
    pages = set()
    for s in image.segments:
        first = (s.address - target.flash_start) // target.page_bytes
        last = (s.end - 1 - target.flash_start) // target.page_bytes
        pages |= set(range(first, last + 1))
    return sorted(pages)
