"""Reading fabrication files back, from the text alone: what the board house will see.

Understands the part of the Gerber format that two-layer boards use: apertures C, R and O, draws, flashes, regions,
polarity; and XNC or Excellon drill files with decimal millimetres or inches.
"""

from __future__ import annotations

import io
import lzma
import math
import re
import zipfile
import zlib
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from zesty_trace.errors import InputError, own_words

MAX_FILE_BYTES = 32_000_000
MAX_ZIP_BYTES = 96_000_000
MAX_ENTRIES = 200
MAX_STEPS = 300_000
FAR_MM = 2000.0
LARGEST_MM = 1000.0  # of an aperture or a drill
_COORD = re.compile(r"^(?:X([-+]?\d+))?(?:Y([-+]?\d+))?(?:I[-+]?\d+)?(?:J[-+]?\d+)?D0?([123])$")


@dataclass
class _State:
    scale: float = 1e-6
    unit: float = 1.0
    apertures: dict[int, tuple[str, list[float]]] = field(default_factory=dict)
    current: int = 0
    x: float = 0.0
    y: float = 0.0
    dark: bool = True
    region: list[list[tuple[float, float]]] | None = None
    function: str = ""


@dataclass(frozen=True)
class ImageFile:
    """One image read back: its function and its area (shapely, mm)."""

    function: str
    shape: Any


@own_words("image file")
def read_gerber(text: str, name: str = "file") -> ImageFile:
    """Return the image in `text`. InputError with the line of what cannot be read."""
    state = _State()
    steps: list[tuple[bool, Any]] = []
    ended = False
    for number, command in _commands(text, name):
        where = f"{name} line {number}"
        if command.startswith("%"):
            _extended(state, command.strip("%"), where)
        elif command in ("M02", "M00"):
            ended = True
        else:
            _word(state, command, steps, where)
        if len(steps) > MAX_STEPS:
            raise InputError(f"There are over {MAX_STEPS:,} shapes", where, "No two-layer board needs so many")
    if not ended:
        raise InputError("The file ends without M02, so it is cut off", name, "Write the fabrication files again")
    return ImageFile(state.function, _paint(steps))


def _commands(text: str, name: str) -> list[tuple[int, str]]:
    found = []
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if not line:
            continue
        if line.startswith("%"):
            if not line.endswith("*%"):
                raise InputError("An extended command is not closed", f"{name} line {number}", "The file is damaged")
            found += [(number, "%" + part + "%") for part in line.strip("%").split("*") if part]
        else:
            found += [(number, part) for part in line.split("*") if part]
    return found


def _extended(state: _State, command: str, where: str) -> None:
    if command.startswith("FS"):
        match = re.match(r"FSLAX(\d)(\d)Y\1\2$", command)
        if not match:
            raise InputError(f"Number format {command} is not understood", where, "Absolute, leading zeros off")
        state.scale = 10.0 ** -int(match.group(2))
    elif command.startswith("MO"):
        state.unit = 25.4 if command == "MOIN" else 1.0
    elif command.startswith("AD"):
        match = re.match(r"ADD(\d+)([CRO]),([\d.X]+)$", command)
        if not match:
            raise InputError(
                f"Aperture {command} is not understood", where, "Circles, rectangles and obrounds are read"
            )
        state.apertures[_short_int(match.group(1), where)] = (
            match.group(2),
            _sizes(match.group(2), match.group(3), state.unit, where),
        )
    elif command.startswith("LP"):
        state.dark = command == "LPD"
    elif command.startswith("TF.FileFunction"):
        state.function = command.partition(",")[2]


def _word(state: _State, command: str, steps: list[tuple[bool, Any]], where: str) -> None:
    if command == "G36":
        state.region = []
    elif command == "G37":
        if state.region:
            steps.append((state.dark, _region(state.region)))
        state.region = None
    elif re.match(r"^(G0?1|G75|G74|G04.*)$", command):
        return
    elif match := re.match(r"^(?:G54)?D(\d{2,})$", command):
        state.current = _short_int(match.group(1), where)
        if state.current not in state.apertures:
            raise InputError(f"Aperture D{state.current} is used but not defined", where, "The file is damaged")
    elif match := _COORD.match(command.removeprefix("G01").removeprefix("G1")):
        _move(state, match, steps, where)
    else:
        raise InputError(f"“{command[:30]}” is not understood", where, "Arcs and macros are not read")


