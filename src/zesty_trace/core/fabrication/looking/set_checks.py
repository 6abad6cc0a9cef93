"""Intake checks of the set as such: files that cannot be read, what is missing, the edge, units, registration."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from zesty_trace.core.fabrication.guessing import said_by_name
from zesty_trace.core.fabrication.looking.desk import Check, Desk, Query, Spot
from zesty_trace.core.findings import Severity

SHIFT_MM = 0.05  # of a layer or drill file against the copper: common practice
OUTSIDE_MM = 0.5
PRINT_OUTSIDE_MM = 5.0  # of parts that stand over the edge


def _files(d: Desk) -> Iterator[Query]:
    for name, why in d.board.broken.items():
        yield Query(Severity.STOP, "unreadable", f"{name} cannot be read", f"{why}")
    for name, guess in d.board.guesses.items():
        if guess.unknown:
            yield Query(
                Severity.FIX, "unknown file", f"Nothing tells what {name} is", "Say which layer it is, or leave it out."
            )
        elif guess.format == "gerber" and guess.role == "other":
            yield Query(Severity.NOTE, "unknown file", f"{name} is not looked at", f"{guess.why.capitalize()}.")
    for doubt in d.board.doubts:
        yield Query(Severity.FIX, "doubt", doubt, "Say which is right.")
    for drill in d.board.drills.values():
        if drill.guessed:
            words = "; ".join(r.text for r in drill.remarks)
            yield Query(
                Severity.FIX, "drill format", f"{drill.name} does not say how its numbers are read",
                f"It was read as {drill.format}: {words}. Confirm it.",
            )  # fmt: skip


def _names(d: Desk) -> Iterator[Query]:
    """Find files whose attribute and name say different layers."""
    for image in d.board.images.values():
        guess, named = d.board.guesses[image.name], said_by_name(image.name)
        if named is None or not image.function or not named.side or named.role == "drill":
            continue
        inner = named.side.startswith("inner") and guess.side.startswith("inner")
        if named.role == guess.role and named.side != guess.side and not inner:
            yield Query(
                Severity.FIX, "swapped names", f"{image.name} says of itself that it is {guess}",
                f"Its name says {named}. One of them is wrong: layers may be exchanged.",
            )  # fmt: skip


def _missing(d: Desk) -> Iterator[Query]:
    there = set(d.board.images)
    layers = d.board.layers
    if not layers:
        yield Query(Severity.STOP, "missing layer", "There is no copper layer", "Add the copper files.")
        return
    for side in ("top", "bottom"):
        has = ("copper", side) in there
        extra = [i for k in ("mask", "paste") if (i := d.board.images.get((k, side))) and i.marks]
        if not has and extra:
            names = ", ".join(i.name for i in extra)
            yield Query(
                Severity.STOP, "missing layer", f"There is no {side} copper, but {names} is of that side",
                "Add the copper file, or say that the board has copper on one side only.",
            )  # fmt: skip
        if has and ("mask", side) not in there:
            yield Query(
                Severity.STOP, "missing layer", f"There is no {side} solder mask",
                "Without it the house either stops, or makes the side without mask. Add the file or say so.",
            )  # fmt: skip
    if len(layers) > 2 and len(layers) % 2:
        yield Query(
            Severity.STOP, "missing layer", f"There are {len(layers)} copper layers", "Boards have an even number."
        )
    if not d.board.drills and not d.board.holes:
        yield Query(Severity.STOP, "missing layer", "There is no drill file", "Add it, or say that there are no holes.")
    sides = {s for r, s in there if r == "silk"}
    if not sides:
        yield Query(Severity.NOTE, "missing layer", "There is no silk", "The board comes without any print.")


def _said_layers(d: Desk) -> Iterator[Query]:
    """Find fewer layers than the drill files go through."""
    for drill in d.board.drills.values():
        words = drill.attributes.get(".FileFunction", ())
        said = int(words[2]) if len(words) > 2 and words[2].isdigit() and len(words[2]) < 3 else 0
        if words[:1] == ("Plated",) and said > len(d.board.layers):
            yield Query(
                Severity.STOP, "missing layer", f"{drill.name} goes through {said} layers of copper",
                f"There are files of {len(d.board.layers)}. Add the missing ones.",
            )  # fmt: skip


def _undrilled(d: Desk) -> Iterator[Query]:
    """Find pads that are for holes and have none: by what the file calls them, else flashed on both faces."""
    from shapely import STRtree, points

    tree = STRtree([h.shape for h in d.board.holes])
    named: set[Spot] = set()
    flashed: dict[str, set[Spot]] = {}
    for side in ("top", "bottom"):
        image = d.board.images.get(("copper", side))
        for mark in image.marks if image is not None else ():
            if mark.kind == "flash" and mark.dark and mark.aperture is not None:
                spot = round(mark.points[0][0], 3), round(mark.points[0][1], 3)
                flashed.setdefault(side, set()).add(spot)
                if mark.aperture.function.startswith(("ViaPad", "ComponentPad")):
                    named.add(spot)
    both = flashed.get("top", set()) & flashed.get("bottom", set())
    spots = sorted(named or both)
    if not spots:
        return
    hit = set(tree.query(points(spots), predicate="intersects")[0].tolist())
    left = [p for k, p in enumerate(spots) if k not in hit]
    if left and (named or len(left) > max(2, len(spots) / 4)):
        yield Query(
            Severity.STOP if named else Severity.FIX, "missing layer",
            f"{len(left)} of {len(spots)} pads for holes have none",
            "Is a drill file missing, or of another board?", tuple(left),
        )  # fmt: skip


def _edge(d: Desk) -> Iterator[Query]:
    edges = d.board.edges
    if not edges.there:
        yield Query(Severity.STOP, "no outline", "There is no outline", "Add the file with the edge of the board.")
        return
    if edges.gaps:
        gap = max(g[2] for g in edges.gaps)
        yield Query(
            Severity.STOP, "open outline", "The outline is not closed",
            f"Lines end {gap:.3f} mm from the next one. Close them: the house cannot tell inside from outside.",
            tuple((x, y) for x, y, _ in edges.gaps),
        )  # fmt: skip
    if edges.board is None:
        if not edges.gaps:
            yield Query(Severity.STOP, "open outline", "The outline has no closed ring", "Draw the edge as a ring.")
        return
    if edges.divided:
        yield Query(
            Severity.FIX, "unclear cut-outs", "Lines divide the area of the board",
            "It is not clear what is cut out, scored, or two boards. Say so in the note.",
        )  # fmt: skip
    if edges.boards > 1:
        yield Query(
            Severity.FIX, "several boards", f"The outline holds {edges.boards} boards apart from each other",
            "Say that it is a panel, or what lies outside.",
        )  # fmt: skip
    width, height = edges.size_mm or (0.0, 0.0)
    small, large = d.limits.smallest_board, d.limits.largest_board
    if max(width, height) > large or min(width, height) < small:
        yield Query(
            Severity.STOP, "size", f"The board is {width:.2f} x {height:.2f} mm",
            f"{d.limits.name} makes {small:g} to {large:g} mm. Check the units of the files.",
        )  # fmt: skip


def _outside(d: Desk) -> Iterator[Query]:
    """Find files that do not lie on the board: another unit, another origin."""
    board = d.board.edges.board
    if board is None:
        boxes = [i.shape.bounds for (r, _), i in d.board.images.items() if r == "copper" and not i.shape.is_empty]
        if not boxes:
            return
        reach = np.array(boxes)
        (x0, y0), (x1, y1) = reach[:, :2].min(axis=0), reach[:, 2:].max(axis=0)
    else:
        x0, y0, x1, y1 = board.bounds
    wide = max(x1 - x0, y1 - y0, 1e-6)
    for name, (a0, b0, a1, b1) in _extents(d):
        far = max(x0 - a0, y0 - b0, a1 - x1, b1 - y1)
        size = max(a1 - a0, b1 - b0)
        print_only = d.board.guesses[name].role == "silk"
        if far <= (PRINT_OUTSIDE_MM if print_only else max(OUTSIDE_MM, 0.02 * wide)):
            continue
        if size > 8 * wide or size < wide / 12:
            factor = size / wide
            yield Query(
                Severity.STOP, "unit", f"{name} is {factor:.3g} times as large as the board",
                f"It spans {size:.2f} mm, the board {wide:.2f} mm: it may be in another unit (25.4) or number format.",
            )  # fmt: skip
        else:
            yield Query(
                Severity.FIX if print_only else Severity.STOP, "misregistered",
                f"{name} reaches {far:.2f} mm beyond the board",
                "It has another origin or another unit than the outline. Write all files with one origin.",
                ((a0, b0), (a1, b1)),
            )  # fmt: skip


def _extents(d: Desk) -> Iterator[tuple[str, tuple[float, float, float, float]]]:
    for (role, _), image in d.board.images.items():
        if role not in ("outline", "score") and not image.shape.is_empty:
            yield image.name, image.shape.bounds
    for name in sorted({h.file for h in d.board.holes}):
        points = np.array([p for h in d.board.holes if h.file == name for p in h.points])
        yield name, (*points.min(axis=0).tolist(), *points.max(axis=0).tolist())  # type: ignore[misc]


def _registration(d: Desk) -> Iterator[Query]:
    """Find drills and masks that are shifted against the copper as a whole."""
    pads = _flashes(d, "copper")
    if len(pads) < 4:
        return
    for name in sorted({h.file for h in d.board.holes if h.plated is not False}):
        spots = np.array([h.points[0] for h in d.board.holes if h.file == name and not h.slot]).reshape(-1, 2)
        yield from _shifted(name, spots, pads, "drill")
    for side in ("top", "bottom"):
        own, image = _flashes(d, "copper", side), d.board.images.get(("mask", side))
        if image is not None and len(own) >= 4:
            spots = np.array([m.points[0] for m in image.marks if m.kind == "flash"]).reshape(-1, 2)
            yield from _shifted(image.name, spots, own, "mask")


def _flashes(d: Desk, role: str, side: str = "") -> Any:
    found = [
        m.points[0]
        for (r, s), image in d.board.images.items()
        if r == role and (not side or s == side)
        for m in image.marks
        if m.kind == "flash" and m.dark
    ]
    return np.array(found).reshape(-1, 2)


def _shifted(name: str, spots: Any, pads: Any, what: str) -> Iterator[Query]:
    from scipy.spatial import cKDTree

    if len(spots) < 3:
        return
    away, nearest = cKDTree(pads).query(spots)
    near = away < 1.5
    if near.sum() < max(3, len(spots) / 2):
        return
    shifts = pads[nearest[near]] - spots[near]
    middle = np.median(shifts, axis=0)
    alike = np.hypot(*(shifts - middle).T) < 0.02
    far = float(np.hypot(*middle))
    if far > SHIFT_MM / 2 and alike.mean() > 0.6:
        severity = Severity.STOP if far > SHIFT_MM else Severity.FIX
        yield Query(
            severity, "misregistered",
            f"{name} is shifted by {-middle[0]:+.3f}, {-middle[1]:+.3f} mm against the copper",
            f"{int(alike.sum())} of {len(spots)} places lie so beside pads. Write the {what} with the same origin.",
            tuple(map(tuple, spots[near][alike][:20].tolist())),
        )  # fmt: skip


SET_CHECKS: list[tuple[str, Check]] = [
    ("files", _files),
    ("names of layers", _names),
    ("missing layers", _missing),
    ("layers that drills go through", _said_layers),
    ("pads without holes", _undrilled),
    ("outline", _edge),
    ("units and origin", _outside),
    ("registration", _registration),
]
