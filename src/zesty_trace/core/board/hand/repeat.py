"""A placed block once more for parts that are wired alike: places, and the copper between them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from msgspec.structs import replace

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, LayerName, Placement, Track, Via
from zesty_trace.core.geometry import Box, Point, box_of, rotate
from zesty_trace.errors import InputError

AROUND_NM = 3_000_000  # of the middles of a block's parts: copper that lies within goes along


@dataclass(frozen=True)
class Shift:
    """How a block goes to its new place: left and right exchanged or not, turned, and the new place of its first part.

    A block for the other face is a mirror image in all: parts, copper and layers. On its own face only places are.
    """

    first: Placement
    x_nm: int
    y_nm: int
    turn_mdeg: int = 0
    mirror: bool = False
    other_face: bool = False

    def put(self, x_nm: int, y_nm: int) -> Point:
        """Return where a point of the block goes."""
        dx, dy = x_nm - self.first.x_nm, y_nm - self.first.y_nm
        x, y = rotate(-dx if self.mirror or self.other_face else dx, dy, self.turn_mdeg)
        return Point(self.x_nm + round(x), self.y_nm + round(y))

    def place(self, spot: Placement) -> Placement:
        """Return the place of a part's copy."""
        angle, side = spot.angle_mdeg, spot.side
        if self.other_face:
            angle, side = -angle, "bottom" if side == "top" else "top"
        elif self.mirror:
            angle = 180_000 - angle
        at = self.put(spot.x_nm, spot.y_nm)
        return Placement(x_nm=at.x_nm, y_nm=at.y_nm, angle_mdeg=(angle + self.turn_mdeg) % 360_000, side=side)

    def layer(self, layer: LayerName, stack: Sequence[LayerName]) -> LayerName:
        """Return the layer of a track's copy: counted from the other face if it goes there."""
        return stack[len(stack) - 1 - stack.index(layer)] if self.other_face else layer


def repeat_block(
    design: Design,
    like: Sequence[str],
    refs: Sequence[str],
    x_nm: int,
    y_nm: int,
    turn_mdeg: int = 0,
    mirror: bool = False,
    other_face: bool = False,
) -> Design:
    """Place `refs` as `like` stand, the first of them at (x, y), the block turned; with the copper between its parts.

    Parts pair up in order, each of one kind. With `other_face` the block is put on the other face of the board, as if
    it were seen from behind. With `mirror` left and right change places on its own face: parts are turned as far as a
    turn goes, and copper is left to be routed. InputError for parts that do not pair up, or are not placed.
    """
    _check(design, like, refs)
    old = design.board
    shift = Shift(old.placements[like[0]], x_nm, y_nm, turn_mdeg, mirror, other_face)
    after = design
    for one, other in zip(like, refs, strict=True):
        after = edits.place(after, other, shift.place(old.placements[one]))
    if mirror and not other_face:
        return after
    nets = _net_map(design, like, refs)
    room = box_of((old.placements[r].x_nm, old.placements[r].y_nm) for r in like).grown(AROUND_NM)
    tracks = [
        replace(
            t, net=nets[t.net], layer=shift.layer(t.layer, old.stack), points=tuple(shift.put(*p) for p in t.points)
        )
        for t in old.tracks
        if t.net in nets and t.layer in old.stack and all(_inside(room, p) for p in t.points)
    ]
    vias = []
    for via in old.vias:
        if via.net in nets and _inside(room, (via.x_nm, via.y_nm)):
            at = shift.put(via.x_nm, via.y_nm)
            vias.append(replace(via, net=nets[via.net], x_nm=at.x_nm, y_nm=at.y_nm))
    there: set[Track | Via] = {*old.tracks, *old.vias}
    fresh = [t for t in tracks if t not in there], [v for v in vias if v not in there]
    return edits.set_copper(after, [*old.tracks, *fresh[0]], [*old.vias, *fresh[1]], old.pours)


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
