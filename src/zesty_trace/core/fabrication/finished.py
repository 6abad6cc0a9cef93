"""A finished set of fabrication files of any tool: which file is what, the board they describe, what is odd."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from zesty_trace.core.fabrication.drill_formats import settled_drill
from zesty_trace.core.fabrication.edges import Edges, edges_of
from zesty_trace.core.fabrication.guessing import Guess, guess, settled
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.drill_image import Drilled, DrillFormat, DrillImage
from zesty_trace.core.gerber.image import GerberImage
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled, InputError

Role = Literal["copper", "mask", "paste", "silk", "outline", "drill", "bom", "centroid", "netlist", "job", "other"]
SIDES = ("top", "bottom")


@dataclass(frozen=True)
class Hole:
    """A hole of the set, or a slot along points, mm; `plated` is None where no file says."""

    points: tuple[tuple[float, float], ...]
    diameter: float
    plated: bool | None
    file: str
    line: int
    tool: int = 0

    @cached_property
    def shape(self) -> Any:
        """Its area."""
        from shapely import LineString, Point

        course = LineString(self.points) if len(self.points) > 1 else Point(self.points[0])
        return course.buffer(self.diameter / 2, quad_segs=16)

    @property
    def slot(self) -> bool:
        """Whether it is longer than wide."""
        return len(self.points) > 1


@dataclass(frozen=True)
class BoardSet:
    """All that was read of a set. `images` has (role, side) -> image; inner copper is "inner1", "inner2" and so on."""

    guesses: dict[str, Guess]
    images: dict[tuple[str, str], GerberImage]
    holes: tuple[Hole, ...]
    drills: dict[str, DrillImage]
    texts: dict[str, str]
    broken: dict[str, str]
    doubts: tuple[str, ...] = ()
    _kept: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def layers(self) -> list[str]:
        """The layers of copper that there are files of, from the top down."""
        inner = sorted((s for r, s in self.images if r == "copper" and s.startswith("inner")), key=lambda s: int(s[5:]))
        found = {s for r, s in self.images if r == "copper"}
        return [s for s in ("top", *inner, "bottom") if s in found]

    def copper(self, layer: str) -> Any:
        """Return the copper of a layer, mm; a negative plane is what is left of the board."""
        key = f"copper {layer}"
        if key not in self._kept:
            image = self.images["copper", layer]
            shape = image.shape
            if image.negative:
                shape = self.edges.board.difference(shape) if self.edges.board is not None else shape
            self._kept[key] = shape
        return self._kept[key]

    def shape(self, role: str, side: str) -> Any:
        """Return what an image has drawn, mm; empty if there is no such file."""
        from shapely import Polygon

        image = self.images.get((role, side))
        return image.shape if image is not None else Polygon()

    @property
    def edges(self) -> Edges:
        """The edge of the board and its cut-outs, as far as the files say."""
        if "edges" not in self._kept:
            self._kept["edges"] = edges_of(self.images.get(("outline", "")))
        found: Edges = self._kept["edges"]
        return found

    def remarks(self) -> list[str]:
        """Return what is odd about the files, a sentence each."""
        found = list(self.doubts)
        read = [(i.name, i.remarks) for i in self.images.values()] + [(d.name, d.remarks) for d in self.drills.values()]
        found += [f"{name} {remark}" for name, remarks in read for remark in remarks]
        return found


def read_set(
    files: Mapping[str, str],
    told: Mapping[str, tuple[str, str]] | None = None,
    formats: Mapping[str, DrillFormat] | None = None,
    report: Report = quiet,
) -> BoardSet:
    """Read a set of files. `told` says what files are, name -> (role, side); `formats` how drill files are read.

    A file that cannot be read is in `broken` with the reason, the others are read. Cancelled if `report` says so.
    """
    told = told or {}
    guesses, images, drills, broken = {}, {}, {}, {}
    doubts: list[str] = []
    first = {name: guess(name, text) for name, text in files.items()}
    first |= {name: Guess(role, side, "you said so") for name, (role, side) in told.items() if name in files}
    for k, (name, text) in enumerate(sorted(files.items())):
        if not report(k / max(1, len(files)), f"reading {name}"):
            raise Cancelled
        found = first[name]
        guesses[name] = found
        try:
            if found.format == "gerber" and found.role != "other":
                images[name] = read_gerber(text, name)
            elif found.format == "drill" or found.role == "drill":
                drills[name] = read_drill(text, name, (formats or {}).get(name))
        except InputError as error:
            broken[name] = str(error)
    guesses |= settled({n: guesses[n] for n in images}, images, set(told))
    by_role: dict[tuple[str, str], GerberImage] = {}
    holes: list[Hole] = []
    for name, image in images.items():
        found = guesses[name]
        if found.role == "drill":
            holes += _flashed_holes(image, found)
        elif (found.role, found.side) in by_role:
            other = by_role[found.role, found.side].name
            doubts.append(f"{name} and {other} both say that they are {found}: the second is not looked at")
        elif found.role != "other":
            by_role[found.role, found.side] = image
    copper = [image for (role, _), image in by_role.items() if role == "copper"]
    for name, drill in list(drills.items()):
        if drill.guessed:
            drills[name], words = settled_drill(drill, files[name], copper)
            doubts += [words] if words else []
    for name, drill in drills.items():
        holes += [_hole(name, drill, hole, guesses[name]) for hole in drill.holes]
    return BoardSet(guesses, by_role, tuple(holes), drills, _tables(files, guesses), broken, tuple(doubts))


def _tables(files: Mapping[str, str], guesses: Mapping[str, Guess]) -> dict[str, str]:
    return {name: text for name, text in files.items() if guesses[name].format not in ("gerber", "drill")}


def _hole(name: str, drill: DrillImage, hole: Drilled, found: Guess) -> Hole:
    plated = drill.is_plated(hole)
    if plated is None and found.side in ("plated", "bare"):
        plated = found.side == "plated"
    return Hole(hole.points, hole.diameter, plated, name, hole.line, hole.tool)


def _flashed_holes(image: GerberImage, found: Guess) -> list[Hole]:
    """Return the holes of a drill file that is written as an image: its round flashes and strokes."""
    plated = {"plated": True, "bare": False}.get(found.side)
    return [
        Hole(mark.points, mark.aperture.sizes[0], plated, image.name, mark.line, mark.aperture.number)
        for mark in image.marks
        if mark.aperture is not None and mark.aperture.round and mark.dark
    ]
