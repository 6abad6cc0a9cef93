"""What a design says that its files must hold: where each pin is, and of which net."""

from __future__ import annotations

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.looking.tracing import Contact
from zesty_trace.core.quantities import mm


def contacts_of(wired: Wired) -> list[Contact]:
    """Return every pad of a net as a contact."""
    return [
        Contact(str(p.pin), p.net, mm(p.x_nm), mm(p.y_nm), tuple(p.layers))
        for p in board_pads(wired)
        if p.net and p.layers
    ]
