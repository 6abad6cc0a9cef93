"""A finished set of fabrication files of any tool: which file is what, the board they describe, what is odd."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from zesty_trace.core.fabrication.drill_formats import settled_drill
from zesty_trace.core.fabrication.edges import Edges, edges_of
from zesty_trace.core.fabrication.guessing import Guess, guess, settled
from zesty_trace.core.fabrication.netlist356 import Record, read_netlist
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.drill_image import Drilled, DrillFormat, DrillImage
from zesty_trace.core.gerber.image import GerberImage
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.progress import Report, quiet
from zesty_trace.errors import Cancelled, InputError

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
    netlists: dict[str, list[Record]]
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

    A file that cannot be read is in `broken` with the reason, the others are read. InputError for names of files that
    are not there; Cancelled if `report` says so.
    """
    guesses = _guessed(files, told or {}, formats or {})
    images: dict[str, GerberImage] = {}
    drills: dict[str, DrillImage] = {}
    netlists: dict[str, list[Record]] = {}
    broken: dict[str, str] = {}
    for k, (name, text) in enumerate(sorted(files.items())):
        if not report(k / max(1, len(files)), f"reading {name}"):
            raise Cancelled
        found = guesses[name]
        try:
            if found.format == "gerber" and (found.role != "other" or found.unknown):
                images[name] = read_gerber(text, name)
            elif found.format == "netlist":
                netlists[name] = read_netlist(text, name)
            elif found.format == "drill" or found.role == "drill":
                drills[name] = read_drill(text, name, (formats or {}).get(name))
        except InputError as error:
            broken[name] = str(error)
    guesses |= settled({n: guesses[n] for n in images}, images)
    by_role, doubts = _by_role(images, guesses)
    copper = [image for (role, _), image in by_role.items() if role == "copper"]
    for name, drill in list(drills.items()):
        if drill.guessed:
            drills[name], words = settled_drill(drill, files[name], copper)
            doubts += [words] if words else []
    holes = [h for n, image in images.items() if guesses[n].role == "drill" for h in _flashed_holes(image, guesses[n])]
    holes += [_hole(n, drill, hole, guesses[n]) for n, drill in drills.items() for hole in drill.holes]
    return BoardSet(guesses, by_role, tuple(holes), drills, netlists, broken, tuple(doubts))


def _guessed(
    files: Mapping[str, str], told: Mapping[str, tuple[str, str]], formats: Mapping[str, DrillFormat]
) -> dict[str, Guess]:
    for name in (*told, *formats):
        if name not in files:
            raise InputError(f"There is no {name} in the set", name, f"It holds {', '.join(sorted(files)[:12])}")
    found = {name: guess(name, text) for name, text in sorted(files.items())}
    for name, (role, side) in told.items():
        found[name] = replace(found[name], role=role, side=side, why="you said so")
    return found


def _by_role(
    images: Mapping[str, GerberImage], guesses: Mapping[str, Guess]
) -> tuple[dict[tuple[str, str], GerberImage], list[str]]:
    """Return the images by what they are, and in words which are one thing twice."""
    found: dict[tuple[str, str], GerberImage] = {}
    doubts = []
    for name, image in images.items():
        key = guesses[name].role, guesses[name].side
        if key in found:
            doubts.append(
                f"{name} and {found[key].name} both say that they are {guesses[name]}: the second is not looked at"
            )
        elif key[0] not in ("other", "drill"):
            found[key] = image
    return found, doubts


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
