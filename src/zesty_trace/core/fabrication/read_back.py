"""Reading fabrication files back, from the text alone: what the board house will see.

Understands the part of the Gerber format that two-layer boards use: apertures C, R and O, draws, flashes, regions,
polarity; and XNC or Excellon drill files with decimal millimetres or inches.
"""

from __future__ import annotations

import io
import re
import zipfile
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from zesty_trace.errors import InputError

MAX_FILE_BYTES = 50_000_000
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
        state.apertures[int(match.group(1))] = (
            match.group(2),
            [float(v) * state.unit for v in match.group(3).split("X")],
        )
    elif command.startswith("LP"):
        state.dark = command == "LPD"
    elif command.startswith("TF.FileFunction"):
        state.function = command.split(",", 1)[1]


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
        state.current = int(match.group(1))
        if state.current not in state.apertures:
            raise InputError(f"Aperture D{state.current} is used but not defined", where, "The file is damaged")
    elif match := _COORD.match(command.removeprefix("G01").removeprefix("G1")):
        _move(state, match, steps)
    else:
        raise InputError(f"“{command[:30]}” is not understood", where, "Arcs and macros are not read")


def _move(state: _State, match: re.Match[str], steps: list[tuple[bool, Any]]) -> None:
    from shapely.geometry import LineString

    x = float(match.group(1)) * state.scale * state.unit if match.group(1) else state.x
    y = float(match.group(2)) * state.scale * state.unit if match.group(2) else state.y
    operation = match.group(3)
    if state.region is not None:
        if operation == "2":
            state.region.append([(x, y)])
        elif state.region:
            state.region[-1].append((x, y))
    elif operation == "1":
        _, size = state.apertures[state.current]
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


def read_drill(text: str, name: str = "file") -> list[tuple[float, float, float]]:
    """Return (x, y, diameter) of each hole, mm. InputError with the line of what cannot be read."""
    tools: dict[int, float] = {}
    holes = []
    unit, current, ended = 1.0, 0, False
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.split(";")[0].strip()
        if line == "INCH":
            unit = 25.4
        elif match := re.match(r"^T0*(\d+)C([\d.]+)", line):
            tools[int(match.group(1))] = float(match.group(2)) * unit
        elif match := re.match(r"^T0*(\d+)$", line):
            current = int(match.group(1))
            if current and current not in tools:
                raise InputError(
                    f"Drill T{current} is used but not defined", f"{name} line {number}", "File is damaged"
                )
        elif match := re.match(r"^X([-+]?[\d.]+)Y([-+]?[\d.]+)$", line):
            holes.append((float(match.group(1)) * unit, float(match.group(2)) * unit, tools[current]))
        elif line == "M30":
            ended = True
    if not ended:
        raise InputError("The file ends without M30, so it is cut off", name, "Write the fabrication files again")
    return holes


def read_zip(data: bytes) -> dict[str, str]:
    """Return name -> text of the files in a fabrication zip.

    InputError for something that is no zip, a path that leads outside, or a file too large to be one of ours.
    """
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except zipfile.BadZipFile as error:
        raise InputError("This is not a zip file, or it is damaged", "zip", "Write the package again") from error
    found = {}
    for entry in archive.infolist():
        path = PurePosixPath(entry.filename)
        if path.is_absolute() or ".." in path.parts:
            raise InputError(f"{entry.filename} leads outside the zip", "zip", "Do not use this file")
        if entry.file_size > MAX_FILE_BYTES:
            raise InputError(f"{entry.filename} is too large", "zip", "It is no fabrication file")
        if not entry.is_dir():
            found[entry.filename] = archive.read(entry).decode("utf-8", errors="replace")
    return found
