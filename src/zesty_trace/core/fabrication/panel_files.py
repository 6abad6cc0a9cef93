"""The files of a panel: every mark of every copy at its place, then what the panel adds."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from zesty_trace.core.fabrication.panel import (
    BITE_MM,
    FIDUCIAL_MM,
    FIDUCIAL_OPENING_MM,
    TOOLING_MM,
    Panel,
    Placed,
)
from zesty_trace.core.gerber.image import PLAIN, GerberImage
from zesty_trace.core.gerber.writing import GerberWriter

FUNCTIONS = {"mask": "Soldermask", "paste": "Paste", "silk": "Legend"}
PEN_MM = 0.1


def panel_files(panel: Panel) -> dict[str, str]:
    """Return file name -> text of the images, drills, outline and scores of a panel."""
    keys = sorted({k for p in panel.placed for k in p.board.images if k[0] != "outline"})
    layers = sorted({k for p in panel.placed for k in p.board.layers}, key=_depth)
    files = {}
    for role, side in keys:
        writer = GerberWriter(_function(role, side, layers), "Negative" if role == "mask" else "Positive", "Array")
        for placed in panel.placed:
            image = placed.board.images.get((role, side))
            if image is not None:
                _copy(writer, image, placed)
        _fiducials(writer, panel, role, side)
        files[f"panel-{role}-{side}.gbr"] = writer.text()
    files["panel-outline.gbr"] = outline_text(panel)
    if panel.scores:
        files["panel-score.gbr"] = score_text(panel)
    for plated in (True, False):
        files[f"panel-drill-{'plated' if plated else 'bare'}.xnc"] = drill_text(panel, plated, len(layers))
    return files


def _depth(layer: str) -> int:
    return {"top": 0, "bottom": 1000}.get(layer, int(layer[5:]) if layer.startswith("inner") else 500)


def _function(role: str, side: str, layers: list[str]) -> str:
    if role == "copper":
        return f"Copper,L{layers.index(side) + 1},{ {'top': 'Top', 'bottom': 'Bot'}.get(side, 'Inr') }"
    return f"{FUNCTIONS[role]},{'Top' if side == 'top' else 'Bot'}"


def _copy(writer: GerberWriter, image: GerberImage, placed: Placed) -> None:
    """Write the marks of an image shifted; what is no plain disc, rectangle or oblong as its area."""
    from shapely import affinity

    head = f"B{placed.number}."
    for mark, shape in zip(image.marks, image.shapes, strict=True):
        ref, pin = mark.pin or ("", "")
        component = mark.attributes.get(".C", ("",))[0]
        writer.attributes(
            head + mark.net if mark.net else "", head + (ref or component) if ref or component else "", pin
        )
        function = mark.aperture.function if mark.aperture else ",".join(mark.attributes.get(".AperFunction", ()))
        points = [(x + placed.dx, y + placed.dy) for x, y in mark.points]
        aperture = mark.aperture
        plain = mark.dark and mark.matrix == PLAIN and aperture is not None
        if plain and aperture is not None and mark.kind == "stroke" and aperture.round:
            writer.draw(points, aperture.sizes[0], function)
        elif plain and aperture is not None and mark.kind == "flash" and _simple(aperture):
            width, height = (*aperture.sizes, *aperture.sizes)[:2]
            form = {"C": "round", "R": "rect", "O": "oblong"}[aperture.template]
            writer.flash(form, *points[0], width, height, function)
        elif not shape.is_empty:
            area = affinity.translate(shape, placed.dx, placed.dy)
            parts = list(getattr(area, "geoms", [area]))
            writer.fill(parts if mark.dark else [q for p in parts for q in without_holes(p)], function, mark.dark)


def without_holes(polygon: Any) -> list[Any]:
    """Return parts of a polygon that have no holes: it is cut through each of them."""
    from shapely import box, get_parts

    if not polygon.interiors:
        return [polygon]
    x0, y0, x1, y1 = polygon.bounds
    middle = polygon.interiors[0].centroid.x
    halves = (box(x0 - 1, y0 - 1, middle, y1 + 1), box(middle, y0 - 1, x1 + 1, y1 + 1))
    parts = [p for h in halves for p in get_parts(polygon.intersection(h)).tolist() if p.geom_type == "Polygon"]
    return [q for p in parts for q in without_holes(p)]


def _simple(aperture: Any) -> bool:
    return aperture.template in "CRO" and len(aperture.sizes) == (1 if aperture.template == "C" else 2)


def _fiducials(writer: GerberWriter, panel: Panel, role: str, side: str) -> None:
    if side.startswith("inner") or role not in ("copper", "mask"):
        return
    writer.attributes()
    size = FIDUCIAL_MM if role == "copper" else FIDUCIAL_OPENING_MM
    for x, y in panel.fiducials:
        writer.flash("round", x, y, size, size, "FiducialPad,Panel" if role == "copper" else "")


def outline_text(panel: Panel) -> str:
    """Return the profile: the panel's edge, the channels between boards, and the boards' own cut-outs."""
    from shapely import affinity, box

    writer = GerberWriter("Profile,NP", part="Array")
    rings = [box(0, 0, panel.width, panel.height).exterior]
    rings += [ring for c in panel.channels for ring in (c.exterior, *c.interiors)]
    for placed in panel.placed:
        rings += [affinity.translate(c, placed.dx, placed.dy).exterior for c in placed.board.edges.cutouts]
    for ring in rings:
        writer.draw(list(ring.coords), PEN_MM, "Profile")
    return writer.text()


def score_text(panel: Panel) -> str:
    """Return the score lines."""
    writer = GerberWriter("Vcut", part="Array")
    for line in panel.scores:
        writer.draw(list(line), PEN_MM, "")
    return writer.text()


def drill_text(panel: Panel, plated: bool, layers: int) -> str:
    """Return a drill file of the panel (XNC), holes that no file calls plated or bare with the plated ones."""
    tools: dict[float, list[tuple[tuple[float, float], ...]]] = defaultdict(list)
    for placed in panel.placed:
        for hole in placed.board.holes:
            if (hole.plated is not False) == plated:
                points = tuple((x + placed.dx, y + placed.dy) for x, y in hole.points)
                tools[round(hole.diameter, 4)].append(points)
    if not plated:
        tools[BITE_MM] += [(at,) for at in panel.bites]
        tools[TOOLING_MM] += [(at,) for at in panel.tooling]
    sizes = sorted(size for size, holes in tools.items() if holes)
    kind = f"Plated,1,{layers},PTH" if plated else f"NonPlated,1,{layers},NPTH"
    lines = ["M48", f"; #@! TF.FileFunction,{kind}", "METRIC", *(f"T{k:02d}C{s:.3f}" for k, s in enumerate(sizes, 1))]
    lines += ["%", "G05"]
    for k, size in enumerate(sizes, 1):
        lines.append(f"T{k:02d}")
        lines += [_at(p[0]) for p in tools[size] if len(p) == 1]
        for points in (p for p in tools[size] if len(p) > 1):
            lines += [f"G00{_at(points[0])}", "M15", *(f"G01{_at(q)}" for q in points[1:]), "M16", "G05"]
    return "\n".join([*lines, "M30", ""])


def _at(spot: tuple[float, float]) -> str:
    return f"X{spot[0]:.4f}Y{spot[1]:.4f}"
