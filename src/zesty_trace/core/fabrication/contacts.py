"""Where nets must have copper: by a design, or by the points of a netlist file."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.netlist356 import Record
from zesty_trace.core.quantities import mm


class Contact(NamedTuple):
    """A place where a net must be: pin, net, place in mm, and the layers of which one must have copper there."""

    pin: str
    net: str
    x: float
    y: float
    layers: tuple[str, ...]


def contacts_of(wired: Wired) -> list[Contact]:
    """Return every pad of a net as a contact."""
    return [
        Contact(str(p.pin), p.net, mm(p.x_nm), mm(p.y_nm), tuple(p.layers))
        for p in board_pads(wired)
        if p.net and p.layers
    ]


def contacts_of_netlist(records: Iterable[Record], layers: Iterable[str]) -> list[Contact]:
    """Return the points of a netlist as contacts on the outer layers that there are."""
    outer = tuple(k for k in layers if not k.startswith("inner"))
    found = []
    for r in records:
        if r.net and r.net.upper() not in ("N/C", "NC"):
            pin = f"{r.ref}.{r.pin}" if r.pin else f"{r.ref} at {r.x:.2f}, {r.y:.2f}"
            on = outer if r.access == "both" else (r.access,)
            found.append(Contact(pin, r.net, r.x, r.y, on))
    return found
