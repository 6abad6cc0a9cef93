"""What tools and hands reach: the cutter at the edge, the plug that is pushed on from above."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from zesty_trace.core.board.copper import board_pads, body_shape, height_nm, outline_shape, pattern_of
from zesty_trace.core.board.rules.mouths import mouth_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Face
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

EDGE_PART_MM = 1.0
PLUG_MM = 1.0
TALLER_MM = 2.0
PROBE_MM = 0.5  # the least width of a pad that a hand-held probe can be held on: common practice

EDGE_PART = rule(
    "part at the edge",
    Severity.NOTE,
    "Breaking or cutting boards apart bends their edges: chips there crack, and a crack is seen only later.",
    "common practice",
    limits=f"surface parts {EDGE_PART_MM:g} mm from the edge, but for what belongs there",
    station="layout",
)
PLUG = rule(
    "no room for a plug",
    Severity.NOTE,
    "A plug is wider than its header: what stands taller beside it keeps it from going on.",
    "common practice",
    limits=f"nothing {TALLER_MM:g} mm taller within {PLUG_MM:g} mm of a header that is plugged from above",
    station="layout",
)
PROBED = rule(
    "net that no probe reaches",
    Severity.NOTE,
    "What cannot be touched cannot be measured: the test plan leaves it out, and a fault there shows only indirectly.",
    "common practice",
    limits=f"a test point, a pin in a hole, or a bare pad from {PROBE_MM:g} mm, on each net",
    station="layout",
)
ONE_FACE = rule(
    "probing takes both faces",
    Severity.NOTE,
    "Each board is turned over in the middle of its test, or the jig needs needles from both sides.",
    "common practice",
    limits="all nets in reach from one face",
    station="layout",
)


def check_access(wired: Wired) -> Iterator[Finding]:
    """Yield surface parts at the edge, headers that a plug does not go on, and what a probe does not reach."""
    yield from _at_the_edge(wired)
    yield from _plugs(wired)
    yield from _probed(wired)


def probe_faces(wired: Wired) -> dict[str, set[Face]]:
    """Return from which faces a hand-held probe reaches each net of more than one pad: pads below a part are out."""
    from shapely import STRtree, points

    placements = wired.design.board.placements
    pads = [p for p in board_pads(wired) if p.layers and p.net]
    counts = Counter(p.net for p in pads)
    found: dict[str, set[Face]] = {net: set() for net, count in counts.items() if count > 1}
    for face in FACES:
        bodies = {
            r: body_shape(wired, r)
            for r, s in placements.items()
            if r in wired.design.parts and s.side == face and wired.kind(r).assembled
        }
        refs = list(bodies)
        covers: dict[int, set[str]] = {}
        if refs and pads:
            spots = points([(mm(p.x_nm), mm(p.y_nm)) for p in pads])
            for k, b in STRtree(list(bodies.values())).query(spots, predicate="within").T.tolist():
                covers.setdefault(k, set()).add(refs[b])
        for k, pad in enumerate(pads):
            fits = pad.drill_nm or min(pad.width_nm, pad.height_nm) >= PROBE_MM * 1e6
            hidden = covers.get(k, set()) - {pad.pin.ref}  # the pads of a part itself stick out from below it
            if pad.net in found and face in pad.layers and fits and not hidden:
                found[pad.net].add(face)
    return found


def _probed(wired: Wired) -> Iterator[Finding]:
    faces = probe_faces(wired)
    never = sorted(net for net, where in faces.items() if not where)
    if never:
        yield PROBED.found(
            Subject(),
            f"No probe reaches {len(never)} nets",
            f"{', '.join(never[:12])}: add a test point where one matters (“add TP9 test_point” in Schematic).",
            nets=tuple(never),
            value=float(len(never)),
            limit=0.0,
            unit="nets",
        )
    only: dict[Face, list[str]] = {
        face: sorted(net for net, where in faces.items() if where == {face}) for face in FACES
    }
    if all(only.values()):
        fewer = min(FACES, key=lambda face: len(only[face]))
        yield ONE_FACE.found(
            Subject(),
            f"{len(only[fewer])} nets are in reach of a probe from the {fewer} only, {max(map(len, only.values()))} "
            "from the other face only",
            f"From the {fewer}: {', '.join(only[fewer][:12])}. Give them a test point on the other face.",
            nets=tuple(only[fewer]),
            value=float(len(only[fewer])),
            limit=0.0,
            unit="nets",
        )


def _at_the_edge(wired: Wired) -> Iterator[Finding]:
    from shapely import distance

    edge = outline_shape(wired.design).boundary
    placements = wired.design.board.placements
    refs = [
        r
        for r in placements
        if r in wired.design.parts
        and wired.kind(r).assembled
        and not wired.kind(r).connector
        and not wired.package(r).looks
        and pattern_of(wired, r).surface_mount
    ]
    gaps = distance(edge, [body_shape(wired, r) for r in refs]) if refs else ()
    near = {r: float(gap) for r, gap in zip(refs, gaps, strict=True) if gap < EDGE_PART_MM - 1e-6}
    if near:
        first = min(near, key=lambda r: near[r])
        yield EDGE_PART.found(
            Subject(),
            f"{len(near)} surface parts stand at the edge, {first} {near[first]:.1f} mm from it",
            f"{', '.join(sorted(near)[:9])}: keep {EDGE_PART_MM:g} mm, or saw boards apart, never break them.",
            refs=tuple(sorted(near)),
            at=tuple(Point(placements[r].x_nm, placements[r].y_nm) for r in sorted(near)[:20]),
            value=near[first],
            limit=EDGE_PART_MM,
            unit="mm",
        )


def _plugs(wired: Wired) -> Iterator[Finding]:
    placements = wired.design.board.placements
    bodies = {r: body_shape(wired, r) for r in placements if r in wired.design.parts and wired.kind(r).assembled}
    for ref, body in bodies.items():
        if not wired.kind(ref).connector or mouth_of(wired, ref) is not None:
            continue
        room, own = body.buffer(PLUG_MM), height_nm(wired, ref)
        for other, shape in bodies.items():
            same = placements[other].side == placements[ref].side
            taller = mm(height_nm(wired, other) - own)
            if (
                other == ref
                or not same
                or taller <= TALLER_MM
                or wired.kind(other).connector
                or not shape.intersects(room)
            ):
                continue
            yield PLUG.found(
                Subject(refs=(ref, other)),
                f"{other} stands {shape.distance(body):.1f} mm beside {ref}, and {taller:.1f} mm taller",
                f"A plug on {ref} needs {PLUG_MM:g} mm beside it. Move one of them, or plug in before {other} is on.",
                at=(Point(placements[ref].x_nm, placements[ref].y_nm),),
                value=float(shape.distance(body)),
                limit=PLUG_MM,
                unit="mm",
            )
