"""Writing image files in the Gerber layer format, X2 (specification revision 2023.08), millimetres, 4.6 digits."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any


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
        self._definitions: list[str] = []
        self._body: list[str] = []
        self._current = 0
        self._dark = True
        self._attributes = ""

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

    def draw(self, points: Sequence[tuple[float, float]], width: float, function: str = "Conductor") -> None:
        """Draw a polyline with a round pen."""
        self._polarity(True)
        self._aperture(f"C,{width:.6f}", function)
        self._body.append(f"{_xy(*points[0])}D02*")
        self._body += [f"{_xy(*p)}D01*" for p in points[1:]]

    def fill(self, polygons: Iterable[Any], function: str = "", dark: bool = True) -> None:
        """Fill polygons with holes (shapely), larger first, holes cleared before what lies in them.

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
        self._body.append(f"{_xy(*points[0])}D02*")
        self._body += [f"{_xy(*p)}D01*" for p in points[1:]]
        self._body.append("G37*")

    def text(self) -> str:
        """Return the whole file."""
        return "\n".join([*self._head, *self._definitions, "G01*", "%LPD*%", *self._body, "M02*", ""])


def _xy(x: float, y: float) -> str:
    return f"X{round(x * 1e6)}Y{round(y * 1e6)}"


def _clean(text: str) -> str:
    return "".join(c if c not in "*%,\\" else "_" for c in text)
