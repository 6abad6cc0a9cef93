"""What holds a pad to its net: each track, spoke, via and pour that touches it, and whether a blade gets there."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

from zesty_trace.core.board.copper import BoardPad, board_pads, body_shape, laid_copper, pad_node, pad_shape
from zesty_trace.core.board.pour import pour_shapes, relieved, spokes_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import LayerName, Pin, Pour
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError

BLADE_MM = 0.5  # room round a cut that a hand-held blade wants: common practice
OUT_MM = 0.3  # a track is cut so far from the pad's edge
LEAST_BRIDGE_MM2 = 1e-4
NAMES = {"spoke": "a spoke of the pour", "pour": "the pour, all round", "via": "a via", "pad": "another pad"}
What = Literal["track", "spoke", "pour", "via", "pad"]


@dataclass(frozen=True)
class Hold:
    """One thing that holds a pad: its layer, where it is cut, how wide it is there, mm, and what is in the way.

    `covered` names the part that stands on it, "" where a blade reaches. A via is drilled out, not cut.
    """

    what: What
    layer: LayerName
    at: Point
    width_mm: float
    covered: str = ""

    @property
    def reachable(self) -> bool:
        """Whether a blade, for a via a drill, gets there with the parts on."""
        return not self.covered and self.what != "pad"

    def __str__(self) -> str:
        spot = f"{mm(self.at.x_nm):.2f}, {mm(self.at.y_nm):.2f} mm on {self.layer}"
        names = {
            "spoke": "a spoke of the pour",
            "pour": "the pour, all round",
            "via": "a via",
            "pad": "another pad on it",
        }
        what = names.get(self.what, f"a track {self.width_mm:.2f} mm wide")
        if self.what == "pad":
            return f"{what} at {spot}: they are one"
        way = {"via": "drill it out", "pour": "cut all round the pad"}.get(self.what, "cut it there")
        return f"{what} at {spot}: " + (f"below {self.covered}, take that off first" if self.covered else way)


def holds_of(wired: Wired, pin: Pin, net: str = "") -> list[Hold]:
    """Return all that holds the pads of a pin to their net. EditError if it has no pad, or is not on `net`."""
    pads = [p for p in board_pads(wired) if p.pin == pin and p.layers]
    if not pads:
        raise EditError(f"{pin} has no pad on the board", str(pin), "Name a pin of a placed part")
    own = pads[0].net
    if not own or (net and net != own):
        raise EditError(f"{pin} is not on {net or 'any net'}", str(pin), f"It is on {own}" if own else "")
    found = [hold for pad in pads for layer in pad.layers for hold in _on_layer(wired, pad, layer)]
    vias = {h.at: h for h in found if h.what == "via"}
    return [h for h in found if h.what != "via"] + list(vias.values())


def _on_layer(wired: Wired, pad: BoardPad, layer: LayerName) -> Iterator[Hold]:
    yield from _pieces(wired, pad, layer)
    for pour in wired.design.board.pours:
        if pour.net == pad.net and pour.layer == layer:
            yield from _poured(wired, pad, pour)


def _pieces(wired: Wired, pad: BoardPad, layer: LayerName) -> Iterator[Hold]:
    """Yield the tracks, vias and other pads of its net that touch a pad."""
    shape, node = pad_shape(pad), pad_node(pad)
    laid = laid_copper(wired, layer)
    for item, line, radius in zip(laid.items, laid.lines, laid.radii.tolist(), strict=True):
        if item.net != pad.net or item.node == node or not item.shape.intersects(shape):
            continue
        if item.what == "track":
            for arm in _arms(line, shape):
                yield _hold(wired, pad, "track", layer, arm, 2 * radius)
        elif item.what == "via":
            yield _hold(wired, pad, "via", layer, line, 2 * radius)
        else:
            yield _hold(wired, pad, "pad", layer, item.shape.intersection(shape).representative_point(), 0.0)


def _poured(wired: Wired, pad: BoardPad, pour: Pour) -> Iterator[Hold]:
    """Yield the spokes of a pour at a pad, or the pour all round it."""
    shape = pad_shape(pad)
    area = next((a for name, a in pour_shapes(wired, pour.layer) if name == pour.net), None)
    if area is None or area.is_empty:
        return
    if not relieved(pad, pour):
        if area.intersects(shape):
            yield _hold(wired, pad, "pour", pour.layer, shape.centroid, shape.exterior.length)
        return
    for spoke in spokes_of(pad, pour):
        bridge = spoke.intersection(area).difference(shape)
        if bridge.area > LEAST_BRIDGE_MM2:
            width = mm(min(pour.spoke_nm, pad.width_nm, pad.height_nm))
            yield _hold(wired, pad, "spoke", pour.layer, bridge.representative_point(), width)


def _arms(line: Any, shape: Any) -> list[Any]:
    """Return where the arms of a track that leave a pad are to be cut: just outside it, once an arm."""
    from shapely import get_parts
    from shapely.geometry import Point as Spot

    outside = line.difference(shape.buffer(OUT_MM))
    parts = [p for p in get_parts(outside) if p.geom_type == "LineString" and not p.is_empty]
    ends = [Spot(end) for part in parts for end in (part.coords[0], part.coords[-1])]
    return [e for e in ends if e.distance(shape) < OUT_MM + 0.01] or [Spot(line.coords[0])]  # it ends right beside it


def _hold(wired: Wired, pad: BoardPad, what: What, layer: LayerName, spot: Any, width: float) -> Hold:
    at = Point(round(spot.x * 1e6), round(spot.y * 1e6))
    room = spot.buffer(BLADE_MM)  # a blade may go along the part itself, but not below it
    placements = wired.design.board.placements
    covered = next(
        (
            ref
            for ref, place in placements.items()
            if ref in wired.design.parts
            and place.side == layer
            and wired.kind(ref).assembled
            and body_shape(wired, ref).intersects(spot if ref == pad.pin.ref else room)
        ),
        "",
    )
    return Hold(what, layer, at, width, covered)
