"""Where the numbers of findings and the voltages stand on a sheet, so that they lie over nothing.

Worked out once for a view, for the whole sheet: what is painted of it later does not move them.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import say
from zesty_trace.core.schematic.flags import Rooms
from zesty_trace.core.schematic.labels import drawn_boxes, tag_width, text_width
from zesty_trace.core.schematic.letters import VALUE_SIZE
from zesty_trace.core.schematic.sheet import PlacedSymbol, Wire
from zesty_trace.desktop.schematic.view import SheetView

BADGE = 1.2  # radius, grid units


class Marks:
    """The spots of one view."""

    def __init__(self, view: SheetView) -> None:
        self.view = view

    @cached_property
    def _rooms(self) -> Rooms:
        """What is drawn; what is placed here is added to it."""
        rooms = Rooms()
        for box in drawn_boxes(self.view.sheet, self.view.wired):
            rooms.add(box)
        return rooms

    def badge_at(self, ref: str) -> tuple[float, float]:
        """Return the middle of the number at a part."""
        return self._badges[ref]

    @cached_property
    def _badges(self) -> dict[str, tuple[float, float]]:
        return {s.ref: self._corner(s) for s in self.view.sheet.symbols if s.ref in self.view.badges}

    def _corner(self, s: PlacedSymbol) -> tuple[float, float]:
        """Return the nearest corner of a part at which nothing is drawn or written."""
        left, top, right, bottom = s.body()
        corners = [
            (x, y) for far in (1.4, 2.4, 3.6) for y in (top - far, bottom + far) for x in (left - far, right + far)
        ]
        found = next((c for c in corners if self._rooms.free(Box(*c, *c).grown(BADGE))), corners[0])
        self._rooms.add(Box(*found, *found).grown(BADGE))
        return found

    @cached_property
    def bubbles(self) -> list[tuple[float, float, str]]:
        """The middle of each voltage, and what it says."""
        _ = self._badges  # they come first
        return [*self._on_nets(), *self._on_rails()]

    def _on_nets(self) -> Iterator[tuple[float, float, str]]:
        done = {r.net for r in self.view.sheet.rails}
        for wire in sorted(self.view.sheet.wires, key=lambda w: w.bounds.x0 - w.bounds.x1):
            if wire.net in done or not (said := self._volts_said(wire.net)):
                continue
            spot = self._beside(wire, text_width(said, VALUE_SIZE) + 0.8)
            if spot:
                done.add(wire.net)
                yield *spot, said
        for tag in self.view.sheet.tags:
            if tag.net in done or not (said := self._volts_said(tag.net)):
                continue
            way, wide = (-1 if tag.side == "left" else 1), text_width(said, VALUE_SIZE) + 0.8
            x = tag.at[0] + way * (tag_width(tag.net + tag.mark) + wide / 2 + 0.5)
            if self._take(x, tag.at[1], wide):
                done.add(tag.net)
                yield x, float(tag.at[1]), said

    def _on_rails(self) -> Iterator[tuple[float, float, str]]:
        for rail in self.view.sheet.rails:
            if rail.net in self.view.volts:
                said = say(self.view.volts[rail.net], "V")
                yield rail.right + text_width(said, VALUE_SIZE) / 2 + 1.0, float(rail.y), said

    def _volts_said(self, net: str) -> str:
        if net in self.view.unknown:
            return "not modelled"
        return say(self.view.volts[net], "V") if net in self.view.volts else ""

    def _take(self, x: float, y: float, wide: float) -> bool:
        """Take the room of a voltage, if it is free."""
        box = Box(x - wide / 2, y - 0.75, x + wide / 2, y + 0.75)
        free = self._rooms.free(box)
        if free:
            self._rooms.add(box)
        return free

    def _beside(self, wire: Wire, wide: float) -> tuple[float, float] | None:
        """Return where beside a wire nothing is drawn, and take it."""
        for x0, y0, x1, y1 in sorted(wire.pieces, key=lambda b: b.x0 - b.x1 + b.y0 - b.y1):
            if y0 == y1:
                spots = [((x0 + x1) / 2, y0 - 1.0), ((x0 + x1) / 2, y0 + 1.0), (x0 + wide / 2, y0 - 1.0)]
            else:
                spots = [(x0 + wide / 2 + 0.3, (y0 + y1) / 2), (x0 - wide / 2 - 0.3, (y0 + y1) / 2)]
            for x, y in spots:
                if self._take(x, y, wide):
                    return x, y
        return None
