"""Writing image files in the Gerber layer format, X2 (specification revision 2023.08), millimetres, 4.6 digits."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Any

from zesty_trace.core.gerber.arcs import Step, steps_of


class GerberWriter:
    """Collects apertures and operations; `text` gives the file. Coordinates in mm."""

    def __init__(self, function: str, polarity: str = "Positive", part: str = "Single") -> None:
        self._head = [
            "%TF.GenerationSoftware,ZestyTrace,zesty-trace,0.1*%",
            f"%TF.Part,{part}*%",
            f"%TF.FileFunction,{function}*%",
            f"%TF.FilePolarity,{polarity}*%",
            "%TF.SameCoordinates,ZT*%",
            "%FSLAX46Y46*%",
            "%MOMM*%",
        ]
        self._apertures: dict[tuple[str, str], int] = {}
        self._macros: dict[str, str] = {}
        self._definitions: list[str] = []
        self._body: list[str] = []
        self._current = 0
        self._dark = True
        self._attributes = ""
        self._way = "G01*"

    def _aperture(self, template: str, function: str) -> None:
        key = (template, function)
        if key not in self._apertures:
            number = 10 + len(self._apertures)
            self._apertures[key] = number
            if function:
                self._definitions.append(f"%TA.AperFunction,{function}*%")
            self._definitions.append(f"%ADD{number}{template}*%")
            if function:
                self._definitions.append("%TD*%")
        if self._current != self._apertures[key]:
            self._current = self._apertures[key]
            self._body.append(f"D{self._current}*")

    def _polarity(self, dark: bool) -> None:
        if dark != self._dark:
            self._dark = dark
            self._body.append("%LPD*%" if dark else "%LPC*%")

    def attributes(self, net: str = "", ref: str = "", pin: str = "") -> None:
        """Attach net, component and pin to what follows; all empty takes them off."""
        wanted = []
        if ref and pin:
            wanted.append(f"%TO.P,{_clean(ref)},{_clean(pin)}*%")
        if net:
            wanted.append(f"%TO.N,{_clean(net)}*%")
        if ref and not pin:
            wanted.append(f"%TO.C,{_clean(ref)}*%")
        text = "".join(wanted)
        if text != self._attributes:
            if self._attributes:
                self._body.append("%TD*%")  # takes off what is said of objects; functions are said anew where needed
            self._body += wanted
            self._attributes = text

    def flash(self, shape: str, x: float, y: float, width: float, height: float, function: str = "") -> None:
        """Flash a rect, round or oblong aperture, its sides along the axes."""
        if shape == "round" and abs(width - height) < 1e-9:
            template = f"C,{width:.6f}"
        elif shape in ("round", "oblong"):
            template = f"O,{width:.6f}X{height:.6f}"
        else:
            template = f"R,{width:.6f}X{height:.6f}"
        self._polarity(True)
        self._aperture(template, function)
        self._body.append(f"{_xy(x, y)}D03*")

    def flash_turned(
        self, shape: str, x: float, y: float, width: float, height: float, turn_deg: float, function: str = ""
    ) -> None:
        """Flash a rectangle or an oblong turned counter-clockwise, as a macro."""
        if shape == "rect":
            self._macros.setdefault("TR", "%AMTR*21,1,$1,$2,0,0,$3*%")
            template = f"TR,{width:.6f}X{height:.6f}X{turn_deg:.4f}"
        else:
            long, short = max(width, height), min(width, height)
            along = math.radians(turn_deg + (90.0 if height > width else 0.0))
            half = (long - short) / 2
            dx, dy = half * math.cos(along), half * math.sin(along)
            self._macros.setdefault("TO", "%AMTO*21,1,$1-$2,$2,0,0,$3*1,1,$2,$4,$5*1,1,$2,0-$4,0-$5*%")
            template = f"TO,{long:.6f}X{short:.6f}X{math.degrees(along):.4f}X{dx:.6f}X{dy:.6f}"
        self._polarity(True)
        self._aperture(template, function)
        self._body.append(f"{_xy(x, y)}D03*")

    def draw(
        self, points: Sequence[tuple[float, float]], width: float, function: str = "Conductor", arcs: bool = True
    ) -> None:
        """Draw a polyline with a round pen; corners on a circle become an arc, unless they are meant as corners."""
        self._polarity(True)
        self._aperture(f"C,{width:.6f}", function)
        self._course(points, arcs)

    def _course(self, points: Sequence[tuple[float, float]], arcs: bool = True) -> None:
        """Go along points; corners that lie on a circle are one exact arc, unless they are meant as corners."""
        self._body.append(f"{_xy(*points[0])}D02*")
        here = points[0]
        for step in steps_of(points) if arcs else [Step(p) for p in points[1:]]:
            way, offset = "G01*", ""
            if step.centre is not None:
                way = "G03*" if step.left else "G02*"
                dx, dy = step.centre[0] - here[0], step.centre[1] - here[1]
                offset = f"I{round(dx * 1e6)}J{round(dy * 1e6)}"
            if way != self._way:
                self._body.append(way)
                self._way = way
            self._body.append(f"{_xy(*step.to)}{offset}D01*")
            here = step.to
        if self._way != "G01*":
            self._body.append("G01*")
            self._way = "G01*"

    def fill(self, polygons: Iterable[Any], function: str = "", dark: bool = True) -> None:
        """Fill polygons with holes (shapely), larger first, holes cleared before what lies in them.

        Round edges are written as chords: renderers are known that draw the arcs of areas upside down.
        Not `dark` clears instead; its polygons have no holes then, since what was there cannot be put back.
        """
        if function:
            self._body.append(f"%TA.AperFunction,{function}*%")
        for polygon in sorted(polygons, key=lambda p: -p.envelope.area):
            self._polarity(dark)
            self._region(list(polygon.exterior.coords))
            for ring in polygon.interiors if dark else ():
                self._polarity(False)
                self._region(list(ring.coords))
        self._polarity(True)
        if function:
            self._body.append("%TD.AperFunction*%")

    def _region(self, points: Sequence[tuple[float, float]]) -> None:
        if points[0] != points[-1]:
            points = [*points, points[0]]
        self._body.append("G36*")
        self._course(points, arcs=False)
        self._body.append("G37*")

    def text(self) -> str:
        """Return the whole file."""
        return "\n".join(
            [*self._head, *self._macros.values(), *self._definitions, "G01*", "G75*", "%LPD*%", *self._body, "M02*", ""]
        )


def _xy(x: float, y: float) -> str:
    return f"X{round(x * 1e6)}Y{round(y * 1e6)}"


def _clean(text: str) -> str:
    return "".join(c if c not in "*%,\\" else "_" for c in text)