def _sizes(template: str, text: str, unit: float, where: str) -> list[float]:
    """Return the sizes of an aperture, mm. InputError for a wrong count or a size that no aperture has."""
    try:
        sizes = [float(v) * unit for v in text.split("X")]
    except ValueError:
        raise InputError(f"Aperture size {text[:30]} is no number", where, "The file is damaged") from None
    needed = 1 if template == "C" else 2
    if len(sizes) < needed or not all(0 <= s <= LARGEST_MM for s in sizes[:needed]):
        raise InputError(f"Aperture size {text[:30]} cannot be", where, "The file is damaged")
    if len(sizes) > needed:
        raise InputError("An aperture with a hole is not read", where, "Draw it without the hole")
    return sizes


def _short_int(text: str, where: str) -> int:
    if len(text) > 9:
        raise InputError(f"The number {text[:20]}… is too long", where, "The file is damaged")
    return int(text)


def _place(text: str | None, before: float, state: _State, where: str) -> float:
    if not text:
        return before
    digits = text.lstrip("+-0") or "0"
    if len(digits) > 12:
        raise InputError(f"The number {text[:20]}… is too long", where, "The file is damaged")
    found = int(digits) * (-1 if text.startswith("-") else 1) * state.scale * state.unit
    if abs(found) > FAR_MM:
        raise InputError(f"A point lies {abs(found):.0f} mm away", where, "Check the units of the file")
    return found


def _move(state: _State, match: re.Match[str], steps: list[tuple[bool, Any]], where: str) -> None:
    from shapely.geometry import LineString

    x, y = _place(match.group(1), state.x, state, where), _place(match.group(2), state.y, state, where)
    operation = match.group(3)
    if state.region is None and operation in "13" and state.current not in state.apertures:
        raise InputError("It draws before an aperture is chosen", where, "The file is damaged")
    if state.region is not None:
        if operation == "2":
            state.region.append([(x, y)])
        elif state.region:
            state.region[-1].append((x, y))
    elif operation == "1":
        template, size = state.apertures[state.current]
        if template != "C":
            raise InputError("Drawing with an aperture that is not round is not read", where, "Use a round one")
        steps.append((state.dark, LineString([(state.x, state.y), (x, y)]).buffer(size[0] / 2, quad_segs=16)))
    elif operation == "3":
        steps.append((state.dark, _flash(*state.apertures[state.current], x, y)))
    state.x, state.y = x, y


def _flash(template: str, size: list[float], x: float, y: float) -> Any:
    from shapely import Point, box
    from shapely.geometry import LineString

    if template == "C":
        return Point(x, y).buffer(size[0] / 2, quad_segs=16)
    w, h = size[0], size[1]
    if template == "R":
        return box(x - w / 2, y - h / 2, x + w / 2, y + h / 2)
    half = abs(w - h) / 2
    ends = [(x - half, y), (x + half, y)] if w > h else [(x, y - half), (x, y + half)]
    return LineString(ends).buffer(min(w, h) / 2, quad_segs=16)


def _region(contours: list[list[tuple[float, float]]]) -> Any:
    from shapely import Polygon, unary_union

    return unary_union([Polygon(c).buffer(0) for c in contours if len(c) > 2])


def _paint(steps: list[tuple[bool, Any]]) -> Any:
    """Return the image after all steps in order; runs of one polarity are joined first."""
    from shapely import Polygon, unary_union

    image: Any = Polygon()
    run: list[Any] = []
    dark = True
    for polarity, shape in [*steps, (not steps[-1][0], None)] if steps else []:
        if polarity != dark and run:
            joined = unary_union(run)
            image = image.union(joined) if dark else image.difference(joined)
            run = []
        dark = polarity
        if shape is not None:
            run.append(shape)
    return image


@own_words("drill file")
def read_drill(text: str, name: str = "file") -> list[tuple[float, float, float]]:
    """Return (x, y, diameter) of each hole, mm, a routed slot as holes along it.

    InputError with the line of what cannot be read.
    """
    reader = _DrillReader()
    for number, raw in enumerate(text.splitlines(), 1):
        reader.read(raw.split(";")[0].strip(), f"{name} line {number}")
        if len(reader.holes) > MAX_STEPS:
            raise InputError(f"There are over {MAX_STEPS:,} holes", name, "No two-layer board needs so many")
    if not reader.ended:
        raise InputError("The file ends without M30, so it is cut off", name, "Write the fabrication files again")
    return reader.holes


