"""A placed block once more for parts that are wired alike: places, and the copper between them."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Placement
from zesty_trace.core.geometry import Box, Point, box_of, rotate
from zesty_trace.errors import InputError

AROUND_NM = 3_000_000  # of the middles of a block's parts: copper that lies within goes along


def repeat_block(
    design: Design,
    like: Sequence[str],
    refs: Sequence[str],
    x_nm: int,
    y_nm: int,
    turn_mdeg: int = 0,
    mirror: bool = False,
) -> Design:
    """Place `refs` as `like` stand, the first of them at (x, y), the block turned; with the copper between its parts.

    Parts pair up in order, each of one kind. With `mirror` left and right change places: parts are turned as far as
    a turn goes, and copper is left to be routed. InputError for parts that do not pair up, or are not placed.
    """
    _check(design, like, refs)
    spots = design.board.placements
    first = spots[like[0]]
    board = design
    for one, other in zip(like, refs, strict=True):
        spot = spots[one]
        x, y = _moved(spot.x_nm - first.x_nm, spot.y_nm - first.y_nm, turn_mdeg, mirror)
        angle = (180_000 - spot.angle_mdeg if mirror else spot.angle_mdeg) + turn_mdeg
        place = Placement(x_nm=x_nm + x, y_nm=y_nm + y, angle_mdeg=angle % 360_000, side=spot.side)
        board = edits.place(board, other, place)
    if mirror:
        return board
    nets = _net_map(design, like, refs)
    room = box_of((spots[r].x_nm, spots[r].y_nm) for r in like).grown(AROUND_NM)
    tracks, vias = list(board.board.tracks), list(board.board.vias)
    for track in design.board.tracks:
        if track.net in nets and all(_inside(room, p) for p in track.points):
            points = tuple(_put(p, first, x_nm, y_nm, turn_mdeg) for p in track.points)
            tracks.append(replace(track, net=nets[track.net], points=points))
    for via in design.board.vias:
        if via.net in nets and _inside(room, Point(via.x_nm, via.y_nm)):
            at = _put(Point(via.x_nm, via.y_nm), first, x_nm, y_nm, turn_mdeg)
            vias.append(replace(via, net=nets[via.net], x_nm=at.x_nm, y_nm=at.y_nm))
    old_t, old_v = set(design.board.tracks), set(design.board.vias)
    fresh_t = [t for t in tracks[len(design.board.tracks) :] if t not in old_t]
    fresh_v = [v for v in vias[len(design.board.vias) :] if v not in old_v]
    return edits.set_copper(board, [*design.board.tracks, *fresh_t], [*design.board.vias, *fresh_v], design.board.pours)


def _check(design: Design, like: Sequence[str], refs: Sequence[str]) -> None:
    if len(like) != len(refs) or not like:
        raise InputError(
            f"{len(refs)} parts for {len(like)}", refs[0] if refs else "", "Name as many of each, in order"
        )
    if len(set(refs)) < len(refs) or set(like) & set(refs):
        raise InputError("A part is named twice", refs[0], "The block and its copy are different parts")
    for one, other in zip(like, refs, strict=True):
        if one not in design.board.placements:
            raise InputError(f"{one} is not on the board yet", one, "Place the block first")
        if design.board.placements.get(other, Placement(x_nm=0, y_nm=0)).fixed:
            raise InputError(f"{other} is held where it is", other, f"Say “unlock {other}” first")
        a, b = design.parts[one], design.parts[other]
        if (a.kind, a.package) != (b.kind, b.package):
            raise InputError(f"{other} is not of the kind of {one}", other, "Blocks pair up part by part")


def _net_map(design: Design, like: Sequence[str], refs: Sequence[str]) -> dict[str, str]:
    """Return for the nets of a block those of its copy; a net that would be two of them is left out."""
    net_of = design.net_of()
    other_of = dict(zip(like, refs, strict=True))
    found: dict[str, set[str]] = {}
    for pin, net in net_of.items():
        if pin.ref in other_of:
            found.setdefault(net, set()).add(net_of.get(replace(pin, ref=other_of[pin.ref]), ""))
    return {net: next(iter(others)) for net, others in found.items() if len(others) == 1 and "" not in others}


def _inside(room: Box, at: Sequence[int]) -> bool:
    return room.x0 <= at[0] <= room.x1 and room.y0 <= at[1] <= room.y1


def _moved(dx: int, dy: int, turn_mdeg: int, mirror: bool) -> tuple[int, int]:
    x, y = rotate(-dx if mirror else dx, dy, turn_mdeg)
    return round(x), round(y)


def _put(at: Point | tuple[int, int], first: Placement, x_nm: int, y_nm: int, turn_mdeg: int) -> Point:
    x, y = _moved(at[0] - first.x_nm, at[1] - first.y_nm, turn_mdeg, False)
    return Point(x_nm + x, y_nm + y)
