"""Intake checks of what is on the layers: tracks, gaps, rings, holes, mask, paste, silk, layers that are exchanged."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zesty_trace.core.fabrication.looking.desk import Check, Desk, Query
from zesty_trace.core.findings import Severity
from zesty_trace.core.geometry import buffered

ROUNDING_MM = 0.003
SILK_MM2 = 0.005  # of silk on bare metal: less is a rounding of shapes
VIA_MM = 0.45  # plated holes up to here are vias where nothing else tells
AGREES = 0.5  # of the openings of a side that have its copper below them


def _tracks(d: Desk) -> Iterator[Query]:
    thin = [t for t in d.measures.tracks if t.mm < d.limits.track - ROUNDING_MM]
    if thin:
        yield Query(
            Severity.STOP, "track", f"Tracks are {thin[0].mm:.3f} mm narrow on {thin[0].layer}",
            f"{d.limits.name} makes {d.limits.track:.2f} mm and more. Widen them, or order a finer service.",
            tuple((t.x, t.y) for t in thin), thin[0].layer,
        )  # fmt: skip


def _gaps(d: Desk) -> Iterator[Query]:
    tight = [g for g in d.measures.gaps if g.mm < d.limits.gap - ROUNDING_MM]
    if tight:
        yield Query(
            Severity.STOP, "gap", f"Copper is {tight[0].mm:.3f} mm apart on {tight[0].layer}",
            f"{d.limits.name} makes {d.limits.gap:.2f} mm and more. Move it apart, or order a finer service.",
            tuple((g.x, g.y) for g in tight), tight[0].layer,
        )  # fmt: skip


def _rings(d: Desk) -> Iterator[Query]:
    small = [(r, h) for r, h in d.measures.rings if r.mm < d.limits.ring - ROUNDING_MM]
    if small:
        ring, hole = small[0]
        breaks = "The drill breaks out of its pad" if ring.mm < 0 else f"Rings of copper are {ring.mm:.3f} mm narrow"
        yield Query(
            Severity.STOP, "ring", breaks,
            f"Hole of {hole.diameter:.2f} mm on {ring.layer}; {d.limits.name} keeps {d.limits.ring:.2f} mm. "
            "Enlarge the pads, or drill smaller.",
            tuple(dict.fromkeys((r.x, r.y) for r, _ in small)), ring.layer,
        )  # fmt: skip
    bare = d.measures.bare_pads
    if bare:
        yield Query(
            Severity.STOP, "ring", f"{len({h.points for _, h in bare})} plated holes have no pad on {bare[0][0]}",
            "A plated hole needs copper on both faces. Is the drill file of this board, and in its unit?",
            tuple(dict.fromkeys(h.points[0] for _, h in bare)), bare[0][0],
        )  # fmt: skip


def _holes(d: Desk) -> Iterator[Query]:
    rows = d.measures.hole_table
    small = [r for r in rows if r.diameter < (d.limits.slot if r.slots == r.holes else d.limits.drill) - ROUNDING_MM]
    large = [r for r in rows if r.diameter > d.limits.largest_drill + ROUNDING_MM]
    if small:
        least = small[0]
        what = "slots" if least.slots == least.holes else "holes"
        limit = d.limits.slot if what == "slots" else d.limits.drill
        spots = [h.points[0] for h in d.board.holes if round(h.diameter, 3) == least.diameter]
        yield Query(
            Severity.STOP, "drill", f"{least.holes} {what} are {least.diameter:.3f} mm wide",
            f"{d.limits.name} makes {limit:.2f} mm and more.", tuple(spots),
        )  # fmt: skip
    if large:
        yield Query(
            Severity.FIX, "drill", f"{large[-1].holes} holes are {large[-1].diameter:.2f} mm wide",
            f"Above {d.limits.largest_drill:g} mm they are milled: have them in the outline file.",
        )  # fmt: skip
    twice: dict[tuple[float, float], int] = {}
    for hole in d.board.holes:
        if not hole.slot:
            key = round(hole.points[0][0], 3), round(hole.points[0][1], 3)
            twice[key] = twice.get(key, 0) + 1
    again = [k for k, n in twice.items() if n > 1]
    if again:
        yield Query(
            Severity.FIX, "drill", f"{len(again)} places are drilled twice", "A drill may break there. Take one off.",
            tuple(again),
        )  # fmt: skip
    near = [g for g in d.measures.hole_gaps if g.mm < d.limits.hole_to_hole - ROUNDING_MM]
    near = [g for g in near if (round(g.x, 3), round(g.y, 3)) not in twice or twice[round(g.x, 3), round(g.y, 3)] < 2]
    if near:
        yield Query(
            Severity.FIX, "hole to hole", f"Holes are {near[0].mm:.3f} mm apart",
            f"{d.limits.name} keeps a wall of {d.limits.hole_to_hole:.2f} mm.", tuple((g.x, g.y) for g in near),
        )  # fmt: skip
    near = [a for a in d.measures.passing if a.mm < d.limits.inner_to_hole - ROUNDING_MM]
    if near:
        yield Query(
            Severity.FIX, "hole and copper", f"Plated holes pass {near[0].mm:.3f} mm from copper of {near[0].layer}",
            f"{d.limits.name} keeps {d.limits.inner_to_hole:.2f} mm: a drill that wanders shorts them.",
            tuple((a.x, a.y) for a in near), near[0].layer,
        )  # fmt: skip


def _to_edge(d: Desk) -> Iterator[Query]:
    board = d.board.edges.board
    if board is None:
        return
    rim = buffered(board.boundary, d.limits.copper_to_edge - ROUNDING_MM)
    for layer in d.board.layers:
        copper = d.board.copper(layer)
        over = copper.intersection(rim).union(copper.difference(board))
        parts = [p for p in getattr(over, "geoms", [over]) if p.area > 1e-3]
        if parts:
            spots = tuple((p.representative_point().x, p.representative_point().y) for p in parts)
            yield Query(
                Severity.FIX, "copper to edge",
                f"{layer} copper is nearer than {d.limits.copper_to_edge:.2f} mm to the edge",
                "Milling lays it bare or tears it. Pull it back, unless it is meant so.", spots, layer,
            )  # fmt: skip


def _mask(d: Desk) -> Iterator[Query]:
    """Find pads that the mask covers, by what the files call pads, else by what stands to reason."""
    for side in ("top", "bottom"):
        image, mask = d.board.images.get(("copper", side)), d.board.images.get(("mask", side))
        if image is None or mask is None:
            continue
        pads = list(_pads(d, side))
        opening = mask.shape
        covered = [p for p in pads if not opening.intersects(p)]
        spots = tuple((p.centroid.x, p.centroid.y) for p in covered)
        if pads and len(covered) == len(pads):
            yield Query(
                Severity.STOP, "closed mask", f"The {side} mask covers every pad",
                "Nothing could be soldered. Is it the file of this side, and not a plotted negative?", spots, side,
            )  # fmt: skip
        elif covered:
            yield Query(
                Severity.STOP if image.function else Severity.FIX, "closed mask",
                f"{len(covered)} pads of {len(pads)} on {side} have no opening in the mask",
                "They cannot be soldered. Open the mask, or say that they are meant to be covered.", spots, side,
            )  # fmt: skip
    thin = [w for w in d.measures.webs if w.mm < d.limits.web - ROUNDING_MM]
    if thin:
        yield Query(
            Severity.NOTE, "mask web", f"Webs of mask are {thin[0].mm:.3f} mm narrow",
            f"Below {d.limits.web:.2f} mm the house leaves them out: solder may bridge.",
            tuple((w.x, w.y) for w in thin), thin[0].layer,
        )  # fmt: skip


def _pads(d: Desk, side: str) -> Iterator[Any]:
    """Yield the pads of a side that are soldered: by their function, else flashes that are no vias."""
    from shapely import Point, STRtree

    image = d.board.images["copper", side]
    named = any((m.aperture and m.aperture.function) or m.attributes.get(".AperFunction") for m in image.marks)
    holes = [h for h in d.board.holes if not h.slot]
    tree = STRtree([h.shape for h in holes])
    for mark, shape in zip(image.marks, image.shapes, strict=True):
        if not mark.dark or mark.kind == "stroke":
            continue
        function = (mark.aperture.function if mark.aperture else "") or ",".join(
            mark.attributes.get(".AperFunction", ())
        )
        if named or mark.kind == "region":
            if function.startswith(("SMDPad", "ComponentPad", "BGAPad", "TestPad", "ConnectorPad", "HeatsinkPad")):
                yield shape
            continue
        hit = tree.query(Point(mark.points[0]), predicate="intersects").tolist()
        via = any(holes[k].diameter <= VIA_MM for k in hit)
        if not via and not shape.is_empty:
            yield shape


def _paste(d: Desk) -> Iterator[Query]:
    from shapely import union_all

    through = union_all([h.shape for h in d.board.holes if h.plated is not False and h.diameter > VIA_MM])
    for side in ("top", "bottom"):
        paste = d.board.shape("paste", side)
        if paste.is_empty:
            continue
        over = [p for p in getattr(paste, "geoms", [paste]) if not through.is_empty and p.intersects(through)]
        if over:
            yield Query(
                Severity.FIX, "paste on a hole", f"{len(over)} openings of the {side} stencil lie over holes",
                "Paste runs into the hole, and the part that stands in it has none. Take them out of the stencil.",
                tuple((p.centroid.x, p.centroid.y) for p in over), side,
            )  # fmt: skip
        if ("copper", side) in d.board.images:
            copper = d.board.copper(side)
            beside = [p for p in getattr(paste, "geoms", [paste]) if p.intersection(copper).area < 0.5 * p.area]
            if beside:
                yield Query(
                    Severity.STOP, "paste beside copper",
                    f"{len(beside)} openings of the {side} stencil have no pad below",
                    "Is the paste file of this side and of this board?",
                    tuple((p.centroid.x, p.centroid.y) for p in beside), side,
                )  # fmt: skip


def _exchanged(d: Desk) -> Iterator[Query]:
    """Find masks and pastes that fit the copper of the other side instead of their own."""
    from shapely import union_all

    drilled = union_all([h.shape.buffer(0.3) for h in d.board.holes])
    if not {"top", "bottom"} <= set(d.board.layers):
        return
    for role in ("mask", "paste"):
        for side, other in (("top", "bottom"), ("bottom", "top")):
            image = d.board.images.get((role, side))
            openings = image.shape.difference(drilled) if image is not None else None
            if openings is None or openings.area < 0.2:
                continue
            marks = _pad_area(d, side), _pad_area(d, other)
            own, far = (openings.intersection(pads).area / openings.area for pads in marks)
            if own < AGREES and far > own + 0.25:
                yield Query(
                    Severity.STOP, "swapped layers", f"The {side} {role} fits the {other} copper",
                    f"{100 * own:.0f} % of its openings lie on pads of its own side, {100 * far:.0f} % on the other's. "
                    "Two layers are exchanged.", (), side,
                )  # fmt: skip


def _pad_area(d: Desk, side: str) -> Any:
    from shapely import union_all

    image = d.board.images["copper", side]
    shapes = [s for m, s in zip(image.marks, image.shapes, strict=True) if m.kind == "flash" and m.dark]
    return union_all(shapes) if shapes else image.shape


def _silk(d: Desk) -> Iterator[Query]:
    for side in ("top", "bottom"):
        silk, mask = d.board.shape("silk", side), d.board.shape("mask", side)
        if silk.is_empty or mask.is_empty:
            continue
        over = silk.intersection(mask)
        parts = [p for p in getattr(over, "geoms", [over]) if p.area > SILK_MM2]
        if parts:
            yield Query(
                Severity.FIX, "silk on a pad", f"{side} silk lies on bare metal in {len(parts)} places",
                "The house clips it, or ink gets on pads that are soldered. Move it off the openings.",
                tuple((p.centroid.x, p.centroid.y) for p in parts), side,
            )  # fmt: skip
    thin = [s for s in d.measures.silk_lines if 0 < s.mm < d.limits.silk - ROUNDING_MM]
    if thin:
        yield Query(
            Severity.NOTE, "silk", f"Silk lines are {thin[0].mm:.3f} mm thin",
            f"Below {d.limits.silk:.2f} mm they may not print.", tuple((s.x, s.y) for s in thin), thin[0].layer,
        )  # fmt: skip


COPPER_CHECKS: list[tuple[str, Check]] = [
    ("tracks", _tracks),
    ("gaps", _gaps),
    ("rings", _rings),
    ("holes", _holes),
    ("copper and edge", _to_edge),
    ("mask", _mask),
    ("paste", _paste),
    ("exchanged layers", _exchanged),
    ("silk", _silk),
]