class _DrillReader:
    """Reads a drill file line by line."""

    def __init__(self) -> None:
        self.tools: dict[int, float] = {}
        self.holes: list[tuple[float, float, float]] = []
        self.unit, self.current, self.ended = 1.0, 0, False
        self.start: tuple[float, float, float] | None = None
        self.down = False

    def read(self, line: str, where: str) -> None:
        if line == "INCH":
            self.unit = 25.4
        elif line.startswith("T"):
            self._tool(line, where)
        elif line.startswith(("X", "Y")):
            if self.start is not None:
                raise InputError(f"“{line[:30]}” is not read", where, "End the slot with M16 and G05 first")
            self.holes.append(self._place(line, where))
        elif line == "M30":
            self.ended = True
        else:
            self._slot(line, where)

    def _place(self, line: str, where: str) -> tuple[float, float, float]:
        return _hole(line, self.unit, self.tools.get(self.current), where)

    def _tool(self, line: str, where: str) -> None:
        if match := re.match(r"^T(\d{1,6})C(\d+(?:\.\d*)?|\.\d+)", line):
            size = float(match.group(2)) * self.unit
            if not 0 < size <= LARGEST_MM:
                raise InputError(f"A drill of {size:g} mm cannot be", where, "The file is damaged")
            self.tools[int(match.group(1))] = size
        elif match := re.match(r"^T(\d{1,6})$", line):
            self.current = int(match.group(1))
            if self.current and self.current not in self.tools:
                raise InputError(f"Drill T{self.current} is used but not defined", where, "File is damaged")

    def _slot(self, line: str, where: str) -> None:
        """Take a step of a slot: to its start (G00), the cutter down (M15), along it (G01), up (M16), done (G05)."""
        if line.startswith("G00X"):
            self.start, self.down = self._place(line[3:], where), False
        elif line == "M15":
            self.down = True
        elif line.startswith("G01X") and self.down and self.start is not None:
            end = self._place(line[3:], where)
            self.holes += _along(self.start, end)
            self.start = end
        elif line == "M16":
            self.down = False
        elif line == "G05":
            self.start, self.down = None, False
        elif line.startswith(("R", "G85", "G0", "M25", "M97", "M98")):
            raise InputError(f"“{line[:30]}” is not read", where, "Write each hole by itself, slots as G00, M15, G01")


def _along(a: tuple[float, float, float], b: tuple[float, float, float]) -> list[tuple[float, float, float]]:
    """Return holes from one end of a slot to the other, a quarter of the drill apart or nearer."""
    count = min(MAX_STEPS, max(1, math.ceil(math.dist(a[:2], b[:2]) / (a[2] / 4))))
    return [(a[0] + (b[0] - a[0]) * k / count, a[1] + (b[1] - a[1]) * k / count, a[2]) for k in range(count + 1)]


_HOLE = re.compile(r"^X([-+]?\d*\.\d+|[-+]?\d+\.)Y([-+]?\d*\.\d+|[-+]?\d+\.)$")


def _hole(line: str, unit: float, size: float | None, where: str) -> tuple[float, float, float]:
    match = _HOLE.match(line)
    if match is None:
        raise InputError(f"“{line[:30]}” is not read", where, "Holes are read as X1.25Y3.5, both with a point")
    if size is None:
        raise InputError("A hole comes before its drill is chosen", where, "The file is damaged")
    x, y = float(match.group(1)) * unit, float(match.group(2)) * unit
    if max(abs(x), abs(y)) > FAR_MM:
        raise InputError("A hole lies more than 2 m away", where, "Check the units of the file")
    return x, y, size


@own_words("zip")
def read_zip(data: bytes) -> dict[str, str]:
    """Return name -> text of the files in a fabrication zip.

    InputError for something that is no zip, a path that leads outside, or more than a fabrication package holds: what
    is unpacked is counted as it is read, whatever the zip says of itself.
    """
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = archive.infolist()
        if len(entries) > MAX_ENTRIES:
            raise InputError(f"There are {len(entries)} files in it", "zip", "It is no fabrication package")
        return _unpacked(archive, entries)
    except (zipfile.BadZipFile, zlib.error, lzma.LZMAError, EOFError, NotImplementedError) as error:
        raise InputError("This is not a zip file, or it is damaged", "zip", "Write the package again") from error


def _unpacked(archive: zipfile.ZipFile, entries: list[zipfile.ZipInfo]) -> dict[str, str]:
    found: dict[str, str] = {}
    total = 0
    for entry in entries:
        path = PurePosixPath(entry.filename)
        if path.is_absolute() or ".." in path.parts or "\\" in entry.filename:
            raise InputError(f"{entry.filename} leads outside the zip", "zip", "Do not use this file")
        if entry.is_dir():
            continue
        if entry.flag_bits & 1:
            raise InputError(f"{entry.filename} is locked by a password", "zip", "Unlock it first")
        if entry.filename in found:
            raise InputError(f"{entry.filename} is in it twice", "zip", "Do not use this file")
        with archive.open(entry) as file:
            text = file.read(MAX_FILE_BYTES + 1)
        total += len(text)
        if len(text) > MAX_FILE_BYTES or total > MAX_ZIP_BYTES:
            raise InputError(
                f"It unpacks to over {total // 1_000_000} MB, too large", "zip", "It is no fabrication package"
            )
        found[entry.filename] = text.decode("utf-8", errors="replace")
    return found
